// How exact the methods of the adaptive engine are for the time they take: each at several tolerances on circuits with
// dynamic and physical parts, against a run a thousand times finer. Ratios within this run.

#include <cmath>
#include <cstdio>
#include <memory>

#include "engines/adaptive/adaptive_engine.h"
#include "formats/hedge/hedge.h"
#include "network/elaborate.h"
#include "runs/registry.h"
#include "traces/trace_store.h"

using namespace hedgerow;

namespace {

struct Case {
    const char* name;
    const char* file;
    int rung;  ///< of the transistors
    double end;
};

const Case cases[] = {{"half bridge, transistors on rung 3", "med-aux-switches", 3, 20e-6},
                      {"half bridge, transistors on rung 4", "med-aux-switches", 4, 20e-6},
                      {"mains rectifier with overlap", "mains-input", 2, 0.05}};

struct Outcome {
    std::vector<double> states;
    double seconds;
};

Outcome solve(const Network& network, const adaptive::Tableau& method, double tolerance, double end) {
    Outcome best{{}, INFINITY};
    for (int repeat = 0; repeat < 3; ++repeat) {
        TraceStore store(static_cast<std::size_t>(network.signalCount), std::size_t{2} << 30);
        RunRequest request;
        request.end = toTicks(end);
        request.traceTolerance = tolerance;
        const CancelToken cancel;
        const RunSummary summary = AdaptiveEngine(method).run(network, request, store, cancel);
        if (summary.end != RunEnd::finished) std::printf("  %s\n", summary.brief().c_str());
        best.seconds = std::min(best.seconds, summary.second("total"));
        best.states = summary.snapshot.values();
        if (tolerance < 1e-6) break;
    }
    return best;
}

double apart(const std::vector<double>& a, const std::vector<double>& b) {
    double sum = 0, size = 0;
    for (std::size_t i = 0; i < a.size(); ++i) sum += (a[i] - b[i]) * (a[i] - b[i]), size += b[i] * b[i];
    return std::sqrt(sum / size);
}

}  // namespace

int main() {
    for (const Case& each : cases) {
        auto loaded = loadHedge(std::string(HEDGEROW_EXAMPLES "/") + each.file + ".hedge");
        if (!loaded) return 1;
        for (Part& part : loaded->project.sheet().parts)
            if (part.kind == "mosfet") part.rung = each.rung;
        const auto elaboration = elaborate(loaded->project, partLibrary());
        if (!elaboration) return 1;
        const Network& network = elaboration->network;
        const Outcome reference = solve(network, adaptive::esdirk4(), 1e-7, each.end);
        std::printf("%s\n", each.name);
        double unit = 0;
        for (const adaptive::Tableau* method : adaptive::allTableaus())
            for (const double tolerance : {1e-3, 1e-4, 1e-5}) {
                const Outcome outcome = solve(network, *method, tolerance, each.end);
                if (unit == 0) unit = outcome.seconds;
                std::printf("  %-16s tolerance %.0e  error %.1e  time %5.2f\n", std::string(method->name).c_str(),
                            tolerance, apart(outcome.states, reference.states), outcome.seconds / unit);
            }
    }
}
