#pragma once
// What a configuration does when its fast modes have died out.
//
// An off-resistance behind a leakage inductance decays within 1e-12 s to 1e-20 s. Once such modes are gone they have no
// part in the motion, but rounding of them would still bend lines, end segments and limit steps. So the states fall
// into two: y = [s; f], where s holds the slow states and the sources, and f as many states as there are fast modes.
// Without its fast modes the motion stays on the slow manifold f = K s, with s' = G s; any y ends on it as if it had
// started at s - H (f - K s).
//
// Invariants
//  1. G, K and H come from the equations of the network in which f are unknowns, and their slopes r = f' are given:
//     f = Xs s + Xr r and s' = Gs s + Gr r. Nothing is divided by, or subtracted from, a large number: an
//     off-resistance that is ten million times larger changes nothing but its own small current.
//  2. With r = K G s:  K = Xs + Xr K G,  G = (1 - Gr K)^-1 Gs,  H = (Gr + G H Xr) (1 - K Gr)^-1. Each is iterated from
//     the left; an iteration gains the ratio of the slow modes to the fast ones.
// (K. W. Chang, SIAM J. Math. Anal. 3 (1972), 520; P. Kokotovic, H. Khalil and J. O'Reilly, Singular Perturbation
// Methods in Control, 1986, ch. 2.)

#include <map>
#include <memory>
#include <optional>
#include <utility>
#include <vector>

#include "engines/exact/propagator.h"

namespace hedgerow::exact {

template <class Real>
struct SlowMotion;

/// Modes of a configuration that are faster than all others by far.
template <class Real>
struct Cut {
    double slowest;  ///< 1/s: of those that die out
    int modes;       ///< how many
    Tick after;      ///< then they are below rounding
    bool tried = false;
    std::shared_ptr<SlowMotion<Real>> motion;  ///< null when it cannot be had
};

/// The equations of one configuration, and its motion.
template <class Real>
struct Algebra {
    Algebra(const StaticReduction<Real>& reduction, SubnetworkStates<Real>& states, const Segments& segments)
        : configuration(reduction, states, segments), propagator(reduction.stateLayout(), configuration) {}
    Algebra(const StateLayout<Real>& layout, Configuration<Real> made)
        : configuration(std::move(made)), propagator(layout, configuration) {}
    Configuration<Real> configuration;
    Propagator<Real> propagator;
    std::optional<std::vector<Cut<Real>>> cuts;  ///< the fastest first; made when they are first asked for
};

/// The motion of a configuration without its fast modes.
template <class Real>
struct SlowMotion {
    SlowMotion(const StateLayout<Real>& layout, Configuration<Real> made) : algebra(layout, std::move(made)) {}
    Matrix<Real> projection;  ///< of any y: the y on the slow manifold that ends where it would end
    Algebra<Real> algebra;    ///< of what is on it; its rows hold none of the fast states
    std::vector<int> fast;    ///< states that follow the others, rising
    Real lasts = 0;           ///< s, until the modes that it leaves out have died out
};

template <class Real>
class SlowMotions {
public:
    explicit SlowMotions(const StaticReduction<Real>& reduction) : reduction_(reduction) {}

    /// Modes that die out so fast that nothing of it is worth showing: within 30 ps.
    static constexpr Tick atOnce = Tick{1} << 19;
    /// The motion without the fastest modes of those that die out at once, or null when there are none. One group after
    /// the other: what a guard meets while the first one dies out is not seen from where the last one ends.
    /// @param fast  states that are out of the algebra already
    std::shared_ptr<SlowMotion<Real>> atOnceWithout(Algebra<Real>& algebra, const std::vector<int>& fast,
                                                    const Segments& segments);
    /// The first cut whose modes die out early in the time that is to come, or null.
    /// @param fast  states that are out of the algebra already
    /// @param rare  whether the configuration has not come often: then only what is far too stiff for it is taken out
    Cut<Real>* within(Algebra<Real>& algebra, Tick horizon, const std::vector<int>& fast, const Segments& segments,
                      bool rare);

private:
    struct Reduced;
    bool findCuts(Algebra<Real>& algebra) const;
    std::shared_ptr<SlowMotion<Real>> make(Algebra<Real>& algebra, const Cut<Real>& cut, std::vector<int> fast,
                                           const Segments& segments);
    std::unique_ptr<Configuration<Real>> choose(Algebra<Real>& algebra, const Cut<Real>& cut, std::vector<int>& fast,
                                                const Segments& segments);
    Reduced& reduced(const std::vector<int>& fast);

    const StaticReduction<Real>& reduction_;
    std::map<std::vector<int>, std::shared_ptr<Reduced>> reduced_;
};

}  // namespace hedgerow::exact
