// Prices against truth: every plan and scene of all examples, and circuits that nothing was learnt from, span by span. The book of
// prices learns as it goes, as it does in the window; the share of spans within a factor of 1.5 is told for the first and the second round.

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <string>
#include <vector>

#include "circuits.h"
#include "formats/hedge/hedge.h"
#include "runs/price.h"

using namespace hedgerow;

namespace {

constexpr double mostSeconds = 20;  ///< of one run; what would take longer is left out

struct Case {
    std::string name;
    std::shared_ptr<const Project> project;
    std::string plan, scene;
};

std::shared_ptr<const Project> of(const test::Circuit& circuit) {
    return std::make_shared<const Project>(circuit.project());
}

std::vector<Case> cases() {
    std::vector<Case> all;
    std::vector<std::filesystem::path> files;
    for (const auto& entry : std::filesystem::directory_iterator(HEDGEROW_EXAMPLES))
        if (entry.path().extension() == ".hedge") files.push_back(entry.path());
    std::sort(files.begin(), files.end());
    for (const auto& file : files) {
        const auto loaded = loadHedge(file);
        if (!loaded) continue;
        const auto project = std::make_shared<const Project>(loaded->project);
        for (const Plan& plan : project->plans)
            for (const Scene& scene : project->scenes)
                all.push_back({file.stem().string(), project, plan.name, scene.name});
    }
    all.push_back({"step-up", of(bench::stepUp("0.5", "24", "48", "4")), "", ""});
    all.push_back({"step-up, discontinuous", of(bench::stepUp("0.3", "400", "60", "0")), "", ""});
    all.push_back({"resonant half bridge", of(bench::resonantHalfBridge()), "", ""});
    all.push_back({"phase-shifted bridge", of(bench::phaseShiftedBridge()), "", ""});
    all.push_back({"three-phase bridge", of(bench::threePhaseBridge()), "", ""});
    all.push_back({"six-pulse rectifier", of(bench::sixPulse()), "", ""});
    return all;
}

}  // namespace

int main() {
    PriceBook book;
    const std::vector<Case> all = cases();
    for (int round = 1; round <= 2; ++round) {
        int spans = 0, near = 0, inside = 0;
        std::printf("round %d\n%-28s %-26s %-44s %10s %10s %7s %8s\n", round, "circuit", "plan", "span", "price", "truth",
                    "ratio", "ready");
        for (const Case& one : all) {
            auto run = Run::prepare(one.project, {.scene = one.scene, .plan = one.plan});
            if (!run) continue;
            const Stopwatch watch;
            const auto price = priceOf(**run, book, 0.2, CancelToken());
            const double ready = watch.seconds();
            if (!price || price->seconds > mostSeconds) continue;
            (*run)->execute();
            const RunSummary& summary = (*run)->summary();
            if (summary.end != RunEnd::finished) continue;
            for (std::size_t i = 0; i < price->spans.size(); ++i) {
                const SpanPrice& span = price->spans[i];
                double truth = summary.second("total");
                if (summary.spans.size() == price->spans.size())
                    truth = summary.spans[i].seconds;
                else if (price->spans.size() > 1)
                    truth = i == 0 ? summary.second("search") : truth - summary.second("search");
                if (span.waits || !(truth > 0)) continue;
                const double ratio = span.seconds / truth;
                ++spans;
                near += ratio > 1 / 1.5 && ratio < 1.5;
                inside += truth >= span.low && truth <= span.high;
                std::printf("%-28s %-26.26s %-44.44s %7.2f ms %7.2f ms %7.2f %5.0f ms\n", one.name.c_str(),
                            ((*run)->plan() + ", " + (*run)->scene()).c_str(), span.text.c_str(), 1e3 * span.seconds,
                            1e3 * truth, ratio, 1e3 * ready);
                std::fflush(stdout);
            }
            learnFrom(*price, summary, book);
        }
        std::printf("round %d: %d of %d spans within a factor of 1.5, %d within the range that was told\n", round, near, spans,
                    inside);
    }
    return 0;
}
