// The engine with a fixed step: what a target that computes in a fixed time will make of the circuit. Backward Euler or
// damped trapezoidal steps, with or without interpolation of what switches within a step.

#include "engines/fixed/run.h"

namespace hedgerow {

std::unique_ptr<Engine> makeAdaptive();

namespace {

class FixedEngine final : public Engine {
public:
    std::string_view name() const override { return "fixed"; }
    bool onGrid() const override { return true; }
    Status accepts(const Network&) const override { return {}; }
    /// Its errors are what it is for: nobody gets them without asking.
    bool suits(const Network&) const override { return false; }
    Result<std::vector<double>> operatingPoint(const Network& network) const override {
        return makeAdaptive()->operatingPoint(network);
    }
    std::unique_ptr<Simulation> begin(const Network& network, const RunRequest& request, RunSink& sink,
                                      const CancelToken& cancel) const override {
        // What a step does to a result shows against the engine that chooses its steps.
        if (request.reference) return makeAdaptive()->begin(network, request, sink, cancel);
        return std::make_unique<fixed::Run>(network, request, sink, cancel);
    }
};

}  // namespace

std::unique_ptr<Engine> makeFixed() { return std::make_unique<FixedEngine>(); }

}  // namespace hedgerow
