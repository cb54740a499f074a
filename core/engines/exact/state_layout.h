#pragma once
// What the pieces of the exact engine share: matrices, the sizes of a network, and the size of what counts as zero.
//
// All of it is a template over the number type: runs are solved in double; the same code in long double checks them.

#include <algorithm>
#include <cmath>
#include <limits>
#include <vector>

#include <Eigen/Dense>

#include "engines/exact/product.h"
#include "network/network.h"

namespace hedgerow::exact {

template <class Real>
using Matrix = Eigen::Matrix<Real, Eigen::Dynamic, Eigen::Dynamic>;
template <class Real>
using Vector = Eigen::Matrix<Real, Eigen::Dynamic, 1>;

/// out = m x.
template <class Real>
inline void multiply(const Matrix<Real>& m, const Real* x, Real* out) {
    product(m.data(), static_cast<std::size_t>(m.rows()), static_cast<std::size_t>(m.cols()), x, out);
}

/// a b.
template <class Real>
inline Matrix<Real> multiply(const Matrix<Real>& a, const Matrix<Real>& b) {
    Matrix<Real> result(a.rows(), b.cols());
    for (Eigen::Index j = 0; j < b.cols(); ++j) multiply(a, b.col(j).data(), result.col(j).data());
    return result;
}

/// The sizes of a network and what does not change between configurations. States come first in y, then sources.
template <class Real>
struct StateLayout {
    explicit StateLayout(const Network& network);
    const Network& network;
    int states, sources, unknowns;
    Matrix<Real> sourceDynamics;  ///< S, sources x sources
    Vector<Real> stateScale;      ///< sqrt of the storage of each state: y scaled by it has energy as its square
    int size() const { return states + sources; }
    /// What is gone now is only looked at, and undone: nothing counts towards what is worth building.
    mutable bool rehearsal = false;
};

/// While it lives, all that is done is a rehearsal.
template <class Real>
class Rehearsal {
public:
    explicit Rehearsal(const StateLayout<Real>& layout) : layout_(layout), before_(layout.rehearsal) {
        layout.rehearsal = true;
    }
    Rehearsal(const Rehearsal&) = delete;
    Rehearsal& operator=(const Rehearsal&) = delete;
    ~Rehearsal() { layout_.rehearsal = before_; }

private:
    const StateLayout<Real>& layout_;
    bool before_;
};

/// The largest voltage, current and source value seen so far. What is below a small part of them is noise.
template <class Real>
class Scales {
public:
    explicit Scales(const StateLayout<Real>& layout);

    void seeVoltage(Real v) { see(voltage_, v); }
    void seeCurrent(Real i) { see(current_, i); }
    void seeSources(const Vector<Real>& y);
    /// Running signals among the states of y.
    void seeSignals(const Real* y);
    Real voltage() const { return voltage_; }
    Real current() const { return current_; }
    Real currentNoise() const { return part_ * current_ + least; }
    Real chargeNoise() const { return part_ * voltage_ * largestC_ + least * least; }
    Real fluxNoise() const { return part_ * current_ * largestL_ + least * least; }
    /// Takes into account what rounding of the equations does to states that should not move: the norm of the equations
    /// times the length of an interval, in units of the last digit.
    void drifted(Real normTimesLength);
    /// The largest value seen of each entry of y, by its kind.
    Vector<Real> sizes() const;
    /// The largest value seen of an entry of y, by its kind.
    Real size(int entry) const {
        return entry < layout_.states ? sizeOfState(entry) : sources_(entry - layout_.states);
    }
    /// The size of zero of a guard. @param sum  of its coefficients over y, without sign, times the sizes there
    Real noise(Real sum, UnknownSort sort) const;
    /// What of an impulse counts as none.
    Real impulseNoise(UnknownSort sort) const {
        return sort == UnknownSort::voltage   ? fluxNoise()
               : sort == UnknownSort::current ? chargeNoise()
                                              : std::numeric_limits<Real>::infinity();
    }
    /// Grows whenever a magnitude has grown by a tenth.
    int version() const { return version_; }

private:
    void see(Real& largest, Real value) {
        value = std::abs(value);
        if (value <= largest) return;
        if (value > Real(1.1) * largest) ++version_;
        largest = value;
    }
    static constexpr Real rounding = Real(1e-13), least = Real(1e-18), quiet = Real(1e-11), mostDrift = Real(1e-7);
    static constexpr Real leastConductance = Real(1e-3);  ///< S
    Real part_ = quiet;                                   ///< what of the largest value is noise
    const StateLayout<Real>& layout_;
    Real voltage_ = 0, current_ = 0;
    Vector<Real> sources_, signals_;  ///< signals_: per state, 0 for those of other sorts
    Real sizeOfState(int state) const;
    Real largestL_ = 0, largestC_ = 0;
    int version_ = 0;
};

}  // namespace hedgerow::exact
