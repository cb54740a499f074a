// The adaptive engine against a general solver of differential-algebraic equations (IDA with KLU) on the same
// equations, at equal error at the end of the run: the time of the general solver for the error that the engine reaches
// is read off its own work-precision line. Ratios within this run.

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <functional>
#include <string>
#include <vector>

#include "dae_solver.h"
#include "engines/adaptive/adaptive_engine.h"
#include "formats/hedge/hedge.h"
#include "network/elaborate.h"
#include "runs/registry.h"
#include "support/test_set.h"
#include "traces/trace_store.h"

using namespace hedgerow;
using namespace hedgerow::bench;

namespace {

struct Outcome {
    std::vector<double> states;
    double seconds;
    long steps;
    bool finished;
    long points = 0;  ///< that were stored
};

Outcome byEngine(const Network& network, double end, double tolerance) {
    TraceStore store(static_cast<std::size_t>(network.signalCount), std::size_t{2} << 30);
    RunRequest request;
    request.end = toTicks(end);
    request.traceTolerance = tolerance;
    const RunSummary summary = AdaptiveEngine().run(network, request, store, CancelToken());
    return {summary.snapshot.values(), summary.second("total"), static_cast<long>(summary.counter("steps")),
            summary.end == RunEnd::finished, static_cast<long>(summary.counter("stored points"))};
}

Outcome byDae(const Network& network, double end, double tolerance, long outputs = 0) {
    const DaeOutcome outcome = solveDae(network, end, tolerance, outputs);
    return {outcome.states, outcome.seconds, outcome.steps, outcome.finished};
}

/// The fastest of some runs, which all lead to the same.
Outcome best(const std::function<Outcome()>& run, int repeats) {
    Outcome best = run();
    for (int i = 1; i < repeats && best.finished; ++i) best.seconds = std::min(best.seconds, run().seconds);
    return best;
}

struct Problem {
    std::string name;
    Network network;
    double end;
    std::vector<double> wanted, sizes;
    int repeats;
    double finest;  ///< tolerance of the general solver
};

double error(const Problem& problem, const std::vector<double>& states) {
    double worst = 0;
    for (std::size_t i = 0; i < states.size(); ++i)
        worst = std::max(worst, std::abs(states[i] - problem.wanted[i]) / problem.sizes[i]);
    return worst;
}

/// A point on a work-precision line.
struct Point {
    double error, seconds;
};

/// The time for an error, between or beyond the points of a line in logarithms; what is worse than its neighbours does
/// not count.
double secondsFor(double wanted, std::vector<Point> line) {
    std::sort(line.begin(), line.end(), [](const Point& a, const Point& b) { return a.seconds < b.seconds; });
    std::vector<Point> front;
    for (const Point& point : line)
        if (front.empty() || point.error < front.back().error) front.push_back(point);
    if (front.size() < 2 || wanted >= front.front().error) return front.front().seconds;
    std::size_t i = 1;
    while (i + 1 < front.size() && front[i].error > wanted) ++i;
    const Point &a = front[i - 1], &b = front[i];
    const double slope = std::log(b.seconds / a.seconds) / std::log(b.error / a.error);
    return b.seconds * std::pow(wanted / b.error, slope);
}

void compare(const Problem& problem) {
    std::printf("%s\n", problem.name.c_str());
    std::vector<Point> line;
    for (double tolerance = 1e-3; tolerance > 0.9 * problem.finest; tolerance /= 10) {
        const Outcome o = best([&] { return byDae(problem.network, problem.end, tolerance); }, problem.repeats);
        std::printf("  general solver, tolerance %.0e: ", tolerance);
        if (!o.finished) {
            std::printf("gives up\n");
            continue;
        }
        line.push_back({error(problem, o.states), o.seconds});
        std::printf("error %.1e, %ld steps, %.2f ms\n", line.back().error, o.steps, 1e3 * o.seconds);
    }
    // What it takes to store a point, from a run in the middle of the line.
    constexpr double middle = 1e-6;
    constexpr long outputs = 20'000;
    const auto at = [&](long many) {
        return best([&] { return byDae(problem.network, problem.end, middle, many); }, problem.repeats).seconds;
    };
    const double point = std::max(0.0, at(outputs) - at(0)) / outputs;
    std::printf("  general solver: %.2f us to store a point\n", 1e6 * point);
    for (const double tolerance : {1e-2, 1e-3, 1e-4, 1e-5}) {
        const Outcome o = best([&] { return byEngine(problem.network, problem.end, tolerance); }, problem.repeats);
        const double reached = error(problem, o.states);
        const double wanted = line.empty() ? 0.0 : secondsFor(reached, line);
        std::printf(
            "  engine, tolerance %.0e: error %.1e, %ld steps, %.2f ms; general solver over engine at this error %.1f, "
            "storing "
            "as many points %.1f\n",
            tolerance, reached, o.steps, 1e3 * o.seconds, wanted / o.seconds,
            (wanted + point * static_cast<double>(o.points)) / o.seconds);
    }
}

Problem ofTestSet(const char* name, test::TestSetProblem problem, int repeats, double finest) {
    return {
        name,  std::move(problem.network), problem.end, std::move(problem.wanted), std::move(problem.sizes), repeats,
        finest};
}

/// A half bridge with package, layout and winding parasitics, its transistors on a rung.
Problem switchingStage(int rung) {
    auto loaded = loadHedge(HEDGEROW_EXAMPLES "/med-aux-switches.hedge");
    if (!loaded) std::exit(1);
    for (Part& part : loaded->project.sheet().parts)
        if (part.kind == "mosfet") part.rung = rung;
    auto elaboration = elaborate(loaded->project, partLibrary());
    if (!elaboration) std::exit(1);
    Problem problem{"half bridge, transistors on rung " + std::to_string(rung),
                    std::move(elaboration->network),
                    20e-6,
                    {},
                    {},
                    3,
                    1e-8};
    problem.wanted = byEngine(problem.network, problem.end, 1e-8).states;
    // Voltages against the largest of them, currents against the largest of them.
    double voltage = 0, current = 0;
    for (std::size_t i = 0; i < problem.wanted.size(); ++i)
        (problem.network.states[i].sort == StateSort::windingCurrent ? current : voltage) =
            std::max(problem.network.states[i].sort == StateSort::windingCurrent ? current : voltage,
                     std::abs(problem.wanted[i]));
    for (const StateInfo& state : problem.network.states)
        problem.sizes.push_back(state.sort == StateSort::windingCurrent ? current : voltage);
    return problem;
}

}  // namespace

/// @param argv  nothing, or part of the name of the problem to compare on
int main(int argc, char** argv) {
    const std::string wanted = argc > 1 ? argv[1] : "";
    for (const auto& make :
         {std::function([] { return ofTestSet("transistor amplifier, 0.2 s", test::transistorAmplifier(), 9, 1e-9); }),
          std::function([] { return ofTestSet("ring modulator, 1 ms", test::ringModulator(), 1, 1e-7); }),
          std::function([] { return switchingStage(4); }), std::function([] { return switchingStage(3); })}) {
        const Problem problem = make();
        if (problem.name.find(wanted) != std::string::npos) compare(problem);
    }
}
