#include "engines/implicit/newton.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <optional>

namespace hedgerow::implicit {

namespace {

constexpr int mostIterations = 8, mostCarefulIterations = 100;
constexpr int mostSteepIterations = 40;
constexpr double iterationShare = 0.1;  ///< of the tolerance, that an iteration may leave
constexpr double slow = 0.3;            ///< contraction above which the Jacobian is made anew
constexpr double carefulNoise = 1e-6;   ///< the same where a circuit at rest has given no scales yet
constexpr double carefulEnd = 1e-11;    ///< of its scale, by which an unknown may still move
constexpr double noise = 1e-9;          ///< of its scale, by which rounding may move an unknown
constexpr double leastContraction = 1e-3;
/// Where nothing has come closer for so many iterations and no more than this moves, of its scale, rounding is all that
/// is left: of the difference of two voltages over a short step, for instance, which a capacitance makes a current.
constexpr int standstill = 4;
constexpr double standingPotentials = 1e-6, standingCurrents = 1e-3;

}  // namespace

Newton::Newton(System& system, Scales& scales, double tolerance)
    : system_(system),
      scales_(scales),
      tolerance_(tolerance),
      previous_(system.states()),
      r_(system.unknowns()),
      trial_(system.unknowns()),
      w_(static_cast<std::size_t>(system.network().sourceCount), 0.0) {
    w_[0] = 1;
}

Outcome Newton::solve(const Values& base, double alpha, Values& z, Values& x) {
    return solve(base, alpha, z, x, Values(z));
}

Outcome Newton::solve(const Values& base, double alpha, Values& z, Values& x, const Values& behind) {
    const Outcome outcome = iterate(base, alpha, z, x, mostIterations, false);
    if (outcome == Outcome::good) return outcome;
    // Along an exponential, iterations approach in small steps first: then each gets its own Jacobian.
    z = behind;
    return iterate(base, alpha, z, x, mostSteepIterations, true);
}

Outcome Newton::solveCarefully(const Values& base, double alpha, Values& z, Values& x) {
    const Outcome outcome = iterate(base, alpha, z, x, mostCarefulIterations, true);
    factoredAlpha_ = -1;
    return outcome;
}

void Newton::setHeld(const std::vector<double>& signals) {
    held_.clear();
    for (const HeldSource& held : system_.network().heldSources)
        held_.push_back(signals[static_cast<std::size_t>(held.signal)]);
}

void Newton::sources(Tick t) {
    const Network& network = system_.network();
    for (std::size_t i = 0; i < network.sources.size(); ++i)
        network.sources[i]->valueAt(t, std::span(w_).subspan(static_cast<std::size_t>(network.sourceOffsets[i]),
                                                             static_cast<std::size_t>(network.sources[i]->size())));
    finishSources();
}

void Newton::sources(Tick from, Tick t) {
    const Network& network = system_.network();
    for (std::size_t i = 0; i < network.sources.size(); ++i) {
        const SourceGenerator& source = *network.sources[i];
        const auto values = std::span(w_).subspan(static_cast<std::size_t>(network.sourceOffsets[i]),
                                                  static_cast<std::size_t>(source.size()));
        const Tick end = source.nextBreak(from);
        source.valueAt(end > t ? t : from, values);
        if (end > t || end - 1 <= from) continue;
        before_.assign(values.size(), 0.0);
        source.valueAt(end - 1, before_);
        const double longer = static_cast<double>(t - from) / static_cast<double>(end - 1 - from);
        for (std::size_t j = 0; j < values.size(); ++j) values[j] += longer * (before_[j] - values[j]);
    }
    finishSources();
}

/// Those that follow signals, and the factor of all.
void Newton::finishSources() {
    const Network& network = system_.network();
    for (std::size_t i = 0; i < held_.size(); ++i)
        w_[static_cast<std::size_t>(network.heldSources[i].source)] = held_[i];
    w_[0] = 1;
    if (sourceFactor_ != 1)
        for (double& value : w_) value *= sourceFactor_;
}

Outcome Newton::iterate(const Values& base, double alpha, Values& z, Values& x, int most, bool careful) {
    const auto statesAt = [&](const Values& unknowns) {
        system_.rates(unknowns, x);
        for (std::size_t i = 0; i < x.size(); ++i) x[i] = base[i] + alpha * x[i];
    };
    statesAt(z);
    double before = 0, least = std::numeric_limits<double>::infinity();
    int made = 0;   // Jacobians, in this search
    int since = 0;  // iterations, since the last one that came closer
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
        std::optional<Scales> here;
        if (careful) here.emplace(system_.network()).see(trial_, {});
        double moved = 0, movedCurrents = 0;
        for (std::size_t i = 0; i < z.size(); ++i) {
            const double part =
                std::abs(trial_[i] - z[i]) / (scales_.ofUnknown(i) + (careful ? here->ofUnknown(i) : 0));
            if (!(part <= std::max(moved, movedCurrents))) worst_ = i;
            double& most =
                system_.network().sortOf(static_cast<int>(i)) == UnknownSort::current ? movedCurrents : moved;
            if (!(part <= most)) most = part;
        }
        z.swap(trial_);
        previous_.swap(x);
        x.resize(previous_.size());
        statesAt(z);
        for (std::size_t i = 0; i < x.size(); ++i) {
            const double part = std::abs(x[i] - previous_[i]) / scales_.ofState(i);
            if (!(part <= moved)) moved = part;  // and what is no number
        }
        if (!std::isfinite(moved) || !std::isfinite(movedCurrents)) return Outcome::diverged;
        if (system_.linear()) return Outcome::good;
        // What guards are judged by is iterated to the end.
        const double settled = careful ? carefulEnd : iterationShare * tolerance_;
        // Currents of capacitances are differences over the step: when they stop coming closer, rounding is all that is
        // left of them, and potentials and charges decide.
        since = std::max(moved, movedCurrents) < 0.5 * least ? 0 : since + 1;
        least = std::min(least, std::max(moved, movedCurrents));
        const bool stands = careful && since >= standstill && moved < standingPotentials &&
                            movedCurrents < standingCurrents;
        if (stands) return Outcome::good;
        const bool rounded = round > 1 && moved <= std::min(settled, noise) && movedCurrents > slow * before;
        moved = std::max(moved, rounded ? 0.0 : movedCurrents);
        const double rate = round > 0 && before > 0 ? moved / before : -1;
        // What is left after this step, from how fast the last ones became smaller.
        // The way back from far away tells nothing of that.
        const bool near = before <= 1;
        if (rate >= 0 && rate < 1 && near) contraction_ = std::max(rate, leastContraction);
        const bool known = rate >= 0 ? rate < 1 && near : !careful;
        if (moved == 0 || (known && moved * contraction_ / (1 - contraction_) <= settled) || rounded ||
            (rate > slow && moved < (careful ? carefulNoise : noise))) {
            if (careful || !system_.flatter()) return Outcome::good;
            factoredAlpha_ = -1;
            before = moved;
            continue;
        }
        if (!careful && rate > slow) {
            if (rate > 1 && made > 1) return Outcome::diverged;
            factoredAlpha_ = -1;
        }
        before = moved;
    }
    return Outcome::diverged;
}

}  // namespace hedgerow::implicit
