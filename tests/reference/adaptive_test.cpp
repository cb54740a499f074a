// The adaptive engine: its methods against their order conditions, runs against closed forms, and against the exact
// engine, which makes no truncation error, on the same circuits.

#include <chrono>
#include <cmath>
#include <numbers>
#include <thread>

#include "base/largest.h"
#include "circuits.h"
#include "engines/adaptive/tableau.h"
#include "formats/hedge/hedge.h"
#include "network/elaborate.h"
#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

std::shared_ptr<hedgerow::Run> runBy(Project project, const char* engine) {
    project.plans.front().engine = engine;
    return run(project);
}

/// The largest difference of a quantity between two runs at `count` instants, over its largest magnitude. Instants near
/// jumps are left out: there a difference of a nanosecond is one of the whole jump.
double apart(const hedgerow::Run& a, const hedgerow::Run& b, const std::string& quantity, int count = 997) {
    const auto x = a.trace(quantity), y = b.trace(quantity);
    const double end = toSeconds(a.end());
    double most = 0, largest = 0;
    for (int i = 1; i < count; ++i) {
        const double t = end * i / count;
        const double p = *x->at(toTicks(t)), q = *y->at(toTicks(t)), near = *x->at(toTicks(t * (1 - 1e-3))),
                     after = *x->at(toTicks(t * (1 + 1e-3)));
        largest = std::max(largest, std::abs(p));
        most = largestOf(most, largestOf(0.0, std::abs(p - q) - std::abs(near - p) - std::abs(after - p)));
    }
    return largest > 0 ? most / largest : 0;
}

}  // namespace

// J. C. Butcher, Numerical Methods for Ordinary Differential Equations, table 315(I): the conditions up to order four.
TEST(Tableaus, HaveTheOrderTheyClaim) {
    for (const adaptive::Tableau* table : adaptive::allTableaus()) {
        const auto& a = table->a;
        const auto n = a.size();
        const auto at = [&](std::size_t i, std::size_t j) { return j < a[i].size() ? a[i][j] : 0.0; };
        std::vector<double> c(n), ac(n, 0), acc(n, 0), aac(n, 0);
        for (std::size_t i = 0; i < n; ++i) c[i] = table->c[i];
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t j = 0; j < n; ++j) ac[i] += at(i, j) * c[j], acc[i] += at(i, j) * c[j] * c[j];
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t j = 0; j < n; ++j) aac[i] += at(i, j) * ac[j];
        const auto check = [&](const std::vector<double>& b, int order, const char* which) {
            double s[8] = {};
            for (std::size_t i = 0; i < n; ++i) {
                s[0] += b[i], s[1] += b[i] * c[i], s[2] += b[i] * c[i] * c[i], s[3] += b[i] * ac[i];
                s[4] += b[i] * c[i] * c[i] * c[i], s[5] += b[i] * c[i] * ac[i], s[6] += b[i] * acc[i],
                    s[7] += b[i] * aac[i];
            }
            const double wanted[8] = {1, 0.5, 1.0 / 3, 1.0 / 6, 0.25, 0.125, 1.0 / 12, 1.0 / 24};
            const int count[] = {0, 1, 2, 4, 8};
            for (int k = 0; k < count[order]; ++k)
                EXPECT_NEAR(s[k], wanted[k], 1e-12) << table->name << " " << which << ", condition " << k;
        };
        std::vector<double> b = a.back(), compared = b;
        for (std::size_t i = 0; i < n; ++i) compared[i] -= table->error[i];
        check(b, table->order, "solution");
        // TR-BDF2 is compared with a method of higher order, the others with one of lower.
        check(compared, table->order == 2 ? 3 : table->order - 1, "comparison");
        for (std::size_t i = 1; i < n; ++i) EXPECT_NEAR(at(i, i), table->gamma, 1e-15) << table->name;
        // Stiffly accurate, and each stage of second order: sum a_ij c_j = c_i^2 / 2.
        for (std::size_t i = 1; i < n; ++i) EXPECT_NEAR(ac[i], c[i] * c[i] / 2, 1e-12) << table->name << " stage " << i;
    }
}

// v = V (1 - exp(-t / RC)); the tolerance is of the trace.
TEST(Adaptive, ChargesACapacitorAlongItsExponential) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "out"}, {{"r", "1k"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}})
        .plan("5m", "1e-6");
    const auto r = runBy(c.project(), "adaptive");
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished);
    for (int k = 1; k < 50; ++k) {
        const double t = 1e-4 * k;
        EXPECT_NEAR(at(*r, "out.v", t), 10 * (1 - std::exp(-t / 1e-3)), 2e-5) << t;
    }
}

// A lossless resonant circuit keeps its amplitude: what a method damps shows.
TEST(Adaptive, KeepsTheAmplitudeOfAResonance) {
    Circuit c;
    c.add("inductor", "L1", {"a", "0"}, {{"l", "10u"}})
        .add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}, {"v0", "5"}})
        .add("reference", "G1", {"0"})
        .plan("2m", "1e-6");
    const auto r = runBy(c.project(), "adaptive");
    ASSERT_TRUE(r);
    const double w = 1 / std::sqrt(10e-6 * 1e-6);
    for (int k = 1; k <= 20; ++k) {
        const double t = 1e-4 * k;
        EXPECT_NEAR(at(*r, "C1.v", t), 5 * std::cos(w * t), 5e-4) << t;
    }
}

struct Case {
    const char* name;
    Circuit (*circuit)();
    const char* end;
    const char* compared = "";  ///< how the names of the quantities end that are compared
};

/// Circuits without a resistance anywhere, where only the exact engine knows how currents are shared, are left out.
const Case cases[] = {
    {"StepUpContinuous", [] { return bench::stepUp("0.5", "10", "40", "4"); }, "400u"},
    {"StepUpDiscontinuous", [] { return bench::stepUp("0.3", "500", "40", "0"); }, "400u"},
    {"ThreePhaseBridge", bench::threePhaseBridge, "2m"},
    {"SixPulse", bench::sixPulse, "30m"},
    {"ResonantHalfBridge", bench::resonantHalfBridge, "300u"},
    {"PhaseShiftedBridge", bench::phaseShiftedBridge, "200u"},
    // The potential between two open switches is nobody's.
    {"ThreeLevelBridge", bench::threeLevelBridge, "2m", ".i"},
    {"Ladder", [] { return bench::ladder(20); }, "2m"},
    // Mostly zeros, and too many modes to compute one by one.
    {"LongLadder", [] { return bench::ladder(150); }, "500u"},
};

class SameAsExact : public ::testing::TestWithParam<Case> {};

TEST_P(SameAsExact, ToTheTolerance) {
    Project project = GetParam().circuit().project();
    project.plans.front().end = GetParam().end;
    project.plans.front().tolerance = "1e-5";
    const auto a = runBy(project, "exact"), b = runBy(project, "adaptive");
    ASSERT_TRUE(a && b);
    ASSERT_EQ(b->summary().end, RunEnd::finished) << b->summary().brief();
    EXPECT_EQ(a->summary().counter("gate edges"), b->summary().counter("gate edges"));
    for (const QuantityInfo& quantity : a->elaboration().network.quantities) {
        if (quantity.sort == QuantityInfo::Sort::linear && (quantity.unit == "V" || quantity.unit == "A") &&
            quantity.name.ends_with(GetParam().compared)) {
            EXPECT_LT(apart(*a, *b, quantity.name), 1e-3) << quantity.name;
        }
    }
}

INSTANTIATE_TEST_SUITE_P(Circuits, SameAsExact, ::testing::ValuesIn(cases),
                         [](const auto& info) { return std::string(info.param.name); });

TEST(Adaptive, TheExamplesGoAsByTheExactEngine) {
    for (const char* name : {"med-aux", "mains-input", "chopped-load"}) {
        const auto loaded = loadHedge(std::string(HEDGEROW_EXAMPLES "/") + name + ".hedge");
        ASSERT_TRUE(loaded) << name;
        Project project = loaded->project;
        project.plans.front().tolerance = "1e-4";
        const auto a = runBy(project, "exact"), b = runBy(project, "adaptive");
        ASSERT_TRUE(a && b) << name;
        ASSERT_EQ(b->summary().end, RunEnd::finished) << b->summary().brief();
        for (const QuantityInfo& quantity : a->elaboration().network.quantities) {
            if (quantity.name.ends_with(".v") || quantity.name.ends_with(".i")) {
                EXPECT_LT(apart(*a, *b, quantity.name), 3e-3) << name << " " << quantity.name;
            }
        }
    }
}

TEST(Adaptive, FindsTheOperatingPointOfTheExactEngine) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "80"}})
        .add("resistor", "R1", {"in", "a"}, {{"r", "2"}})
        .add("inductor", "L1", {"a", "b"}, {{"l", "22u"}})
        .add("diode", "D1", {"b", "out"}, {}, 2)
        .add("capacitor", "C1", {"out", "0"}, {{"c", "100u"}})
        .add("resistor", "R2", {"out", "0"}, {{"r", "8"}})
        .plan("1m");
    const auto elaboration = elaborate(c.project(), partLibrary());
    ASSERT_TRUE(elaboration);
    const auto exact = findEngine("exact")->operatingPoint(elaboration->network),
               adaptive = findEngine("adaptive")->operatingPoint(elaboration->network);
    ASSERT_TRUE(exact);
    ASSERT_TRUE(adaptive) << adaptive.error().text();
    for (std::size_t i = 0; i < exact->size(); ++i)
        EXPECT_NEAR((*adaptive)[i], (*exact)[i], 1e-6 * std::abs((*exact)[i]));
}

TEST(Adaptive, SaysWhichCurrentHasNoPath) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("switch", "S1", {"in", "a", "g"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}, {"duty", "0.5"}})
        .add("inductor", "L3", {"a", "0"}, {{"l", "1m"}})
        .plan("1m");
    const auto r = runBy(c.project(), "adaptive");
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::failed);
    EXPECT_NE(r->summary().error->message.find("L3 carries 500 mA and every path for it is open when S1 turns off"),
              std::string::npos)
        << r->summary().error->message;
    EXPECT_NEAR(toSeconds(r->summary().reached), 50e-6, 1e-9) << "up to there it is kept";
}

TEST(Adaptive, CanBeStopped) {
    Circuit c = bench::ladder(20);
    c.plan("100", "1e-4");
    Project project = c.project();
    project.plans.front().engine = "adaptive";
    auto prepared = hedgerow::Run::prepare(std::make_shared<const Project>(project), {});
    ASSERT_TRUE(prepared);
    std::thread stopping([&] {
        std::this_thread::sleep_for(std::chrono::milliseconds(50));
        (*prepared)->cancel();
    });
    (*prepared)->execute();
    stopping.join();
    EXPECT_EQ((*prepared)->summary().end, RunEnd::stopped);
    EXPECT_GT((*prepared)->summary().reached, 0) << "what was computed is kept";
    EXPECT_LT((*prepared)->summary().reached, (*prepared)->end());
}
