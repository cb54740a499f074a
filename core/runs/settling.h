#pragma once
// From the circuit of a run, or of one of its spans, to its periodic state.

#include <optional>

#include "model/project.h"
#include "network/changes.h"
#include "network/engine.h"
#include "periodic/settle/settle.h"

namespace hedgerow {

/// What is to be settled: a project in one interval of a scene on some rungs, as an engine sees it.
struct SettleCircuit {
    const Project& project;
    const Changes& changes;
    const Engine& engine;
    const Network& network;
    RunRequest request;
    std::optional<Snapshot> start = {};  ///< where to begin, instead of the start values
    std::optional<double> period = {};   ///< s, typed; nothing to find it
};

/// Finds its periodic state. Parts on rung 3 and above are first settled on rung 2, by the exact engine where that takes the
/// circuit; what their rungs add then starts in equilibrium.
Result<Settled> settleCircuit(const SettleCircuit& circuit, const CancelToken& cancel,
                              const std::function<void(const SettleProgress&)>& progress = {});

}  // namespace hedgerow
