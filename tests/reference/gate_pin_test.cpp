// The MOSFET with a gate pin on all its rungs, n-channel and p-channel, against closed forms.

#include <cmath>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

constexpr double threshold = 3, on = 0.05, knee = 0.8, diode = 0.02;

/// The drain behind a resistance at a supply, the gate at a voltage; a p-channel stands between supply and load.
Circuit stage(const char* channel, const char* gate, const char* supply, const char* load, int rung) {
    const bool p = *channel == 'p';
    Circuit c;
    const auto source = [&](const char* name, const char* net, const char* level) {
        c.add("dc-voltage", name, {p ? "0" : net, p ? net : "0"}, {{"level", level}});
    };
    source("VS", "s", supply);
    source("VG", "g", gate);
    c.add("resistor", "RL", {"s", "d"}, {{"r", load}})
        .add("mosfet-with-gate-pin", "Q1", {"d", "g", "0"},
             {{"channel", std::string(channel) + "-channel"},
              {"ron", "50m"},
              {"vth", "3"},
              {"vf", "0.8"},
              {"rd", "20m"},
              {"gm", "4"},
              {"corner", "10m"},
              {"lambda", "0"},
              {"kt", "0"}},
             rung)
        .plan("20u");
    return c;
}

double current(const char* channel, const char* gate, const char* supply, const char* load, int rung) {
    const auto r = run(stage(channel, gate, supply, load, rung));
    if (!r) return NAN;
    EXPECT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double sign = *channel == 'p' ? -1 : 1;
    // What the drain carries is what the load does.
    EXPECT_NEAR(at(*r, "Q1.i", 19e-6), at(*r, "RL.i", 19e-6), 1e-4 + 1e-4 * std::abs(at(*r, "RL.i", 19e-6)));
    EXPECT_NEAR(at(*r, "Q1.vgs", 19e-6), sign * std::stod(gate), 1e-6);
    return sign * at(*r, "RL.i", 19e-6);
}

}  // namespace

TEST(GatePin, ConductsAboveItsThreshold) {
    for (const char* channel : {"n", "p"}) {
        EXPECT_NEAR(current(channel, "12", "10", "1", 1), 10, 1e-6) << channel;
        EXPECT_NEAR(current(channel, "12", "10", "1", 2), 10 / (1 + on), 1e-5) << channel;
        EXPECT_NEAR(current(channel, "12", "10", "1", 3), 10 / (1 + on), 1e-2) << channel;
        // K (v_o v - v^2/2) with K = 1 / (R_on v_o): v = 10 - i.
        double v = 0.5;
        const double over = 9, k = 1 / (on * over);
        for (int n = 0; n < 50; ++n) v -= (k * (over * v - v * v / 2) + v - 10) / (k * (over - v) + 1);
        EXPECT_NEAR(current(channel, "12", "10", "1", 4), 10 - v, 0.05) << channel;
        for (const int rung : {1, 2, 3, 4}) EXPECT_NEAR(current(channel, "2", "10", "1k", rung), 0, 2e-5) << rung;
    }
}

TEST(GatePin, SaturatesFromTheThirdRungOn) {
    for (const char* channel : {"n", "p"}) {
        EXPECT_NEAR(current(channel, "4", "10", "100m", 3), 4 * (4 - threshold), 1e-2) << channel;
        // i = K v_o^2 / 2 with K = 1 / (R_on (V_on - V_th)).
        EXPECT_RELATIVE(current(channel, "6", "20", "100m", 4), 9.0 / 2 / (on * 9), 0.02);
    }
}

TEST(GatePin, ItsDiodeConductsInReverse) {
    for (const char* channel : {"n", "p"}) {
        EXPECT_NEAR(current(channel, "0", "-5", "1", 1), -5, 1e-6) << channel;
        EXPECT_NEAR(current(channel, "0", "-5", "1", 2), -(5 - knee) / (1 + diode), 1e-5) << channel;
        EXPECT_NEAR(current(channel, "0", "-5", "1", 3), -(5 - knee) / (1 + diode), 0.05) << channel;
        EXPECT_NEAR(current(channel, "0", "-5", "1", 4), -(5 - 0.9), 0.3) << channel;
        // With the channel on it shares below the knee: the channel alone.
        EXPECT_NEAR(current(channel, "12", "-5", "1", 2), -5 / (1 + on), 1e-5) << channel;
    }
}

// Charging the gate through a resistance: tau = (R + R_g) C_iss while the drain rests at its source.
TEST(GatePin, ItsGateIsACapacitance) {
    for (const int rung : {3, 4}) {
        Circuit c;
        c.add("points-voltage", "VG", {"in", "0"}, {{"points", "0 0, 1n 2"}})
            .add("resistor", "RG", {"in", "g"}, {{"r", "95"}})
            .add("mosfet-with-gate-pin", "Q1", {"0", "g", "0"},
                 {{"rg", "5"}, {"ciss", "2n"}, {"crss", "100p"}, {"coss", "300p"}, {"lpk", "0"}, {"vc", "1m"}}, rung)
            .plan("1u", "1e-5");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        // The gate itself lies behind R_g: the current says where it is. A ramp of 1 ns is a step half of it later.
        for (const double t : {100e-9, 300e-9, 600e-9})
            EXPECT_NEAR(at(*r, "Q1.ig", t), 0.02 * std::exp(-(t - 0.5e-9) / 200e-9), rung == 3 ? 2e-5 : 3e-4) << rung;
    }
}

// Discharging a capacitor it burns what that held, whatever its curves are: C V^2 / 2.
TEST(GatePin, BurnsTheEnergyOfACapacitor) {
    for (const char* channel : {"n-channel", "p-channel"})
        for (const int rung : {2, 3, 4}) {
            const bool p = *channel == 'p';
            Circuit c;
            c.add("capacitor", "C1", {"d", "0"}, {{"c", "1u"}, {"v0", p ? "-10" : "10"}})
                .add("points-voltage", "VG", {p ? "0" : "g", p ? "g" : "0"}, {{"points", "0 0, 1u 0, 1.05u 8"}})
                .add("mosfet-with-gate-pin", "Q1", {"d", "g", "0"},
                     {{"channel", channel},
                      {"ron", "100m"},
                      {"coss", "2f"},
                      {"crss", "1f"},
                      {"ciss", "1p"},
                      {"lpk", "0"},
                      {"kt", "0"},
                      {"roff", "1G"},
                      {"vc", "1m"}},
                     rung)
                .plan("40u", "1e-6");
            const auto r = run(c);
            ASSERT_TRUE(r);
            ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
            EXPECT_NEAR(at(*r, "C1.v", 0.9e-6), p ? -10 : 10, 1e-3) << channel << rung;
            const double left = at(*r, "C1.v", 39.9e-6);
            const double burnt = measures(*r, "Q1.p", 0, 39.9e-6).mean * 39.9e-6;
            EXPECT_RELATIVE(burnt, 0.5e-6 * (100 - left * left), 2e-5) << channel << rung;
            EXPECT_LT(std::abs(left), 0.01) << channel << rung;
        }
}

// Of two in series between rails, as in a driver, one conducts at rest; between the thresholds neither does.
TEST(GatePin, AComplementaryPairInverts) {
    for (const int rung : {1, 2, 3, 4}) {
        Circuit c;
        c.add("points-voltage", "VI", {"in", "0"}, {{"points", "0 0, 10u 0, 10.1u 12, 20u 12, 20.1u 0"}})
            .add("dc-voltage", "VC", {"vcc", "0"}, {{"level", "12"}})
            .add("mosfet-with-gate-pin", "QN", {"out", "in", "0"},
                 {{"ron", "200m"}, {"vth", "7"}, {"ciss", "300p"}, {"coss", "60p"}, {"crss", "10p"}, {"lpk", "1n"}},
                 rung)
            .add("mosfet-with-gate-pin", "QP", {"out", "in", "vcc"},
                 {{"channel", "p-channel"},
                  {"ron", "400m"},
                  {"vth", "7"},
                  {"ciss", "300p"},
                  {"coss", "60p"},
                  {"crss", "10p"},
                  {"lpk", "1n"}},
                 rung)
            .add("resistor", "RL", {"out", "l"}, {{"r", "20"}})
            .add("dc-voltage", "VL", {"l", "0"}, {{"level", "6"}})
            .plan("30u", "1e-4");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << rung << ": " << r->summary().brief();
        const double high = rung == 1 ? 12 : 12 - 6 * 0.4 / 20.4, low = rung == 1 ? 0 : 6 * 0.2 / 20.2;
        const double error = rung < 3 ? 1e-4 : 0.05;
        EXPECT_NEAR(at(*r, "out.v", 9e-6), high, error) << rung;
        EXPECT_NEAR(at(*r, "out.v", 19e-6), low, error) << rung;
        EXPECT_NEAR(at(*r, "out.v", 29e-6), high, error) << rung;
    }
}

TEST(GatePin, RefusesWhatCannotBe) {
    for (const auto& [key, text] :
         {std::pair{"crss", "1n"}, {"crss", "10n"}, {"von", "2"}, {"ron", "20M"}, {"channel", "q"}}) {
        Circuit c = stage("n", "5", "10", "1", 4);
        c.set("Q1", key, text);
        const auto prepared = Run::prepare(std::make_shared<Project>(c.project()), {});
        ASSERT_FALSE(prepared) << key;
        EXPECT_EQ(prepared.error().part, "Q1") << key;
    }
}
