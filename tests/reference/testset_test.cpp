// The adaptive engine on smooth problems of a published test set: end values against the reference solutions there.

#include <cmath>

#include "base/largest.h"
#include "base/cancel.h"
#include "runs/registry.h"
#include "support/circuit.h"
#include "support/test_set.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// Only the end counts.
class Nowhere final : public RunSink {
public:
    std::uint32_t addView(RowView) override { return 0; }
    std::uint32_t addSignals(std::span<const double>) override { return 0; }
    bool append(std::span<const PointRef>, std::span<const double>) override { return true; }
    void progress(Tick) override {}
};

/// The states at the end.
std::vector<double> solved(const Network& network, double end, double tolerance) {
    Nowhere store;
    RunRequest request;
    request.end = toTicks(end);
    request.traceTolerance = tolerance;
    const RunSummary summary = findEngine("adaptive")->run(network, request, store, CancelToken());
    EXPECT_EQ(summary.end, RunEnd::finished) << summary.brief();
    return summary.snapshot.values();
}

/// The largest error at the end, over the sizes.
double worstAtEnd(const TestSetProblem& problem, double tolerance) {
    const auto states = solved(problem.network, problem.end, tolerance);
    EXPECT_EQ(states.size(), problem.wanted.size());
    double worst = 0;
    for (std::size_t i = 0; i < states.size(); ++i)
        worst = largestOf(worst, std::abs(states[i] - problem.wanted[i]) / problem.sizes[i]);
    return worst;
}

}  // namespace

TEST(TestSet, TransistorAmplifier) {
    const TestSetProblem problem = transistorAmplifier();
    double before = 1;
    for (const double tolerance : {1e-3, 1e-5, 1e-7}) {
        const double worst = worstAtEnd(problem, tolerance);
        EXPECT_LT(worst, 0.1 * tolerance) << tolerance;
        EXPECT_LT(worst, before) << "finer is better";
        before = worst;
    }
}

TEST(TestSet, RingModulator) {
    const TestSetProblem problem = ringModulator();
    double before = 1;
    for (const double tolerance : {1e-3, 1e-5}) {
        const double worst = worstAtEnd(problem, tolerance);
        EXPECT_LT(worst, 10 * tolerance) << tolerance;
        EXPECT_LT(worst, 0.1 * before) << "finer is better";
        before = worst;
    }
}

// With coarse tolerances iterations overflow at times: such a step is not taken.
TEST(TestSet, RingModulatorWithCoarseTolerances) {
    for (const double tolerance : {1e-2, 3e-3}) EXPECT_LT(worstAtEnd(ringModulator(), tolerance), 0.5) << tolerance;
}
