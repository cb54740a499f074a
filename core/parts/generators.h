#pragma once
// Generators that several source parts share.

#include <cmath>
#include <numbers>

#include "network/periodic.h"

namespace hedgerow::parts {

/// (sin, cos) of omega t + phase.
class SineGenerator final : public SourceGenerator {
public:
    SineGenerator(double frequency, double phase) : frequency_(frequency), phase_(phase) {}
    int size() const override { return 2; }
    void valueAt(Tick t, std::span<double> w) const override {
        // The whole turns go before the sine is taken, so that late instants lose no digits.
        const long double turns = static_cast<long double>(frequency_) * (static_cast<long double>(t) * 0x1p-54L);
        const double angle =
            static_cast<double>((turns - std::floor(turns)) * 2 * std::numbers::pi_v<long double>) + phase_;
        w[0] = std::sin(angle);
        w[1] = std::cos(angle);
    }
    void dynamics(std::span<double> s) const override {
        s[1] = angularFrequency();
        s[2] = -angularFrequency();
    }
    double angularFrequency() const override { return 2 * std::numbers::pi * frequency_; }
    Recurrences recurrences() const override {
        return frequency_ > 0 ? Recurrences{Recurrence::of(frequency_)} : Recurrences();
    }

private:
    double frequency_, phase_;
};

/// (value, slope) of a trapezoidal pulse train.
class PulseGenerator final : public SourceGenerator {
public:
    struct Shape {
        double low, high, period, delay, duty, rise, fall;
    };
    /// @pre rise <= duty * period, fall <= (1 - duty) * period
    explicit PulseGenerator(const Shape& shape)
        : shape_(shape),
          periods_(Periods::of(shape.period, shape.delay)),
          top_(toFine(static_cast<long double>(shape.rise))),
          end_(toFine(static_cast<long double>(shape.duty) * static_cast<long double>(shape.period))),
          low_(end_ + toFine(static_cast<long double>(shape.fall))) {
        // What is rounded may not reach beyond a period.
        end_ = std::min(end_, periods_.period);
        top_ = std::min(top_, end_);
        low_ = std::min(low_, periods_.period);
    }
    int size() const override { return 2; }
    void valueAt(Tick t, std::span<double> w) const override {
        const double swing = shape_.high - shape_.low;
        w[0] = shape_.low;
        w[1] = 0;
        if (t < toTicks(shape_.delay)) return;
        const FineTime begin = periods_.begin(t);
        if (t < toTick(begin + top_)) {
            w[1] = swing / shape_.rise;
            w[0] = shape_.low + w[1] * toSeconds(t - toTick(begin));
        } else if (t < toTick(begin + end_)) {
            w[0] = shape_.high;
        } else if (t < toTick(begin + low_)) {
            w[1] = -swing / shape_.fall;
            w[0] = shape_.high + w[1] * toSeconds(t - toTick(begin + end_));
        }
    }
    void dynamics(std::span<double> s) const override { s[1] = 1.0; }
    Tick nextBreak(Tick t) const override {
        const Tick start = toTicks(shape_.delay);
        if (t < start) return start;
        if (constant()) return neverTick;
        const FineTime begin = periods_.begin(t);
        for (const FineTime offset : {top_, end_, low_, periods_.period})
            if (const Tick edge = toTick(begin + offset); edge > t) return edge;
        return neverTick;
    }
    Recurrences recurrences() const override {
        Recurrences all;
        if (shape_.delay > 0) all.push_back(Recurrence::up(toTicks(shape_.delay)));
        if (!constant()) all.push_back(Recurrence::every(periods_.period));
        return all;
    }

private:
    bool constant() const { return low_ == 0 || (top_ == 0 && end_ == periods_.period); }

    Shape shape_;
    Periods periods_;
    FineTime top_, end_, low_;  ///< where the top, the fall and the low level begin
};

}  // namespace hedgerow::parts
