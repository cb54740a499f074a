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
// Everything acts on y = [x; w].

#include <vector>

#include "engines/exact/elimination.h"
#include "engines/exact/sparse_rows.h"

namespace hedgerow::exact {

template <class Real>
struct Configuration {
    /// Builds the algebra. @param segments one entry per element of the network
    Configuration(const Frame<Real>& frame, const std::vector<int>& segments);

    /// The unknowns in whose direction the equations have no unique solution; empty when all is well.
    std::vector<int> illPosedUnknowns;

    Matrix<Real> readout;        ///< z = readout * y, unknowns x size
    Matrix<Real> projector;      ///< y just after entering = projector * y just before, size x size
    bool projects = false;       ///< false when the projector is the identity
    Matrix<Real> impulse;        ///< integral of z over the instant of entering = impulse * y before; empty without
    Matrix<Real> contradiction;  ///< rows that must vanish on y, else an infinite current or voltage results
    Matrix<Real> infinite;       ///< direction of z in that case, unknowns x rows of contradiction
    Matrix<Real> shared;         ///< directions of z along which current is shared by least norm; often empty
    Matrix<Real> generator;      ///< y' = generator * y, restricted to consistent y

    /// z = readout * y, and y' = generator * y.
    void read(const Real* y, Real* z) const { readoutRows_.multiply(readout, y, z); }
    void rates(const Real* y, Real* slopes) const { generatorRows_.multiply(generator, y, slopes); }
    /// What a product with the generator costs, in multiplications.
    double costOfRates() const {
        return generatorRows_.sparse() ? static_cast<double>(2 * generatorRows_.filled())
                                       : static_cast<double>(generator.size());
    }

    std::size_t bytes() const;

private:
    /// The projector is I + lift * jump, of low rank; both are empty without one.
    struct Projection {
        Matrix<Real> lift, jump;  ///< states x rank, rank x size
        void applyRight(Matrix<Real>& m) const {
            m += multiply(multiply(Matrix<Real>(m.leftCols(lift.rows())), lift), jump);
        }
        void applyLeft(Matrix<Real>& m) const { m.topRows(lift.rows()) += multiply(lift, multiply(jump, m)); }
    };
    void complete(const Frame<Real>& frame, const Elimination<Real>& elimination, const Matrix<Real>& kernel,
                  const Matrix<Real>& k, std::vector<SparseRow<Real>> e, Projection& projection);

    SparseRows<Real> readoutRows_, generatorRows_;
};

}  // namespace hedgerow::exact
