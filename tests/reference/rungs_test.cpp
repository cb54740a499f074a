// Rungs 3 and 4 against closed forms, energy and charge, and the two engines against each other.

#include <cmath>
#include <random>

#include "formats/hedge/hedge.h"
#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

std::shared_ptr<hedgerow::Run> runBy(const Circuit& circuit, const char* engine) {
    Project project = circuit.project();
    project.plans.front().engine = engine;
    return run(project);
}

/// The integral of a quantity over time.
double integral(const hedgerow::Run& run, const std::string& quantity, double from, double to) {
    return measures(run, quantity, from, to).mean * (to - from);
}

/// A switch turns 10 A over from a diode: half a bridge with an inductance in the loop.
Circuit commutation(int diodeRung, const char* tolerance = "1e-6") {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "40"}})
        .add("switch", "S1", {"in", "b", "g"})
        .add("resistor", "R1", {"b", "a"}, {{"r", "10m"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "100k"}, {"duty", "0.5"}, {"phase", "0.5"}})
        .add("inductor", "L1", {"a", "sw"}, {{"l", "100n"}})
        .add("diode", "D1", {"0", "sw"}, {{"ron", "5m"}, {"tau", "60n"}, {"tm", "30n"}, {"cj", "300p"}}, diodeRung)
        .add("dc-current", "I1", {"sw", "0"}, {{"level", "10"}})
        .plan("7u", tolerance);
    return c;
}

}  // namespace

// A constant voltage makes the flux a ramp: lambda(i) = V t, with lambda of the curve.
TEST(Saturation, CurrentFollowsTheFluxCurve) {
    Circuit c;
    c.add("dc-voltage", "V1", {"a", "0"}, {{"level", "10"}})
        .add("inductor", "L1", {"a", "0"},
             {{"l", "100u"}, {"dcr", "0"}, {"rc", "1G"}, {"isat", "5"}, {"lrest", "0.2"}, {"fsr", "100M"}}, 4)
        .plan("200u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().engine, "adaptive") << "the best engine for a curve";
    for (int k = 1; k <= 20; ++k) {
        const double t = 10e-6 * k, i = at(*r, "L1.iw", t);
        const double flux = 100e-6 * (0.2 * i + 0.8 * 5 * std::atan(i / 5));
        EXPECT_RELATIVE(flux, 10 * t, 1e-5);
    }
    EXPECT_GT(at(*r, "L1.i", 200e-6), 40) << "far beyond the 20 A of the unsaturated one";
}

// A constant current makes the charge a ramp: v = V_half tan(I t / (C V_half)).
TEST(Derating, VoltageFollowsTheChargeCurve) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "a"}, {{"level", "1"}})
        .add("capacitor", "C1", {"a", "0"}, {{"c", "10u"}, {"esr", "0"}, {"rp", "1T"}, {"esl", "0"}, {"vhalf", "20"}},
             4)
        .plan("200u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    for (int k = 1; k <= 10; ++k) {
        const double t = 20e-6 * k;
        EXPECT_RELATIVE(at(*r, "C1.v", t), 20 * std::tan(t / (10e-6 * 20)), 1e-5);
    }
}

// All of the energy integral of v C(v) dv comes to the inductance: C V_half^2 / 2 ln(1 + (v / V_half)^2) = L i^2 / 2.
TEST(Derating, RingingKeepsTheEnergy) {
    Circuit c;
    c.add("inductor", "L1", {"a", "0"}, {{"l", "10u"}})
        .add("capacitor", "C1", {"a", "0"},
             {{"c", "1u"}, {"v0", "50"}, {"esr", "0"}, {"rp", "1T"}, {"esl", "0"}, {"vhalf", "20"}}, 4)
        .add("reference", "G1", {"0"})
        .plan("300u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double energy = 1e-6 * 400 / 2 * std::log(1 + 2.5 * 2.5), peak = std::sqrt(2 * energy / 10e-6);
    EXPECT_RELATIVE(measures(*r, "L1.i", 0, 50e-6).max, peak, 1e-5);
    EXPECT_RELATIVE(measures(*r, "L1.i", 250e-6, 300e-6).max, peak, 1e-4);
}

// dq_M/dt = i - q_M / tau over a whole turn-off: what flows back was stored or has recombined.
TEST(Recovery, BalancesItsCharge) {
    for (const int rung : {3, 4}) {
        const auto r = run(commutation(rung));
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        const double from = 4.5e-6, to = 5.8e-6;
        const double flown = integral(*r, "D1.ij", from, to), lost = integral(*r, "D1.q", from, to) / 60e-9;
        const double change = at(*r, "D1.q", to) - at(*r, "D1.q", from);
        EXPECT_NEAR(flown - lost, change, 1e-4 * std::abs(change)) << "rung " << rung;
        EXPECT_RELATIVE(at(*r, "D1.q", from), 10 * 60e-9, 1e-4) << "tau times the forward current";
        EXPECT_LT(measures(*r, "D1.i", from, to).min, -5) << "and it does flow back";
    }
}

// P. O. Lauritzen, C. L. Ma (1991), eq. 15 to 18: a current that falls as I - a t leaves q_M(t) = a tau (T_0 + tau - t
// - tau exp(-t / tau)), T_0 = I / a; the junction blocks when q_M = T_M times the reverse current, its peak.
TEST(Recovery, PeakReverseCurrentOfAStraightFall) {
    Circuit c;
    const double slope = 200e6, start = 10, tau = 60e-9, transit = 30e-9;
    c.add("points-current", "I1", {"0", "a"}, {{"points", "0 10, 2u 10, 2.2u -30, 3u -30"}})
        .add("diode", "D1", {"a", "0"}, {{"ron", "5m"}, {"tau", "60n"}, {"tm", "30n"}, {"cj", "1f"}}, 3)
        .add("resistor", "R1", {"a", "0"}, {{"r", "1k"}})
        .plan("2.3u", "1e-7");
    const auto charge = [&](double t) { return slope * tau * (start / slope + tau - t - tau * std::exp(-t / tau)); };
    double low = start / slope, high = low + 10 * tau;
    for (int k = 0; k < 200; ++k) {
        const double t = (low + high) / 2;
        (charge(t) > transit * (slope * t - start) ? low : high) = t;
    }
    const double peak = slope * low - start;
    for (const char* engine : {"exact", "adaptive"}) {
        const auto r = runBy(c, engine);
        ASSERT_TRUE(r);
        EXPECT_RELATIVE(-measures(*r, "D1.ij", 2e-6, 2.2e-6).min, peak, 2e-4) << engine;
    }
}

TEST(Recovery, BothEnginesAgreeOnRungThree) {
    // Softer than a real one: the exact engine follows its fastest mode.
    auto circuit = commutation(3, "1e-5");
    circuit.set("D1", "ron", "200m").set("D1", "cj", "2n");
    const auto a = runBy(circuit, "exact"), b = runBy(circuit, "adaptive");
    ASSERT_TRUE(a && b);
    for (double t = 4.9e-6; t < 7e-6; t += 7.3e-9) EXPECT_NEAR(at(*a, "D1.i", t), at(*b, "D1.i", t), 0.02) << t;
}

// On, the channel is its resistance on every rung; the gate ends at its drive voltage.
TEST(Transistor, ConductsAsItsResistanceOnEveryRung) {
    for (const int rung : {2, 3, 4}) {
        Circuit c;
        c.add("dc-current", "I1", {"0", "d"}, {{"level", "1"}})
            .add("constant", "K1", {"g"}, {{"value", "1"}})
            .add("mosfet", "Q1", {"d", "0", "g"}, {{"ron", "20m"}, {"kt", "0"}, {"lambda", "0"}}, rung)
            .plan("20u", "1e-5");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        EXPECT_RELATIVE(at(*r, "Q1.v", 19e-6), 20e-3, rung == 4 ? 2e-3 : 1e-5) << "rung " << rung;
        if (rung > 2) {
            EXPECT_RELATIVE(at(*r, "Q1.vgs", 19e-6), 12.0, 1e-4);
        }
    }
}

// The gate follows V (1 - exp(-t / (R_g C_iss))) until the threshold, while the drain stands still.
TEST(Transistor, TurnsOnAfterTheTimeItsGateTakes) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "40"}})
        .add("resistor", "R1", {"in", "d"}, {{"r", "10"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}, {"duty", "0.5"}, {"phase", "0.5"}})
        .add("mosfet", "Q1", {"d", "0", "g"},
             {{"rg", "10"}, {"ciss", "3n"}, {"crss", "10p"}, {"vth", "4"}, {"lpk", "0"}}, 3)
        .plan("52u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    // Half the supply over the load resistance: 2 A, at v_gs = V_th + 2 A / g_m.
    const auto gate = r->trace("Q1.vgs");
    const double delay = 10 * 3e-9 * std::log(12 / (12 - 4.0));
    EXPECT_NEAR(*gate->at(toTicks(50e-6 + delay)), 4.0, 0.02);
}

// Constant power into R_th and C_th: T = P R_th (1 - exp(-t / (R_th C_th))).
TEST(Transistor, HeatsUpAlongItsThermalStep) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "d"}, {{"level", "20"}})
        .add("constant", "K1", {"g"}, {{"value", "1"}})
        .add("mosfet", "Q1", {"d", "0", "g"},
             {{"ron", "20m"}, {"kt", "0"}, {"lambda", "0"}, {"rth", "5"}, {"cth", "1m"}}, 4)
        .plan("20m", "1e-5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double power = at(*r, "Q1.pch", 10e-3), end = power * 5;
    EXPECT_NEAR(power, 20 * 20 * 20e-3, 0.2);
    // From just after turning on, which heats it too.
    const double begin = 0.1e-3, first = at(*r, "Q1.rise", begin);
    for (const double t : {1e-3, 5e-3, 10e-3, 19e-3})
        EXPECT_RELATIVE(at(*r, "Q1.rise", t), end + (first - end) * std::exp(-(t - begin) / 5e-3), 1e-4);
    // Hotter, the channel conducts worse: with k_T = 2 the resistance grows with the square of the temperature.
    c.set("Q1", "kt", "2");
    const auto hot = run(c);
    ASSERT_TRUE(hot);
    const double rise = at(*hot, "Q1.rise", 19.9e-3), cold = at(*r, "Q1.v", 19.9e-3);
    EXPECT_RELATIVE(at(*hot, "Q1.v", 19.9e-3) / cold, std::pow((298.15 + rise) / 298.15, 2), 0.02);
}

// A half bridge with ringing of package inductances against output capacitances: runs of two tolerances and two rungs.
TEST(Transistor, AHalfBridgeConvergesWithItsTolerance) {
    for (const int rung : {3, 4}) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "80"}})
            .add("modulator", "M1", {"", "ga", "gb"}, {{"f", "150k"}, {"duty", "0.3"}, {"dead", "100n"}})
            .add("mosfet", "Q1", {"in", "sw", "ga"}, {}, rung)
            .add("mosfet", "Q2", {"sw", "0", "gb"}, {}, rung)
            .add("inductor", "L1", {"sw", "out"}, {{"l", "22u"}})
            .add("capacitor", "C1", {"out", "0"}, {{"c", "94u"}})
            .add("resistor", "R1", {"out", "0"}, {{"r", "2"}})
            .plan("9u", "1e-4");
        const auto a = run(c);
        c.plan("9u", "1e-6");
        const auto b = run(c);
        ASSERT_TRUE(a && b);
        ASSERT_EQ(a->summary().end, RunEnd::finished) << rung << a->summary().brief();
        ASSERT_EQ(b->summary().end, RunEnd::finished) << rung << b->summary().brief();
        for (double t = 1e-6; t < 9e-6; t += 37e-9) {
            EXPECT_NEAR(at(*a, "L1.i", t), at(*b, "L1.i", t), 5e-3) << rung << " " << t;
            EXPECT_NEAR(at(*a, "Q1.vgs", t), at(*b, "Q1.vgs", t), 0.1) << rung << " " << t;
        }
        EXPECT_GT(measures(*b, "sw.v", 1e-6, 9e-6).max, 82) << "it rings";
    }
}

// Any part on any rung beside any other: the start-up of MED-AUX ends, and ends alike. All rungs of a part but the
// saturating one of the inductor, which lets more current through, change it by a few percent.
TEST(Rungs, AnyMixtureRunsAndGoesAlike) {
    const auto loaded = loadHedge(HEDGEROW_EXAMPLES "/med-aux.hedge");
    ASSERT_TRUE(loaded);
    std::mt19937 random(5);
    for (int trial = 0; trial < 24; ++trial) {
        Project project = loaded->project;
        std::string mixture;
        bool saturates = false;
        for (Part& part : project.sheet().parts) {
            const PartKind& kind = *partLibrary().catalogue().find(part.kind);
            part.rung = 1 + static_cast<int>(random() % kind.rungs.size());
            mixture += part.name + ":" + std::to_string(part.rung) + " ";
            saturates = saturates || (part.name == "L1" && part.rung == 4);
        }
        project.plans.front().engine = "adaptive";
        project.plans.front().end = "60u";
        const auto r = run(project);
        ASSERT_TRUE(r) << mixture;
        ASSERT_EQ(r->summary().end, RunEnd::finished) << mixture << r->summary().brief();
        const double mean = measures(*r, "R1.v", 0, 60e-6).mean;
        EXPECT_NEAR(mean, saturates ? 12.25 : 6.38, saturates ? 0.4 : 0.15) << mixture;
    }
}

// A mains diode whose charge is swept out within a step of the engine: factors from before, when the junction was
// steep, make every further step of the iteration tiny, and nothing of that says that a solution is near. Its stored
// charge is never negative, and once it is gone what is left of the current rings in the junction's capacitance.
TEST(Recovery, IsFoundWhateverTheStepsBeforeIt) {
    for (const char* end : {"22m", "24m", "26m", "28m", "30m", "32m", "34m"}) {
        Circuit c;
        c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "325"}, {"f", "50"}})
            .add("diode", "D1", {"in", "o"}, {{"tau", "20u"}, {"tm", "5u"}, {"cj", "500p"}}, 4)
            .add("inductor", "L1", {"o", "p"}, {{"l", "10m"}})
            .add("resistor", "R1", {"p", "0"}, {{"r", "10"}})
            .plan(end, "1e-3");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << end << ": " << r->summary().brief();
        const auto charge = r->trace("D1.q");
        ASSERT_TRUE(charge);
        // The largest is about 30 A times 20 us.
        for (std::size_t k = 0; k < charge->size(); ++k) ASSERT_GT(charge->value(k), -2e-6) << end;
        for (const double t : {11.5e-3, 13e-3, 19e-3}) EXPECT_LT(std::abs(at(*r, "D1.i", t)), 0.05) << end << " " << t;
        EXPECT_LT(r->summary().counter("steps"), 60'000) << end;
    }
}
