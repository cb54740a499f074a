// The table of docs/performance.md: run times of the exact engine as ratios within one run of this program.
//
// Each pair is measured alternately and the median of the ratios is given, so that a slow moment of the machine falls
// on both. What the engine is compared with does the same job: it solves the same circuit over the same time and stores
// time and states at every event.

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <functional>
#include <map>
#include <string>
#include <vector>

#include <sys/resource.h>

#include "circuits.h"
#include "dae_solver.h"
#include "network/elaborate.h"
#include "runs/registry.h"
#include "stiff_solver.h"

using namespace hedgerow;
using namespace hedgerow::bench;

namespace {

/// Keeps the optimiser from dropping what is stored.
volatile double sink;

double seconds(const std::function<void()>& work) {
    const Stopwatch watch;
    work();
    return watch.seconds();
}

double median(std::vector<double> values) {
    std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2), values.end());
    return values[values.size() / 2];
}

/// Median of time(a) / time(b) over alternating runs.
double ratio(const std::function<void()>& a, const std::function<void()>& b, int repeats) {
    std::vector<double> ratios;
    a();
    b();
    for (int i = 0; i < repeats; ++i) {
        const double first = seconds(a);
        ratios.push_back(first / seconds(b));
    }
    return median(ratios);
}

std::shared_ptr<Run> prepared(const test::Circuit& circuit) {
    auto run = Run::prepare(std::make_shared<const Project>(circuit.project()));
    if (!run) {
        std::fprintf(stderr, "%s\n", run.error().text().c_str());
        std::exit(1);
    }
    return *run;
}

RunSummary solve(const test::Circuit& circuit) {
    const auto run = prepared(circuit);
    run->execute();
    if (run->summary().end != RunEnd::finished) {
        std::fprintf(stderr, "%s\n", run->summary().brief().c_str());
        std::exit(1);
    }
    return run->summary();
}

/// What the engine stores as well: every event before and after, and points between where the lines bend.
struct Stored {
    double t, i, v;
    int state;
};
constexpr int periods = 20'000;
constexpr double L = 47e-6, C = 47e-6, V = 24, T = 1e-5;

/// The step-up stage in continuous conduction by hand: both intervals are constant matrices, worked out once.
void handContinuous() {
    const double R = 24, D = 0.5;
    std::vector<Stored> store;
    store.reserve(5 * periods + 1);
    double i = 4, v = 48;
    const double rise = V / L * D * T, decay = std::exp(-D * T / (R * C));
    const double a = 1 / (2 * R * C), w = std::sqrt(1 / (L * C) - a * a), t = (1 - D) * T;
    const double e = std::exp(-a * t), c = std::cos(w * t), s = std::sin(w * t);
    const double xx = e * (c + a / w * s), xd = e / w * s, dx = -a * xx + e * (-w * s + a * c), dd = -a * xd + e * c;
    // The same for half of the interval, for the point in between.
    const double eh = std::exp(-a * t / 2), ch = std::cos(w * t / 2), sh = std::sin(w * t / 2);
    const double hx = eh * (ch + a / w * sh), hd = eh / w * sh, gx = -a * hx + eh * (-w * sh + a * ch),
                 gd = -a * hd + eh * ch;
    store.push_back({0, i, v, 1});
    for (int k = 0; k < periods; ++k) {
        i += rise;
        v *= decay;
        store.push_back({(k + D) * T, i, v, 1});
        store.push_back({(k + D) * T, i, v, 0});
        const double x = v - V, slope = (i - v / R) / C;
        const double half = hx * x + hd * slope + V;
        store.push_back({(k + D + (1 - D) / 2) * T, C * (gx * x + gd * slope) + half / R, half, 0});
        const double x1 = xx * x + xd * slope, d1 = dx * x + dd * slope;
        v = x1 + V;
        i = C * d1 + v / R;
        if (i < 0) break;  // the diode would block
        store.push_back({(k + 1) * T, i, v, 0});
        store.push_back({(k + 1) * T, i, v, 1});
    }
    sink = store.back().v;
}

/// In discontinuous conduction: the current's zero by Newton's method on the closed form, from that of the last period.
void handDiscontinuous() {
    const double R = 200, D = 0.3;
    std::vector<Stored> store;
    store.reserve(7 * periods + 1);
    double i = 0, v = 60;
    // A point on the way down, at a fixed distance: the line would bend too far.
    constexpr double between = 1e-6;
    const double rise = V / L * D * T, decay = std::exp(-D * T / (R * C)), rest = (1 - D) * T;
    const double a = 1 / (2 * R * C), w = std::sqrt(1 / (L * C) - a * a);
    const double eb = std::exp(-a * between), cb = std::cos(w * between), sb = std::sin(w * between);
    const double hx = eb * (cb + a / w * sb), hd = eb / w * sb, gx = -a * hx + eb * (-w * sb + a * cb),
                 gd = -a * hd + eb * cb;
    double tau = 1.5e-6;
    store.push_back({0, i, v, 1});
    for (int k = 0; k < periods; ++k) {
        i += rise;
        v *= decay;
        store.push_back({(k + D) * T, i, v, 1});
        store.push_back({(k + D) * T, i, v, 0});
        const double x = v - V, slope = (i - v / R) / C, p = (slope + a * x) / w;
        const double half = hx * x + hd * slope + V;
        store.push_back({(k + D) * T + between, C * (gx * x + gd * slope) + half / R, half, 0});
        double value = 0, current = 0;
        for (int step = 0; step < 20; ++step) {
            const double e = std::exp(-a * tau), c = std::cos(w * tau), s = std::sin(w * tau);
            value = e * (x * c + p * s);
            const double rate = -a * value + w * e * (p * c - x * s);
            current = C * rate + (value + V) / R;
            const double change = current / (-value / L);
            tau -= change;
            if (std::abs(change) < 1e-17) break;
        }
        if (tau >= rest || tau <= between) break;  // continuous after all, or hardly any way down
        i = 0;
        v = value + V;
        store.push_back({(k + D) * T + tau, i, v, 0});
        store.push_back({(k + D) * T + tau, i, v, 2});
        v *= std::exp(-(rest - tau) / (R * C));
        store.push_back({(k + 1) * T, i, v, 2});
        store.push_back({(k + 1) * T, i, v, 1});
    }
    sink = store.back().v;
}

void line(const char* what, double value, const char* limit) {
    std::printf("| %s | %.3g | %s |\n", what, value, limit);
}

}  // namespace

int main() {
    std::printf("| what | ratio | wanted |\n|---|---|---|\n");
    const auto continuous = stepUp("0.5", "24", "48", "4"), discontinuous = stepUp("0.3", "200", "60", "0");
    const auto on = [](const test::Circuit& c) { return [&c] { solve(c); }; };
    line("step-up, continuous, 20,000 periods: engine over a hand-written loop that stores the same points",
         ratio(on(continuous), handContinuous, 31), "≤ 2");
    line("step-up, discontinuous, 20,000 periods: engine over a hand-written loop that stores the same points",
         ratio(on(discontinuous), handDiscontinuous, 31), "≤ 3");

#ifdef HEDGEROW_STIFF_SOLVER
    line("step-up, 20,000 periods: general stiff solver (rtol 1e-6) over engine",
         ratio([] { stiffStepUp(periods, 1e-6); }, on(continuous), 3), "≥ 200");
    auto rectifier = sixPulse();
    rectifier.plan("0.5", "0.1");
    line("six-pulse rectifier with overlap, 0.5 s: general stiff solver (rtol 1e-6), equations by hand, over engine",
         ratio([] { stiffSixPulse(0.5, 1e-6); }, on(rectifier), 11), "≥ 30");
#ifdef HEDGEROW_DAE_SOLVER
    const auto elaboration = elaborate(rectifier.project(), partLibrary());
    if (!elaboration) return 1;
    line(
        "the same: general solver of differential-algebraic equations (rtol 1e-6), the engine's equations, over engine",
        ratio([&] { sink = solveDae(elaboration->network, 0.5, 1e-6).seconds; }, on(rectifier), 11), "≥ 30");
#endif
#endif

    // Cost of an event by the number of storage elements, over that of ten.
    const auto ten = ladder(10);
    for (const int n : {20, 40, 60}) {
        const auto more = ladder(n);
        const std::string what =
            "switched ladder, " + std::to_string(n) + " storage elements over 10: cost of an event";
        line(what.c_str(), ratio(on(more), on(ten), 5), n == 20 ? "≤ 4" : n == 40 ? "≤ 16" : "≤ 36");
    }

    std::printf(
        "\n| case | events | configurations | points | µs an event | computing per simulated second, s | stored, MB |\n"
        "|---|---|---|---|---|---|---|\n");
    const std::pair<const char*, test::Circuit> cases[] = {
        {"step-up, continuous", continuous},
        {"step-up, discontinuous", discontinuous},
        {"three-phase bridge with LC filter, 10 kHz, 0.5 s", threePhaseBridge()},
        {"six-pulse rectifier with overlap, 0.5 s", sixPulse()},
        {"resonant half-bridge with rectifier, 5,000 periods", resonantHalfBridge()},
        {"phase-shifted full bridge with leakage, 5,000 periods", phaseShiftedBridge()},
        {"three-level three-phase bridge, 0.1 s", threeLevelBridge()},
        {"multilevel arm of 10 cells, 0.1 s", arm(10)},
        {"multilevel arm of 40 cells, 0.1 s", arm(40)},
        {"12-pulse thyristor bridge, 0.5 s", twelvePulse()},
        {"two three-phase bridges at one dc link, 5 ms", plant(2)},
        {"eight three-phase bridges at one dc link, 5 ms", plant(8)}};
    for (const auto& [name, circuit] : cases) {
        const auto run = prepared(circuit);
        run->execute();
        const RunSummary& s = run->summary();
        if (s.end != RunEnd::finished) std::printf("%s: %s\n", name, s.brief().c_str());
        const double total = s.second("total"), events = static_cast<double>(s.counter("events"));
        std::printf("| %s | %.0f | %lld | %lld | %.2g | %.2g | %.1f |\n", name, events,
                    static_cast<long long>(s.counter("configurations")),
                    static_cast<long long>(s.counter("stored points")), 1e6 * total / events,
                    total / toSeconds(s.reached), static_cast<double>(run->store().bytes()) / 1e6);
    }
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    std::printf("\nLargest memory of the program over all cases: %ld MB (wanted: below 200 MB for any).\n",
                usage.ru_maxrss / 1024);

    const auto fifty = fiftyParts();
    std::vector<double> fixed;
    for (int i = 0; i < 51; ++i) fixed.push_back(seconds([&] { solve(fifty); }));
    std::printf(
        "Fixed cost of a run of 57 parts (check, elaborate, first configuration, store): %.2f ms (wanted: 5 ms).\n",
        1e3 * median(fixed));
}
