#include "runs/settling.h"

#include <algorithm>

#include "network/scene.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr int highestExact = 2;                          ///< rung
constexpr double adaptiveGoal = 1e-5;                    ///< residual by an engine with steps
constexpr double finerSteps = 1e-4, finestSteps = 1e-5;  ///< trace tolerance by which it steps meanwhile

/// All parts at most on rung 2.
std::shared_ptr<const Project> onLowerRungs(const Project& project) {
    auto lower = std::make_shared<Project>(project);
    for (Sheet& sheet : lower->sheets)
        for (Part& part : sheet.parts) part.rung = std::min(part.rung, highestExact);
    return lower;
}

/// The periodic state one ladder below, where there is one.
Result<std::optional<Settled>> settleLower(const Run& run, std::optional<double> period, const CancelToken& cancel,
                                           const std::function<void(const SettleProgress&)>& progress) {
    const auto project = onLowerRungs(run.project());
    const Scene* const scene = project->findScene(run.scene());
    if (!scene) return std::optional<Settled>();
    const auto intervals = sceneIntervals(*scene, *project, partLibrary(), run.request().end);
    if (!intervals) return std::optional<Settled>();
    const auto elaboration = elaborate(*project, partLibrary(), intervals->front().changes);
    if (!elaboration) return std::optional<Settled>();
    const Engine& engine = bestEngineFor(elaboration->network);
    if (engine.name() == run.engine().name()) return std::optional<Settled>();
    RunRequest request = run.request();
    request.startStates.clear(), request.startMemories.clear(), request.tolerances.clear();
    auto settled =
        settlePeriodic(engine, elaboration->network, {.run = request, .period = period, .progress = progress}, cancel);
    if (!settled) {
        // The circuit as it is may still have one.
        if (settled.error().code == ErrorCode::stop) return settled.error();
        return std::optional<Settled>();
    }
    return std::optional<Settled>(std::move(*settled));
}

}  // namespace

Result<Settled> settleRun(const Run& run, std::optional<double> period, const CancelToken& cancel,
                          const std::function<void(const SettleProgress&)>& progress) {
    SettleRequest request{.run = run.request(), .period = period, .progress = progress};
    if (run.engine().name() != "adaptive")
        return settlePeriodic(run.engine(), run.elaboration().network, request, cancel);
    request.tolerance = adaptiveGoal;
    const auto& states = run.elaboration().network.states;
    const bool heat = std::any_of(states.begin(), states.end(), [](const StateInfo& state) { return state.heat; });
    const double finer = heat ? finestSteps : finerSteps;
    request.run.traceTolerance = std::min(request.run.traceTolerance, finer);
    for (double& tolerance : request.run.tolerances) tolerance = std::min(tolerance, finer);
    if (run.elaboration().network.dynamic) {
        auto lower = settleLower(run, period, cancel, progress);
        if (!lower) return lower.error();
        if (*lower) {
            request.start = (*lower)->start;
            request.slow.emplace();
            for (const settle::Coordinate& c : (*lower)->coordinates) request.slow->push_back(c.name);
        }
    }
    return settlePeriodic(run.engine(), run.elaboration().network, request, cancel);
}

}  // namespace hedgerow
