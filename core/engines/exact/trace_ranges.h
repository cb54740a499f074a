#pragma once
// How far each trace has swung of late, and with it how far its stored lines may stray.

#include <vector>

#include "engines/exact/state_layout.h"
#include "network/engine.h"

namespace hedgerow::exact {

template <class Real>
class TraceRanges {
public:
    TraceRanges(const StateLayout<Real>& layout, const RunRequest& request, Scales<Real>& scales);

    /// Takes note of the values of all unknowns.
    void see(const Real* z);
    /// Whether the cubic through values and rates at both ends of a line, h seconds apart, stays as near to the chord
    /// as it should. The bound is exact for a parabola.
    bool straight(const Real* z0, const Real* rate0, const Real* z1, const Real* rate1, Real h);
    /// Whether a point between both ends, at this part of the way, is four times as near to the chord as it should be.
    bool hardlyBowed(const Real* z0, const Real* middle, const Real* z1, Real part);
    /// How far the stored line of an unknown may stray, given the values at its ends.
    Real allowed(int unknown, Real z0, Real z1);
    /// Whether a swing is less than 0.4 or more than six times what it was when this was last true.
    bool changedMuch();
    /// Whether some unknowns are running signals, which have sizes of their own.
    bool running() const { return running_; }
    /// What running signals are made of in a configuration: their rows over states and sources. Rounding of these is no
    /// motion of a signal.
    void madeOf(const Matrix<Real>& readout);

private:
    void refreshLeast();
    Real leastSwing(int unknown) const;

    Scales<Real>& scales_;
    std::vector<UnknownSort> sorts_;
    std::vector<Real> tolerance_;
    std::vector<Real> low_, high_;  ///< of late
    std::vector<Real> lowNow_, highNow_, peak_, direction_, turns_;
    std::vector<Real> size_;           ///< the largest magnitude seen
    std::vector<Real> then_;           ///< the swings when they last had changed much
    std::vector<Real> least_, floor_;  ///< the swing that counts at least, and what a line may stray in any case
    int sizesVersion_ = -1;            ///< of the scales that both were made from
    std::vector<std::vector<Real>> made_;  ///< per unknown that is a running signal: the largest weights, else empty
    std::size_t suspect_ = 0;          ///< the unknown that bent a line too far last time
    bool running_ = false, first_ = true;
};

}  // namespace hedgerow::exact
