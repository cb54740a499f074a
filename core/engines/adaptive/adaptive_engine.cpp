#include "engines/adaptive/adaptive_engine.h"

#include "engines/adaptive/operating_point.h"
#include "engines/adaptive/run.h"

namespace hedgerow {

Status AdaptiveEngine::accepts(const Network&) const { return {}; }

Result<std::vector<double>> AdaptiveEngine::operatingPoint(const Network& network) const {
    return adaptive::operatingPoint(network);
}

std::unique_ptr<Simulation> AdaptiveEngine::begin(const Network& network, const RunRequest& request, RunSink& sink,
                                                  const CancelToken& cancel) const {
    RunRequest tighter = request;
    if (request.reference) {
        constexpr double finer = 1e-3;
        tighter.traceTolerance *= finer;
        for (double& tolerance : tighter.tolerances) tolerance *= finer;
    }
    return std::make_unique<adaptive::Run>(network, tighter, sink, cancel, tableau_);
}

std::unique_ptr<Engine> makeAdaptive() { return std::make_unique<AdaptiveEngine>(); }

}  // namespace hedgerow
