// Studies: speed-up on all cores, what a run costs beside its simulation, a table of 100,000 rows, and a cluster on paper.

#include <QCoreApplication>

#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <functional>
#include <queue>
#include <random>
#include <string>
#include <thread>

#include "formats/hedge/hedge.h"
#include "studies/study_folder.h"
#include "study/study_view.h"

using namespace hedgerow;
namespace fs = std::filesystem;

namespace {

constexpr std::size_t manyRows = 100'000;

std::shared_ptr<const Project> example(const char* name) {
    auto loaded = loadHedge(fs::path(HEDGEROW_EXAMPLES) / name);
    if (!loaded) std::fprintf(stderr, "%s\n", loaded.error().text().c_str()), std::exit(1);
    return std::make_shared<const Project>(std::move(loaded->project));
}

StudySetup ready(const std::shared_ptr<const Project>& project, ParameterStudy study) {
    auto setup = prepareStudy(project, study);
    if (!setup) std::fprintf(stderr, "%s\n", setup.error().text().c_str()), std::exit(1);
    return std::move(*setup);
}

/// Resident memory of this process, MB.
double memory() {
    std::ifstream status("/proc/self/status");
    for (std::string line; std::getline(status, line);)
        if (line.starts_with("VmRSS:")) return std::atof(line.c_str() + 6) / 1024;
    return NAN;
}

double timed(const std::function<void()>& work) {
    const Stopwatch watch;
    work();
    return watch.seconds();
}

void speedup(const char* name, const std::shared_ptr<const Project>& project, const ParameterStudy& study) {
    const StudySetup setup = ready(project, study);
    double waited[2] = {}, building = 0, computed = 0;
    for (const int cores : {1, 2}) {
        StudyRows rows;
        waited[cores - 1] = timed([&] { (void)runStudy(setup, rows, {.threads = cores}, CancelToken()); });
        building = computed = 0;
        for (const StudyRow& row : rows.made) building += row.building, computed += row.seconds;
    }
    const auto count = static_cast<double>(setup.points.size());
    std::printf("%-34s %6.0f runs of %5.1f ms: %5.2f times as fast on two cores; building %.2f ms a run\n", name, count, 1e3 * computed / count,
                waited[0] / waited[1], 1e3 * building / count);
}

/// Rows as a study of a thousand tolerances might have them.
std::shared_ptr<StudyTable> manyRowsOf(const StudySetup& setup) {
    auto table = std::make_shared<StudyTable>(StudyTable{.name = "many", .started = "now"});
    table->runs = manyRows;
    for (const Varied& one : setup.points.varied()) table->varied.push_back(one.target), table->variedUnits.push_back(one.unit);
    for (const StudyMeasure& one : setup.measures)
        table->measured.push_back(one.text), table->measuredUnits.push_back(one.unit), table->above.push_back(one.above), table->below.push_back(one.below);
    for (std::size_t i = 0; i < manyRows; ++i) {
        StudyRow row{.index = i, .point = setup.points.at(i)};
        for (std::size_t m = 0; m < setup.measures.size(); ++m) row.values.push_back(std::sin(static_cast<double>(i * (m + 1))));
        row.good = i % 3 == 0;
        table->add(std::move(row));
    }
    return table;
}

/// Tasks of so many runs each on so many cores, each task on the core that is free first. @return s until the last one is over
double makespan(std::size_t chunk, std::size_t cores, double start, std::mt19937_64& random) {
    // Run times of 1 s in the middle, a tenth of them above 2.2 s, a thousandth above 7 s.
    std::lognormal_distribution<double> seconds(0.0, 0.62);
    std::priority_queue<double, std::vector<double>, std::greater<>> free;
    for (std::size_t i = 0; i < cores; ++i) free.push(0);
    double last = 0;
    for (std::size_t done = 0; done < manyRows; done += chunk) {
        double over = free.top() + start;
        free.pop();
        for (std::size_t i = 0; i < std::min(chunk, manyRows - done); ++i) over += seconds(random);
        free.push(over);
        last = std::max(last, over);
    }
    return last;
}

}  // namespace

int main(int argc, char** argv) {
    const QCoreApplication application(argc, argv);
    const auto aux = example("med-aux.hedge");
    speedup("med-aux, its periodic state", aux, {.name = "a", .plan = "start-up", .varied = {"L1.l: 22u +- 20 %", "C2.c: 100u +- 20 %"},
                                                 .measured = {"pp of out.v"}, .runs = "random 1000", .settle = true, .extra = {}});
    speedup("med-aux, its load step", aux, {.name = "b", .scene = "load step", .plan = "start-up", .varied = {"L1.l: 22u +- 20 %", "C2.c: 100u +- 20 %"},
                                            .measured = {"min of out.v from 1.5m"}, .runs = "random 200", .extra = {}});

    const StudySetup many = ready(aux, {.name = "c", .plan = "start-up", .varied = {"L1.l: 22u +- 20 %", "C2.c: 100u +- 20 %", "Vin: 70 to 90"},
                                        .measured = {"pp of out.v", "mean of out.v", "pp of L1.i"}, .runs = "random 100000", .settle = true, .extra = {}});
    const double before = memory();
    const auto table = manyRowsOf(many);
    app::StudyModel model;
    model.set(table);
    const double shown = timed([&] {
        for (int row = 0; row < 40; ++row)
            for (int column = 0; column < model.columnCount(); ++column) (void)model.data(model.index(row, column), Qt::DisplayRole);
    });
    const double prepared = timed([&] {
        for (int i = 0; i < 1000; ++i) QCoreApplication::processEvents();
    });
    const double first = timed([&] { model.filter("22.1"); }), later = timed([&] { model.filter("22.12"); });
    model.filter("");
    const double sorted = timed([&] { model.sort(4, Qt::DescendingOrder); });
    std::printf("100,000 rows: a screenful %.1f ms, %.1f s of idle time to prepare filters, then %.0f and %.0f ms, sorting %.0f ms, memory %.0f MB\n", 1e3 * shown,
                prepared, 1e3 * first, 1e3 * later, 1e3 * sorted, memory() - before);

    // What a task costs beside its runs: it reads the question and makes the first run ready.
    const fs::path folder = fs::temp_directory_path() / "hedgerow-study-table";
    fs::remove_all(folder);
    const StudySetup small = ready(aux, {.name = "d", .plan = "start-up", .varied = {"L1.l: 22u +- 20 %"}, .measured = {"pp of out.v"},
                                         .runs = "random 2000", .settle = true, .extra = {}});
    const auto tasks = StudyFolder::create(folder, small, 1);
    if (!tasks) return std::fprintf(stderr, "%s\n", tasks.error().text().c_str()), 1;
    double each = timed([&] {
        for (std::size_t chunk = 0; chunk < 100; ++chunk) (void)tasks->work(chunk, CancelToken());
    }) / 100;
    const double gathered = timed([&] { (void)tasks->gather(); });
    std::printf("a task of one run takes %.1f ms; gathering 100 chunks %.1f ms\n", 1e3 * each, 1e3 * gathered);
    fs::remove_all(folder);

    std::mt19937_64 random(1);
    std::printf("100,000 runs of about 1.2 s on 1,000 cores, 0.5 s to start a task:\n");
    for (const std::size_t chunk : {1, 10, 25, 50, 100, 200}) {
        const double seconds = makespan(chunk, 1000, 0.5, random);
        std::printf("  chunks of %4zu: %6zu files, %5.0f s, %2.0f %% of the cores' time in runs\n", chunk, (manyRows + chunk - 1) / chunk, seconds,
                    100 * manyRows * std::exp(0.62 * 0.62 / 2) / (1000 * seconds));
    }
    return 0;
}
