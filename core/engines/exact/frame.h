#pragma once
// What the pieces of the exact engine share: matrices, the sizes of a network, and the size of what counts as zero.
//
// All of it is a template over the number type: runs are solved in double; the same code in long double checks them.

#include <algorithm>
#include <cmath>
#include <vector>

#include <Eigen/Dense>

#include "network/network.h"

namespace hedgerow::exact {

template <class Real>
using Matrix = Eigen::Matrix<Real, Eigen::Dynamic, Eigen::Dynamic>;
template <class Real>
using Vector = Eigen::Matrix<Real, Eigen::Dynamic, 1>;

/// out = m x, by columns: for the small matrices of this engine faster than a general product.
template <class Real>
inline void multiply(const Matrix<Real>& m, const Real* x, Real* out) {
    const Eigen::Index rows = m.rows(), columns = m.cols();
    const Real* column = m.data();
    for (Eigen::Index i = 0; i < rows; ++i) out[i] = column[i] * x[0];
    for (Eigen::Index j = 1; j < columns; ++j) {
        column += rows;
        const Real factor = x[j];
        for (Eigen::Index i = 0; i < rows; ++i) out[i] += column[i] * factor;
    }
}

/// The sizes of a network and what does not change between configurations. States come first in y, then sources.
template <class Real>
struct Frame {
    explicit Frame(const Network& network);
    const Network& network;
    int states, sources, unknowns;
    Matrix<Real> sourceDynamics;  ///< S, sources x sources
    Vector<Real> stateScale;      ///< sqrt of the storage of each state: y scaled by it has energy as its square
    int size() const { return states + sources; }
};

/// The largest voltage, current and source value seen so far. What is below a small part of them is noise.
template <class Real>
class Magnitudes {
public:
    explicit Magnitudes(const Frame<Real>& frame);

    void seeVoltage(Real v) { see(voltage_, v); }
    void seeCurrent(Real i) { see(current_, i); }
    void seeSources(const Vector<Real>& y);
    Real voltage() const { return voltage_; }
    Real current() const { return current_; }
    Real currentNoise() const { return part * current_ + least; }
    Real chargeNoise() const { return part * voltage_ * largestC_ + least * least; }
    Real fluxNoise() const { return part * current_ * largestL_ + least * least; }
    /// The size of zero of a guard with these coefficients over y.
    Real noise(const Real* coefficients, bool ofVoltage) const;
    /// Grows whenever a magnitude has grown by a tenth.
    int version() const { return version_; }

private:
    void see(Real& largest, Real value) {
        value = std::abs(value);
        if (value <= largest) return;
        if (value > Real(1.1) * largest) ++version_;
        largest = value;
    }
    static constexpr Real part = Real(1e-11), rounding = Real(1e-13), least = Real(1e-18);
    const Frame<Real>& frame_;
    Real voltage_ = 0, current_ = 0;
    Vector<Real> sources_;
    Real largestL_ = 0, largestC_ = 0;
    int version_ = 0;
};

}  // namespace hedgerow::exact
