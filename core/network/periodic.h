#pragma once
// Instants that come again every period, exact to the tick and without drift over any number of periods.

#include <algorithm>
#include <vector>

#include "base/time.h"
#include "network/network.h"

namespace hedgerow {

/// Periods from an instant on, and before it. Each is counted from the tick nearest to its start.
struct Periods {
    FineTime period, start;
    /// @param period, start  s
    static Periods of(double period, double start) {
        return {toFinePeriod(static_cast<long double>(period)), toFine(static_cast<long double>(start))};
    }
    /// The start of the period that holds t; that period ends after t even when both round to it.
    FineTime begin(Tick t) const {
        const FineTime since = toFine(t) - start;
        FineTime k = since >= 0 ? since / period : -((-since + period - 1) / period);
        while (toTick(start + (k + 1) * period) <= t) ++k;
        return start + k * period;
    }
};

/// A level that is high from `on` to `off` (fractions of a period, off may exceed one) in every period.
class PeriodicInterval {
public:
    /// @param period, start  in seconds; `start` shifts the whole pattern
    PeriodicInterval(double period, double start, double on, double off)
        : period_(toFinePeriod(static_cast<long double>(period))),
          start_(toFine(static_cast<long double>(start))),
          on_(toFine(static_cast<long double>(on) * period)),
          off_(toFine(static_cast<long double>(off) * period)),
          never_(off <= on),
          always_(!never_ && static_cast<long double>(off) - on >= 1.0L) {}

    bool never() const { return never_; }
    bool always() const { return always_; }
    FineTime period() const { return period_; }
    FineTime start() const { return start_; }
    /// Both edges, counted from the start of a period and brought into it.
    std::vector<FineTime> offsets() const {
        if (never_ || always_) return {};
        return {((on_ % period_) + period_) % period_, ((off_ % period_) + period_) % period_};
    }
    bool high(Tick t) const {
        if (never_ || always_) return always_;
        const FineTime k = periodOf(t);
        for (FineTime j = k - 2; j <= k + 1; ++j)
            if (edge(j, on_) <= t && t < edge(j, off_)) return true;
        return false;
    }
    /// The first edge after `t`, or neverTick.
    Tick next(Tick t) const {
        if (never_ || always_) return neverTick;
        Tick first = neverTick;
        const FineTime k = periodOf(t);
        for (FineTime j = k - 2; j <= k + 2; ++j)
            for (const FineTime offset : {on_, off_})
                if (edge(j, offset) > t) first = std::min(first, edge(j, offset));
        return first;
    }

private:
    FineTime periodOf(Tick t) const {
        const FineTime since = toFine(t) - start_;
        return since >= 0 ? since / period_ : -((-since + period_ - 1) / period_);
    }
    Tick edge(FineTime k, FineTime offset) const { return toTick(start_ + k * period_ + offset); }
    FineTime period_, start_, on_, off_;
    bool never_, always_;
};

/// The cycle of a block whose outputs follow levels of one common period.
/// @param outputs  writes the outputs that hold from an instant on
template <class Outputs>
SignalCycle cycleOf(const std::vector<PeriodicInterval>& levels, std::size_t outputCount, const Outputs& outputs) {
    SignalCycle cycle{levels.front().start(), levels.front().period(), {}};
    std::vector<FineTime> offsets;
    for (const PeriodicInterval& level : levels)
        for (const FineTime offset : level.offsets()) offsets.push_back(offset);
    std::sort(offsets.begin(), offsets.end());
    offsets.erase(std::unique(offsets.begin(), offsets.end()), offsets.end());
    for (const FineTime offset : offsets) {
        cycle.edges.push_back({offset, std::vector<double>(outputCount)});
        // In a period well after the start of the run, so that the instant is not negative.
        outputs(toTick(cycle.start + 4 * cycle.period + offset), cycle.edges.back().outputs);
    }
    return cycle;
}

}  // namespace hedgerow
