// How long traces make one wait: a run of very many points, drawn, moved over, kept, opened again. Prints the table of
// docs/performance.md. The number of points is the argument, 100 million without one; the run lies in a folder that is
// removed at the end.

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <random>

#include <fmt/format.h>
#include <qcustomplot.h>
#include <QApplication>

#include "formats/hedge/hedge.h"
#include "ledger/ledger.h"
#include "runs/run.h"
#include "window/main_window.h"
#include "timeline/timeline_view.h"
#include "timeline/trace_plottable.h"

using namespace hedgerow;

namespace {

constexpr double pointsPerSecond = 1.9e6;  ///< that the step-up stage stores in simulated time

std::string stage(double seconds) {
    return R"({"hedgerow": 1, "plans": [{"name": "p", "end": ")" + fmt::format("{}", seconds) +
           R"(", "tolerance": "1e-3"}], "sheets": [{"parts": [
        {"name": "REF", "kind": "reference", "at": [0, 0]},
        {"name": "V1", "kind": "dc-voltage", "at": [200, 0], "values": {"level": "24"}},
        {"name": "L1", "kind": "inductor", "at": [400, 0], "values": {"l": "47u", "i0": "4"}},
        {"name": "S1", "kind": "switch", "at": [600, 0]},
        {"name": "D1", "kind": "diode", "at": [800, 0]},
        {"name": "C1", "kind": "capacitor", "at": [1000, 0], "values": {"c": "47u", "v0": "48"}},
        {"name": "R1", "kind": "resistor", "at": [1200, 0], "values": {"r": "24"}},
        {"name": "M1", "kind": "modulator", "at": [1400, 0], "values": {"f": "100k", "duty": "0.5"}}],
        "labels": [{"net": "z", "at": [0, 0]}, {"net": "in", "at": [200, -32]}, {"net": "z", "at": [200, 32]}, {"net": "in", "at": [368, 0]}, {"net": "sw", "at": [432, 0]},
                   {"net": "sw", "at": [600, -32]}, {"net": "z", "at": [600, 32]}, {"net": "g", "at": [568, 0]}, {"net": "sw", "at": [800, -32]}, {"net": "out", "at": [800, 32]},
                   {"net": "out", "at": [1000, -32]}, {"net": "z", "at": [1000, 32]}, {"net": "out", "at": [1200, -32]}, {"net": "z", "at": [1200, 32]}, {"net": "g", "at": [1440, -16]}]}]})";
}

void line(const char* what, double value, const char* unit) { std::printf("| %s | %.3g %s |\n", what, value, unit); }

/// Six lanes of a window of usual size, over one time axis.
class Lanes {
public:
    explicit Lanes(std::vector<std::unique_ptr<Trace>> traces) : traces_(std::move(traces)) {
        plot_.resize(1000, 500);
        plot_.plotLayout()->clear();
        for (std::size_t i = 0; i < traces_.size(); ++i) {
            auto* box = new QCPAxisRect(&plot_);
            plot_.plotLayout()->addElement(static_cast<int>(i), 0, box);
            boxes_.push_back(box);
            new app::TracePlottable(box->axis(QCPAxis::atBottom), box->axis(QCPAxis::atLeft),
                                    [trace = traces_[i].get()] { return trace; });
        }
    }
    /// Draws a window as the timeline does: values fitted, measures of what is seen. @return s
    double frame(double from, double to) {
        const Stopwatch watch;
        for (std::size_t i = 0; i < traces_.size(); ++i) {
            boxes_[i]->axis(QCPAxis::atBottom)->setRange(from, to);
            if (const auto m = traces_[i]->measure(toTicks(from), toTicks(to)))
                boxes_[i]->axis(QCPAxis::atLeft)->setRange(m->min, m->max);
        }
        plot_.replot(QCustomPlot::rpImmediateRefresh);
        return watch.seconds();
    }
    /// The longest and the median of many frames of pans and zooms at all scales, s.
    std::pair<double, double> wander(double end) {
        std::mt19937 random(7);
        std::vector<double> frames;
        for (int zoom = 0; zoom < 40; ++zoom) {
            const double width = end * std::pow(10.0, -0.15 * zoom);
            double from = (end - width) * std::uniform_real_distribution<>()(random);
            for (int pan = 0; pan < 8; ++pan) {
                frames.push_back(frame(from, from + width));
                QCoreApplication::processEvents();
                from = std::clamp(from + 0.05 * width, 0.0, end - width);
            }
        }
        std::sort(frames.begin(), frames.end());
        return {frames.back(), frames[frames.size() / 2]};
    }

private:
    QCustomPlot plot_;
    std::vector<std::unique_ptr<Trace>> traces_;
    std::vector<QCPAxisRect*> boxes_;
};

/// Moves the cursor over the run of an example and draws the window each time: conducting devices, currents, voltages.
std::pair<double, double> scrub() {
    app::MainWindow window;
    window.resize(1280, 800);
    window.show();
    if (!window.open(HEDGEROW_EXAMPLES "/med-aux.hedge")) std::exit(1);
    app::Workspace& workspace = window.workspace();
    workspace.startRun();
    while (workspace.running() || workspace.runs().front()->thread.joinable()) QCoreApplication::processEvents();
    window.timeline().lanes().fit();
    QCoreApplication::processEvents();
    std::vector<double> frames;
    for (int k = 0; k < 200; ++k) {
        const Stopwatch watch;
        workspace.setCursor(toTicks(3e-3 * k / 200));
        window.repaint();
        QCoreApplication::processEvents();
        frames.push_back(watch.seconds());
    }
    std::sort(frames.begin(), frames.end());
    return {frames.back(), frames[frames.size() / 2]};
}

std::unique_ptr<Lanes> lanesOf(const RunRecord& run) {
    std::vector<std::unique_ptr<Trace>> traces;
    for (const char* name : {"out.v", "L1.i", "sw.v", "D1.i", "R1.p", "M1.g"}) {
        auto trace = run.trace(name);
        if (trace) traces.push_back(std::move(trace));
    }
    return std::make_unique<Lanes>(std::move(traces));
}

}  // namespace

int main(int argc, char** argv) {
    const double wanted = argc > 1 ? std::atof(argv[1]) : 1e8;
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication application(argc, argv);
    const auto folder = std::filesystem::temp_directory_path() / fmt::format("hedgerow-bench-{}", ::getpid());
    const auto loaded = readHedge(stage(wanted / pointsPerSecond));
    if (!loaded) return std::fputs(loaded.error().message.c_str(), stderr), 1;
    auto made = Run::prepare(std::make_shared<const Project>(loaded->project));
    if (!made) return std::fputs(made.error().message.c_str(), stderr), 1;
    std::puts("| what | |\n|---|---|");
    {
        const auto run = *made;
        run->execute();
        const double end = toSeconds(run->reached());
        line("points", static_cast<double>(run->points()), "");
        line("run", run->summary().second("total"), "s");
        line("in memory", static_cast<double>(run->bytes()) / 1e9, "GB");
        Stopwatch watch;
        const auto lanes = lanesOf(*run);
        lanes->frame(0, end);
        line("six traces of a run in memory, first picture with all points looked at", watch.seconds(), "s");
        const auto [longest, median] = lanes->wander(end);
        line("frame, longest of 320", 1e3 * longest, "ms");
        line("frame, median", 1e3 * median, "ms");
        const auto ledger = Ledger::open(folder);
        if (!ledger) return std::fputs(ledger.error().message.c_str(), stderr), 1;
        watch = {};
        const auto kept = (*ledger)->keep(*run);
        if (!kept) return std::fputs(kept.error().message.c_str(), stderr), 1;
        line("keep it on disk (beside the work)", watch.seconds(), "s");
        line("on disk", static_cast<double>(kept->bytes) / 1e9, "GB");
    }
    made->reset();
    {
        const Stopwatch watch;
        const auto ledger = Ledger::open(folder);
        const auto run = (*ledger)->load((*ledger)->runs()->front());
        if (!run) return std::fputs(run.error().message.c_str(), stderr), 1;
        const double end = toSeconds((*run)->reached());
        const auto lanes = lanesOf(**run);
        lanes->frame(0, end);
        line("open it again, to the first picture of six traces", watch.seconds(), "s");
        const auto [longest, median] = lanes->wander(end);
        line("frame of the opened run, longest of 320", 1e3 * longest, "ms");
        line("frame of the opened run, median", 1e3 * median, "ms");
        line("of it in memory then", static_cast<double>((*run)->bytes()) / 1e9, "GB");
    }
    std::filesystem::remove_all(folder);
    const auto [longest, median] = scrub();
    line("the whole window follows the cursor over MED-AUX, longest of 200", 1e3 * longest, "ms");
    line("the same, median", 1e3 * median, "ms");
}
