#include "engines/adaptive/switching.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow::adaptive {

namespace {
/// Shorter than anything in a circuit, long enough for what a difference of two numbers leaves of a current.
constexpr double moment = 0x1p-40, shortMoment = 0x1p-47;
constexpr int mostRounds = 200, blockRounds = 4;
/// Of its scale, by which a state may move within a moment without being shared out.
constexpr double still = 1e-7;
constexpr double rounding = 1e-13;
/// Of its scale, what of a guard counts as none: where equations are solved at once, and where they are iterated.
constexpr double exactZero = 1e-12, iteratedZero = 1e-9;
}  // namespace

Switching::Switching(System& system, Stepper& stepper, Scales& scales)
    : system_(system),
      stepper_(stepper),
      scales_(scales),
      zero_(system.linear() ? exactZero : iteratedZero),
      moment_(moment) {}

bool Switching::set(const std::vector<int>& segments) {
    if (segments == segments_) return false;
    segments_ = segments;
    system_.configure(segments_);
    stepper_.newton().reset();
    collect();
    return true;
}

void Switching::collect() {
    guards_.clear();
    for (std::size_t i = 0; i < segments_.size(); ++i)
        for (Guard& guard : system_.network().elements[i]->guards(segments_[i]))
            guards_.push_back({i, std::move(guard), 0});
}

bool Switching::ofSignal(const Active& active) const {
    return !active.guard.terms.empty() &&
           system_.network().sortOf(active.guard.terms.front().first) == UnknownSort::signal;
}

bool Switching::flipViolated(const Values& z, const Values& later, bool onlyFirst) {
    std::vector<int> wanted = segments_;
    // Values of a configuration that does not fit may be huge: what rounding leaves of them counts as nothing.
    Scales here(system_.network());
    here.see(z, {});
    // The control follows the circuit: what it sees counts once that has come to a state.
    for (const bool control : {false, true}) {
        for (Active& active : guards_) {
            if (ofSignal(active) != control) continue;
            active.zero = zero_ * scales_.ofTerms(active.guard.terms) + rounding * here.ofTerms(active.guard.terms);
            if (active.guard.valueAt(z) >= -active.zero || active.guard.valueAt(later) >= -active.zero) continue;
            if (wanted[active.element] != segments_[active.element]) continue;
            wanted[active.element] = active.guard.next;
            flipped_.push_back(active.element);
            if (onlyFirst) break;
        }
        if (wanted != segments_) break;
    }
    return set(wanted);
}

void Switching::lookCloser(bool closer) { moment_ = closer ? shortMoment : moment; }

bool Switching::flipAgainstImpulses(const Values& z, bool onlyFirst) {
    constexpr double part = 1e-3;
    double largest = 0;
    for (const Active& active : guards_)
        if (!ofSignal(active)) largest = std::max(largest, std::abs(active.guard.valueAt(z)));
    std::vector<int> wanted = segments_;
    for (const Active& active : guards_) {
        if (ofSignal(active)) continue;
        if (active.guard.valueAt(z) >= -part * largest || wanted[active.element] != segments_[active.element]) continue;
        wanted[active.element] = active.guard.next;
        flipped_.push_back(active.element);
        if (onlyFirst) break;
    }
    return set(wanted);
}

/// Each round solves for a moment in the present segments and flips those whose guards do not hold: all at once first,
/// then one by one, the first in the order of the sheet.
Status Switching::settle(Instant& at, Tick t, const std::string& what) {
    flipped_.clear();
    const Values start = at.x;
    for (int round = 0; round < mostRounds; ++round) {
        Instant trial{start, at.z};
        auto outcome = stepper_.euler(trial, t, moment_);
        Instant second = trial;
        if (outcome == Outcome::good) outcome = stepper_.euler(second, t, moment_);
        if (outcome != Outcome::good) {
            // Another configuration may have a solution where this one has none.
            if (outcome == Outcome::singular && flipViolated(trial.z, trial.z, round >= blockRounds)) continue;
            return failed(outcome, t, what);
        }
        // What moves in the first moment and not in the second one jumps. It flows as impulses: their signs decide
        // before anything else does.
        bool jumps = false;
        for (std::size_t i = 0; i < start.size(); ++i) {
            const double first = std::abs(trial.x[i] - start[i]), then = std::abs(second.x[i] - trial.x[i]);
            jumps = jumps || (first > still * scales_.ofState(i) && then < 0.1 * first);
        }
        if (jumps && flipAgainstImpulses(trial.z, round >= blockRounds)) continue;
        Instant from{jumps ? trial.x : start, {}}, before = trial, after = second;
        if (jumps) {
            before = second;
            if (outcome = stepper_.euler(after, t, moment_); outcome != Outcome::good) return failed(outcome, t, what);
        }
        // The unknowns at the instant itself: small capacitances move far within a moment, and the unknowns with them,
        // in proportion. What holds there or a moment later stays: between the two the guards are followed step by
        // step.
        double first = 0, then = 0;
        for (std::size_t i = 0; i < start.size(); ++i) {
            const double scale = scales_.ofState(i);
            first += std::pow((before.x[i] - from.x[i]) / scale, 2);
            then += std::pow((after.x[i] - before.x[i]) / scale, 2);
        }
        const double ratio = then > 0 ? std::clamp(std::sqrt(first / then), 0.5, 20.0) : 1.0;
        from.z = before.z;
        for (std::size_t i = 0; i < from.z.size(); ++i) from.z[i] += ratio * (before.z[i] - after.z[i]);
        if (flipViolated(from.z, after.z, round >= blockRounds)) continue;
        if (jumps)
            if (auto lost = lostCurrent({start, {}}, trial, t, what)) return *lost;
        at = std::move(from);
        scales_.see(at.z, at.x);
        return {};
    }
    std::vector<std::string> parts;
    for (const std::size_t element : flipped_)
        if (const std::string& part = system_.network().elements[element]->part();
            std::find(parts.begin(), parts.end(), part) == parts.end())
            parts.push_back(part);
    return Error{ErrorCode::illPosed,
                 fmt::format("no state of {} fits the circuit {} at {}", listed(parts), what,
                             formatQuantity(toSeconds(t), "s", 6)),
                 parts.empty() ? "" : parts.front()};
}

/// A winding whose current vanishes in a moment has lost its last path.
std::optional<Error> Switching::lostCurrent(const Instant& before, const Instant& after, Tick t,
                                            const std::string& what) const {
    constexpr double gone = 1e-3;
    for (std::size_t i = 0; i < before.x.size(); ++i) {
        const StateInfo& state = system_.network().states[i];
        if (state.sort != StateSort::windingCurrent || t == 0) continue;
        if (std::abs(before.x[i]) <= still * scales_.current() || std::abs(after.x[i]) > gone * std::abs(before.x[i]))
            continue;
        return Error{
            ErrorCode::connection,
            fmt::format("{} carries {} and every path for it is open {} at {}: give the current a way, a diode "
                        "for instance",
                        state.part, formatQuantity(before.x[i], "A"), what, formatQuantity(toSeconds(t), "s", 6)),
            state.part};
    }
    return {};
}

Error Switching::failed(Outcome outcome, Tick t, const std::string& what) const {
    const Network& network = system_.network();
    const std::string when = fmt::format("{} at {}", what, formatQuantity(toSeconds(t), "s", 6));
    if (outcome == Outcome::singular)
        return {ErrorCode::illPosed,
                fmt::format("{} has no unique value {}: add a resistance there", system_.singularPlace(), when)};
    const int worst = static_cast<int>(stepper_.newton().worst());
    return {ErrorCode::numeric,
            fmt::format("no values fit the circuit {}: {} does not come to rest. Check the values of the parts there, "
                        "or put them on a lower rung",
                        when, network.describeUnknown(worst)),
            worst >= network.nodeCount() ? network.partOfBranch(worst) : ""};
}

}  // namespace hedgerow::adaptive
