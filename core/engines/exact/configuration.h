#pragma once
// The algebra of one switch configuration: from the stamped equations to x' = A x + B w, and what happens at the
// instant in which the configuration is entered.
//
// With N = ker F and L = ker F^T, the consistency condition L^T (Hx x + Bw w) = 0 restricts the states. Its derivative
// fixes the part of z that F leaves open, through Q = L^T Hx K N. Where Q itself is singular, the vanishing
// resistances E decide (the limit for E -> 0): closed loops of ideal switches share their current by least norm, and an
// island behind open switches floats so that the voltages across its open switches sum to zero. (Index reduction of
// linear descriptor systems: P. Kunkel and V. Mehrmann, Differential-Algebraic Equations, EMS 2006, ch. 2.)
//
// Everything acts on y = [x; w]. Matrices are sparse until they are finished: those of a plant are mostly zeros.

#include <vector>

#include "engines/exact/skeleton.h"

namespace hedgerow::exact {

template <class Real>
struct Configuration {
    /// Builds the algebra. @param segments one entry per element of the network
    Configuration(const Skeleton<Real>& skeleton, const std::vector<int>& segments);

    /// The unknowns in whose direction the equations have no unique solution; empty when all is well.
    std::vector<int> illPosedUnknowns;

    Sparse<Real> readout;        ///< z = readout * y, unknowns x size
    Sparse<Real> projection;     ///< y just after entering = y + projection * y just before, size x size
    bool projects = false;       ///< false when the projection is zero
    Sparse<Real> impulse;        ///< integral of z over the instant of entering = impulse * y before; empty without
    Matrix<Real> contradiction;  ///< rows that must vanish on y, else an infinite current or voltage results
    Matrix<Real> infinite;       ///< direction of z in that case, unknowns x rows of contradiction
    Matrix<Real> shared;         ///< directions of z along which current is shared by least norm; often empty
    Matrix<Real> generator;      ///< y' = generator * y, restricted to consistent y

    /// z = readout * y.
    void read(const Real* y, Real* z) const { choose(fullReadout_, readout, y, z); }
    /// One entry of z.
    Real read(int unknown, const Vector<Real>& y) const {
        Real sum = 0;
        for (typename Sparse<Real>::InnerIterator of(readout, unknown); of; ++of) sum += of.value() * y(of.col());
        return sum;
    }
    /// y' = generator * y.
    void rates(const Real* y, Real* slopes) const {
        sparseGenerator_.size() > 0 ? multiply(sparseGenerator_, y, slopes) : multiply(generator, y, slopes);
    }
    /// y just after entering.
    void project(const Real* y, Real* after) const {
        choose(fullProjection_, projection, y, after);
        for (Eigen::Index i = 0; i < projection.rows(); ++i) after[i] += y[i];
    }
    /// What a product with the generator costs, in multiplications.
    double costOfRates() const {
        return static_cast<double>(sparseGenerator_.size() > 0 ? 2 * sparseGenerator_.nonZeros() : generator.size());
    }

    std::size_t bytes() const;

private:
    void complete(const Skeleton<Real>& skeleton, const Elimination<Real>& elimination, const Sparse<Real>& kernel,
                  typename Skeleton<Real>::Rest rest);
    static void choose(const Matrix<Real>& full, const Sparse<Real>& sparse, const Real* x, Real* out) {
        full.size() > 0 ? multiply(full, x, out) : multiply(sparse, x, out);
    }

    Matrix<Real> fullReadout_, fullProjection_;  ///< where that is the faster one, else empty
    Sparse<Real> sparseGenerator_;               ///< the same
    Sparse<Real> lift_, jump_;                   ///< projection = lift * jump, of low rank
};

}  // namespace hedgerow::exact
