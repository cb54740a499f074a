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

private:
    double frequency_, phase_;
};

/// (value, slope) of a trapezoidal pulse train.
class PulseGenerator final : public SourceGenerator {
public:
    struct Shape {
        double low, high, period, delay, duty, rise, fall;
    };
    explicit PulseGenerator(const Shape& shape)
        : shape_(shape),
          rising_(shape.period, shape.delay, 0, shape.rise / shape.period),
          top_(shape.period, shape.delay, shape.rise / shape.period, shape.duty),
          falling_(shape.period, shape.delay, shape.duty, shape.duty + shape.fall / shape.period) {}
    int size() const override { return 2; }
    void valueAt(Tick t, std::span<double> w) const override {
        const double swing = shape_.high - shape_.low;
        w[0] = shape_.low;
        w[1] = 0;
        if (t < toTicks(shape_.delay)) return;
        if (shape_.duty > 0 && top_.high(t)) {
            w[0] = shape_.high;
        } else if (rising_.high(t)) {
            w[1] = swing / shape_.rise;
            w[0] = shape_.high - w[1] * toSeconds(rising_.next(t) - t);
        } else if (falling_.high(t)) {
            w[1] = -swing / shape_.fall;
            w[0] = shape_.low - w[1] * toSeconds(falling_.next(t) - t);
        }
    }
    void dynamics(std::span<double> s) const override { s[1] = 1.0; }
    Tick nextBreak(Tick t) const override {
        const Tick start = toTicks(shape_.delay);
        if (t < start) return start;
        return std::min({rising_.next(t), top_.next(t), falling_.next(t)});
    }

private:
    Shape shape_;
    PeriodicInterval rising_, top_, falling_;
};

}  // namespace hedgerow::parts
