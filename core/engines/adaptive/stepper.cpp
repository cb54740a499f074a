#include "engines/adaptive/stepper.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include <Eigen/Dense>

namespace hedgerow::adaptive {

namespace {

constexpr double leastGrowth = 0.2, mostGrowth = 5.0, safety = 0.85;

/// How far beyond its end a step is continued for a first guess of the next one, in its lengths.
constexpr double farthestAhead = 1.2;
constexpr std::size_t mostPlaces = 4;  ///< earlier stages from which a stage is guessed

/// Weights of the values at `places` that continue them to `to`: of the polynomial through the nearest of them.
std::vector<double> continued(const std::vector<double>& places, double to) {
    std::vector<std::size_t> nearest(places.size());
    std::iota(nearest.begin(), nearest.end(), std::size_t{0});
    std::stable_sort(nearest.begin(), nearest.end(),
                     [&](std::size_t a, std::size_t b) { return std::abs(places[a] - to) < std::abs(places[b] - to); });
    nearest.resize(std::min(nearest.size(), mostPlaces));
    std::vector<double> weights(places.size(), 0.0);
    for (const std::size_t i : nearest) {
        weights[i] = 1;
        for (const std::size_t j : nearest)
            if (j != i) weights[i] *= (to - places[j]) / (places[i] - places[j]);
    }
    return weights;
}

/// Coefficients of the polynomials that are 1 at one of the places and 0 at the others: [place][power].
std::vector<double> lagrange(const std::vector<double>& places) {
    const auto n = static_cast<Eigen::Index>(places.size());
    Eigen::MatrixXd powers(n, n);
    for (Eigen::Index i = 0; i < n; ++i)
        for (Eigen::Index j = 0; j < n; ++j) powers(i, j) = std::pow(places[static_cast<std::size_t>(i)], j);
    const Eigen::MatrixXd inverse = powers.inverse();  // [power][place]
    std::vector<double> result;
    for (Eigen::Index i = 0; i < n; ++i)
        for (Eigen::Index j = 0; j < n; ++j) result.push_back(inverse(j, i));
    return result;
}

}  // namespace

Stepper::Stepper(System& system, const Tableau& tableau, Scales& scales, double tolerance)
    : system_(system),
      tableau_(nullptr),
      scales_(scales),
      newton_(system, scales, tolerance),
      tolerance_(tolerance),
      base_(system.states()),
      x_(system.states()),
      r_(system.unknowns()),
      errors_(system.states()) {
    use(tableau);
}

void Stepper::use(const Tableau& tableau) {
    if (tableau_ == &tableau) return;
    tableau_ = &tableau;
    stages_.assign(tableau.a.size(), Values(system_.unknowns()));
    slopes_.assign(tableau.a.size(), Values(system_.states()));
    std::vector<double> places;
    for (const int stage : tableau.dense) places.push_back(tableau.c[static_cast<std::size_t>(stage)]);
    weights_ = lagrange(places);
    findCheck();
    const std::size_t n = tableau.c.size();
    ahead_.assign(n * n, 0.0);
    for (std::size_t s = 2; s < n; ++s) {
        const std::vector<double> weights =
            continued({tableau.c.begin(), tableau.c.begin() + static_cast<std::ptrdiff_t>(s)}, tableau.c[s]);
        std::copy(weights.begin(), weights.end(), ahead_.begin() + static_cast<std::ptrdiff_t>(s * n));
    }
    known_ = false;
    newton_.reset();
}

/// A stage within the step that the polynomial leaves out, or one of its own, which the others then must meet.
void Stepper::findCheck() {
    const auto& c = tableau_->c;
    const auto& dense = tableau_->dense;
    checked_ = 0;
    for (std::size_t s = 1; s + 1 < c.size(); ++s)
        if (std::find(dense.begin(), dense.end(), static_cast<int>(s)) == dense.end()) checked_ = s;
    if (checked_ == 0 && dense.size() > 2) checked_ = static_cast<std::size_t>(dense[dense.size() / 2]);
    std::vector<double> places;
    std::vector<std::size_t> at;
    for (std::size_t i = 0; i < dense.size(); ++i)
        if (static_cast<std::size_t>(dense[i]) != checked_) {
            places.push_back(c[static_cast<std::size_t>(dense[i])]);
            at.push_back(i);
        }
    checks_.assign(dense.size(), 0.0);
    if (checked_ == 0) return;
    const std::vector<double> weights = continued(places, c[checked_]);
    for (std::size_t i = 0; i < at.size(); ++i) checks_[at[i]] = weights[i];
}

double Stepper::strays(std::span<const double> allowed) const {
    double worst = 0;
    if (checked_ == 0) return worst;
    for (std::size_t k = 0; k < allowed.size(); ++k) {
        double value = 0;
        for (std::size_t i = 0; i < checks_.size(); ++i)
            if (checks_[i] != 0) value += checks_[i] * stages_[static_cast<std::size_t>(tableau_->dense[i])][k];
        worst = std::max(worst, std::abs(value - stages_[checked_][k]) / allowed[k]);
    }
    return worst;
}

/// A first guess of a stage: for the first one from the attempt before, for the others from those before it.
/// @param part  of the attempt before, where the first stage lies
void Stepper::predict(std::size_t stage, double part) {
    if (stage == 1) {
        if (known_ && part <= 1 + farthestAhead)
            stages_[1].swap(continued_);
        else
            stages_[1] = stages_[0];
        return;
    }
    Values& guess = stages_[stage];
    std::fill(guess.begin(), guess.end(), 0.0);
    for (std::size_t j = 0; j < stage; ++j) {
        const double weight = ahead_[stage * stages_.size() + j];
        if (weight == 0) continue;
        for (std::size_t k = 0; k < guess.size(); ++k) guess[k] += weight * stages_[j][k];
    }
}

Outcome Stepper::attempt(const Instant& start, Tick t, Tick length, bool atBreak) {
    const double h = toSeconds(length), alpha = h * tableau_->gamma;
    const double part = lastLength_ > 0
                            ? (static_cast<double>(t - lastStart_) + tableau_->c[1] * static_cast<double>(length)) /
                                  static_cast<double>(lastLength_)
                            : 0;
    if (known_) {
        continued_.resize(start.z.size());
        within(part, continued_);
    }
    stages_[0] = start.z;
    system_.rates(start.z, slopes_[0]);
    for (std::size_t s = 1; s < stages_.size(); ++s) {
        for (std::size_t i = 0; i < base_.size(); ++i) {
            double sum = 0;
            for (std::size_t j = 0; j < s; ++j) sum += tableau_->a[s][j] * slopes_[j][i];
            base_[i] = start.x[i] + h * sum;
        }
        const bool last = s + 1 == stages_.size();
        const Tick offset = last ? length : static_cast<Tick>(tableau_->c[s] * static_cast<double>(length));
        newton_.sources(t + offset - (last && atBreak ? 1 : 0));
        predict(s, part);
        if (const Outcome outcome = newton_.solve(base_, alpha, stages_[s], x_, stages_[s - 1]);
            outcome != Outcome::good) {
            known_ = false;
            return outcome;
        }
        system_.rates(stages_[s], slopes_[s]);
    }
    known_ = stages_.size() > 2;  // of two stages there is no course to go on with
    lastStart_ = t;
    lastLength_ = length;
    end_.x = x_;
    end_.z = stages_.back();
    // The error of the states, as far as the equations let it live: stiff parts of it die within the step.
    for (std::size_t i = 0; i < errors_.size(); ++i) {
        double sum = 0;
        for (std::size_t s = 0; s < slopes_.size(); ++s) sum += tableau_->error[s] * slopes_[s][i];
        errors_[i] = h * sum;
    }
    system_.ofStates(errors_, r_);
    system_.solve(r_);
    system_.rates(r_, x_);
    error_ = 0;
    worst_ = -1;
    for (std::size_t i = 0; i < errors_.size(); ++i) {
        const double scale = std::max(scales_.ofState(i), std::abs(end_.x[i]));
        const double error = std::abs(errors_[i] + alpha * x_[i]) / (tolerance_ * scale);
        if (!(error <= error_)) error_ = error, worst_ = static_cast<int>(i);  // and what is no number
    }
    error_ *= tableau_->strict;
    if (!std::isfinite(error_)) return Outcome::diverged;
    return error_ <= 1 ? Outcome::good : Outcome::inaccurate;
}

double Stepper::growth() const {
    if (error_ <= 0) return mostGrowth;
    return std::clamp(safety * std::pow(error_, -1.0 / (tableau_->embedded + 1)), leastGrowth, mostGrowth);
}

void Stepper::within(double part, std::span<double> z) const {
    const std::size_t n = tableau_->dense.size();
    std::fill(z.begin(), z.end(), 0.0);
    for (std::size_t i = 0; i < n; ++i) {
        double weight = 0;
        for (std::size_t power = n; power-- > 0;) weight = weight * part + weights_[i * n + power];
        const Values& stage = stages_[static_cast<std::size_t>(tableau_->dense[i])];
        for (std::size_t k = 0; k < z.size(); ++k) z[k] += weight * stage[k];
    }
}

Course Stepper::courseOf(const Guard& guard) const {
    Course course;
    course.powers = tableau_->dense.size();
    for (std::size_t i = 0; i < course.powers; ++i) {
        const double value = guard.valueAt(stages_[static_cast<std::size_t>(tableau_->dense[i])]);
        for (std::size_t power = 0; power < course.powers; ++power)
            course.coefficients[power] += value * weights_[i * course.powers + power];
    }
    return course;
}

bool Stepper::fitUnknowns(Instant& at, Tick t) {
    newton_.sources(t);
    Values z = at.z;
    if (newton_.solveCarefully(at.x, 0, z, x_) != Outcome::good) return false;
    at.z = std::move(z);
    known_ = false;
    return true;
}

Outcome Stepper::euler(Instant& at, Tick t, double seconds) {
    newton_.sources(t);
    base_ = at.x;
    const Outcome outcome = newton_.solveCarefully(base_, seconds, at.z, x_);
    if (outcome == Outcome::good) at.x = x_;
    return outcome;
}

}  // namespace hedgerow::adaptive
