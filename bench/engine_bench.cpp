// Run times of what ratios.cpp does not compare: rungs of one converter, the fixed cost of a run, reading traces. Rung
// prices are the run time of a circuit one rung up over that on the ideal rung, everything else equal.

#include <cmath>
#include <memory>

#include <benchmark/benchmark.h>

#include "formats/hedge/hedge.h"
#include "runs/run.h"

using namespace hedgerow;

namespace {

constexpr int periods = 20'000;

std::string stepUp(int rung, const char* tolerance) {
    const std::string r = std::to_string(rung);
    return R"({"hedgerow": 1, "plans": [{"name": "p", "end": "0.2", "tolerance": ")" + std::string(tolerance) +
           R"("}], "sheets": [{"parts": [
        {"name": "REF", "kind": "reference", "at": [0, 0]},
        {"name": "V1", "kind": "dc-voltage", "at": [200, 0], "rung": )" +
           r + R"(, "values": {"level": "24"}},
        {"name": "L1", "kind": "inductor", "at": [400, 0], "rung": )" +
           r + R"(, "values": {"l": "47u", "i0": "4"}},
        {"name": "S1", "kind": "switch", "at": [600, 0], "rung": )" +
           r + R"(},
        {"name": "D1", "kind": "diode", "at": [800, 0], "rung": )" +
           r + R"(},
        {"name": "C1", "kind": "capacitor", "at": [1000, 0], "rung": )" +
           r + R"(, "values": {"c": "47u", "v0": "48"}},
        {"name": "R1", "kind": "resistor", "at": [1200, 0], "values": {"r": "24"}},
        {"name": "M1", "kind": "modulator", "at": [1400, 0], "values": {"f": "100k", "duty": "0.5"}}],
        "labels": [{"net": "z", "at": [0, 0]}, {"net": "in", "at": [200, -32]}, {"net": "z", "at": [200, 32]}, {"net": "in", "at": [368, 0]}, {"net": "sw", "at": [432, 0]},
                   {"net": "sw", "at": [600, -32]}, {"net": "z", "at": [600, 32]}, {"net": "g", "at": [568, 0]}, {"net": "sw", "at": [800, -32]}, {"net": "out", "at": [800, 32]},
                   {"net": "out", "at": [1000, -32]}, {"net": "z", "at": [1000, 32]}, {"net": "out", "at": [1200, -32]}, {"net": "z", "at": [1200, 32]}, {"net": "g", "at": [1440, -16]}]}]})";
}

std::shared_ptr<Run> prepared(const Project& project) {
    RunSettings settings;
    auto run = Run::prepare(std::make_shared<const Project>(project), settings);
    if (!run) std::abort();
    return *run;
}

void engineOn(benchmark::State& state, int rung, const char* tolerance) {
    const auto loaded = readHedge(stepUp(rung, tolerance));
    if (!loaded) std::abort();
    std::int64_t points = 0;
    for (auto _ : state) {
        const auto run = prepared(loaded->project);
        run->execute();
        if (run->summary().end != RunEnd::finished) std::abort();
        points = run->summary().counter("stored points");
    }
    state.counters["points per period"] = static_cast<double>(points) / periods;
}
BENCHMARK_CAPTURE(engineOn, ideal_coarse_traces, 1, "0.1")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(engineOn, ideal_default_traces, 1, "1e-3")->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(engineOn, lossy_default_traces, 2, "1e-3")->Unit(benchmark::kMillisecond);

/// Fixed cost of a run: check, elaborate, first configuration.
void fixedCost(benchmark::State& state) {
    auto loaded = loadHedge(std::string(HEDGEROW_EXAMPLES) + "/med-aux.hedge");
    if (!loaded) std::abort();
    loaded->project.plans[0].end = "1n";
    for (auto _ : state) prepared(loaded->project)->execute();
}
BENCHMARK(fixedCost)->Unit(benchmark::kMillisecond);

/// Reading a window of a trace of a million points: what one frame of the timeline asks of each lane.
void windowOfAMillionPoints(benchmark::State& state) {
    Network network;
    network.nodes = {"a"};
    const RowLayout layout(network);
    auto store = std::make_shared<TraceStore>(0, std::size_t{1} << 30);
    store->addView({1, {}, {}});
    store->addSignals({});
    for (int i = 0; i < 1'000'000; ++i) {
        const double row[1] = {std::sin(i * 0.37)};
        (void)store->append({{{static_cast<Tick>(i) << 30, 0, 0, 0}}}, row);
    }
    Trace trace(store, {"a.v", "V", QuantityInfo::Sort::linear, {{0, 1.0}}}, layout);
    trace.update();
    for (auto _ : state) {
        double sum = 0;
        std::size_t first = 0;
        for (int column = 1; column <= 900; ++column) {
            const std::size_t last = trace.firstAtOrAfter(static_cast<Tick>(column * 1111) << 30);
            sum += trace.range(first, std::max(first + 1, last)).first;
            first = last;
        }
        benchmark::DoNotOptimize(sum);
        benchmark::DoNotOptimize(trace.measure(Tick{100} << 30, Tick{900'000} << 30));
    }
}
BENCHMARK(windowOfAMillionPoints)->Unit(benchmark::kMillisecond);

}  // namespace

BENCHMARK_MAIN();
