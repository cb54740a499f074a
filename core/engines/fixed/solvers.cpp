#include "engines/fixed/solvers.h"

#include <algorithm>

namespace hedgerow::fixed {

namespace {
constexpr std::size_t mostBytes = 100'000'000, bytesAnUnknown = 1000;  ///< of all solvers, and roughly of one
}

Solvers::Solvers(const Network& network, implicit::Scales& scales, const FixedStepping& stepping, double tolerance)
    : network_(network), scales_(scales), stepping_(stepping), tolerance_(tolerance) {}

Solvers::Solver& Solvers::of(const std::vector<int>& segments, std::int64_t step) {
    const bool heat = step % stepping_.heatEvery == 0, control = step % stepping_.controlEvery == 0;
    const Key key(segments, (heat ? 1 : 0) + (control ? 2 : 0));
    if (const auto known = solvers_.find(key); known != solvers_.end()) return *known->second;
    const auto unknowns = static_cast<std::size_t>(network_.unknownCount()) + 1;
    if (solvers_.size() >= std::max<std::size_t>(8, mostBytes / bytesAnUnknown / unknowns)) {
        factorisations_ = factorisations();
        iterations_ = iterations();
        solvers_.clear();
    }
    ++configurations_;
    auto solver = std::make_unique<Solver>(network_, scales_, tolerance_);
    std::vector<double> weights;
    for (const StateInfo& state : network_.states)
        weights.push_back(state.heat                        ? (heat ? stepping_.heatEvery : 0)
                          : state.sort == StateSort::signal ? (control ? stepping_.controlEvery : 0)
                                                            : 1);
    solver->system.configure(segments, weights);
    return *solvers_.emplace(key, std::move(solver)).first->second;
}

std::int64_t Solvers::factorisations() const {
    std::int64_t sum = factorisations_;
    for (const auto& [key, solver] : solvers_) sum += solver->system.factorisations();
    return sum;
}

std::int64_t Solvers::iterations() const {
    std::int64_t sum = iterations_;
    for (const auto& [key, solver] : solvers_) sum += solver->newton.iterations();
    return sum;
}

}  // namespace hedgerow::fixed
