#pragma once
// What one subnetwork of a network comes to in one of its configurations.
//
// With N = ker F and L = ker F^T, the consistency condition L^T (Hx x + Bw w) = 0 restricts the states. Its derivative
// fixes the part of z that F leaves open, through Q = L^T Hx K N. Where Q itself is singular, the vanishing
// resistances E decide (the limit for E -> 0): closed loops of ideal switches share their current by least norm, and an
// island behind open switches floats so that the voltages across its open switches sum to zero. (Index reduction of
// linear descriptor systems: P. Kunkel and V. Mehrmann, Differential-Algebraic Equations, EMS 2006, ch. 2.)

#include <memory>
#include <unordered_map>
#include <vector>

#include "engines/exact/static_reduction.h"

namespace hedgerow::exact {

using Segments = std::vector<int>;

struct SegmentsHash {
    std::size_t operator()(const Segments& segments) const {
        std::uint64_t hash = 1469598103934665603u;
        for (const int s : segments) hash = (hash ^ static_cast<std::uint64_t>(s)) * 1099511628211u;
        return static_cast<std::size_t>(hash ^ (hash >> 29));
    }
};

template <class Real>
struct SubnetworkState {
    /// @param segments  one entry per element of the network
    SubnetworkState(const StaticReduction<Real>& reduction, const Subnetwork& subnetwork, const Segments& segments);

    /// Of the whole network, the unknowns in whose direction the equations have no unique solution; empty when all is
    /// well.
    std::vector<int> illPosedUnknowns;
    /// Whether what it asks is its own affair and has a unique solution. If not, the network must be solved as a whole.
    bool alone = true;

    Sparse<Real> open;           ///< its u = open * [y; potentials of torn nodes], of the whole network open * y
    Sparse<Real> impulse;        ///< integral of its u over the instant of entering = impulse * y before; empty without
    Sparse<Real> lift, jump;     ///< y just after entering = y + lift * jump * y just before; empty without
    Matrix<Real> contradiction;  ///< rows that must vanish on y, else an infinite current or voltage results
    Matrix<Real> infinite;       ///< direction of z in that case, unknowns x rows of contradiction
    Matrix<Real> shared;         ///< directions of z along which current is shared by least norm; often empty
    std::vector<Triplet> rates;  ///< entries of K that its elements add

    std::size_t bytes() const;

private:
    struct Completion;
};

/// The states of subnetworks that were met.
template <class Real>
class SubnetworkStates {
public:
    /// @param apart  whether subnetworks are solved apart where they can be
    SubnetworkStates(const StaticReduction<Real>& reduction, bool apart)
        : reduction_(reduction), apart_(apart), known_(reduction.subnetworks().size()) {}
    /// One per subnetwork; none where there is but one, or one of them does not stand alone.
    std::vector<std::shared_ptr<const SubnetworkState<Real>>> find(const Segments& segments);
    /// That of the whole network. It is not kept.
    std::shared_ptr<const SubnetworkState<Real>> whole(const Segments& segments);
    std::int64_t solved() const { return solved_; }

private:
    const StaticReduction<Real>& reduction_;
    const bool apart_;
    std::vector<std::unordered_map<Segments, std::shared_ptr<const SubnetworkState<Real>>, SegmentsHash>> known_;
    std::size_t bytes_ = 0;
    std::int64_t solved_ = 0;
};

}  // namespace hedgerow::exact
