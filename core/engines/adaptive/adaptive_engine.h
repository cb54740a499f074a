#pragma once
// The adaptive engine: everything that can be written as smooth equations and piecewise-linear segments, by an implicit
// method whose steps follow an error estimate.

#include "engines/adaptive/tableau.h"
#include "network/engine.h"

namespace hedgerow {

class AdaptiveEngine final : public Engine {
public:
    explicit AdaptiveEngine(const adaptive::Tableau& tableau = adaptive::esdirk4()) : tableau_(tableau) {}
    std::string_view name() const override { return "adaptive"; }
    Status accepts(const Network& network) const override;
    Result<std::vector<double>> operatingPoint(const Network& network) const override;
    std::unique_ptr<Simulation> begin(const Network& network, const RunRequest& request, RunSink& sink,
                                      const CancelToken& cancel) const override;

private:
    const adaptive::Tableau& tableau_;
};

}  // namespace hedgerow
