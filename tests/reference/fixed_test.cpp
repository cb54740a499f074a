// The engine with a fixed step: its difference equations to the last digits, the order of its error with switching that
// is interpolated and that is rounded to the grid, several steps for groups of states, and what it says of them.

#include <cmath>

#include "base/largest.h"
#include "circuits.h"
#include "runs/registry.h"
#include "runs/verify.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

std::shared_ptr<hedgerow::Run> runFixed(Circuit circuit, const char* step, const char* method = "trapezoidal",
                                        bool interpolate = true) {
    Plan& plan = circuit.project().plans.front();
    plan.engine = "fixed";
    plan.fixed.step = step;
    plan.fixed.method = method;
    plan.fixed.interpolate = interpolate;
    return run(circuit);
}

Circuit charging() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "out"}, {{"r", "1k"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}})
        .plan("2m", "1e-12");
    return c;
}

/// A step-down stage whose edges lie on no grid.
Circuit stepDown() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "48"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "10.3k"}, {"duty", "0.37"}})
        .add("switch", "S1", {"in", "sw", "g"})
        .add("diode", "D1", {"0", "sw"})
        .add("inductor", "L1", {"sw", "out"}, {{"l", "1m"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "10u"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
        .plan("2m", "1e-9");
    return c;
}

/// The largest error of the output voltage against the exact engine.
double errorOf(const Circuit& circuit, const char* step, const char* method, bool interpolate) {
    Circuit exact = circuit;
    exact.project().plans.front().engine = "exact";
    const auto a = run(exact), b = runFixed(circuit, step, method, interpolate);
    if (!a || !b || b->summary().end != RunEnd::finished) return 1e9;
    double most = 0;
    for (int i = 1; i < 200; ++i)
        most = largestOf(most, std::abs(at(*a, "out.v", 1e-5 * i) - at(*b, "out.v", 1e-5 * i)));
    return most;
}

}  // namespace

// v_k+1 = (v_k + h / tau V) / (1 + h / tau).
TEST(FixedStep, BackwardEulerIsItsDifferenceEquation) {
    const auto r = runFixed(charging(), "100u", "backward Euler");
    ASSERT_TRUE(r);
    double v = 0;
    for (int k = 1; k <= 20; ++k) {
        v = (v + 0.1 * 10) / 1.1;
        EXPECT_NEAR(at(*r, "out.v", 1e-4 * k), v, 1e-9) << k;
    }
    EXPECT_EQ(r->summary().counter("steps"), 20);
    EXPECT_LE(r->summary().counter("factorisations"), 3) << "one step, one configuration, and where it starts";
}

// Two half steps of backward Euler first, then v_k+1 = ((1 - h / 2 tau) v_k + h / tau V) / (1 + h / 2 tau).
TEST(FixedStep, TrapezoidalIsItsDifferenceEquation) {
    const auto r = runFixed(charging(), "100u");
    ASSERT_TRUE(r);
    const double half = 0.05;
    double v = 0;
    for (int i = 0; i < 2; ++i) v = (v + half * 10) / (1 + half);
    for (int k = 1; k <= 20; ++k) {
        EXPECT_NEAR(at(*r, "out.v", 1e-4 * k), v, 1e-9) << k;
        v = ((1 - half) * v + 2 * half * 10) / (1 + half);
    }
}

// A run that ends within a step ends on its straight line.
TEST(FixedStep, TheLastStepMayBeCutShort) {
    Circuit c = charging();
    c.plan("0.25m", "1e-12");
    const auto r = runFixed(c, "100u", "backward Euler");
    ASSERT_TRUE(r);
    const double two = at(*r, "out.v", 0.2e-3), three = (two + 1) / 1.1;
    EXPECT_NEAR(at(*r, "out.v", 0.25e-3), (two + three) / 2, 1e-9);
}

TEST(FixedStep, InterpolatedEdgesKeepTheOrderOfTheMethod) {
    const Circuit c = stepDown();
    const double coarse = errorOf(c, "2u", "trapezoidal", true), fine = errorOf(c, "0.5u", "trapezoidal", true);
    EXPECT_LT(coarse, 0.05);
    EXPECT_GT(coarse / fine, 3.0) << coarse << " " << fine;
    const double euler = errorOf(c, "2u", "backward Euler", true), finer = errorOf(c, "0.5u", "backward Euler", true);
    EXPECT_NEAR(euler / finer, 4.0, 1.5) << euler << " " << finer;
}

// What a sample step makes of a duty: edges come late by up to a step.
TEST(FixedStep, RoundedEdgesLieOnTheGrid) {
    const Circuit c = stepDown();
    EXPECT_GT(errorOf(c, "2u", "trapezoidal", false), 5 * errorOf(c, "2u", "trapezoidal", true));
    Circuit chopped;
    chopped.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "30k"}, {"duty", "0.4"}})
        .add("switch", "S1", {"in", "out", "g"}, {}, 2)
        .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
        .plan("1m", "1e-9");
    const auto r = runFixed(chopped, "10u", "backward Euler", false);
    ASSERT_TRUE(r);
    const auto changes = edges(*r, "S1.on");
    ASSERT_GT(changes.size(), 50u);
    for (const double t : changes) EXPECT_NEAR(t / 10e-6, std::round(t / 10e-6), 1e-6);
    // A pulse shorter than a step is not there at all.
    chopped.set("M1", "duty", "0.03");
    const auto none = runFixed(chopped, "10u", "backward Euler", false);
    ASSERT_TRUE(none);
    EXPECT_LT(edges(*none, "S1.on").size(), changes.size() / 2) << "those that begin on the grid are";
}

// Discontinuous conduction: the diode turns off between the instants of the grid.
TEST(FixedStep, CurrentsEndWhereTheyEnd) {
    Circuit c = stepDown();
    c.set("R1", "r", "200").set("M1", "duty", "0.2");
    const auto r = runFixed(c, "1u"), rounded = runFixed(c, "1u", "trapezoidal", false);
    ASSERT_TRUE(r);
    ASSERT_TRUE(rounded);
    EXPECT_GT(measures(*r, "L1.i", 0.5e-3, 2e-3).min, -1e-4);
    EXPECT_LT(errorOf(c, "1u", "trapezoidal", true), 0.02);
    EXPECT_GT(r->summary().counter("located within steps"), 50);
    EXPECT_EQ(rounded->summary().counter("located within steps"), 0);
    EXPECT_EQ(r->summary().counter("steps without a state that fits"), 0);
}

TEST(FixedStep, BridgesCommutateAsInTheExactEngine) {
    for (const auto& [circuit, end] : {std::pair{bench::threePhaseBridge(), "2m"}, std::pair{bench::sixPulse(), "30m"},
                                       std::pair{bench::resonantHalfBridge(), "200u"}}) {
        Circuit exact = circuit;
        exact.plan(end, "1e-6");
        exact.project().plans.front().engine = "exact";
        const auto a = run(exact), b = runFixed(exact, end[0] == '3' ? "5u" : "50n");
        ASSERT_TRUE(a);
        ASSERT_TRUE(b);
        ASSERT_EQ(b->summary().end, RunEnd::finished) << b->summary().full();
        const double seconds = toSeconds(a->end());
        for (const QuantityInfo& quantity : a->quantities()) {
            if (quantity.name.find("L") != 0 || !quantity.name.ends_with(".i")) continue;
            const auto x = measures(*a, quantity.name, seconds / 2, seconds),
                       y = measures(*b, quantity.name, seconds / 2, seconds);
            EXPECT_NEAR(x.rms, y.rms, 0.01 * std::max({x.rms, std::abs(x.max), std::abs(x.min)})) << quantity.name;
        }
    }
}

// Temperatures that move on with every tenth step follow the difference equation of a step ten times as long.
TEST(FixedStep, HeatMayTakeLongerSteps) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "d"}, {{"level", "20"}})
        .add("constant", "K1", {"g"}, {{"value", "1"}})
        .add("mosfet", "Q1", {"d", "0", "g"},
             {{"ron", "20m"}, {"kt", "0"}, {"lambda", "0"}, {"rth", "5"}, {"cth", "1m"}}, 4)
        .plan("2m", "1e-9");
    c.project().plans.front().fixed.heat = "100";
    const auto r = runFixed(c, "1u", "backward Euler");
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().full();
    const double before = at(*r, "Q1.rise", 1.998e-3), after = at(*r, "Q1.rise", 1.9e-3 + 1e-9),
                 held = at(*r, "Q1.rise", 1.95e-3);
    EXPECT_NEAR(held, after, 1e-6) << "held between its steps";
    EXPECT_NEAR(before, after, 1e-2);
    // dT = h (P - T / R) / C, solved at its end.
    const double last = at(*r, "Q1.rise", 1.85e-3), power = at(*r, "Q1.pch", 1.9e-3);
    EXPECT_RELATIVE(after, (last + 0.1 * power) / (1 + 0.1e-3 / (5 * 1e-3)), 1e-5);
}

// The control is solved with the rest, every tenth step.
TEST(FixedStep, TheControlMayTakeLongerSteps) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "0"}, {{"r", "1k"}})
        .add("probe", "P1", {"v"}, {{"of", "in.v"}})
        .add("low-pass", "F1", {"v", "y"}, {{"f", "100"}})
        .plan("2m", "1e-12");
    c.project().plans.front().fixed.control = "10";
    const auto r = runFixed(c, "10u", "backward Euler");
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().full();
    const double h = 1e-4 * 2 * 3.14159265358979 * 100;
    double y = 0;
    for (int k = 1; k <= 15; ++k) {
        y = (y + h * 10) / (1 + h);
        EXPECT_NEAR(at(*r, "F1.y", 1e-4 * k + 4e-5), y, 1e-6) << k;
    }
}

TEST(FixedStep, AScenesStretchesGoOnFromEachOther) {
    Circuit c = charging();
    c.project().scenes.front().events = {{.at = "1m", .target = "R1.r", .value = "2k"}};
    const auto r = runFixed(c, "100u", "backward Euler");
    ASSERT_TRUE(r);
    double v = 0;
    for (int k = 1; k <= 20; ++k) {
        const double a = k <= 10 ? 0.1 : 0.05;
        v = (v + a * 10) / (1 + a);
        EXPECT_NEAR(at(*r, "out.v", 1e-4 * k), v, 1e-8) << k;
    }
    EXPECT_NEAR(r->summary().second("step of the grid"), 1e-4, 1e-15);
}

TEST(FixedStep, SaysWhatAStepTakes) {
    const auto r = runFixed(charging(), "1u");
    ASSERT_TRUE(r);
    const std::string told = r->summary().headroom();
    EXPECT_NE(told.find("a step of 1 µs took "), std::string::npos) << told;
    EXPECT_GE(r->summary().second("longest step"), r->summary().second("total") / 4000);
    // Another engine has no grid.
    EXPECT_EQ(run(charging())->summary().headroom(), "");
}

TEST(FixedStep, IsComparedWithStepsThatFollowAnError) {
    Circuit c = charging();
    Plan& plan = c.project().plans.front();
    plan.engine = "fixed";
    plan.tolerance = "1e-6";
    plan.fixed.step = "100u";
    plan.fixed.method = "backward Euler";
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto found = verify(*r, CancelToken());
    ASSERT_TRUE(found);
    // Backward Euler errs by h / (2 tau) of e^-1 V at most.
    double most = 0;
    for (const auto& quantity : found->differences)
        if (quantity.quantity == "out.v") most = quantity.largest;
    EXPECT_NEAR(most, 0.05 * 10 / std::exp(1.0), 0.03);
}

TEST(FixedStep, RefusesWhatIsNoStep) {
    const auto message = [](const char* step, const char* method, const char* heat) -> std::string {
        Circuit c = charging();
        Plan& plan = c.project().plans.front();
        plan.engine = "fixed";
        plan.fixed = {.step = step, .method = method, .heat = heat};
        auto prepared = hedgerow::Run::prepare(std::make_shared<Project>(c.project()), {});
        return prepared ? "" : prepared.error().text();
    };
    EXPECT_EQ(message("1u", "trapezoidal", "10"), "");
    EXPECT_NE(message("0", "trapezoidal", "1").find("plan look: step: "), std::string::npos);
    EXPECT_NE(message("1u", "midpoint", "1").find("not 'midpoint'"), std::string::npos);
    EXPECT_NE(message("1u", "trapezoidal", "2.5").find("heat: it is a whole number"), std::string::npos);
    EXPECT_NE(message("1u", "trapezoidal", "0").find("heat: "), std::string::npos);
}

TEST(FixedStep, StopsWhenAsked) {
    Circuit c = charging();
    c.plan("400", "1e-4");
    c.project().plans.front().engine = "fixed";
    auto prepared = hedgerow::Run::prepare(std::make_shared<Project>(c.project()), {});
    ASSERT_TRUE(prepared);
    (*prepared)->cancel();
    (*prepared)->execute();
    EXPECT_EQ((*prepared)->summary().end, RunEnd::stopped);
    EXPECT_LT((*prepared)->summary().reached, toTicks(1.0));
}
