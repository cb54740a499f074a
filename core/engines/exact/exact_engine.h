#pragma once
// The exact engine: between events of a piecewise-linear circuit there is no step and no truncation error.

#include "network/engine.h"

namespace hedgerow {

class ExactEngine final : public Engine {
public:
    std::string_view name() const override { return "exact"; }
    bool exact() const override { return true; }
    Status accepts(const Network& network) const override;
    /// Modes of picoseconds beside periods of microseconds cost it many products, and more so in large circuits.
    bool suits(const Network& network) const override {
        return !network.dynamic && network.states.size() <= mostSuited && accepts(network);
    }
    Result<std::vector<double>> operatingPoint(const Network& network) const override;
    std::unique_ptr<Simulation> begin(const Network& network, const RunRequest& request, RunSink& sink,
                                      const CancelToken& cancel) const override;

private:
    static constexpr std::size_t mostSuited = 1000;  ///< storages
};

}  // namespace hedgerow
