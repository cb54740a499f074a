#include "engines/exact/propagator.h"

#include <algorithm>
#include <array>
#include <cmath>

#include <Eigen/Eigenvalues>

namespace hedgerow::exact {

namespace {

constexpr double baseStepNorm = 2e-3;        ///< norm of M times the base step
constexpr int taylorOrder = 12;              ///< 2e-3^13 / 13! is far below rounding
constexpr Tick longestBase = Tick{1} << 44;  ///< about 1 ms, for circuits without dynamics
constexpr Tick longestTop = Tick{1} << 50;   ///< about 60 ms
constexpr Tick intervalGrain = 64;  ///< lengths are cached in multiples of this, the rest is a tiny Taylor step
constexpr Tick shortestCached = Tick{1} << 12;
constexpr int sightsBeforeCaching = 3;
constexpr std::size_t mostIntervals = 256;

}  // namespace

Propagator::Propagator(const Frame& frame, const Configuration& configuration)
    : frame_(frame), configuration_(configuration), scratch_(frame.size()), scratch2_(frame.size()) {
    const int nx = frame.states;
    double fastest = 0.0;  // of lightly damped modes and of sine sources
    for (const auto& source : frame.network.sources) fastest = std::max(fastest, source->angularFrequency());
    norm_ = fastest;
    if (nx > 0) {
        const Matrix scaled = frame.stateScale.asDiagonal() * configuration.generator.topLeftCorner(nx, nx) *
                              frame.stateScale.cwiseInverse().asDiagonal();
        const double byColumn = scaled.cwiseAbs().colwise().sum().maxCoeff();
        const double byRow = scaled.cwiseAbs().rowwise().sum().maxCoeff();
        norm_ = std::max(norm_, std::sqrt(byColumn * byRow));
        const Eigen::EigenSolver<Matrix> modes(scaled, false);
        if (modes.info() == Eigen::Success)
            for (const std::complex<double> mode : modes.eigenvalues())
                if (std::abs(mode.imag()) > 0.2 * std::abs(mode.real())) fastest = std::max(fastest, std::abs(mode));
    }
    base_ = longestBase;
    while (base_ > 1 && norm_ * toSeconds(base_) > baseStepNorm) base_ /= 2;
    top_ = longestTop;
    while (top_ > base_ && fastest * toSeconds(top_) > 1.0) top_ /= 2;
}

std::size_t Propagator::bytes() const {
    const auto matrix = static_cast<std::size_t>(frame_.size() * frame_.size()) * sizeof(double);
    return (ladder_.size() + intervals_.size() + 4) * matrix;
}

void Propagator::apply(Vector& y, const Matrix& difference) {
    scratch_.noalias() = difference * y;
    y += scratch_;
    ++products_;
}

void Propagator::writeSines(Matrix& difference, double h) const {
    for (std::size_t i = 0; i < frame_.network.sources.size(); ++i) {
        const double omega = frame_.network.sources[i]->angularFrequency();
        if (omega == 0.0) continue;
        const int at = frame_.states + frame_.network.sourceOffsets[i];
        const double half = std::sin(omega * h / 2);
        difference(at, at) = difference(at + 1, at + 1) = -2 * half * half;
        difference(at, at + 1) = std::sin(omega * h);
        difference(at + 1, at) = -difference(at, at + 1);
    }
}

const Matrix& Propagator::level(int k) {
    if (ladder_.empty()) {
        // Below one tick of base step the series starts from a fraction of a tick.
        int halvings = 0;
        while (norm_ * std::ldexp(toSeconds(base_), -halvings) > baseStepNorm) ++halvings;
        const double h = std::ldexp(toSeconds(base_), -halvings);
        const Matrix mh = configuration_.generator * h;
        Matrix term = mh, sum = mh;
        for (int j = 2; j <= taylorOrder; ++j) {
            term = term * mh / j;
            sum += term;
        }
        writeSines(sum, h);
        for (int j = halvings; j > 0; --j) {
            sum = 2 * sum + sum * sum;
            writeSines(sum, std::ldexp(toSeconds(base_), -(j - 1)));
        }
        ladder_.push_back(std::move(sum));
    }
    while (static_cast<int>(ladder_.size()) <= k) {
        const Matrix& last = ladder_.back();
        Matrix next = 2 * last + last * last;
        writeSines(next, toSeconds(base_ << ladder_.size()));
        ladder_.push_back(std::move(next));
    }
    return ladder_[static_cast<std::size_t>(k)];
}

int Propagator::levelWithin(Tick length) const {
    int k = -1;
    while (k < 52 && (base_ << (k + 1)) <= length) ++k;
    return k;
}

void Propagator::climb(Vector& y, int k) { apply(y, level(k)); }

void Propagator::shortStep(Vector& y, double h) {
    if (h == 0.0) return;
    int order = 1;
    for (double remainder = norm_ * h * norm_ * h / 2; remainder > 1e-18 && order < 6;
         remainder *= norm_ * h / (order + 1))
        ++order;
    scratch_ = y;
    for (int j = 1; j <= order; ++j) {
        scratch2_.noalias() = configuration_.generator * scratch_;
        scratch_ = scratch2_ * (h / j);
        y += scratch_;
        ++products_;
    }
}

void Propagator::advance(Vector& y, Tick length) {
    if (length >= shortestCached) {
        const Tick key = length / intervalGrain;
        if (intervals_.size() >= mostIntervals && !intervals_.contains(key)) intervals_.clear();
        Interval& interval = intervals_[key];
        if (interval.difference.size() == 0 && ++interval.sights >= sightsBeforeCaching)
            interval.difference = composed(key * intervalGrain);
        if (interval.difference.size() > 0) {
            apply(y, interval.difference);
            length -= key * intervalGrain;
        }
    }
    for (int k = levelWithin(length); k >= 0; --k) {
        while (ladderStep(k) <= length) {
            climb(y, k);
            length -= ladderStep(k);
        }
    }
    shortStep(y, toSeconds(length));
}

Matrix Propagator::composed(Tick length) {
    const double whole = toSeconds(length);
    Matrix total = Matrix::Zero(frame_.size(), frame_.size());
    const auto compose = [&](const Matrix& step) { total = (total + step + step * total).eval(); };
    for (int k = levelWithin(length); k >= 0; --k) {
        while (ladderStep(k) <= length) {
            compose(level(k));
            length -= ladderStep(k);
        }
    }
    if (length > 0) {
        const Matrix mh = configuration_.generator * toSeconds(length);
        Matrix term = mh, sum = mh;
        for (int j = 2; j <= 6; ++j) {
            term = term * mh / j;
            sum += term;
        }
        compose(sum);
    }
    writeSines(total, whole);
    return total;
}

std::array<double, 6> Propagator::taylor(const Eigen::RowVectorXd& row, const Vector& y) {
    std::array<double, 6> coefficients{};
    scratch_ = y;
    double factorial = 1.0;
    for (std::size_t j = 0; j < coefficients.size(); ++j) {
        if (j > 0) {
            scratch2_.noalias() = configuration_.generator * scratch_;
            scratch_ = scratch2_;
            factorial *= static_cast<double>(j);
            ++products_;
        }
        coefficients[j] = row.dot(scratch_) / factorial;
    }
    return coefficients;
}

}  // namespace hedgerow::exact
