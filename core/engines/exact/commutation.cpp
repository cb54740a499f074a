#include "engines/exact/commutation.h"

#include <algorithm>
#include <cmath>
#include <set>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow::exact {

namespace {

constexpr int blockRounds = 8;
constexpr int pivotRounds = 200;
constexpr std::size_t mostEnumerated = 12;
constexpr std::size_t cacheBytes = std::size_t{256} << 20;
constexpr double microStepSeconds = 1e-9;

double along(const Terms& terms, const auto& z) {
    double sum = 0.0;
    for (const auto& [column, factor] : terms) sum += factor * z(column);
    return sum;
}

std::string instant(Tick t) { return "at " + formatQuantity(toSeconds(t), "s", 6); }

}  // namespace

Magnitudes::Magnitudes(const Frame& frame) : frame_(frame) {
    for (const StateInfo& state : frame.network.states) {
        double& largest = state.sort == StateSort::capacitorVoltage ? largestC_ : largestL_;
        largest = std::max(largest, state.storage);
        state.sort == StateSort::capacitorVoltage ? seeVoltage(state.initial) : seeCurrent(state.initial);
    }
}

double Magnitudes::noise(const GuardRow& guard, const Vector& y) const {
    double sum = part * (guard.ofVoltage ? voltage_ : current_) + least;
    for (int i = 0; i < frame_.states; ++i) {
        const bool voltage = frame_.network.states[static_cast<std::size_t>(i)].sort == StateSort::capacitorVoltage;
        sum += rounding * guard.reach(i) * (voltage ? voltage_ : current_);
    }
    for (int i = frame_.states; i < frame_.size(); ++i) sum += rounding * guard.reach(i) * std::abs(y(i));
    return sum;
}

Commutation::Commutation(const Frame& frame, Magnitudes& magnitudes) : frame_(frame), magnitudes_(magnitudes) {}

std::int64_t Commutation::products() const {
    std::int64_t sum = retiredProducts_;
    for (const auto& [segments, mode] : modes_) sum += mode->propagator.products();
    return sum;
}

std::size_t Commutation::bytes() const {
    std::size_t sum = 0;
    for (const auto& [segments, mode] : modes_) sum += mode->propagator.bytes();
    return sum;
}

Mode& Commutation::mode(const Segments& segments) {
    auto& place = modes_[segments];
    if (!place) {
        const Stopwatch watch;
        place = std::make_unique<Mode>(frame_, segments);
        ++built_;
        secondsBuilding_ += watch.seconds();
    }
    return *place;
}

void Commutation::trim(const Mode* keep) {
    if (built_ % 64 != 0 || bytes() < cacheBytes) return;
    for (auto place = modes_.begin(); place != modes_.end();) {
        if (place->second.get() == keep) {
            ++place;
            continue;
        }
        retiredProducts_ += place->second->propagator.products();
        place = modes_.erase(place);
    }
    guesses_.clear();
}

Result<Mode*> Commutation::settle(Vector& y, const Segments& wanted, Tick t, const std::string& cause) {
    const Vector before = y;
    const auto guess = guesses_.find(wanted);
    Segments candidate = guess == guesses_.end() ? wanted : guess->second;
    std::set<Segments> visited;
    Mode* last = nullptr;
    Mode* found = nullptr;
    for (int round = 0; round < blockRounds + pivotRounds && !found; ++round) {
        Mode& trialMode = mode(candidate);
        last = &trialMode;
        Trial trial = judge(trialMode, before, y);
        if (trial.verdict == Verdict::consistent) {
            found = &trialMode;
            break;
        }
        if (trial.verdict == Verdict::impossible) break;
        if (round >= blockRounds) {
            if (!visited.insert(candidate).second) break;
            trial.violators.resize(1);
        }
        for (const std::size_t i : trial.violators) {
            const GuardRow& guard = trialMode.configuration.guards[i];
            candidate[static_cast<std::size_t>(guard.element)] = guard.next;
        }
    }
    if (!found) found = enumerate(wanted, before, y);
    if (!found) return failure(*last, before, t, cause);
    if (auto status = lostCurrents(*found, before, t, cause); !status) return status.error();
    if (!y.allFinite()) return Error{ErrorCode::numeric, "the solution grew beyond all bounds " + instant(t)};
    if (guesses_.size() > 100'000) guesses_.clear();
    guesses_[wanted] = found->segments;
    trim(found);
    return found;
}

Commutation::Trial Commutation::judge(Mode& mode, const Vector& before, Vector& after) {
    Trial trial;
    if (!mode.configuration.illPosedUnknowns.empty()) {
        trial.verdict = Verdict::impossible;
        return trial;
    }
    if (contradicted(mode, before, trial)) return trial;
    trial.violators = shadowed(mode);
    if (trial.violators.empty()) judgeImpulse(mode, before, trial);
    if (trial.violators.empty()) {
        after = mode.configuration.projects ? Vector(mode.configuration.projector * before) : before;
        judgeGuards(mode, after, trial);
    }
    if (!trial.violators.empty()) trial.verdict = Verdict::violated;
    return trial;
}

/// True when the configuration closes a loop that cannot be: what would flow says which diodes are in the wrong state.
bool Commutation::contradicted(const Mode& mode, const Vector& y, Trial& trial) const {
    const Matrix& rows = mode.configuration.contradiction;
    if (rows.rows() == 0) return false;
    const Vector residual = rows * y;
    const Vector bound = rows.cwiseAbs() * y.cwiseAbs();
    const double floor = 1e-11 * std::max(magnitudes_.voltage(), magnitudes_.current());
    if (((residual.array().abs() - 1e-11 * bound.array() - floor) <= 0).all()) return false;
    Vector flow = mode.configuration.infinite * residual;
    flow /= flow.cwiseAbs().maxCoeff();
    for (std::size_t i = 0; i < mode.configuration.guards.size(); ++i)
        if (along(mode.configuration.guards[i].terms, flow) < -1e-6) trial.violators.push_back(i);
    trial.verdict = trial.violators.empty() ? Verdict::impossible : Verdict::violated;
    return true;
}

/// A diode beside a closed switch would share its current for no reason that a real one has: it opens.
std::vector<std::size_t> Commutation::shadowed(const Mode& mode) const {
    std::vector<std::size_t> found;
    const Matrix& shared = mode.configuration.shared;
    for (int j = 0; j < shared.cols() && found.empty(); ++j) {
        const bool throughGate =
            std::any_of(frame_.network.elements.begin(), frame_.network.elements.end(), [&](const auto& element) {
                return element->gateSignal() >= 0 && element->branch() >= 0 &&
                       std::abs(shared(frame_.network.nodeCount() + element->branch(), j)) > 1e-6;
            });
        if (!throughGate) continue;
        for (std::size_t i = 0; i < mode.configuration.guards.size(); ++i) {
            const GuardRow& guard = mode.configuration.guards[i];
            if (!guard.ofVoltage && std::abs(along(guard.terms, shared.col(j))) > 1e-6) found.push_back(i);
        }
    }
    return found;
}

void Commutation::judgeImpulse(const Mode& mode, const Vector& before, Trial& trial) const {
    if (mode.configuration.impulse.size() == 0) return;
    const Vector impulse = mode.configuration.impulse * before;
    for (std::size_t i = 0; i < mode.configuration.guards.size(); ++i) {
        const GuardRow& guard = mode.configuration.guards[i];
        const double noise = guard.ofVoltage ? magnitudes_.fluxNoise() : magnitudes_.chargeNoise();
        if (along(guard.terms, impulse) < -noise) trial.violators.push_back(i);
    }
}

void Commutation::judgeGuards(Mode& mode, const Vector& after, Trial& trial) {
    std::vector<std::size_t> undecided;
    for (std::size_t i = 0; i < mode.configuration.guards.size(); ++i) {
        const GuardRow& guard = mode.configuration.guards[i];
        const double noise = magnitudes_.noise(guard, after);
        const double value = guard.value * after;
        if (value < -noise)
            trial.violators.push_back(i);
        else if (value <= noise)
            undecided.push_back(i);
    }
    const bool mayContradict = mode.configuration.contradiction.rows() > 0;
    if ((undecided.empty() && !mayContradict) || !trial.violators.empty()) return;
    Vector later = after;
    mode.propagator.advance(later, std::max(mode.propagator.baseStep(), toTicks(microStepSeconds)));
    if (mayContradict && contradicted(mode, later, trial)) return;
    for (const std::size_t i : undecided) {
        const GuardRow& guard = mode.configuration.guards[i];
        if (guard.value * later < -magnitudes_.noise(guard, later)) trial.violators.push_back(i);
    }
}

Mode* Commutation::enumerate(const Segments& wanted, const Vector& before, Vector& after) {
    std::vector<std::size_t> free;
    for (std::size_t i = 0; i < frame_.network.elements.size(); ++i)
        if (frame_.network.elements[i]->gateSignal() < 0 && frame_.network.elements[i]->segmentCount() == 2)
            free.push_back(i);
    if (free.size() > mostEnumerated) return nullptr;
    Segments candidate = wanted;
    for (std::size_t bits = 0; bits < (std::size_t{1} << free.size()); ++bits) {
        for (std::size_t i = 0; i < free.size(); ++i) candidate[free[i]] = (bits >> i) & 1 ? 1 : 0;
        Mode& trialMode = mode(candidate);
        if (judge(trialMode, before, after).verdict == Verdict::consistent) return &trialMode;
    }
    return nullptr;
}

Status Commutation::lostCurrents(const Mode& mode, const Vector& before, Tick t, const std::string& cause) const {
    if (!mode.configuration.projects) return {};
    for (int i = 0; i < frame_.states; ++i) {
        const StateInfo& state = frame_.network.states[static_cast<std::size_t>(i)];
        if (state.sort != StateSort::windingCurrent || std::abs(before(i)) <= 100 * magnitudes_.currentNoise())
            continue;
        if (mode.configuration.projector.row(i).cwiseAbs().maxCoeff() > 1e-9) continue;
        return Error{
            ErrorCode::connection,
            fmt::format(
                "{} carries {} and every path for it is open {}{}: give the current a way, a diode for instance",
                state.part, formatQuantity(before(i), "A"), cause.empty() ? "" : cause + " ", instant(t)),
            state.part};
    }
    return {};
}

Error Commutation::failure(Mode& mode, const Vector& before, Tick t, const std::string& cause) const {
    const Network& network = frame_.network;
    std::vector<std::string> parts;
    const auto addPart = [&](int column) {
        if (column < network.nodeCount()) return;
        const std::string& part = network.branchParts[static_cast<std::size_t>(column - network.nodeCount())];
        if (std::find(parts.begin(), parts.end(), part) == parts.end()) parts.push_back(part);
    };
    const std::string when = (cause.empty() ? "" : cause + " ") + instant(t);
    if (!mode.configuration.illPosedUnknowns.empty()) {
        std::vector<std::string> names;
        for (const int column : mode.configuration.illPosedUnknowns) {
            addPart(column);
            if (names.size() < 6) names.push_back(network.describeUnknown(column));
        }
        return {ErrorCode::illPosed,
                fmt::format("{} {} no unique value {}: add a resistance there", listed(names),
                            names.size() == 1 ? "has" : "have", when),
                parts.empty() ? "" : parts.front()};
    }
    if (mode.configuration.contradiction.rows() > 0) {
        // Where the loop is still without a voltage now (a source at its zero crossing), what comes next tells.
        Vector y = before;
        Trial trial;
        if (!contradicted(mode, y, trial))
            mode.propagator.advance(y, std::max(mode.propagator.baseStep(), toTicks(microStepSeconds)));
        const Vector flow = mode.configuration.infinite * (mode.configuration.contradiction * y);
        const double largest = flow.cwiseAbs().maxCoeff();
        for (int column = 0; column < flow.size(); ++column)
            if (std::abs(flow(column)) > 1e-6 * largest) addPart(column);
        if (!parts.empty())
            return {ErrorCode::illPosed,
                    fmt::format("{} form a short circuit without any resistance {}", listed(parts), when),
                    parts.front()};
        std::vector<std::string> nets;
        for (int column = 0; column < network.nodeCount(); ++column)
            if (std::abs(flow(column)) > 1e-6 * largest && nets.size() < 6)
                nets.push_back(network.describeUnknown(column));
        if (!nets.empty())
            return {
                ErrorCode::illPosed,
                fmt::format("a current is forced into {} and every path from there is open {}: give it a way, a diode "
                            "for instance",
                            listed(nets), when),
                "", nets.front().substr(4)};
    }
    for (std::size_t i = 0; i < network.elements.size(); ++i)
        if (network.elements[i]->gateSignal() < 0 && network.elements[i]->segmentCount() > 1)
            parts.push_back(network.elements[i]->part());
    return {ErrorCode::illPosed, fmt::format("no state of {} fits the circuit {}", listed(parts), when),
            parts.empty() ? "" : parts.front()};
}

}  // namespace hedgerow::exact
