#pragma once
// The algebra of one switch configuration: from the stamped equations to x' = A x + B w, and what happens at the
// instant in which the configuration is entered. It is put together from what the subnetworks of the network come to.
//
// Everything acts on y = [x; w].

#include <memory>
#include <vector>

#include "engines/exact/subnetwork.h"

namespace hedgerow::exact {

template <class Real>
struct Configuration {
    /// Builds the algebra. @param segments one entry per element of the network
    Configuration(const StaticReduction<Real>& reduction, SubnetworkStates<Real>& states, const Segments& segments);
    /// The same configuration on a part of its states, which only the motion given here leads from.
    Configuration(const Configuration& whole, Matrix<Real> readout, const Matrix<Real>& generator);

    /// The unknowns in whose direction the equations have no unique solution; empty when all is well.
    std::vector<int> illPosedUnknowns;

    bool projects = false;       ///< whether states may jump when it is entered
    std::vector<int> jumping;    ///< those that do
    Rows<Real> jumps;            ///< y(jumping) just after entering = y(jumping) + jumps * y just before; empty without
    Rows<Real> generator;        ///< y' = generator * y, restricted to consistent y, size x size
    Matrix<Real> contradiction;  ///< rows that must vanish on y, else an infinite current or voltage results
    Matrix<Real> infinite;       ///< direction of z in that case, unknowns x rows of contradiction
    Matrix<Real> shared;         ///< directions of z along which current is shared by least norm; often empty

    /// z = readout * y, unknowns x size.
    const Matrix<Real>& readout() const;
    void read(const Real* y, Real* z) const;
    /// One entry of z.
    Real read(int unknown, const Vector<Real>& y) const;
    /// Rows that make forms over z, and a constant, of y. @param forms  rows over z; the constants go to the first
    /// source
    Rows<Real> rows(const std::vector<Terms>& forms, const std::vector<double>& constants) const;
    /// Rows that make integrals of forms over z, over the instant of entering, of y before. @pre projects
    Rows<Real> impulseRows(const std::vector<Terms>& forms) const;

    void rates(const Real* y, Real* slopes) const { generator.apply(y, slopes); }
    /// Makes y just after entering of y just before.
    void project(Real* y) const;

    std::size_t bytes() const;

private:
    using States = std::vector<std::shared_ptr<const SubnetworkState<Real>>>;
    bool compose(const States& states);
    void takeJumps(const States& states);
    void finish(const std::vector<Triplet>& rates);
    template <class Add>
    Rows<Real> collected(const std::vector<Terms>& forms, Add&& add) const;

    const StaticReduction<Real>* reduction_;
    Sparse<Real> open_, impulse_;   ///< u = open * y, and its integral over the instant of entering
    Sparse<Real> lift_, jump_;      ///< y just after entering = y + lift * jump * y, of low rank
    bool given_ = false;            ///< the readout was given, and stands for u
    bool full_ = true;              ///< small enough for products with full matrices to be the faster ones
    mutable Matrix<Real> readout_;  ///< empty until asked for: some configurations are only tried
    mutable Vector<Real> consistent_, u_, jumped_;
};

}  // namespace hedgerow::exact
