#pragma once
// Exact steps in one configuration: a doubling table of matrices for 2^k base steps, and matrices for interval lengths
// that come again.
//
// Invariants
//  1. Every matrix is kept as the difference D = exp(M h) Pi - Pi, never as the exponential: doubling is
//     D <- 2 D + D^2 and keeps full relative accuracy of small changes.
//  2. The base step is a power of two of ticks; what is shorter is one Taylor step.
//  3. Blocks of sine sources are written in closed form on every level.
//  4. A configuration that is seen rarely gets no doubling table: it is advanced by Taylor steps on the vector until
//  that has
//     cost as much as the doubling table would. Where the generator is mostly zeros they go on to be the cheaper way.

#include <complex>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <unordered_map>
#include <vector>

#include "base/time.h"
#include "engines/exact/configuration.h"

namespace hedgerow::exact {

template <class Real>
inline Real secondsOf(Tick ticks) {
    return static_cast<Real>(ticks) * static_cast<Real>(tickSeconds);
}

template <class Real>
class Propagator {
public:
    Propagator(const StateLayout<Real>& layout, const Configuration<Real>& configuration);

    /// y <- y(t + length). @pre length >= 0 and y consistent
    void advance(Vector<Real>& y, Tick length);
    /// y <- y(t + seconds) by one Taylor step. @pre seconds is at most the base step
    void shortStep(Vector<Real>& y, Real seconds);
    /// Less than `length` by up to a thirtieth, or a base step, and reached by few products; below the base step all of
    /// it
    Tick easyStep(Tick length) const;
    /// About half of `length`, and reached by one or two products.
    Tick easyHalf(Tick length) const;
    /// Of the generator, in the energy norm of the states, in 1/s.
    Real norm() const { return norm_; }
    /// The eigenvalues of the generator over the states, 1/s; none where there are more than a hundred states.
    const std::vector<std::complex<double>>& modes();
    Tick baseStep() const { return base_; }
    /// Steps up to this length follow every lightly damped oscillation: product of frequency and step about one.
    /// @param wanted  what is asked for; the modes are looked at only when it is long against the fastest
    Tick topStep(Tick wanted);
    /// Taylor coefficients of y(t + tau) in tau, one per column; exact to the last digit for tau up to `length`.
    /// @pre length is at most seriesReach()
    Eigen::Map<const Matrix<Real>> taylor(const Vector<Real>& y, Tick length);
    Tick seriesReach() const { return 32 * base_; }
    /// The difference matrix of any length.
    Matrix<Real> composed(Tick length);

    std::int64_t products() const { return products_; }
    std::size_t bytes() const;

private:
    /// The largest level whose step is not longer than `length`; -1 when `length` is below the base step.
    int levelWithin(Tick length) const;
    bool fewClimbs(Tick length) const;
    bool bySeries(Tick length) const;
    Tick ladderStep(int level) const { return base_ << level; }
    /// One step of the doubling table of 2^level base steps.
    void climb(Vector<Real>& y, int level);
    struct Interval {
        int sights = 0;
        Matrix<Real> difference;  ///< empty until it came often enough
    };
    const Matrix<Real>* differenceOf(Tick key);
    void apply(Vector<Real>& y, const Matrix<Real>& difference);
    void taylorSteps(Vector<Real>& y, Real seconds);
    const Matrix<Real>& level(int k);
    void writeSines(Matrix<Real>& difference, Real h) const;

    const StateLayout<Real>& layout_;
    const Configuration<Real>& configuration_;
    Real norm_ = 0;
    Tick base_ = 1;
    std::optional<std::vector<std::complex<double>>> modes_;
    Eigen::SparseMatrix<double> inEnergy() const;
    Tick top_ = 0;  ///< 0 until the modes were looked at
    std::vector<Matrix<Real>> doubled_;
    std::unordered_map<Tick, Interval> intervals_;
    Vector<Real> scratch_, scratch2_;
    Matrix<Real> coefficients_;
    std::int64_t products_ = 0, unladdered_ = 0;
};

}  // namespace hedgerow::exact
