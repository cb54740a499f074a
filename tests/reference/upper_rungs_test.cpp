// Rungs 3 and 4 of passives, windings, sources, contacts, Zener diode, IGBT, GaN HEMT and thyristor, and layout,
// against closed forms.

#include <cmath>
#include <numbers>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// Voltage or current of a step at t = 0 behind nothing.
Circuit behind(const char* level) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", level}});
    return c;
}

/// The mean time between upward crossings of zero, s.
double periodOf(const hedgerow::Run& run, const std::string& quantity, double from, double to) {
    const auto trace = run.trace(quantity);
    double first = -1, last = 0;
    int count = -1;
    double before = *trace->at(toTicks(from));
    constexpr int steps = 20000;
    for (int i = 1; i <= steps; ++i) {
        const double t = from + (to - from) * i / steps, now = *trace->at(toTicks(t));
        if (before < 0 && now >= 0) {
            last = t - (to - from) / steps * now / (now - before);
            if (first < 0) first = last;
            ++count;
        }
        before = now;
    }
    return count > 0 ? (last - first) / count : 0;
}

}  // namespace

// Beside L lie its eddy currents, G = 1 / (2 pi f_e L): i = V / R - (V / R - V / (R + 1 / G)) exp(-t / (L (1 / R +
// G))).
TEST(UpperRungs, AResistorHasAnInductanceWithEddyCurrents) {
    for (const double frequency : {1e6, 1e9}) {
        Circuit c = behind("10");
        c.add("resistor", "R1", {"in", "0"}, {{"r", "1"}, {"ls", "1u"}, {"cp", "0"}, {"fe", std::to_string(frequency)}},
              3)
            .plan("5u", "1e-6");
        const auto r = run(c);
        ASSERT_TRUE(r);
        const double g = 1 / (2 * std::numbers::pi * frequency * 1e-6);
        for (const double t : {0.5e-6, 1e-6, 3e-6})
            EXPECT_RELATIVE(at(*r, "R1.i", t), 10 - (10 - 10 / (1 + 1 / g)) * std::exp(-t / (1e-6 * (1 + g))), 2e-5)
                << frequency;
    }
}

// C dT/dt = I^2 R (1 + a T) - T / R_th, from the ambient of 25 degrees on.
TEST(UpperRungs, AResistorHeatsItself) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "a"}, {{"level", "2"}})
        .add("resistor", "R1", {"a", "0"},
             {{"r", "10"}, {"ls", "0"}, {"cp", "0"}, {"tc", "4m"}, {"rth", "2"}, {"cth", "0.5"}}, 4)
        .plan("3", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double p = 4 * 10.0, rate = (1 / 2.0 - p * 4e-3) / 0.5, end = p / (1 / 2.0 - p * 4e-3);
    for (const double t : {0.1, 1.0, 2.9}) {
        const double rise = end * (1 - std::exp(-rate * t));
        EXPECT_RELATIVE(at(*r, "R1.rise", t), rise, 1e-4);
        EXPECT_RELATIVE(at(*r, "R1.v", t), 20 * (1 + 4e-3 * rise), 1e-4);
    }
}

// Below 10 A 10 uH, down to 5 uH at 20 A: the flux of 1 V after t is that voltage times t.
TEST(UpperRungs, AnInductorFollowsItsTable) {
    Circuit c = behind("1");
    c.add("inductor", "L1", {"in", "0"}, {{"table", "0 10u, 10 10u, 20 5u"}, {"dcr", "0"}, {"rc", "1G"}, {"cw", "1p"}},
          4)
        .plan("250u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_RELATIVE(at(*r, "L1.iw", 50e-6), 5.0, 1e-4);
    EXPECT_RELATIVE(at(*r, "L1.iw", 100e-6), 10.0, 1e-4);
    // 100 uWb + 10u (i - 10) - 0.25u (i - 10)^2
    const double more = 50e-6;
    const double i = 10 + (10e-6 - std::sqrt(1e-10 - 4 * 0.25e-6 * more)) / (2 * 0.25e-6);
    EXPECT_RELATIVE(at(*r, "L1.iw", 150e-6), i, 1e-4);
    EXPECT_RELATIVE(at(*r, "L1.iw", 225e-6), 20 + 50e-6 / 5e-6, 1e-4);
}

TEST(UpperRungs, TablesSayWhatIsWrong) {
    for (const char* table : {"1 10u, 2 5u", "0 10u, 0 5u", "0 10u, 5 -1u", "0 10u, x", "0"}) {
        Circuit c = behind("1");
        c.add("inductor", "L1", {"in", "0"}, {{"table", table}}, 4).plan("1m");
        auto prepared = hedgerow::Run::prepare(std::make_shared<Project>(c.project()));
        ASSERT_FALSE(prepared) << table;
        EXPECT_EQ(prepared.error().part, "L1") << prepared.error().text();
        EXPECT_EQ(prepared.error().field, "table");
    }
}

TEST(UpperRungs, CopperConductsWorseWhenWarm) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "a"}, {{"level", "2"}})
        .add("inductor", "L1", {"a", "0"}, {{"dcr", "100m"}, {"temp", "90"}, {"i0", "2"}, {"rc", "1G"}}, 4)
        .plan("10m", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_RELATIVE(at(*r, "L1.v", 9e-3), 0.2 * (234.5 + 90) / 259.5, 1e-3);
}

// Given directly, the winding capacitance rings with the inductance at 1 / (2 pi sqrt(L C)).
TEST(UpperRungs, AWindingCapacitanceIsGivenDirectly) {
    Circuit c;
    c.add("inductor", "L1", {"a", "0"}, {{"l", "10u"}, {"cw", "1n"}, {"i0", "1"}, {"dcr", "0"}, {"rc", "1G"}}, 3)
        .add("resistor", "R1", {"a", "0"}, {{"r", "1M"}})
        .add("reference", "G1", {"0"})
        .plan("20u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_RELATIVE(periodOf(*r, "L1.v", 1e-6, 19e-6), 2 * std::numbers::pi * std::sqrt(10e-6 * 1e-9), 1e-3);
}

// q = 10u v - v^2 / 20 u: 1 A for t.
TEST(UpperRungs, ACapacitorFollowsItsTableAndItsTemperature) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "a"}, {{"level", "1"}})
        .add("capacitor", "C1", {"a", "0"},
             {{"table", "0 10u, 50 5u"}, {"esr", "0"}, {"esl", "0"}, {"rp", "1G"}, {"temp", "75"}, {"tcc", "-2m"}}, 4)
        .plan("400u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    for (const double t : {50e-6, 200e-6, 330e-6}) {
        const double q = t / (1 - 2e-3 * 50);
        const double v = (10e-6 - std::sqrt(1e-10 - 4 * 0.05e-6 * q)) / (2 * 0.05e-6);
        EXPECT_RELATIVE(at(*r, "C1.v", t), v, 1e-4);
    }
}

// The flux of the first winding is V t; the magnetising current follows from its curve.
TEST(UpperRungs, ATransformerSaturates) {
    Circuit c = behind("10");
    c.add("transformer", "TR1", {"in", "0", "s", "0"},
          {{"n1", "2"},
           {"n2", "1"},
           {"lm", "1m"},
           {"isat", "2"},
           {"lrest", "0.05"},
           {"rc", "1G"},
           {"r1", "0"},
           {"r2", "0"},
           {"leak1", "0"},
           {"leak2", "0"}},
          4)
        .add("resistor", "R1", {"s", "0"}, {{"r", "10"}})
        .plan("500u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    for (const double t : {50e-6, 200e-6, 400e-6}) {
        const double im = at(*r, "TR1.im", t);
        EXPECT_RELATIVE(1e-3 * (0.05 * im + 0.95 * 2 * std::atan(im / 2)), 10 * t, 1e-5);
        EXPECT_RELATIVE(at(*r, "TR1.i1", t), im + 5.0 / 10 / 2, 1e-5);
        EXPECT_NEAR(at(*r, "TR1.v2", t), 5.0, 1e-5);
    }
}

TEST(UpperRungs, CoupledWindingsRingWithTheirCapacitance) {
    Circuit c;
    c.add("coupled-inductors-2", "L1", {"a", "0", "s", "0"},
          {{"l1", "100u"},
           {"l2", "100u"},
           {"k12", "0"},
           {"cw", "1n"},
           {"cww", "0"},
           {"i01", "1"},
           {"dcr1", "0"},
           {"dcr2", "0"}},
          3)
        .add("resistor", "R1", {"a", "0"}, {{"r", "1M"}})
        .add("resistor", "R2", {"s", "0"}, {{"r", "1M"}})
        .plan("40u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_RELATIVE(periodOf(*r, "L1.v1", 1e-6, 39e-6), 2 * std::numbers::pi * std::sqrt(100e-6 * 1e-9), 1e-3);
}

// Open, a current charges the output capacitance: dv/dt = I / C.
TEST(UpperRungs, AnOpenSwitchHasACapacitance) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "a"}, {{"level", "1m"}})
        .add("constant", "K1", {"g"}, {{"value", "0"}})
        .add("switch", "S1", {"a", "0", "g"}, {{"coss", "1n"}, {"ro", "0"}, {"roff", "1G"}, {"lpk", "0"}}, 3)
        .plan("10u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_RELATIVE(at(*r, "S1.v", 8e-6), 8.0, 1e-4);
}

TEST(UpperRungs, AZenerDiodeBreaksDownOnEveryRung) {
    for (const int rung : {3, 4}) {
        Circuit c = behind("20");
        c.add("resistor", "R1", {"in", "k"}, {{"r", "100"}})
            .add("zener", "D1", {"0", "k"}, {{"vz", "12"}, {"rz", "2"}, {"corner", "20m"}}, rung)
            .plan("20u", "1e-6");
        const auto r = run(c);
        ASSERT_TRUE(r) << rung;
        // 8 V over 102 ohm; the corner adds nothing that far from it.
        EXPECT_RELATIVE(at(*r, "D1.v", 19e-6), -(12 + 2 * 8.0 / 102), 1e-3);
        EXPECT_RELATIVE(at(*r, "R1.i", 19e-6), 8.0 / 102, 2e-3);
    }
}

namespace {
/// A transistor that carries 10 A and turns off at 20 us into a clamp of 100 V.
Circuit turningOff(const char* kind, int rung, Circuit::Values values) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "c"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}, {"duty", "0.2"}})
        .add(kind, "Q1", {"c", "0", "g"}, values, rung)
        .add("dc-voltage", "V1", {"clamp", "0"}, {{"level", "100"}})
        .add("diode", "D1", {"c", "clamp"})
        .plan("60u", "1e-5");
    return c;
}
}  // namespace

// After the channel is off, what is left is the charge of the base, which decays with its lifetime.
TEST(UpperRungs, AnIgbtHasATail) {
    for (const int rung : {3, 4}) {
        const auto r = run(turningOff("igbt", rung,
                                      {{"ttail", "500n"},
                                       {"ktail", "0.3"},
                                       {"vce", "1"},
                                       {"ron", "20m"},
                                       {"gm", "100"},
                                       {"vth", "4"},
                                       {"lpk", "0"}}));
        ASSERT_TRUE(r) << rung;
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        EXPECT_NEAR(at(*r, "Q1.v", 19e-6), 1 + 0.2, rung == 3 ? 1e-3 : 0.1) << rung;
        EXPECT_RELATIVE(at(*r, "Q1.itail", 19e-6), 3.0, 1e-3);
        const double t = 20e-6 + 1.0e-6;
        EXPECT_NEAR(at(*r, "Q1.ich", t), 0, 1e-2) << rung;
        EXPECT_RELATIVE(at(*r, "Q1.itail", t + 1e-6) / at(*r, "Q1.itail", t), std::exp(-2.0), 2e-2);
        // The clamp carries the rest.
        EXPECT_NEAR(at(*r, "Q1.i", t) + at(*r, "D1.i", t), 10, 1e-3);
        EXPECT_GT(at(*r, "Q1.i", t), 0.2) << "the tail reaches the terminals";
    }
}

// Gate off, the reverse channel opens at v_gd = V_th: v = -(V_th - V_off + i / g_m).
TEST(UpperRungs, AGanTransistorConductsInReverseByItsChannel) {
    Circuit c;
    c.add("dc-current", "I1", {"d", "0"}, {{"level", "6"}})
        .add("constant", "K1", {"g"}, {{"value", "0"}})
        .add("gan-hemt", "Q1", {"d", "0", "g"}, {{"vth", "1.4"}, {"voff", "-2"}, {"gm", "60"}, {"ron", "25m"}}, 3)
        .plan("2u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_RELATIVE(at(*r, "Q1.v", 1.9e-6), -(1.4 + 2 + 6.0 / 60), 1e-3);
    // Gate on, it is a resistance.
    c.set("K1", "value", "1");
    const auto on = run(c);
    ASSERT_TRUE(on);
    EXPECT_RELATIVE(at(*on, "Q1.v", 1.9e-6), -6 * 25e-3, 1e-2);
    for (const char* level : {"0", "1"}) {
        Circuit smooth = c;
        smooth.set("K1", "value", level);
        for (Part& part : smooth.project().sheet().parts)
            if (part.name == "Q1") part.rung = 4;
        const auto curved = run(smooth);
        ASSERT_TRUE(curved);
        ASSERT_EQ(curved->summary().end, RunEnd::finished) << curved->summary().brief();
        EXPECT_LT(at(*curved, "Q1.v", 1.9e-6), level[0] == '0' ? -3.4 : -0.1);
        EXPECT_GT(at(*curved, "Q1.v", 1.9e-6), level[0] == '0' ? -5.0 : -0.2);
    }
}

// A lateral channel stores no charge: what flows back is that of its output capacitance.
TEST(UpperRungs, AGanTransistorDoesNotRecover) {
    const auto charge = [](const char* kind, Circuit::Values values) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
            .add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}, {"duty", "0.5"}, {"phase", "0.5"}})
            .add("switch", "S1", {"in", "a", "g"}, {{"ron", "10m"}}, 2)
            .add("inductor", "L1", {"a", "sw"}, {{"l", "100n"}})
            .add("constant", "K1", {"off"}, {{"value", "0"}})
            .add("dc-current", "I1", {"sw", "0"}, {{"level", "5"}})
            .add(kind, "Q1", {"sw", "0", "off"}, values, 3)
            .plan("70u", "1e-5");
        const auto r = run(c);
        if (!r || r->summary().end != RunEnd::finished) return -1.0;
        // From where the current has turned round.
        double most = 0, sum = 0;
        const double step = 0.5e-9;
        for (double t = 49e-6; t < 52e-6; t += step) {
            const double i = at(*r, "Q1.i", t);
            if (sum > 0 || i > 0) sum += i * step;
            most = std::max(most, sum);
        }
        return most;
    };
    const double gan = charge("gan-hemt", {{"coss", "120p"}}),
                 mosfet = charge("mosfet", {{"coss", "120p"}, {"crss", "4p"}});
    ASSERT_GT(gan, 0);
    EXPECT_LT(gan, 120e-12 * 250) << "its output capacitance at twice the voltage, and some";
    EXPECT_GT(mosfet, 0.5 * 60e-9 * 5) << "what was stored besides, less what recombined meanwhile";
}

namespace {
/// 100 V, 50 Hz over 10 ohm, fired at 90 degrees.
Circuit fired(const char* tq, const char* extra) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "100"}, {"f", "50"}})
        .add("inductor", "L1", {"in", "a"}, {{"l", "1m"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "50"}, {"duty", extra}, {"phase", "0.25"}})
        .add("thyristor", "T1", {"a", "k", "g"}, {{"tq", tq}, {"tau", "50u"}, {"tm", "10u"}}, 3)
        .add("resistor", "R1", {"k", "0"}, {{"r", "10"}})
        .plan("40m", "1e-5");
    return c;
}
}  // namespace

TEST(UpperRungs, AThyristorFiresBlocksAndRecovers) {
    const auto r = run(fired("100u", "0.02"));
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    double start = -1, least = 0;
    for (double t = 0; t < 20e-3; t += 2e-6) {
        const double i = at(*r, "T1.i", t);
        if (start < 0 && i > 0.5) start = t;
        least = std::min(least, i);
    }
    // Blocked until it is fired, conducting to the zero of the current, then a reverse current that dies away.
    EXPECT_GT(start, 4e-3);
    EXPECT_LT(start, 16e-3);
    EXPECT_LT(least, -0.05);
    EXPECT_NEAR(at(*r, "T1.i", 19e-3), 0, 0.05);
    EXPECT_LT(at(*r, "T1.v", 18e-3), -20);
}

// A cable with an open end rings at 1 / (2 pi sqrt(L C)) around the source, damped by its resistances.
TEST(UpperRungs, ASourceHasACable) {
    Circuit c;
    c.add("pulse-voltage", "V1", {"a", "0"},
          {{"low", "0"},
           {"high", "10"},
           {"f", "10k"},
           {"delay", "1u"},
           {"ri", "10m"},
           {"rw", "100m"},
           {"lw", "1u"},
           {"cw", "1n"},
           {"rcw", "0"}},
          3)
        .add("resistor", "R1", {"a", "0"}, {{"r", "1M"}})
        .plan("6u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    // 1 - exp(-a t)(cos + a / w sin), a = R / 2L
    const double a = 0.11 / 2e-6, w = std::sqrt(1 / (1e-6 * 1e-9) - a * a);
    for (const double t : {0.1e-6, 0.5e-6, 1.3e-6, 4e-6})
        EXPECT_NEAR(at(*r, "V1.v", 1e-6 + t), 10 * (1 - std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t))),
                    0.02)
            << t;
}

// Values of the pins: an inductance before the part, a capacitance from the net to the reference.
TEST(UpperRungs, LayoutIsPartOfThePins) {
    Circuit c = behind("10");
    c.add("resistor", "R1", {"in", "0"}, {{"r", "1"}, {"ls", "0"}, {"cp", "0"}, {"l_a", "2u"}, {"fe", "1T"}}, 3)
        .plan("10u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_RELATIVE(at(*r, "R1.i", 2e-6), 10 * (1 - std::exp(-1.0)), 1e-5);
    c.set("R1", "fe", "1M");
    const double g = 1 / (2 * std::numbers::pi * 1e6 * 2e-6);
    EXPECT_RELATIVE(at(*run(c), "R1.i", 2e-6), 10 - (10 - 10 / (1 + 1 / g)) * std::exp(-1 / (1 + g)), 1e-4);
    Circuit charged;
    charged.add("dc-current", "I1", {"0", "a"}, {{"level", "1m"}})
        .add("resistor", "R1", {"a", "0"}, {{"r", "10k"}, {"ls", "0"}, {"cp", "0"}, {"c_a", "1n"}}, 3)
        .plan("50u", "1e-6");
    const auto v = run(charged);
    ASSERT_TRUE(v);
    EXPECT_RELATIVE(at(*v, "a.v", 10e-6), 10 * (1 - std::exp(-1.0)), 1e-4);
    // Below rung 3 they are kept and do nothing.
    for (Part& part : charged.project().sheet().parts)
        if (part.name == "R1") part.rung = 1;
    EXPECT_NEAR(at(*run(charged), "a.v", 1e-6), 10, 1e-9);
}

// Perfectly coupled, the flux of the first winding is V t: L_1 (k i + (1 - k) I atan(i / I)) with the other one open.
TEST(UpperRungs, CoupledWindingsSaturateTogether) {
    for (const char* coupling : {"1", "-1"}) {
        Circuit c = behind("10");
        c.add("coupled-inductors-2", "L1", {"in", "0", "s", "0"},
              {{"l1", "1m"},
               {"l2", "250u"},
               {"k12", coupling},
               {"isat", "2"},
               {"lrest", "0.05"},
               {"cw", "0"},
               {"cww", "0"},
               {"dcr1", "0"},
               {"dcr2", "0"}},
              4)
            .add("resistor", "R1", {"s", "0"}, {{"r", "1M"}})
            .plan("500u", "1e-6");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        for (const double t : {50e-6, 200e-6, 400e-6}) {
            const double i = at(*r, "L1.i1", t);
            EXPECT_RELATIVE(1e-3 * (0.05 * i + 0.95 * 2 * std::atan(i / 2)), 10 * t, 1e-4) << coupling;
            EXPECT_NEAR(at(*r, "L1.v2", t), coupling[0] == '-' ? -5 : 5, 1e-3) << coupling;
        }
    }
}

// With leakage: the small-signal inductance from winding 1 falls from L to the leakage's share, and energy is kept:
// what the source gave comes back when it is reversed.
TEST(UpperRungs, CoupledWindingsKeepTheirLeakageInSaturation) {
    Circuit c;
    c.add("points-voltage", "V1", {"in", "0"},
          {{"points", "0 10, 400u 10, 400u -10, 800u -10"}, {"between", "straight"}})
        .add("coupled-inductors-2", "L1", {"in", "0", "s", "0"},
             {{"l1", "1m"},
              {"l2", "1m"},
              {"k12", "0.9"},
              {"isat", "1"},
              {"lrest", "0.01"},
              {"cw", "0"},
              {"cww", "0"},
              {"dcr1", "0"},
              {"dcr2", "0"}},
             4)
        .add("resistor", "R1", {"s", "0"}, {{"r", "1G"}})
        .plan("800u", "1e-7");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    // Modes of K = (1 0.9; 0.9 1): 1.9 along (1 1), 0.1 along (1 -1); open, flux 1 is L ((1.9 F + 0.1 i) / 2) with F of
    // i.
    for (const double t : {100e-6, 250e-6, 390e-6}) {
        const double i = at(*r, "L1.i1", t), f = 0.01 * i + 0.99 * std::atan(i);
        EXPECT_RELATIVE(1e-3 * (1.9 * f + 0.1 * i) / 2, 10 * t, 1e-4);
    }
    EXPECT_NEAR(at(*r, "L1.i1", 799.9e-6), 0, 2e-3);
}

TEST(UpperRungs, ACommonModeChokeSaturatesByTheSumOfItsCurrents) {
    // 5 A out and back leave it unsaturated: the leakage alone counts; 5 A the same way saturate it.
    for (const bool same : {false, true}) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "1"}})
            .add("common-mode-choke", "L1", {"in", "a", same ? "in" : "0", same ? "0" : "a"},
                 {{"l", "1m"},
                  {"leak", "10u"},
                  {"isat", "100m"},
                  {"lrest", "0.01"},
                  {"cw", "0"},
                  {"cww", "0"},
                  {"dcr", "0"}},
                 4)
            .add("resistor", "R1", {"a", same ? "0" : "b"}, {{"r", "1m"}});
        if (!same) c.add("resistor", "R2", {"b", "a"}, {{"r", "1m"}});
        c.plan("100u", "1e-6");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        const double t = 50e-6, i1 = at(*r, "L1.i1", t), i2 = at(*r, "L1.i2", t);
        if (same) {
            // Flux linkage of either: L (0.99...) F of the sum, and half of the leakage's share.
            const double sum = i1 + i2, f = 0.01 * sum + 0.99 * 0.1 * std::atan(sum / 0.1), k = 1 - 10e-6 / 2e-3;
            EXPECT_RELATIVE(1e-3 * (1 + k) / 2 * f, 1 * t, 1e-2);
        } else {
            EXPECT_NEAR(i1, 1 * t / 10e-6, 1e-6);
            EXPECT_NEAR(i2, -i1, 1e-6);
        }
    }
}

// s = 1 - exp(-t / t_sw): the conductance passes through its decades evenly in s.
TEST(UpperRungs, ASwitchTurnsOnThroughItsDecades) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "1"}})
        .add("constant", "K1", {"g"}, {{"value", "1"}})
        .add("switch", "S1", {"in", "a", "g"},
             {{"ron", "10m"}, {"roff", "1M"}, {"lpk", "0"}, {"coss", "1f"}, {"tsw", "1u"}, {"tc", "0"}}, 4)
        .add("resistor", "R1", {"a", "0"}, {{"r", "1u"}})
        .plan("8u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double ron = 0.01, roff = 1e6;
    for (const double after : {0.5e-6, 1e-6, 2e-6, 4e-6}) {
        const double s = 1 - std::exp(-after / 1e-6), g = std::pow(roff, s - 1) * std::pow(ron, -s);
        EXPECT_RELATIVE(at(*r, "S1.i", after), g / (1 + g * 1e-6), 5e-3) << after;
    }
}

// T = P R_th (1 - exp(-t / (R_th C_th))) with P = I^2 R (1 + alpha T): at rest R_th I^2 R / (1 - alpha R_th I^2 R).
TEST(UpperRungs, ASwitchHeatsItself) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "a"}, {{"level", "10"}})
        .add("constant", "K1", {"g"}, {{"value", "1"}})
        .add("switch", "S1", {"a", "0", "g"},
             {{"ron", "10m"}, {"lpk", "0"}, {"tc", "10m"}, {"rth", "20"}, {"cth", "1m"}, {"tsw", "1u"}}, 4)
        .plan("800m", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double cold = 20 * 100 * 0.01, rise = cold / (1 - 0.01 * cold);
    EXPECT_RELATIVE(at(*r, "S1.rise", 0.79), rise, 1e-3);
    EXPECT_RELATIVE(at(*r, "S1.v", 0.79), 10 * 0.01 * (1 + 0.01 * rise), 1e-3);
}

// Fired, a current follows the exponential: v = n V_T ln(i / I_s + 1) + R i; blocking, it charges a depletion layer of
// either sign: q = C phi / (1 - m) ((1 + |v| / phi)^(1 - m) - 1).
TEST(UpperRungs, AThyristorHasAnExponentialJunctionAndACurvedCapacitance) {
    Circuit on;
    on.add("dc-voltage", "V1", {"in", "0"}, {{"level", "21"}})
        .add("resistor", "R1", {"in", "a"}, {{"r", "2"}})
        .add("constant", "K1", {"g"}, {{"value", "1"}})
        .add("thyristor", "T1", {"a", "0", "g"},
             {{"is", "1n"}, {"n", "1.8"}, {"ron", "20m"}, {"tau", "1u"}, {"tm", "200n"}}, 4)
        .plan("100u", "1e-6");
    const auto conducting = run(on);
    ASSERT_TRUE(conducting);
    ASSERT_EQ(conducting->summary().end, RunEnd::finished) << conducting->summary().brief();
    const double i = at(*conducting, "T1.i", 99e-6);
    EXPECT_NEAR(at(*conducting, "T1.v", 99e-6), 1.8 * 0.025693 * std::log(i / 1e-9 + 1) + (0.02 + 1e-4) * i, 1e-3);
    for (const char* level : {"1m", "-1m"}) {
        Circuit off;
        off.add("dc-current", "I1", {"0", "a"}, {{"level", level}})
            .add("constant", "K1", {"g"}, {{"value", "0"}})
            .add("thyristor", "T1", {"a", "0", "g"},
                 {{"cj", "1n"}, {"phi", "0.8"}, {"grading", "0.4"}, {"roff", "1G"}, {"is", "1f"}}, 4)
            .plan("20u", "1e-6");
        const auto blocking = run(off);
        ASSERT_TRUE(blocking);
        ASSERT_EQ(blocking->summary().end, RunEnd::finished) << blocking->summary().brief();
        for (const double t : {5e-6, 15e-6}) {
            const double v = std::abs(at(*blocking, "T1.v", t));
            EXPECT_RELATIVE(1e-9 * 0.8 / 0.6 * (std::pow(1 + v / 0.8, 0.6) - 1), 1e-3 * t, 0.01) << level;
        }
    }
}
