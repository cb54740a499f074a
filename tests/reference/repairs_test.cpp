// Sources, scenes and control against closed forms, on every engine that takes the circuit: saws, periodic tables,
// waves whose frequency changes, currents that are cut, samples at the instant of an event.

#include <algorithm>
#include <cmath>
#include <functional>
#include <numbers>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

constexpr double turn = 2 * std::numbers::pi;
const std::vector<std::string> engines = {"exact", "adaptive", "fixed"};

Circuit by(Circuit circuit, const std::string& engine, const std::string& step = "1u") {
    circuit.project().plans.front().engine = engine;
    circuit.project().plans.front().fixed.step = step;
    return circuit;
}

/// The largest difference from a law, away from the instants at which it jumps.
double offBy(const Run& run, const std::string& quantity, const std::function<double(double)>& law,
             const std::vector<double>& jumps = {}) {
    const auto trace = run.trace(quantity);
    if (!trace) return std::numeric_limits<double>::infinity();
    double worst = 0;
    for (std::size_t i = 0; i < trace->size(); ++i) {
        const double t = toSeconds(trace->time(i));
        if (std::any_of(jumps.begin(), jumps.end(), [&](double jump) { return std::abs(t - jump) < 1e-9; })) continue;
        const double error = std::abs(trace->value(i) - law(t));
        if (!(error <= worst)) worst = error;
    }
    return worst;
}

void event(Circuit& circuit, const std::string& at, const std::string& target, const std::string& value,
           const std::string& over = "") {
    SceneEvent e;
    e.at = at, e.target = target, e.value = value, e.duration = over;
    circuit.project().scenes.front().events.push_back(e);
}

TEST(Sources, SawsRiseAndFallThroughWholePeriods) {
    for (const std::string& engine : engines) {
        SCOPED_TRACE(engine);
        for (const bool rises : {true, false}) {
            Circuit c;
            c.add("pulse-voltage", "V1", {"e", "0"},
                  {{"low", "-1"},
                   {"high", "1"},
                   {"f", "50"},
                   {"duty", rises ? "1" : "0"},
                   {"rise", rises ? "20m" : "0"},
                   {"fall", rises ? "0" : "20m"}})
                .add("resistor", "R1", {"e", "0"}, {{"r", "1"}})
                .plan("0.1");
            const auto r = run(by(c, engine, "0.3m"));
            ASSERT_TRUE(r);
            ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
            const auto law = [&](double t) { return (rises ? 1 : -1) * (2 * (50 * t - std::floor(50 * t)) - 1); };
            EXPECT_LT(offBy(*r, "V1.v", law, {0.02, 0.04, 0.06, 0.08, 0.1}), 1e-9);
            const Measures m = measures(*r, "V1.v", 0, 0.1);
            EXPECT_NEAR(m.min, -1, 1e-9);
            EXPECT_NEAR(m.max, 1, 1e-9);
            EXPECT_NEAR(m.rms, 1 / std::sqrt(3), 1e-9);  // of any saw from -1 to 1
        }
    }
}

TEST(Sources, PeriodicTablesGoOnForAsLongAsTheyAreAsked) {
    for (const std::string& engine : engines) {
        SCOPED_TRACE(engine);
        Circuit c;
        c.add("points-current", "I1", {"0", "e"}, {{"points", "0 0, 1u 1, 2u 0"}, {"period", "2.5u"}})
            .add("points-voltage", "V1", {"v", "0"}, {{"points", "0 0, 1u 5, 2u 3"}, {"period", "2u"}})
            .add("resistor", "R1", {"e", "0"}, {{"r", "1"}})
            .add("resistor", "R2", {"v", "0"}, {{"r", "1"}})
            .plan("1m");
        const auto r = run(by(c, engine, "0.13u"));
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        EXPECT_NEAR(measures(*r, "R1.v", 0, 1e-3).mean, 0.4, 1e-6);  // an area of 1 us in each 2.5 us
        // The last point lies at the end of the period: straight to it, and from there back to the first.
        EXPECT_NEAR(measures(*r, "R2.v", 0, 1e-3).mean, (2.5 + 4) / 2, 1e-6);
        EXPECT_NEAR(at(*r, "V1.v", 501.5e-6), 4, 1e-6);
    }
}

TEST(Sources, TheFixedEngineLetsThemJumpAtTheirInstant) {
    Circuit c;
    c.add("pulse-voltage", "V1", {"e", "0"}, {{"high", "10"}, {"f", "1k"}, {"duty", "0.35"}, {"delay", "33u"}})
        .add("resistor", "R1", {"e", "c"}, {{"r", "100"}})
        .add("capacitor", "C1", {"c", "0"}, {{"c", "1u"}, {"v0", "0"}})
        .plan("3m");
    const auto exact = run(by(c, "exact")), fixed = run(by(c, "fixed", "10u"));
    ASSERT_TRUE(exact && fixed);
    const Measures a = measures(*exact, "R1.v", 0, 3e-3), b = measures(*fixed, "R1.v", 0, 3e-3);
    EXPECT_NEAR(b.max, a.max, 0.01 * a.max);
    EXPECT_NEAR(b.min, a.min, 0.01 * std::abs(a.min));
    EXPECT_NEAR(measures(*fixed, "V1.v", 0, 3e-3).mean, measures(*exact, "V1.v", 0, 3e-3).mean, 1e-6);
}

TEST(FixedEngine, RefusesACurrentThatIsCutAndStartValuesThatContradict) {
    Circuit cut;
    cut.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("signal-step", "K1", {"g"}, {{"before", "1"}, {"after", "0"}, {"at", "5m"}})
        .add("resistor", "R1", {"in", "a"}, {{"r", "4"}})
        .add("inductor", "L1", {"a", "b"}, {{"l", "10m"}})
        .add("switch", "S1", {"b", "0", "g"})
        .plan("10m");
    for (const std::string& engine : engines) {
        const auto r = run(by(cut, engine, "10u"));
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::failed) << engine;
        EXPECT_EQ(r->summary().error->part, "L1") << engine;
        EXPECT_EQ(r->summary().error->code, ErrorCode::connection) << engine;
    }
    // Behind an off-resistance it is no cut.
    for (Part& part : cut.project().sheet().parts)
        if (part.name == "S1") part.rung = 2;
    const auto leaking = run(by(cut, "fixed", "10u"));
    ASSERT_TRUE(leaking);
    EXPECT_EQ(leaking->summary().end, RunEnd::finished) << leaking->summary().brief();

    Circuit start;
    start.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("capacitor", "C1", {"in", "0"}, {{"c", "1u"}, {"v0", "5"}})
        .plan("1m");
    for (const std::string& engine : engines) {
        const auto r = run(by(start, engine, "10u"));
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::failed) << engine;
        EXPECT_EQ(r->summary().error->part, "C1") << engine;
        EXPECT_EQ(r->summary().error->field, "v0") << engine;
    }
}

/// A source or a signal with a wave, and its voltage V1.v or E1.v.
Circuit wave(bool signal, const std::string& f = "50") {
    Circuit c;
    if (signal)
        c.add("signal-sine", "K1", {"y"}, {{"peak", "1"}, {"f", f}})
            .add("signal-voltage", "E1", {"e", "0", "y"});
    else
        c.add("sine-voltage", "K1", {"e", "0"}, {{"peak", "1"}, {"f", f}});
    c.add("resistor", "R1", {"e", "0"}, {{"r", "1"}}).plan("60m", "1e-3");
    return c;
}

TEST(Frequency, KeepsItsPhaseWhereItSteps) {
    for (const bool signal : {false, true})
        for (const bool parameter : {false, true}) {
            Circuit c = wave(signal, parameter ? "fgrid" : "50");
            if (parameter) c.project().parameters.push_back({.name = "fgrid", .value = "50", .unit = "Hz", .note = "", .extra = ""});
            event(c, "25m", parameter ? "fgrid" : "K1.f", "60");
            event(c, "43m", parameter ? "fgrid" : "K1.f", "30");
            const auto r = run(c);
            ASSERT_TRUE(r);
            const auto law = [](double t) {
                return std::sin(turn * (50 * std::min(t, 0.025) + 60 * std::clamp(t - 0.025, 0.0, 0.018) +
                                        30 * std::max(t - 0.043, 0.0)));
            };
            EXPECT_LT(offBy(*r, "R1.v", law), 1e-9) << signal << parameter;
        }
}

TEST(Frequency, AndPhaseMayBothStep) {
    for (const bool phaseFirst : {true, false}) {
        Circuit c = wave(false);
        event(c, phaseFirst ? "15m" : "25m", "K1.phase", "30");
        event(c, phaseFirst ? "25m" : "15m", "K1.f", "60");
        const auto r = run(c);
        ASSERT_TRUE(r);
        const double stepsAt = phaseFirst ? 0.025 : 0.015, turnsAt = phaseFirst ? 0.015 : 0.025;
        const auto law = [&](double t) {
            return std::sin(turn * (50 * std::min(t, stepsAt) + 60 * std::max(t - stepsAt, 0.0)) +
                            (t < turnsAt ? 0 : turn / 12));
        };
        EXPECT_LT(offBy(*r, "R1.v", law, {turnsAt}), 1e-9) << phaseFirst;
    }
}

TEST(Frequency, ARampIsAChirp) {
    for (const bool signal : {false, true}) {
        Circuit c = wave(signal);
        event(c, "10m", "K1.f", "150", "40m");
        const auto r = run(c);
        ASSERT_TRUE(r);
        const auto law = [](double t) {
            const double u = std::clamp(t - 0.01, 0.0, 0.04);
            return std::sin(turn * (50 * std::min(t, 0.05) + 100 / 0.04 * u * u / 2 + 150 * std::max(t - 0.05, 0.0)));
        };
        EXPECT_LT(offBy(*r, "R1.v", law), 2e-4) << signal;
    }
}

TEST(Frequency, APulseTrainGoesOnToo) {
    Circuit c;
    c.add("pulse-voltage", "V1", {"e", "0"}, {{"high", "1"}, {"f", "100"}, {"duty", "0.5"}})
        .add("resistor", "R1", {"e", "0"}, {{"r", "1"}})
        .plan("50m");
    event(c, "22m", "V1.f", "200");
    const auto r = run(c);
    ASSERT_TRUE(r);
    // A fifth of the period has passed at 22 ms: 0.3 of a period of 5 ms is left of the pulse.
    EXPECT_NEAR(at(*r, "V1.v", 23.4e-3), 1, 1e-9);
    EXPECT_NEAR(at(*r, "V1.v", 23.6e-3), 0, 1e-9);
    EXPECT_NEAR(at(*r, "V1.v", 25.9e-3), 0, 1e-9);
    EXPECT_NEAR(at(*r, "V1.v", 26.1e-3), 1, 1e-9);
}

TEST(Thyristor, LatchesOnlyWithACurrent) {
    for (const std::string kind : {"thyristor", "triac"})
        for (const std::string& engine : engines) {
            SCOPED_TRACE(kind + ", " + engine);
            Circuit c;
            c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
                .add("signal-points", "KG", {"g"}, {{"points", "0 0, 0.1m 1, 0.2m 0, 1.5m 1, 1.6m 0"}, {"between", "held"}})
                .add(kind, "T1", {"in", "a", "g"})
                .add("signal-step", "KS", {"s"}, {{"at", "1m"}})
                .add("switch", "S1", {"a", "b", "s"})
                .add("resistor", "R1", {"b", "0"}, {{"r", "10"}})
                .plan("2m");
            const auto r = run(by(c, engine, "3u"));
            ASSERT_TRUE(r);
            ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
            EXPECT_NEAR(at(*r, "R1.i", 1.2e-3), 0, 1e-6);  // it was fired while the load was open
            EXPECT_NEAR(at(*r, "R1.i", 1.55e-3), 10, 1e-6);
            EXPECT_NEAR(at(*r, "R1.i", 1.9e-3), 10, 1e-6);  // this time it has latched
        }
}

TEST(Comparator, IsOffAgainWhereBothInputsAreTheSame) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("signal-points", "K1", {"a"}, {{"points", "0 0, 1m 0, 1.1m 1, 2m 1, 2.1m 0"}})
        .add("comparator", "CMP1", {"a", "", "q"})
        .add("switch", "S1", {"in", "x", "q"})
        .add("resistor", "R1", {"x", "0"}, {{"r", "1"}})
        .plan("4m");
    for (const std::string& engine : engines) {
        const auto r = run(by(c, engine, "10u"));
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        EXPECT_NEAR(at(*r, "R1.v", 0.5e-3), 0, 1e-6) << engine;
        EXPECT_NEAR(at(*r, "R1.v", 1.5e-3), 10, 1e-6) << engine;
        EXPECT_NEAR(at(*r, "R1.v", 3e-3), 0, 1e-6) << engine;
    }
}

TEST(Modulator, StartsWithThePulseOfItsDuty) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "12"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "n"})
        .add("inductor", "L1", {"x", "y"}, {{"l", "10u"}, {"i0", "8"}})
        .add("resistor", "R1", {"y", "0"}, {{"r", "0.5"}})
        .add("signal-sine", "K1", {"d"}, {{"peak", "0"}, {"f", "1k"}, {"offset", "0.4"}})
        .add("modulator", "M1", {"d", "g", "n"}, {{"f", "200k"}, {"duty", "0.4"}, {"sampling", "once a period"}})
        .plan("20u");
    for (const std::string& engine : engines) {
        const auto r = run(by(c, engine, "50n"));
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << engine << ": " << r->summary().brief();
        EXPECT_NEAR(at(*r, "S1.on", 1e-6), 1, 1e-9) << engine;
        EXPECT_NEAR(at(*r, "S1.on", 2.5e-6), 0, 1e-9) << engine;
    }
}

TEST(Code, ShowsTheInitialValuesOfItsOutputs) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "1"}})
        .add("resistor", "R1", {"in", "0"}, {{"r", "1"}})
        .add("task", "T1", {}, {{"period", "1m"}, {"delay", "0.5m"}})
        .add("constant", "K1", {"v"}, {{"value", "1"}})
        .add("code", "CODE1", {"v", "", "", "", "u", "", "", ""},
             {{"code", "VAR_INPUT v : LREAL; END_VAR\nVAR_OUTPUT u : LREAL := 0.25; END_VAR\nu := 0.5*v;\n"},
              {"task", "T1"}})
        .plan("2m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_NEAR(at(*r, "CODE1.y1", 0.2e-3), 0.25, 1e-12);
    EXPECT_NEAR(at(*r, "CODE1.y1", 0.6e-3), 0.5, 1e-12);
}

TEST(Tables, HaveColumnsAndDriveGates) {
    const std::string points = "0 1 0, 1m 0 1, 2m 1 1, 2.5m 0 0";
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "1"}});
    for (const std::string n : {"1", "2"})
        c.add("signal-points", "K" + n, {"g" + n},
              {{"points", points}, {"between", "held"}, {"period", "4m"}, {"column", n}})
            .add("switch", "S" + n, {"in", "x" + n, "g" + n})
            .add("resistor", "R" + n, {"x" + n, "0"}, {{"r", "1"}});
    c.plan("12m");
    for (const std::string& engine : engines) {
        const auto r = run(by(c, engine, "70u"));
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        for (const int period : {0, 1, 2}) {
            const double from = 4e-3 * period;
            const double first[] = {1, 0, 1, 0}, second[] = {0, 1, 1, 0}, instants[] = {0.5e-3, 1.5e-3, 2.2e-3, 3e-3};
            for (int i = 0; i < 4; ++i) {
                EXPECT_NEAR(at(*r, "R1.v", from + instants[i]), first[i], 1e-6) << engine << i;
                EXPECT_NEAR(at(*r, "R2.v", from + instants[i]), second[i], 1e-6) << engine << i;
            }
        }
    }
}

TEST(Samples, SeeTheCircuitAsItWasJustBefore) {
    for (const bool byScene : {true, false})
        for (const std::string& engine : engines) {
            Circuit c;
            c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
                .add("resistor", "R1", {"in", "o"}, {{"r", "1k"}})
                .add("resistor", "R2", {"o", "0"}, {{"r", "1k"}})
                .add("probe", "P1", {"p"}, {{"of", "o.v"}})
                .add("task", "T1", {}, {{"period", "0.5m"}, {"delay", "0"}})
                .add("gain", "G1", {"p", "y"}, {{"task", "T1"}})
                .plan("2m");
            if (byScene) {
                event(c, "1m", "R2.r", "500");
            } else {
                c.add("signal-step", "KL", {"s"}, {{"at", "1m"}})
                    .add("switch", "SL", {"o", "z", "s"})
                    .add("resistor", "R3", {"z", "0"}, {{"r", "1k"}});
            }
            const auto r = run(by(c, engine, "10u"));
            ASSERT_TRUE(r);
            ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
            EXPECT_NEAR(at(*r, "G1.y", 1.2e-3), 5, 1e-6) << engine << byScene;
            EXPECT_NEAR(at(*r, "G1.y", 1.7e-3), 10.0 / 3, 1e-6) << engine << byScene;
        }
}

/// A physical transistor on a supply behind parasitic inductances, off.
Circuit resting(double supply, bool gatePin) {
    char level[32];
    std::snprintf(level, sizeof level, "%.6g", supply);
    Circuit c;
    c.add("dc-voltage", "VDC", {"in", "0"}, {{"level", level}}).add("resistor", "RL", {"in", "a"}, {{"r", "0.4"}});
    c.add("inductor", "LLOOP", {"a", "d"}, {{"l", "10n"}}).add("inductor", "LCS", {"s", "0"}, {{"l", "1n"}});
    if (gatePin)
        c.add("dc-voltage", "VG", {"vg", "0"}, {{"level", "0"}})
            .add("resistor", "RG", {"vg", "g"}, {{"r", "10"}})
            .add("mosfet-with-gate-pin", "Q1", {"d", "g", "s"}, {}, 4);
    else
        c.add("constant", "K1", {"k"}, {{"value", "0"}}).add("mosfet", "Q1", {"d", "s", "k"}, {}, 4);
    c.plan("20n");
    c.project().plans.front().start = "operating point";
    return c;
}

TEST(OperatingPoint, IsFoundAtAnySupply) {
    // Where the transistor blocks, all of the supply lies across it.
    for (const bool gatePin : {false, true})
        for (int k = 0; k <= 120; ++k) {
            const double supply = std::pow(10, k / 40.0) * (1 + 0.003 * (k % 7));
            const auto r = run(resting(supply, gatePin));
            ASSERT_TRUE(r) << supply << gatePin;
            ASSERT_EQ(r->summary().end, RunEnd::finished) << supply << gatePin << r->summary().brief();
            EXPECT_NEAR(at(*r, "Q1.v", 0), supply, 1e-3 * supply + 1e-3) << gatePin;
            EXPECT_NEAR(at(*r, "Q1.v", 15e-9), supply, 1e-3 * supply + 1e-3) << gatePin;
        }
}

TEST(Islands, AreTiedOnEveryRungByEveryEngine) {
    for (const int rung : {2, 3, 4})
        for (const std::string& engine : engines) {
            if (engine == "exact" && rung == 4) continue;
            SCOPED_TRACE(engine + ", rung " + std::to_string(rung));
            const auto circuit = [&](bool tied) {
                Circuit c;
                c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "10"}, {"f", "10k"}})
                    .add("transformer", "T1", {"in", "0", "s", "q"}, {{"n1", "1"}, {"n2", "1"}})
                    .add("diode", "D1", {"s", "k"}, {}, rung)
                    .add("resistor", "R1", {"k", "q"}, {{"r", "1k"}});
                if (tied) c.add("resistor", "RT", {"q", "0"}, {{"r", "1"}});
                return by(c.plan("0.5m"), engine, "0.1u");
            };
            const auto island = run(circuit(false)), tied = run(circuit(true));
            ASSERT_TRUE(island && tied);
            ASSERT_EQ(island->summary().end, RunEnd::finished) << island->summary().brief();
            const Measures a = measures(*island, "R1.v", 0, 0.5e-3), b = measures(*tied, "R1.v", 0, 0.5e-3);
            EXPECT_NEAR(a.mean, b.mean, 1e-3 * std::abs(b.mean));
            EXPECT_NEAR(a.rms, b.rms, 1e-3 * std::abs(b.rms));
            EXPECT_NEAR(at(*island, "s.v", 20e-6) + at(*island, "q.v", 20e-6), 0, 1e-2);  // around zero
        }
}

TEST(Scenes, AGateMayTurnAtTheInstantOfAnEvent) {
    for (const std::string& engine : engines) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
            .add("signal-step", "K1", {"g"}, {{"at", "1m"}})
            .add("signal-step", "K2", {"h"}, {{"before", "1"}, {"after", "0"}, {"at", "1m"}})
            .add("switch", "S1", {"in", "a", "g"})
            .add("switch", "S2", {"in", "b", "h"})
            .add("resistor", "R1", {"a", "0"}, {{"r", "10"}})
            .add("resistor", "R2", {"b", "0"}, {{"r", "10"}})
            .plan("2m");
        event(c, "1m", "R1.r", "5");
        const auto r = run(by(c, engine, "10u"));
        ASSERT_TRUE(r);
        EXPECT_NEAR(at(*r, "R1.i", 0.9e-3), 0, 1e-6) << engine;
        EXPECT_NEAR(at(*r, "R1.i", 1.1e-3), 2, 1e-6) << engine;
        EXPECT_NEAR(at(*r, "R2.i", 0.9e-3), 1, 1e-6) << engine;
        EXPECT_NEAR(at(*r, "R2.i", 1.1e-3), 0, 1e-6) << engine;
    }
}

// A current that follows an exponential of a sine has no state whose error would tell the steps: its stored lines keep to
// what the plan says within a factor of 4, nearly all of them within 1.3. (Of the first microseconds, before the trace has
// swung, a line may be 5 times off.)
TEST(AdaptiveTraces, CurvesBetweenStepsKeepToTheTolerance) {
    for (const double tolerance : {1e-4, 1e-5, 1e-6}) {
        SCOPED_TRACE(tolerance);
        Circuit c;
        c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "0.1"}, {"f", "100"}, {"offset", "0.1"}})
            .add("current-by-formula", "G1", {"out", "0", "in", "0", "", "", "", ""}, {{"formula", "1u*(exp(x/0.026)-1)"}}, 4)
            .add("resistor", "R1", {"out", "0"}, {{"r", "1k"}})
            .plan("50m", std::to_string(tolerance * 1e6) + "u");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        const auto trace = r->trace("R1.v");
        const auto law = [](double t) { return 1e-3 * (std::exp((0.1 + 0.1 * std::sin(turn * 100 * t)) / 0.026) - 1); };
        const double swing = law(2.5e-3) - law(7.5e-3), sign = trace->at(toTicks(2.5e-3)).value() > 0 ? 1 : -1;
        int beyond = 0, all = 0;
        double worst = 0;
        for (std::size_t i = 1; i < trace->size(); ++i)
            for (const double part : {0.0, 0.25, 0.5, 0.75}) {
                const double t0 = toSeconds(trace->time(i - 1)), t = t0 + part * (toSeconds(trace->time(i)) - t0);
                const double line = trace->value(i - 1) + part * (trace->value(i) - trace->value(i - 1));
                const double error = std::abs(sign * line - law(t)) / swing;
                ASSERT_TRUE(std::isfinite(error));
                if (t > 30e-6) worst = std::max(worst, error);
                beyond += error > 1.3 * tolerance;
                ++all;
            }
        EXPECT_LT(worst, 4 * tolerance);
        EXPECT_LT(beyond, all / 50);
    }
}

// A step-up stage behind a transistor that only leaks has a rest at every supply: 30 uA through the package's inductance
// is found as well as 0.5 A in the load.
TEST(OperatingPoint, LeaksAreAtRestToo) {
    for (int volts = 200; volts < 320; volts += 5) {
        SCOPED_TRACE(volts);
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", std::to_string(volts)}}, 2)
            .add("modulator", "M1", {"", "g", ""}, {{"f", "68.5k"}, {"duty", "0.59"}, {"dead", "50n"}})
            .add("constant", "K1", {"z"}, {{"value", "0"}})
            .add("inductor", "L1", {"in", "x"}, {{"l", "1.264m"}})
            .add("switch", "Q1", {"x", "0", "g"}, {}, 4)
            .add("mosfet", "D1", {"o", "x", "z"}, {}, 4)
            .add("capacitor", "C1", {"o", "0"}, {{"c", "14.9u"}})
            .add("resistor", "R1", {"o", "0"}, {{"r", "539.25"}})
            .plan("1n");
        c.project().plans.front().start = "operating point";
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        // The body diode carries the load: its voltage is missing at the output.
        EXPECT_NEAR(at(*r, "o.v", 0), volts, 1.2);
        EXPECT_LT(at(*r, "o.v", 0), volts - 0.3);
        EXPECT_NEAR(at(*r, "Q1.i", 0), volts / 10e6, 2e-6);
    }
}

// A turn-off time longer than the pause: a thyristor that has fired once conducts every half wave, without its gate, also
// when the same intervals have come many times. Mean of a half sine above a knee, closed form.
TEST(Repairs, ATurnOffTimeCountsFromTheEndOfTheCurrentHoweverOftenItComes) {
    const double knee = 1, r = 10.01, peak = 100;
    const double from = std::asin(knee / peak), pi = std::numbers::pi;
    const double expected = (2 * peak * std::cos(from) - knee * (pi - 2 * from)) / (2 * pi * r);
    for (const char* engine : {"exact", "adaptive"}) {
        Circuit c;
        c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "100"}, {"f", "1k"}})
            .add("modulator", "M1", {"", "g", ""}, {{"f", "1k"}, {"duty", "0.05"}, {"phase", "0.25"}})
            .add("thyristor", "T1", {"in", "y", "g"}, {{"tq", "600u"}, {"vf", "1"}, {"ron", "10m"}}, 2)
            .add("resistor", "R1", {"y", "0"}, {{"r", "10"}})
            .plan(engine == std::string("exact") ? "200m" : "20m", "1e-4");
        c.project().plans.front().engine = engine;
        const auto r1 = run(c);
        ASSERT_TRUE(r1);
        ASSERT_EQ(r1->summary().end, RunEnd::finished) << r1->summary().brief();
        const double end = toSeconds(r1->end());
        EXPECT_RELATIVE(measures(*r1, "R1.i", end - 10e-3, end).mean, expected, 1e-3) << engine;
    }
}

}  // namespace
