#pragma once
// Instants that come again every period, exact to the tick and without drift over any number of periods.

#include <algorithm>
#include <cmath>

#include "base/time.h"

namespace hedgerow {

/// A level that is high from `on` to `off` (fractions of a period, off may exceed one) in every period.
class PeriodicInterval {
public:
    /// @param period, start  in seconds; `start` shifts the whole pattern
    PeriodicInterval(double period, double start, double on, double off)
        : period_(static_cast<long double>(period) * 0x1p54L),
          start_(static_cast<long double>(start) * 0x1p54L),
          on_(on),
          off_(off) {}

    bool never() const { return off_ <= on_; }
    bool always() const { return off_ - on_ >= 1.0L; }
    bool high(Tick t) const {
        if (never() || always()) return always();
        for (long double k = periodOf(t) - 2; k <= periodOf(t) + 1; ++k)
            if (edge(k, on_) <= t && t < edge(k, off_)) return true;
        return false;
    }
    /// The first edge after `t`, or neverTick.
    Tick next(Tick t) const {
        if (never() || always()) return neverTick;
        Tick first = neverTick;
        for (long double k = periodOf(t) - 2; k <= periodOf(t) + 2; ++k)
            for (const long double offset : {on_, off_})
                if (edge(k, offset) > t) first = std::min(first, edge(k, offset));
        return first;
    }

private:
    long double periodOf(Tick t) const { return std::floor((static_cast<long double>(t) - start_) / period_); }
    /// What lies beyond the longest run never comes.
    Tick edge(long double k, long double offset) const {
        const long double at = start_ + (k + offset) * period_;
        return at < 0x1.ffffp62L ? static_cast<Tick>(std::llroundl(at)) : neverTick;
    }
    long double period_, start_, on_, off_;
};

}  // namespace hedgerow
