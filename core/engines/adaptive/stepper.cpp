#include "engines/adaptive/stepper.h"

#include <algorithm>
#include <cmath>

#include <Eigen/Dense>

namespace hedgerow::adaptive {

namespace {

constexpr int mostIterations = 8, mostCarefulIterations = 100;
constexpr int mostSteepIterations = 40;
constexpr double iterationShare = 0.01;  ///< of the tolerance, that an iteration may leave
constexpr double slow = 0.3;             ///< contraction above which the Jacobian is made anew
constexpr double carefulNoise = 1e-6;    ///< the same where a circuit at rest has given no scales yet
constexpr double carefulEnd = 1e-11;     ///< of its scale, by which an unknown may still move
constexpr double noise = 1e-9;           ///< of its scale, by which rounding may move an unknown
constexpr double leastContraction = 1e-3;
constexpr double leastGrowth = 0.2, mostGrowth = 5.0, safety = 0.85;

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
      tolerance_(tolerance),
      base_(system.states()),
      x_(system.states()),
      previous_(system.states()),
      r_(system.unknowns()),
      trial_(system.unknowns()),
      w_(static_cast<std::size_t>(system.network().sourceCount), 0.0),
      errors_(system.states()) {
    w_[0] = 1;
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
    reset();
}

void Stepper::setHeld(const std::vector<double>& signals) {
    held_.clear();
    for (const HeldSource& held : system_.network().heldSources)
        held_.push_back(signals[static_cast<std::size_t>(held.signal)]);
}

void Stepper::sources(Tick t) {
    const Network& network = system_.network();
    for (std::size_t i = 0; i < network.sources.size(); ++i)
        network.sources[i]->valueAt(t, std::span(w_).subspan(static_cast<std::size_t>(network.sourceOffsets[i]),
                                                             static_cast<std::size_t>(network.sources[i]->size())));
    for (std::size_t i = 0; i < held_.size(); ++i)
        w_[static_cast<std::size_t>(network.heldSources[i].source)] = held_[i];
    w_[0] = 1;
    if (sourceFactor_ != 1)
        for (double& value : w_) value *= sourceFactor_;
}

Stepper::Outcome Stepper::iterate(const Values& base, double alpha, Values& z, Values& x, int most, bool careful) {
    const auto statesAt = [&](const Values& unknowns) {
        system_.rates(unknowns, x);
        for (std::size_t i = 0; i < x.size(); ++i) x[i] = base[i] + alpha * x[i];
    };
    statesAt(z);
    double before = 0;
    int made = 0;  // Jacobians, in this search
    for (int round = 0; round < most; ++round) {
        if (careful || factoredAlpha_ != alpha) {
            factoredAlpha_ = -1;
            if (!system_.factor(z, x, alpha)) return Outcome::singular;
            factoredAlpha_ = alpha;
            ++made;
        }
        ++iterations_;
        system_.residual(z, x, w_, r_);
        system_.solve(r_);
        for (std::size_t i = 0; i < z.size(); ++i) trial_[i] = z[i] - r_[i];
        if (!system_.linear()) system_.tame(z, trial_);
        // Far from where the circuit has been, values count by their own size.
        Scales here(system_.network());
        if (careful) here.see(trial_, {});
        double moved = 0, movedCurrents = 0;
        for (std::size_t i = 0; i < z.size(); ++i) {
            const double part = std::abs(trial_[i] - z[i]) / (scales_.ofUnknown(i) + (careful ? here.ofUnknown(i) : 0));
            if (!(part <= std::max(moved, movedCurrents))) worst_ = i;
            double& most =
                system_.network().sortOf(static_cast<int>(i)) == UnknownSort::current ? movedCurrents : moved;
            if (!(part <= most)) most = part;
        }
        z.swap(trial_);
        previous_.swap(x);
        x.resize(previous_.size());
        statesAt(z);
        for (std::size_t i = 0; i < x.size(); ++i)
            moved = std::max(moved, std::abs(x[i] - previous_[i]) / scales_.ofState(i));
        if (!std::isfinite(moved) || !std::isfinite(movedCurrents)) return Outcome::diverged;
        if (system_.linear()) return Outcome::good;
        // What guards are judged by is iterated to the end.
        const double settled = careful ? carefulEnd : iterationShare * tolerance_;
        // Currents of capacitances are differences over the step: when they stop coming closer, rounding is all that is
        // left of them, and potentials and charges decide.
        const bool rounded = round > 1 && moved <= settled && movedCurrents > slow * before;
        moved = std::max(moved, rounded ? 0.0 : movedCurrents);
        const double rate = round > 0 && before > 0 ? moved / before : -1;
        // What is left after this step, from how fast the last ones became smaller.
        if (rate >= 0 && rate < 1) contraction_ = std::max(rate, leastContraction);
        const bool known = rate >= 0 ? rate < 1 : !careful;
        if (moved == 0 || (known && moved * contraction_ / (1 - contraction_) <= settled)) return Outcome::good;
        if (rounded || (rate > slow && moved < (careful ? carefulNoise : noise))) return Outcome::good;
        if (!careful && rate > slow) {
            if (rate > 1 && made > 1) return Outcome::diverged;
            factoredAlpha_ = -1;
        }
        before = moved;
    }
    return Outcome::diverged;
}

Stepper::Outcome Stepper::attempt(const Instant& start, Tick t, Tick length, bool atBreak) {
    const double h = toSeconds(length), alpha = h * tableau_->gamma;
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
        sources(t + offset - (last && atBreak ? 1 : 0));
        stages_[s] = stages_[s - 1];
        Outcome outcome = iterate(base_, alpha, stages_[s], x_, mostIterations, false);
        // Along an exponential, iterations approach in small steps first: then each gets its own Jacobian.
        if (outcome == Outcome::diverged) {
            stages_[s] = stages_[s - 1];
            outcome = iterate(base_, alpha, stages_[s], x_, mostSteepIterations, true);
        }
        if (outcome != Outcome::good) {
            ++failures_;
            return outcome;
        }
        system_.rates(stages_[s], slopes_[s]);
    }
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
    for (std::size_t i = 0; i < errors_.size(); ++i) {
        const double scale = std::max(scales_.ofState(i), std::abs(end_.x[i]));
        error_ = std::max(error_, std::abs(errors_[i] + alpha * x_[i]) / (tolerance_ * scale));
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

Stepper::Outcome Stepper::euler(Instant& at, Tick t, double seconds) {
    sources(t);
    base_ = at.x;
    const Outcome outcome = iterate(base_, seconds, at.z, x_, mostCarefulIterations, true);
    if (outcome == Outcome::good) at.x = x_;
    factoredAlpha_ = -1;
    return outcome;
}

}  // namespace hedgerow::adaptive
