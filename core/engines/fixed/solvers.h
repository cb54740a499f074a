#pragma once
// A solver for each configuration that a run by a fixed step comes to: its factors stay, since the step does.

#include <map>
#include <memory>
#include <vector>

#include "engines/implicit/newton.h"
#include "network/engine.h"

namespace hedgerow::fixed {

class Solvers {
public:
    Solvers(const Network& network, implicit::Scales& scales, const FixedStepping& stepping, double tolerance);

    struct Solver {
        Solver(const Network& network, implicit::Scales& scales, double tolerance)
            : system(network), newton(system, scales, tolerance) {}
        implicit::System system;
        implicit::Newton newton;
    };
    /// The solver for these segments in a step of the grid. @param step  its number: temperatures and running signals
    /// move on with every n-th one only. The reference holds until the next call.
    Solver& of(const std::vector<int>& segments, std::int64_t step);

    std::int64_t configurations() const { return configurations_; }
    std::int64_t factorisations() const;
    std::int64_t iterations() const;

private:
    using Key = std::pair<std::vector<int>, int>;
    const Network& network_;
    implicit::Scales& scales_;
    FixedStepping stepping_;
    double tolerance_;
    std::map<Key, std::unique_ptr<Solver>> solvers_;
    std::int64_t configurations_ = 0, factorisations_ = 0, iterations_ = 0;  ///< those of solvers that were given up
};

}  // namespace hedgerow::fixed
