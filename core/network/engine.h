#pragma once
// What every engine offers.

#include <memory>
#include <string_view>
#include <vector>

#include "network/row_layout.h"
#include "network/simulation.h"

namespace hedgerow {

class Engine {
public:
    virtual ~Engine() = default;
    virtual std::string_view name() const = 0;
    /// What stands in the way of solving this network with this engine, if anything.
    virtual Status accepts(const Network& network) const = 0;
    /// Whether it is also a good choice.
    virtual bool suits(const Network& network) const { return static_cast<bool>(accepts(network)); }
    /// Whether it goes by a fixed grid of steps (RunRequest::fixed).
    virtual bool onGrid() const { return false; }
    /// Whether its states are exact to rounding, whatever the tolerance of lines.
    virtual bool exact() const { return false; }
    /// States in which nothing changes while sources and gates stay as they are at t = 0, one per state.
    virtual Result<std::vector<double>> operatingPoint(const Network& network) const = 0;
    /// Makes a simulation. Another network may take over later (Simulation::goOnIn).
    virtual std::unique_ptr<Simulation> begin(const Network& network, const RunRequest& request, RunSink& sink,
                                              const CancelToken& cancel) const = 0;
    /// Solves from the start to the end of the request. Never throws; a failure is in the summary.
    RunSummary run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel) const;
};

/// The engines of this build, by name.
using EngineList = std::vector<std::unique_ptr<Engine>>;

}  // namespace hedgerow
