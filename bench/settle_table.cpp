// The periodic state against running until it is there: residual, iterations, and the ratio of times, from one run.

#include <cmath>
#include <cstdio>
#include <filesystem>
#include <string>
#include <vector>

#include "circuits.h"
#include "formats/hedge/hedge.h"
#include "periodic/settle/scout.h"
#include "runs/settling.h"

using namespace hedgerow;

namespace {

constexpr double mostSeconds = 30;  ///< of a plain run; what is left is taken in proportion

struct Case {
    std::string name;
    std::shared_ptr<const Project> project;
};

std::shared_ptr<const Project> of(const test::Circuit& circuit) {
    return std::make_shared<const Project>(circuit.project());
}

std::shared_ptr<const Project> example(const char* name) {
    auto loaded = loadHedge(std::filesystem::path(HEDGEROW_EXAMPLES) / name);
    return loaded ? std::make_shared<const Project>(std::move(loaded->project)) : nullptr;
}

/// Seconds for so many periods from the start values, without points.
double plainRun(const Run& run, const Settled& settled, double periods) {
    settle::NoPoints nothing;
    RunRequest request = run.request();
    request.end = toTicks(longestRunSeconds);
    const auto simulation = run.engine().begin(run.elaboration().network, request, nothing, CancelToken());
    if (!simulation->start()) return NAN;
    const Stopwatch watch;
    double done = 0;
    while (done < periods && watch.seconds() < mostSeconds) {
        done = std::min(periods, done + 50);
        const auto until = static_cast<Tick>(done * static_cast<double>(toTick(settled.period)));
        if (until >= request.end || simulation->advance(until) != RunEnd::finished) break;
    }
    return watch.seconds() * periods / done;
}

}  // namespace

int main() {
    std::vector<Case> cases{{"step-up, continuous", of(bench::stepUp("0.5", "24", "48", "4"))},
                            {"step-up, discontinuous", of(bench::stepUp("0.3", "400", "60", "0"))},
                            {"resonant half bridge", of(bench::resonantHalfBridge())},
                            {"phase-shifted bridge", of(bench::phaseShiftedBridge())},
                            {"isolated supply (med-lamp)", example("med-lamp.hedge")},
                            {"three-phase bridge, 50 Hz", of(bench::threePhaseBridge())},
                            {"six-pulse rectifier", of(bench::sixPulse())},
                            {"sampled control (med-mast)", example("med-mast.hedge")},
                            {"peak current (med-aux-loop)", example("med-aux-loop.hedge")},
                            {"single-phase inverter (med-tool)", example("med-tool.hedge")},
                            {"rung 3 (med-aux-switches)", example("med-aux-switches.hedge")},
                            {"rung 4 (med-aux-physical)", example("med-aux-physical.hedge")}};
    std::printf("%-34s %6s %6s %6s %9s %10s %12s %12s %8s\n", "circuit", "Newton", "plain", "all", "residual",
                "settling", "plain run of", "takes", "ratio");
    for (const Case& one : cases) {
        if (!one.project) continue;
        RunSettings settings;
        settings.settle = true;
        auto run = Run::prepare(one.project, settings);
        if (!run) {
            std::printf("%-34s %s\n", one.name.c_str(), run.error().message.c_str());
            continue;
        }
        const Stopwatch watch;
        const auto settled = settleCircuit((*run)->toSettle(), CancelToken());
        const double seconds = watch.seconds();
        if (!settled) {
            std::printf("%-34s %s\n", one.name.c_str(), settled.error().message.c_str());
            continue;
        }
        const double plain =
            std::isfinite(settled->plainEquivalent) ? plainRun(**run, *settled, settled->plainEquivalent) : NAN;
        std::printf("%-34s %6d %6d %6d %9.1e %8.2f ms %12.0f %9.1f ms %8.1f\n", one.name.c_str(), settled->iterations,
                    settled->plainPeriods, settled->periods, settled->residual, 1e3 * seconds, settled->plainEquivalent,
                    1e3 * plain, plain / seconds);
        std::fflush(stdout);
    }
    return 0;
}
