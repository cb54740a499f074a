#pragma once
// Exact steps in one configuration: a ladder of matrices for 2^k base steps, and matrices for interval lengths that
// come again.
//
// Invariants
//  1. Every matrix is kept as the difference D = exp(M h) Pi - Pi, never as the exponential: doubling is
//     D <- 2 D + D^2 and keeps full relative accuracy of small changes.
//  2. The base step is a power of two of ticks; what is shorter is one Taylor step.
//  3. Blocks of sine sources are written in closed form on every level.

#include <array>
#include <cstddef>
#include <cstdint>
#include <unordered_map>
#include <vector>

#include "base/time.h"
#include "engines/exact/configuration.h"

namespace hedgerow::exact {

class Propagator {
public:
    Propagator(const Frame& frame, const Configuration& configuration);

    /// y <- y(t + length). @pre length >= 0 and y consistent
    void advance(Vector& y, Tick length);
    /// y <- y(t + seconds) by one Taylor step. @pre seconds is at most the base step
    void shortStep(Vector& y, double seconds);
    /// One ladder step of 2^level base steps.
    void climb(Vector& y, int level);
    Tick ladderStep(int level) const { return base_ << level; }
    /// The largest level whose step is not longer than `length`; -1 when `length` is below the base step.
    int levelWithin(Tick length) const;
    Tick baseStep() const { return base_; }
    /// Steps up to this length follow every lightly damped oscillation: product of frequency and step about one.
    Tick topStep() const { return top_; }
    /// Taylor coefficients of row * y(t + tau) in tau, order 0 to 5.
    std::array<double, 6> taylor(const Eigen::RowVectorXd& row, const Vector& y);

    std::int64_t products() const { return products_; }
    std::size_t bytes() const;

private:
    struct Interval {
        int sights = 0;
        Matrix difference;  ///< empty until it came often enough
    };
    void apply(Vector& y, const Matrix& difference);
    const Matrix& level(int k);
    void writeSines(Matrix& difference, double h) const;
    Matrix composed(Tick length);

    const Frame& frame_;
    const Configuration& configuration_;
    double norm_ = 0.0;
    Tick base_ = 1;
    Tick top_ = 1;
    std::vector<Matrix> ladder_;
    std::unordered_map<Tick, Interval> intervals_;
    Vector scratch_, scratch2_;
    std::int64_t products_ = 0;
};

}  // namespace hedgerow::exact
