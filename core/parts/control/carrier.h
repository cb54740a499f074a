#pragma once
// Carriers as running waves between 0 and 1.

#include "base/time.h"
#include "network/periodic.h"

namespace hedgerow::parts {

enum class Carrier { saw, fallingSaw, triangle };

/// (value, slope) of a carrier. The saw rises from 0 in each period, the falling saw falls from 1; the triangle is 1
/// at the start of a period and 0 in its middle.
class CarrierWave final : public SourceGenerator {
public:
    /// @param period, start  s
    CarrierWave(Carrier carrier, double period, double start)
        : carrier_(carrier),
          seconds_(period),
          periods_(Periods::of(period, start)) {}
    int size() const override { return 2; }
    void dynamics(std::span<double> s) const override { s[1] = 1.0; }
    void valueAt(Tick t, std::span<double> w) const override {
        const double part = toSeconds(t - toTick(periods_.begin(t))) / seconds_;
        const bool falls = carrier_ == Carrier::fallingSaw || (carrier_ == Carrier::triangle && t < middle(t));
        const double steep = carrier_ == Carrier::triangle ? 2.0 : 1.0;
        w[1] = (falls ? -steep : steep) / seconds_;
        w[0] = falls ? 1 - steep * part : steep * part - (steep - 1);
    }
    Tick nextBreak(Tick t) const override {
        if (carrier_ == Carrier::triangle && t < middle(t)) return middle(t);
        return toTick(periods_.begin(t) + periods_.period);
    }
    Recurrences recurrences() const override { return {Recurrence::every(periods_.period)}; }

private:
    Tick middle(Tick t) const { return toTick(periods_.begin(t) + periods_.period / 2); }
    Carrier carrier_;
    double seconds_;
    Periods periods_;
};

}  // namespace hedgerow::parts
