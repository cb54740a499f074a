// Contacts that a scene moves, times in periods, start values of the control, values that are off until they are
// given: against closed forms, on every engine.

#include <algorithm>
#include <cmath>
#include <numbers>

#include "model/event_text.h"
#include "runs/registry.h"
#include "support/circuit.h"
#include "traces/spectrum.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

constexpr double turn = 2 * std::numbers::pi;
const std::vector<std::string> engines = {"exact", "adaptive", "fixed"};

std::shared_ptr<Run> runBy(Circuit circuit, const std::string& engine, const std::string& step = "1u") {
    Plan& plan = circuit.project().plans.front();
    plan.engine = engine, plan.fixed.step = step;
    return run(circuit);
}

void event(Circuit& circuit, const std::string& text) {
    const auto read = readEventText(text);
    ASSERT_TRUE(read) << text << ": " << read.error().message;
    circuit.project().scenes.front().events.push_back(*read);
}

Result<std::shared_ptr<Run>> prepared(const Circuit& circuit) {
    return Run::prepare(std::make_shared<Project>(circuit.project()));
}

TEST(Contacts, EventTextsAreReadAndWritten) {
    for (const char* text : {"50m: Q1 opens", "3 periods of V1: Q1 closes", "V1 at 60: X1.Q1 closes",
                             "20m, V1 at 90: Q1 opens", "2 periods of V1 + 1m: R1.r = 2 over 1 period of V1"}) {
        const auto event = readEventText(text);
        ASSERT_TRUE(event) << text;
        EXPECT_EQ(eventText(*event), text);
    }
    EXPECT_EQ(readEventText("50m: Q1 opens")->target, "Q1.position");
    EXPECT_EQ(readEventText("50m: Q1 closes")->value, "closed");
    for (const char* text : {"50m: opens", "50m: Q1opens", ": Q1 opens", "50m Q1 opens"})
        EXPECT_FALSE(readEventText(text)) << text;
}

// 10 V on 5 ohm and 10 mH through a contact that stands open, closes, and is closed again: i = 2 (1 - exp(-t/2ms)).
TEST(Contacts, ASceneMovesASwitchWithoutAWire) {
    for (const std::string& engine : engines)
        for (const int rung : {1, 2}) {
            SCOPED_TRACE(engine + " rung " + std::to_string(rung));
            Circuit c;
            c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
                .add("switch", "S1", {"in", "x", ""}, {{"ron", "none"}, {"roff", "none"}}, rung)
                .add("diode", "D1", {"0", "x"})
                .add("resistor", "R1", {"x", "y"}, {{"r", "5"}})
                .add("inductor", "L1", {"y", "0"}, {{"l", "10m"}})
                .plan("8m", "1e-6");
            event(c, "1m: S1 closes");
            event(c, "2m: S1 closes");
            event(c, "5m: S1 opens");
            const auto r = runBy(c, engine);
            ASSERT_TRUE(r);
            ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
            const double tau = 2e-3, peak = 2 * (1 - std::exp(-4e-3 / tau));
            EXPECT_NEAR(at(*r, "L1.i", 0.9e-3), 0, 1e-12);
            EXPECT_NEAR(at(*r, "L1.i", 3e-3), 2 * (1 - std::exp(-2e-3 / tau)), 1e-5);
            EXPECT_NEAR(at(*r, "L1.i", 5e-3), peak, 1e-5);
            EXPECT_NEAR(at(*r, "L1.i", 7e-3), peak * std::exp(-2e-3 / tau), 1e-5);
            EXPECT_EQ(edges(*r, "S1.on").size(), 2u);
        }
}

TEST(Contacts, OneThatStandsClosedOpensAtTheNextZero) {
    for (const std::string& engine : engines) {
        SCOPED_TRACE(engine);
        Circuit c;
        c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "10"}, {"f", "50"}})
            .add("breaker", "Q1", {"in", "x", ""}, {{"position", "closed"}})
            .add("resistor", "R1", {"x", "0"}, {{"r", "5"}})
            .plan("3.5 periods of V1", "1e-6");
        event(c, "1.25 periods of V1: Q1 opens");
        event(c, "50m, V1 at 60: Q1 closes");
        const auto r = runBy(c, engine, "10u");
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        EXPECT_EQ(r->end(), toTicks(70e-3));
        EXPECT_NEAR(at(*r, "R1.i", 24e-3), 2 * std::sin(turn * 50 * 24e-3), 1e-4);
        const std::vector<double> moved = edges(*r, "Q1.on");
        ASSERT_EQ(moved.size(), 2u);
        EXPECT_NEAR(moved[0], 30e-3, engine == "exact" ? 1e-11 : 1e-7);
        EXPECT_NEAR(moved[1], 60e-3 + 20e-3 / 6, 1e-9);
    }
}

TEST(Contacts, EachOfThreePolesWaitsForItsOwnZero) {
    Circuit c;
    c.add("three-phase-voltage", "V1", {"a", "b", "c", "0"}, {{"v", "400"}, {"f", "50"}})
        .add("contactor", "Q1", {"a", "x", "b", "y", "c", "z", ""}, {{"position", "closed"}})
        .plan("60m", "1e-6");
    for (const char* net : {"x", "y", "z"}) c.add("resistor", std::string("R") + net, {net, "0"}, {{"r", "10"}});
    event(c, "21m: Q1 opens");
    const auto r = runBy(c, "exact");
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    // Phase k is zero at (n/2 + k/3) periods; the first ones from 21 ms on.
    const double expected[] = {30e-3, 80e-3 / 3, 70e-3 / 3};
    for (int pole = 0; pole < 3; ++pole) {
        const auto moved = edges(*r, "Q1.on" + std::to_string(pole + 1));
        ASSERT_EQ(moved.size(), 1u) << pole;
        EXPECT_NEAR(moved[0], expected[pole], 1e-11) << pole;
        EXPECT_EQ(at(*r, "Q1.i" + std::to_string(pole + 1), 50e-3), 0);
    }
    // One gate moves all three.
    Circuit gated;
    gated.add("dc-voltage", "V1", {"a", "0"}, {{"level", "3"}})
        .add("signal-step", "K1", {"g"}, {{"at", "5m"}})
        .add("contactor", "Q1", {"a", "x", "a", "y", "a", "z", "g"}, {{"opens", "at once"}})
        .plan("20m");
    for (const char* net : {"x", "y", "z"}) gated.add("resistor", std::string("R") + net, {net, "0"}, {{"r", "1"}});
    const auto g = runBy(gated, "exact");
    ASSERT_TRUE(g);
    const auto first = edges(*g, "Q1.on1");
    ASSERT_EQ(first.size(), 1u);
    EXPECT_NEAR(first[0], 5e-3, 1e-12);
    for (const char* on : {"Q1.on2", "Q1.on3"}) EXPECT_EQ(edges(*g, on), first);
}

TEST(Contacts, BouncesForItsTime) {
    for (const std::string& engine : engines) {
        SCOPED_TRACE(engine);
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
            .add("breaker", "Q1", {"in", "x", ""}, {{"bounce", "1m"}, {"opens", "at once"}})
            .add("resistor", "R1", {"x", "0"}, {{"r", "5"}})
            .plan("10m");
        event(c, "1m: Q1 closes");
        event(c, "1.5m: R1.r = 10");  // in the middle of it
        event(c, "5m: Q1 opens");
        const auto r = runBy(c, engine, "1u");
        ASSERT_TRUE(r);
        const std::vector<double> moved = edges(*r, "Q1.on"),
                                  expected = {1e-3, 1.1e-3, 1.45e-3, 1.55e-3, 1.8e-3, 1.87e-3, 2e-3, 5e-3};
        ASSERT_EQ(moved.size(), expected.size());
        for (std::size_t i = 0; i < moved.size(); ++i) EXPECT_NEAR(moved[i], expected[i], 1e-9) << i;
        EXPECT_NEAR(at(*r, "R1.i", 3e-3), 1, 1e-9);
    }
}

TEST(Contacts, WhatMovesThemIsOneThing) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"})
        .add("constant", "K1", {"g"}, {{"value", "1"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("resistor", "R1", {"x", "0"})
        .plan("1m");
    ASSERT_TRUE(prepared(c));
    event(c, "0.5m: S1 opens");
    auto refused = prepared(c);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().part, "S1");
    EXPECT_EQ(refused.error().field, "position");
    c.project().scenes.front().events.clear();
    event(c, "0.5m: R1 opens");
    EXPECT_FALSE(prepared(c)) << "a resistor does not open";
}

TEST(Periods, OfWhatHasOne) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"f", "fm"}}).add("resistor", "R1", {"in", "0"}).plan("n periods of V1");
    Parameter f, n;
    f.name = "fm", f.value = "60", f.unit = "Hz", n.name = "n", n.value = "3";
    c.project().parameters = {f, n};
    const auto r = prepared(c);
    ASSERT_TRUE(r) << r.error().message;
    EXPECT_EQ((*r)->end(), toTicks(0.05));
    for (const char* end : {"3 periods of R1", "3 periods of X9", "3 periods of", "periods of V1", "3 periods V1"}) {
        c.project().plans.front().end = end;
        EXPECT_FALSE(prepared(c)) << end;
    }
}

// u = 0 from the start: the output falls as exp(-w t), or as that of two poles with the damping 0.5.
TEST(StartValues, FiltersBeginAtRest) {
    for (const std::string& engine : engines) {
        SCOPED_TRACE(engine);
        Circuit c;
        c.add("constant", "K1", {"u"}, {{"value", "0"}})
            .add("constant", "K2", {"one"}, {{"value", "3"}})
            .add("low-pass", "LP1", {"u", "a"}, {{"f", "100"}, {"y0", "2"}})
            .add("low-pass", "LP2", {"u", "b"}, {{"f", "100"}, {"order", "second"}, {"damping", "0.5"}, {"y0", "2"}})
            .add("transfer-s", "H1", {"u", "i"}, {{"num", "1"}, {"den", "1, 0"}, {"y0", "-1.5"}})
            .add("low-pass", "LP3", {"one", "s"}, {{"f", "100"}, {"y0", "3"}})
            .plan("5m", "1e-7");
        const auto r = runBy(c, engine);
        ASSERT_TRUE(r);
        const double w = turn * 100;
        for (const double t : {0.0, 1e-3, 3e-3, 5e-3}) {
            const double wd = w * std::sqrt(0.75);
            EXPECT_NEAR(at(*r, "LP1.y", t), 2 * std::exp(-w * t), 2e-6);
            EXPECT_NEAR(at(*r, "LP2.y", t),
                        2 * std::exp(-0.5 * w * t) * (std::cos(wd * t) + 0.5 * w / wd * std::sin(wd * t)), 2e-6);
            EXPECT_NEAR(at(*r, "H1.y", t), -1.5, 1e-9);
            EXPECT_NEAR(at(*r, "LP3.y", t), 3, 1e-9);
        }
    }
    Circuit never;
    never.add("constant", "K1", {"u"}, {{"value", "0"}})
        .add("transfer-s", "H1", {"u", "y"}, {{"num", "1, 0"}, {"den", "1, 1"}, {"y0", "1"}})
        .plan("1m");
    EXPECT_FALSE(prepared(never)) << "s/(s + 1) rests at zero only";
}

// At samples: the trapezoidal rule's own factor (1 - a)/(1 + a), a = w T/2; and a difference equation's.
TEST(StartValues, SampledOnesToo) {
    Circuit c;
    c.add("task", "T1", {}, {{"period", "100u"}})
        .add("constant", "K1", {"u"}, {{"value", "0"}})
        .add("low-pass", "LP1", {"u", "a"}, {{"f", "100"}, {"y0", "2"}, {"task", "T1"}})
        .add("transfer-z", "H1", {"u", "b"}, {{"num", "0.1"}, {"den", "1, -0.9"}, {"y0", "2"}, {"task", "T1"}})
        .add("transfer-z", "H2", {"u", "i"}, {{"num", "0, 1"}, {"den", "1, -1"}, {"y0", "4"}, {"task", "T1"}})
        .plan("2.05m");
    const auto r = runBy(c, "exact");
    ASSERT_TRUE(r);
    const double a = turn * 100 * 100e-6 / 2, q = (1 - a) / (1 + a);
    for (int k = 0; k <= 20; ++k) {
        const double t = (k + 0.5) * 100e-6;
        // With u = 0 before the start too, the first sample already counts a whole step.
        EXPECT_NEAR(at(*r, "LP1.y", t), 2 / (1 + a) * std::pow(q, k), 1e-12) << k;
        EXPECT_NEAR(at(*r, "H1.y", t), 2 * std::pow(0.9, k + 1), 1e-12) << k;
        EXPECT_NEAR(at(*r, "H2.y", t), 4, 1e-12) << k;
    }
}

// A loop that begins at the angle and amplitude of its wave stays locked, whatever its gains.
TEST(StartValues, ALoopBeginsLocked) {
    for (const char* gains : {"by f_n and ζ", "by k_p and k_i"})
        for (const char* error : {"q", "angle"}) {
            SCOPED_TRACE(std::string(gains) + " " + error);
            Circuit c;
            c.add("three-phase-voltage", "V1", {"a", "b", "c", "0"}, {{"v", "400"}, {"f", "50"}, {"phase", "130"}})
                .add("task", "T1", {}, {{"period", "100u"}})
                .add("pll3", "P1", {"ma", "mb", "mc", "th", "f", "d", "q"},
                     {{"f", "50"},
                      {"peak", "326.5986"},
                      {"gains", gains},
                      {"kp", "90"},
                      {"ki", "4k"},
                      {"error", error},
                      {"theta0", "40"},
                      {"d0", "326.5986"},
                      {"task", "T1"}})
                .plan("100m");
            for (const char* net : {"a", "b", "c"})
                c.add("resistor", std::string("R") + net, {net, "0"})
                    .add("probe", std::string("M") + net, {std::string("m") + net},
                         {{"of", std::string("R") + net + ".v"}});
            const auto r = runBy(c, "exact");
            ASSERT_TRUE(r);
            const Measures f = measures(*r, "P1.f", 0, 0.1), q = measures(*r, "P1.q", 0, 0.1);
            EXPECT_NEAR(f.min, 50, 1e-3);
            EXPECT_NEAR(f.max, 50, 1e-3);
            EXPECT_LT(std::max(q.max, -q.min), 0.05);
        }
}

// Of a step of the angle by 0.1 rad a second-order loop makes, for k_p = 2 zeta w_n and k_i = w_n^2, the closed form.
TEST(StartValues, GainsOfALoopAreItsOwn) {
    Circuit c;
    const double ki = 2500;  // with k_p = 100 critically damped: w_n = 50/s
    c.add("three-phase-voltage", "V1", {"a", "b", "c", "0"}, {{"v", "400"}, {"f", "50"}, {"phase", "90"}})
        .add("task", "T1", {}, {{"period", "20u"}})
        .add("pll3", "P1", {"ma", "mb", "mc", "th", "f", "d", "q"},
             {{"f", "50"},
              {"gains", "by k_p and k_i"},
              {"kp", "100"},
              {"ki", "2500"},
              {"error", "angle"},
              {"theta0", "-5.729577951308232"},
              {"task", "T1"}})
        .plan("100m");
    for (const char* net : {"a", "b", "c"})
        c.add("resistor", std::string("R") + net, {net, "0"})
            .add("probe", std::string("M") + net, {std::string("m") + net}, {{"of", std::string("R") + net + ".v"}});
    const auto r = runBy(c, "exact");
    ASSERT_TRUE(r);
    for (const double t : {2e-3, 10e-3, 30e-3}) {
        // e'' + k_p e' + k_i e = 0, e(0) = 0.1, e'(0) = -k_p 0.1; f - 50 = ki/(2 pi) times the integral of e.
        const double w = std::sqrt(ki), e = 0.1 * (1 - w * t) * std::exp(-w * t);
        EXPECT_NEAR(std::atan2(at(*r, "P1.q", t), at(*r, "P1.d", t)), e, 0.1 * 5e-3) << t;
        EXPECT_NEAR(at(*r, "P1.f", t) - 50, ki / turn * 0.1 * t * std::exp(-w * t), 3e-3) << t;
    }
}

// Asking for one loss brings no other: 10 V on an inductor with its winding resistance alone.
TEST(Defaults, LossesNobodyGaveAreOff) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("inductor", "L1", {"in", "0"}, {{"l", "10m"}, {"dcr", "2"}}, 2)
        .add("inductor", "L2", {"in", "0"}, {{"l", "10m"}, {"rc", "100"}}, 2)
        .add("capacitor", "C1", {"in", "x"}, {{"c", "1m"}, {"esr", "4"}}, 2)
        .add("resistor", "R1", {"x", "0"}, {{"r", "1"}})
        .plan("10m", "1e-9");
    const auto r = run(c);
    ASSERT_TRUE(r);
    for (const double t : {1e-3, 5e-3, 10e-3}) {
        EXPECT_NEAR(at(*r, "L1.i", t), 5 * (1 - std::exp(-200 * t)), 1e-8);
        EXPECT_NEAR(at(*r, "L2.i", t), 1000 * t + 0.1, 1e-8);
        EXPECT_NEAR(at(*r, "C1.vc", t), 10 * (1 - std::exp(-200 * t)), 1e-8);
        EXPECT_NEAR(at(*r, "C1.v", t), 10 - 2 * std::exp(-200 * t), 1e-8);
    }
    // Every resistance that is a loss can be none, and says so.
    for (const PartKind* kind : partLibrary().catalogue().all())
        for (const ParameterKind& p : kind->parameters)
            if (p.standard == noneWord) {
                EXPECT_TRUE(p.none) << kind->id << " " << p.key;
            }
}

TEST(Defaults, ALabelledSourceNeedsNoLoad) {
    Circuit c;
    c.add("dc-voltage", "V1", {"out", "0"}, {{"level", "10"}})
        .add("three-phase-voltage", "V2", {"a", "b", "c", "0"}, {{"v", "400"}, {"ri", "1"}, {"li", "1m"}}, 2)
        .plan("20m", "1e-8");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_EQ(at(*r, "V1.v", 5e-3), 10);
    EXPECT_NEAR(at(*r, "V2.ea", 5e-3), 400 * std::sqrt(2.0 / 3), 1e-6);
    EXPECT_NEAR(at(*r, "V2.va", 5e-3), 400 * std::sqrt(2.0 / 3), 1e-6);
}

// Behind 1 ohm and 1 mH the terminal voltage is not that of the source.
TEST(Defaults, TheSourceVoltageIsAQuantity) {
    for (const int rung : {1, 2}) {
        Circuit c;
        c.add("three-phase-voltage", "V2", {"a", "b", "c", "0"}, {{"v", "400"}, {"ri", "1"}, {"li", "1m"}}, rung)
            .add("resistor", "R1", {"a", "b"}, {{"r", "3"}})
            .add("resistor", "R2", {"b", "c"}, {{"r", "3"}})
            .add("resistor", "R3", {"c", "a"}, {{"r", "3"}})
            .plan("40m", "1e-7");
        const auto r = run(c);
        ASSERT_TRUE(r);
        for (const double t : {1e-3, 13e-3, 31e-3})
            EXPECT_NEAR(at(*r, "V2.ec", t), 400 * std::sqrt(2.0 / 3) * std::sin(turn * (50 * t - 2.0 / 3)), 2e-4);
    }
}

// A value that a quantity counts by may change: the run then goes without the quantity, not the other way round.
TEST(Defaults, AQuantityCountedByASeriesResistanceFollowsIt) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "x"}, {{"r", "1"}})
        .add("capacitor", "C1", {"x", "0"}, {{"c", "1m"}, {"esr", "1"}}, 2)
        .add("capacitor", "C2", {"x", "0"}, {{"c", "1m"}, {"esr", "1"}}, 2)
        .plan("10m");
    event(c, "3m: C1.esr = 2");
    event(c, "5m: C1.esr = 3");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    ASSERT_TRUE(r->trace("C1.vc") && r->trace("C2.vc"));
    // The voltage inside is continuous, and is that outside less what falls over the series resistance of the time.
    const std::pair<double, double> steps[] = {{2.9e-3, 1}, {3.1e-3, 2}, {4.9e-3, 2}, {5.1e-3, 3}};
    for (const auto& [t, esr] : steps)
        EXPECT_NEAR(at(*r, "C1.vc", t), at(*r, "C1.v", t) - esr * at(*r, "C1.i", t), 2e-3) << t;
    EXPECT_NEAR(at(*r, "C1.vc", 2.9999e-3), at(*r, "C1.vc", 3.0001e-3), 2e-3);
}

// A device that blocks 24 V from the start on draws no current through 10 ohm: its capacitances are charged already.
TEST(StartValues, OfDevicesOnUpperRungs) {
    struct Device {
        const char* kind;
        std::vector<std::string> nets;
        const char* voltage;
        const char* gate = nullptr;  ///< the field of the gate voltage at the start
        const char* off = "0";
    };
    const Device devices[] = {{"switch", {"d", "0", "g"}, "24"},
                              {"mosfet", {"d", "0", "g"}, "24", "vg0"},
                              {"igbt", {"d", "0", "g"}, "24", "vg0", "-8"},
                              {"gan-hemt", {"d", "0", "g"}, "24", "vg0", "-2"},
                              {"diode", {"0", "d"}, "-24"},
                              {"zener", {"0", "d"}, "-24"},
                              {"thyristor", {"d", "0", "g"}, "24"}};
    for (const Device& device : devices)
        for (const int rung : {3, 4})
            for (const bool charged : {true, false}) {
                SCOPED_TRACE(std::string(device.kind) + " rung " + std::to_string(rung));
                Circuit c;
                c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
                    .add("resistor", "R1", {"in", "d"}, {{"r", "10"}})
                    .add("constant", "K1", {"g"}, {{"value", "0"}})
                    .add(device.kind, "X1", device.nets, {}, rung)
                    .plan("200n", "1e-3");
                if (std::string(device.kind) == "zener") c.set("X1", "vz", "40");
                if (charged) c.set("X1", "v0", device.voltage);
                if (device.gate) c.set("X1", device.gate, device.off).set("X1", "voff", device.off);
                const auto r = run(c);
                ASSERT_TRUE(r);
                ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
                const Measures i = measures(*r, "R1.i", 0, 200e-9);
                if (charged)
                    EXPECT_LT(std::max(i.max, -i.min), 0.02);
                else
                    EXPECT_GT(i.max, 0.2);
                EXPECT_NEAR(at(*r, "X1.v", 200e-9), std::stod(device.voltage), charged ? 0.2 : 30);
            }
}

// Of points over voltage too: what lies at 24 V is the integral of the capacitance up to there.
TEST(StartValues, OfCapacitancesByPoints) {
    for (const int rung : {3, 4}) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
            .add("resistor", "R1", {"in", "d"}, {{"r", "10"}})
            .add("constant", "K1", {"g"}, {{"value", "0"}})
            .add("mosfet", "X1", {"d", "0", "g"},
                 {{"v0", "24"}, {"cosscurve", "0 2n, 10 600p, 25 300p"}, {"crsscurve", "0 500p, 10 60p, 25 30p"}}, rung)
            .plan("200n", "1e-3");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        const Measures i = measures(*r, "R1.i", 0, 200e-9);
        EXPECT_LT(std::max(i.max, -i.min), 0.02) << rung;
    }
}

// A choke that carries 5 A from the start on does so through the package of the transistor, too.
TEST(StartValues, CurrentsOfPackages) {
    for (const char* start : {"5", "0"}) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
            .add("inductor", "L1", {"in", "d"}, {{"l", "1m"}, {"i0", "5"}})
            .add("constant", "K1", {"g"}, {{"value", "1"}})
            .add("mosfet", "X1", {"d", "0", "g"}, {{"i0", start}, {"vg0", "12"}}, 3)
            .plan("1u");
        const auto r = prepared(c);
        ASSERT_TRUE(r);
        (*r)->execute();
        ASSERT_EQ((*r)->summary().end, RunEnd::finished) << (*r)->summary().brief();
        EXPECT_NEAR(at(**r, "X1.i", 0.9e-6), 5.02, 0.05);
        // Else the current flows through the eddy currents beside the package's inductance first: 5 A on 31 ohm.
        if (std::string(start) == "5")
            EXPECT_LT(measures(**r, "X1.v", 0, 1e-6).max, 0.5);
        else
            EXPECT_GT(measures(**r, "X1.v", 0, 1e-6).max, 100);
    }
}

// Half waves at the default tolerance of the stored lines, on every engine: 1/2, 2/(pi (k^2 - 1)) of their peak.
TEST(Lines, HarmonicsOfADefaultRunAreRight) {
    for (const std::string& engine : engines) {
        SCOPED_TRACE(engine);
        Circuit c;
        c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "10"}, {"f", "50"}})
            .add("diode", "D1", {"in", "out"})
            .add("resistor", "R1", {"out", "0"}, {{"r", "5"}})
            .plan("10 periods of V1", "1e-3");
        const auto r = runBy(c, engine, "5u");
        ASSERT_TRUE(r);
        const auto trace = r->trace("out.v");
        const auto found = harmonics(*trace, 0, toTicks(0.2), 50, 50);
        ASSERT_TRUE(found);
        for (int k = 1; k <= 50; ++k) {
            const double peak = k == 1 ? 5 : k % 2 == 0 ? 20 / std::numbers::pi / (k * k - 1) : 0;
            EXPECT_NEAR(found->peak(k), peak, 1e-4 * 5) << k;
        }
    }
}

}  // namespace
