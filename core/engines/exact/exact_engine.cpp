#include "engines/exact/exact_engine.h"

#include <fmt/format.h>

#include "engines/exact/operating_point.h"
#include "engines/exact/run.h"

namespace hedgerow {

namespace {
constexpr std::size_t mostStates = 3'000;  ///< beyond this a run cannot be stopped for too long while it begins
}

Status ExactEngine::accepts(const Network& network) const {
    for (const auto& element : network.elements)
        if (element->smooth())
            return Error{ErrorCode::range,
                         element->part() +
                             " stands on a rung that is not piecewise linear: let the plan take the "
                             "adaptive engine, or the best one",
                         element->part()};
    if (network.states.size() > mostStates)
        return Error{ErrorCode::resource,
                     fmt::format("the exact engine takes up to {} capacitors and windings, this circuit has {}",
                                 mostStates, network.states.size())};
    return {};
}

Result<std::vector<double>> ExactEngine::operatingPoint(const Network& network) const {
    return exact::operatingPoint(network);
}

std::unique_ptr<Simulation> ExactEngine::begin(const Network& network, const RunRequest& request, RunSink& sink,
                                               const CancelToken& cancel) const {
    if (request.reference) return std::make_unique<exact::Run<long double>>(network, request, sink, cancel);
    return std::make_unique<exact::Run<double>>(network, request, sink, cancel);
}

std::unique_ptr<Engine> makeExact() { return std::make_unique<ExactEngine>(); }

}  // namespace hedgerow
