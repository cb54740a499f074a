#pragma once
// Sources: what drives a network as a function of time.

#include <span>

#include "base/time.h"
#include "network/recurrence.h"

namespace hedgerow {

/// Generates the source states w[first .. first+size). Pure functions of time, so that runs can start anywhere.
class SourceGenerator {
public:
    virtual ~SourceGenerator() = default;
    virtual int size() const = 0;
    /// Values just after instant `t`. @param w size() values out
    virtual void valueAt(Tick t, std::span<double> w) const = 0;
    /// The block of S: size() x size(), row-major, zero on entry.
    virtual void dynamics(std::span<double> s) const = 0;
    /// The first jump or kink after `t`, or neverTick.
    virtual Tick nextBreak(Tick) const { return neverTick; }
    /// Angular frequency when the block is the pair (sin, cos), else 0: engines then advance it in closed form.
    virtual double angularFrequency() const { return 0.0; }
    /// How it goes on; empty for a constant.
    virtual Recurrences recurrences() const { return {}; }
};

}  // namespace hedgerow
