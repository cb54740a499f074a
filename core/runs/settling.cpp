#include "runs/settling.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "network/elaborate.h"
#include "network/equilibrium.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr int highestExact = 2;                          ///< rung
constexpr double adaptiveGoal = 1e-5;                    ///< residual by an engine with steps
constexpr double finerSteps = 1e-4, finestSteps = 1e-5;  ///< trace tolerance by which it steps meanwhile

constexpr double hottest = 1e6;  ///< °C: a resistance without a heat sink typed in may stand at some 10,000, what runs away far beyond

/// The periodic state one ladder below, where there is one.
Result<std::optional<Settled>> settleLower(const SettleCircuit& circuit, const CancelToken& cancel,
                                           const std::function<void(const SettleProgress&)>& progress) {
    Changes changes = circuit.changes;
    changes.rungs += (changes.rungs.empty() ? "" : ", ") + fmt::format("at most {}", highestExact);
    const auto elaboration = elaborate(circuit.project, partLibrary(), changes);
    if (!elaboration) return std::optional<Settled>();
    const Engine& engine = bestEngineFor(elaboration->network);
    if (engine.name() == circuit.engine.name()) return std::optional<Settled>();
    RunRequest request = circuit.request;
    request.startStates.clear(), request.startMemories.clear(), request.tolerances.clear();
    auto settled = settlePeriodic(
        engine, elaboration->network,
        {.run = request, .period = circuit.period, .start = circuit.start, .progress = progress}, cancel);
    if (!settled) {
        // The circuit as it is may still have one.
        if (settled.error().code == ErrorCode::stop) return settled.error();
        return std::optional<Settled>();
    }
    return std::optional<Settled>(std::move(*settled));
}

/// The state with temperatures where the losses of its instant would lead: Newton's method begins nearer.
Snapshot withWarmth(Snapshot from, const SettleCircuit& circuit) {
    const Network& network = circuit.network;
    const Carried carried = carriedInto(network, from);
    std::vector<int> segments = carried.segments;
    for (std::size_t i = 0; i < segments.size(); ++i)
        if (segments[i] < 0) segments[i] = network.elements[i]->initialSegment(carried.gates[i] > 0);
    const auto restOf = [&](const Network& held) { return circuit.engine.operatingPoint(held); };
    const std::vector<double> values = withNewAtRest(network, from.t, carried, segments, restOf, true);
    // Under a current that is held a resistance that grows with its heat may run away: no temperature to begin with.
    for (std::size_t i = 0; i < network.states.size(); ++i)
        if (network.states[i].heat && !(std::abs(values[i]) < hottest)) return from;
    for (std::size_t i = 0; i < network.states.size(); ++i)
        if (const StateInfo& state = network.states[i]; state.heat && !carried.knownStates[i])
            from.states.push_back({.part = state.part, .name = state.name, .value = values[i], .storage = state.storage});
    return from;
}

/// Whether a network has states, other than temperatures, that are not among these.
bool hasOthers(const Network& network, const std::vector<std::string>& known) {
    return std::any_of(network.states.begin(), network.states.end(), [&](const StateInfo& state) {
        return !state.heat && std::find(known.begin(), known.end(), state.part + "." + state.name) == known.end();
    });
}

}  // namespace

Result<Settled> settleCircuit(const SettleCircuit& circuit, const CancelToken& cancel,
                              const std::function<void(const SettleProgress&)>& progress) {
    SettleRequest request{
        .run = circuit.request, .period = circuit.period, .start = circuit.start, .progress = progress};
    if (circuit.engine.exact() || circuit.engine.onGrid())
        return settlePeriodic(circuit.engine, circuit.network, request, cancel);
    request.tolerance = adaptiveGoal;
    const auto& states = circuit.network.states;
    const bool heat = std::any_of(states.begin(), states.end(), [](const StateInfo& state) { return state.heat; });
    const double finer = heat ? finestSteps : finerSteps;
    request.run.traceTolerance = std::min(request.run.traceTolerance, finer);
    for (double& tolerance : request.run.tolerances) tolerance = std::min(tolerance, finer);
    if (circuit.network.dynamic) {
        auto lower = settleLower(circuit, cancel, progress);
        if (!lower) return lower.error();
        if (*lower) {
            request.start = withWarmth((*lower)->start, circuit);
            request.slow.emplace();
            for (const settle::Coordinate& c : (*lower)->coordinates) request.slow->push_back(c.name);
        }
    }
    auto settled = settlePeriodic(circuit.engine, circuit.network, request, cancel);
    if (settled || !request.slow || settled.error().code == ErrorCode::stop || !hasOthers(circuit.network, *request.slow))
        return settled;
    // What comes with the higher rungs need not die out within a period: a choke in a lead, say.
    request.slow.reset();
    auto again = settlePeriodic(circuit.engine, circuit.network, request, cancel);
    return again || again.error().code == ErrorCode::stop ? std::move(again) : std::move(settled);
}

}  // namespace hedgerow
