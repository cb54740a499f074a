// Events of scenes: what changes during a run, against closed forms.

#include <cmath>
#include <numbers>

#include <gtest/gtest.h>

#include "formats/hedge/hedge.h"
#include "model/event_text.h"
#include "network/scene.h"
#include "runs/registry.h"
#include "runs/verify.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

Circuit& event(Circuit& c, const std::string& text) {
    auto event = readEventText(text);
    EXPECT_TRUE(event) << text;
    if (event) c.project().scenes.front().events.push_back(*event);
    return c;
}

std::string refusal(const Circuit& c) {
    const auto run = Run::prepare(std::make_shared<Project>(c.project()));
    return run ? "" : run.error().message;
}

/// R and C behind a source: 1 ms.
Circuit lowPass() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "Vin"}})
        .add("resistor", "R1", {"in", "out"}, {{"r", "1k"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}, {"v0", "Vin"}})
        .plan("5m", "1e-6");
    c.project().parameters = {{"Vin", "10", "V", "", ""}};
    return c;
}

}  // namespace

TEST(EventText, RoundTrips) {
    for (const char* text :
         {"10m: R1.r = 1.2", "12m: Vin = 31 over 5m", "20m, V1 at 90: K1.value = 1", "2/f: X1.S1.ron = 2*r0"}) {
        const auto event = readEventText(text);
        ASSERT_TRUE(event) << text;
        EXPECT_EQ(eventText(*event), text);
    }
    for (const char* text :
         {"", "10m", "10m: R1.r", ": R1.r = 1", "10m: = 1", "10m: R1.r = ", "10m, V1: a = 1", "1: a = 2 over "})
        EXPECT_FALSE(readEventText(text)) << text;
}

TEST(EventText, IsKeptInTheFile) {
    Circuit c = lowPass();
    event(event(c, "1m: R1.r = 2k"), "2m, V1 at 30: Vin = 5 over 1m");
    const auto loaded = readHedge(writeHedge(c.project()));
    ASSERT_TRUE(loaded);
    EXPECT_EQ(loaded->project.scenes, c.project().scenes);
}

// A resistance that steps changes the time constant; the charge stays.
TEST(Scene, AValueStepsAndTheChargeStays) {
    for (const char* engine : {"exact", "adaptive"}) {
        Circuit c = lowPass();
        c.set("C1", "v0", "0");
        event(event(c, "1m: R1.r = 4k"), "3m: C1.c = 0.5u");
        c.project().plans.front().engine = engine;
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        const double first = 10 * (1 - std::exp(-1)), second = 10 + (first - 10) * std::exp(-0.5);
        const double close = std::string(engine) == "exact" ? 1e-9 : 1e-5;
        EXPECT_NEAR(at(*r, "out.v", 1e-3), first, close);
        // Half the capacitance: the same charge at twice the voltage.
        EXPECT_NEAR(at(*r, "out.v", 3e-3 - 1e-12), second, close);
        EXPECT_NEAR(at(*r, "out.v", 3e-3), 2 * second, 2 * close);
        EXPECT_NEAR(at(*r, "out.v", 5e-3), 10 + (2 * second - 10) * std::exp(-1), 2 * close);
        EXPECT_EQ(r->events().size(), 2u);
        // The current jumps with the resistance: two points at the instant.
        EXPECT_NEAR(at(*r, "R1.i", 1e-3), (10 - first) / 4e3, close);
    }
}

// A ramp a t through R C: v = a (t - tau + tau e^{-t/tau}).
TEST(Scene, AParameterRampsStraight) {
    Circuit c = lowPass();
    event(c, "1m: Vin = 30 over 2m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double slope = 20 / 2e-3, tau = 1e-3;
    EXPECT_NEAR(at(*r, "out.v", 1e-3), 10, 1e-9);
    EXPECT_NEAR(at(*r, "in.v", 2e-3), 20, 1e-9);
    const double atEnd = 10 + slope * (2e-3 - tau + tau * std::exp(-2));
    EXPECT_NEAR(at(*r, "out.v", 3e-3), atEnd, 1e-8);
    EXPECT_NEAR(at(*r, "out.v", 5e-3), 30 + (atEnd - 30) * std::exp(-2), 1e-8);
}

// A step in the middle of a ramp ends it; an event on something else does not.
TEST(Scene, RampsAreCutByLaterEvents) {
    Circuit c = lowPass();
    event(event(event(c, "1m: Vin = 30 over 2m"), "1.5m: R1.r = 2k"), "2m: Vin = 12");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_NEAR(at(*r, "in.v", 1.75e-3), 17.5, 1e-9);
    EXPECT_NEAR(at(*r, "in.v", 4e-3), 12, 1e-12);
}

TEST(Scene, ASetPointStepsInASampledLoop) {
    Circuit c;
    c.project().sheet() = {};
    c.add("constant", "K1", {"u"}, {{"value", "2"}})
        .add("unit-delay", "Z1", {"u", "y"}, {{"n", "2"}, {"task", "T1"}})
        .add("integrator", "INT1", {"u", "", ""}, {{"k", "1"}, {"task", "T1"}})
        .add("task", "T1", {}, {{"period", "1m"}})
        .plan("20m");
    event(c, "10.5m: K1.value = 5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    // The memories of the parts are taken over: nothing starts anew.
    EXPECT_EQ(at(*r, "Z1.y", 11.5e-3), 2);
    EXPECT_EQ(at(*r, "Z1.y", 12.5e-3), 2);
    EXPECT_EQ(at(*r, "Z1.y", 13.5e-3), 5);
    EXPECT_NEAR(at(*r, "INT1.y", 10.7e-3), 11 * 2e-3, 1e-12);
    EXPECT_NEAR(at(*r, "INT1.y", 12.5e-3), 11 * 2e-3 + 2 * 5e-3, 1e-12);
}

// Events that change nothing leave a run as it is, whatever its control remembers.
TEST(Scene, AnIdleEventChangesNothing) {
    const auto circuit = [](bool idle) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
            .add("mosfet", "Q1", {"in", "sw", "g"})
            .add("mosfet", "Q2", {"sw", "0", "n"})
            .add("inductor", "L1", {"sw", "out"}, {{"l", "1m"}})
            .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
            .add("probe", "P1", {"m"}, {{"of", "L1.i"}})
            .add("constant", "K1", {"ref"}, {{"value", "5"}})
            .add("task", "T1", {}, {{"carrier", "M1"}, {"times", "2"}, {"delay", "30u"}})
            .add("sum", "SUM1", {"ref", "m", "", "e"}, {{"task", "T1"}})
            .add("pi", "REG1", {"e", "", "", "d"}, {{"kp", "0.03"}, {"ki", "100"}, {"task", "T1"}})
            .add("modulator", "M1", {"d", "g", "n"},
                 {{"f", "10k"}, {"carrier", "triangle"}, {"sampling", "twice a period"}, {"dead", "1u"}})
            .add("low-pass", "LP1", {"m", ""}, {{"f", "2k"}})
            .add("one-shot", "OS1", {"g", ""}, {{"length", "35u"}})
            .add("edge-delay", "ED1", {"g", ""}, {{"rise", "12u"}, {"fall", "3u"}})
            .add("resistor", "R2", {"in", "0"}, {{"r", "1k"}})
            .plan("3m", "1e-6");
        if (idle)
            for (const char* text :
                 {"0.3m: R2.r = 1k", "0.71234m: R2.r = 1k", "1m: R2.r = 1k", "1.0125m: R2.r = 1k", "2.03m: R2.r = 1k"})
                event(c, text);
        return run(c);
    };
    const auto plain = circuit(false), cut = circuit(true);
    ASSERT_TRUE(plain && cut);
    ASSERT_EQ(plain->summary().end, RunEnd::finished) << plain->summary().brief();
    ASSERT_EQ(cut->summary().end, RunEnd::finished) << cut->summary().brief();
    for (double t = 13e-6; t < 3e-3; t += 17e-6)
        for (const char* name : {"L1.i", "REG1.y", "LP1.y", "M1.g", "M1.n", "OS1.q", "ED1.q"})
            ASSERT_NEAR(at(*plain, name, t), at(*cut, name, t), 2e-5) << name << " at " << t;
    EXPECT_EQ(edges(*plain, "M1.g").size(), edges(*cut, "M1.g").size());
}

TEST(Scene, ABreakerClosesAtAnAngleOfTheWave) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "100"}, {"f", "50"}, {"phase", "20"}})
        .add("switch", "S1", {"in", "out", "g"})
        .add("constant", "K1", {"g"}, {{"value", "0"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
        .plan("60m");
    event(event(c, "15m, V1 at 90: K1.value = 1"), "2/50: K1.value = 0");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto switching = edges(*r, "S1.on");
    ASSERT_EQ(switching.size(), 2u);
    EXPECT_NEAR(switching[0], 20e-3 + (90 - 20) / 360.0 / 50, 1e-12);
    EXPECT_NEAR(switching[1], 40e-3, 1e-12);
    EXPECT_NEAR(at(*r, "R1.v", switching[0]), 100, 1e-9);
}

// A frequency that steps does not make the wave jump.
TEST(Scene, AFrequencyStepsWithoutAJump) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "1"}, {"f", "50"}, {"phase", "10"}})
        .add("resistor", "R1", {"in", "0"})
        .plan("60m", "1e-6");
    event(event(c, "13m: V1.f = 60"), "31m: V1.f = 45");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double pi = std::numbers::pi;
    const auto phase = [&](double t) {
        return 10 * pi / 180 +
               2 * pi *
                   (50 * std::min(t, 13e-3) + 60 * std::clamp(t - 13e-3, 0.0, 18e-3) + 45 * std::max(0.0, t - 31e-3));
    };
    for (double t = 0; t < 60e-3; t += 1.7e-3) EXPECT_NEAR(at(*r, "in.v", t), std::sin(phase(t)), 3e-6) << t;
}

TEST(Scene, MistakesNameTheEvent) {
    const auto with = [](const char* text) {
        Circuit c = lowPass();
        event(c, text);
        return refusal(c);
    };
    EXPECT_NE(
        with("1m: R9.r = 2").find("event \"1m: R9.r = 2\": there is no parameter and no part's value called R9.r"),
        std::string::npos);
    EXPECT_NE(with("1m: R1.q = 2").find("R1 has no value called q"), std::string::npos);
    EXPECT_NE(with("1m: R1.r = 2 V").find("event \"1m: R1.r = 2 V\""), std::string::npos) << with("1m: R1.r = 2 V");
    EXPECT_NE(with("1m: R1.r = -2").find("out of range"), std::string::npos) << with("1m: R1.r = -2");
    EXPECT_NE(with("-1m: R1.r = 2").find("outside of any run"), std::string::npos);
    EXPECT_NE(with("1m: C1.v0 = 2").find("matters at the start only"), std::string::npos);
    EXPECT_NE(with("1m, V9 at 3: R1.r = 2").find("no source with a wave called V9"), std::string::npos);
}

// What is no level ramps in 64 steps, each with the value of its middle: the charge is that of the straight ramp by the
// midpoint rule, here of i = V/r with r from 1 to 3, ln 3 / 2.
TEST(Scene, AnyValueRampsInSteps) {
    for (const bool byParameter : {false, true}) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "1"}})
            .add("resistor", "R1", {"in", "0"}, {{"r", byParameter ? "share*100" : "1"}})
            .plan("5m", "1e-6");
        c.project().parameters = {{"share", "0.01", "", "", ""}};
        event(c, byParameter ? "1m: share = 0.03 over 2m" : "1m: R1.r = 3 over 2m");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        EXPECT_NEAR(at(*r, "R1.i", 0.5e-3), 1, 1e-12);
        EXPECT_NEAR(at(*r, "R1.i", 4e-3), 1.0 / 3, 1e-12);
        EXPECT_NEAR(at(*r, "R1.i", 1e-3 + 2e-3 * 10.3 / 64), 1 / (1 + 2 * 10.5 / 64), 1e-9);
        EXPECT_NEAR(measures(*r, "R1.i", 1e-3, 3e-3).mean, std::log(3.0) / 2, 5e-5);
        EXPECT_EQ(r->events().size(), 1u) << "the steps are no events of their own";
    }
}

// Charge and flux stay while a storage ramps: 12 uC are 4 V on 3 uF, 2 mWb are 0.5 A in 4 mH.
TEST(Scene, AStorageRampsWithItsCharge) {
    for (const char* engine : {"exact", "adaptive"}) {
        Circuit c;
        c.add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}, {"v0", "12"}})
            .add("resistor", "R1", {"a", "0"}, {{"r", "1G"}})
            .add("inductor", "L1", {"b", "0"}, {{"l", "1m"}, {"i0", "2"}})
            .add("resistor", "R2", {"b", "0"}, {{"r", "1u"}})
            .plan("3m", "1e-6");
        event(event(c, "1m: C1.c = 3u over 1m"), "1m: L1.l = 4m over 1m");
        c.project().plans.front().engine = engine;
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        EXPECT_NEAR(at(*r, "a.v", 2.5e-3), 4, 1e-4) << engine;
        EXPECT_NEAR(at(*r, "L1.i", 2.5e-3), 0.5, 1e-4) << engine;
    }
    // Those of coupled windings cannot change one by one.
    Circuit coupled;
    coupled.add("coupled-inductors-2", "L1", {"a", "0", "b", "0"}).plan("2m");
    for (const char* net : {"a", "b"}) coupled.add("resistor", std::string("R") + net, {net, "0"}, {{"r", "1"}});
    event(coupled, "1m: L1.l1 = 3m");
    EXPECT_NE(refusal(coupled).find("L1"), std::string::npos) << refusal(coupled);
}

// A part that stands for three is set as a whole.
TEST(Scene, ReachesPartsOfThree) {
    Circuit c;
    c.project().sheet() = {};
    c.add("constant", "K1", {"x"}, {{"value", "2"}})
        .add("three-in-one", "BU1", {"x", "x", "x", "v"})
        .add("gain", "G1", {"v", "w"}, {{"k", "1"}})
        .plan("3m", "1e-6");
    event(c, "1m: G1.k = 5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_EQ(at(*r, "G1.c.y", 0.5e-3), 2);
    EXPECT_EQ(at(*r, "G1.c.y", 2e-3), 10);
}

TEST(Scene, IsCheckedInLongDoubleToo) {
    Circuit c = lowPass();
    event(event(c, "1m: Vin = 30 over 2m"), "2m: R1.r = 500");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto checked = verify(*r, CancelToken());
    ASSERT_TRUE(checked) << checked.error().message;
    EXPECT_TRUE(checked->sameEvents);
    for (const auto& difference : checked->differences) EXPECT_LT(difference.relative, 1e-9) << difference.quantity;
}
