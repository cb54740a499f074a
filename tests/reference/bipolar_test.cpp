// The bipolar transistor on all its rungs, against closed forms.

#include <cmath>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// A common-emitter stage: the base from a current, the collector through a resistance from a supply.
Circuit stage(const char* base, const char* load, const char* polarity, int rung) {
    const bool npn = std::string(polarity) == "npn";
    Circuit c;
    c.add("dc-voltage", "V1", {npn ? "vc" : "0", npn ? "0" : "vc"}, {{"level", "10"}})
        .add("dc-current", "IB", {npn ? "0" : "b", npn ? "b" : "0"}, {{"level", base}})
        .add("resistor", "RC", {"vc", "c"}, {{"r", load}})
        .add("bipolar-transistor", "Q1", {"c", "b", "0"},
             {{"polarity", polarity}, {"beta", "40"}, {"vf", "0.7"}, {"rb", "2"}, {"vsat", "0.15"}, {"ron", "0.1"}},
             rung)
        .plan("1u");
    return c;
}

}  // namespace

// Driven by 20 mA the collector would carry 0.8 A: through 2 ohm it does, through 100 ohm it is saturated.
TEST(Bipolar, MultipliesOrSaturates) {
    for (const char* polarity : {"npn", "pnp"}) {
        const double sign = std::string(polarity) == "npn" ? 1 : -1;
        for (const int rung : {1, 2, 3}) {
            const auto active = run(stage("20m", "2", polarity, rung));
            ASSERT_TRUE(active);
            ASSERT_EQ(active->summary().end, RunEnd::finished) << active->summary().brief();
            EXPECT_NEAR(at(*active, "Q1.i", 0.9e-6), sign * 0.8, 1e-5) << polarity << rung;
            EXPECT_NEAR(at(*active, "Q1.v", 0.9e-6), sign * (10 - 2 * 0.8), 3e-5) << polarity << rung;
            EXPECT_NEAR(at(*active, "Q1.vb", 0.9e-6), rung == 1 ? 0 : sign * (0.7 + 2 * 0.02), 1e-5);
            EXPECT_NEAR(at(*active, "Q1.ib", 0.9e-6), sign * 0.02, 1e-9);

            Circuit slow = stage("20m", "100", polarity, rung);
            slow.plan("20u");
            const auto saturated = run(slow);
            ASSERT_TRUE(saturated);
            const double current = rung == 1 ? 0.1 : (10 - 0.15) / (100 + 0.1);
            EXPECT_NEAR(at(*saturated, "Q1.i", 19e-6), sign * current, 2e-5) << polarity << rung;
            EXPECT_NEAR(at(*saturated, "Q1.v", 19e-6), rung == 1 ? 0 : sign * (0.15 + 0.1 * current), 2e-5);
        }
    }
}

TEST(Bipolar, BlocksWithoutABaseCurrent) {
    for (const char* polarity : {"npn", "pnp"})
        for (const int rung : {1, 2, 4}) {
            // On rung 4 the charge of the base leaves through a junction that conducts ever less: i_C falls as 1 / t.
            Circuit later = stage("0", "100", polarity, rung);
            later.plan("100u", "1e-6");
            const auto r = run(later);
            ASSERT_TRUE(r);
            ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
            EXPECT_NEAR(std::abs(at(*r, "Q1.v", 99e-6)), 10, rung == 4 ? 3e-3 : 2e-4) << polarity << rung;
        }
}

// It leaves saturation exactly where the current that a ramp asks for exceeds beta times that of the base.
TEST(Bipolar, LeavesSaturationAtItsGain) {
    Circuit c;
    c.add("points-current", "IC", {"0", "c"}, {{"points", "0 0, 1m 2"}})
        .add("dc-current", "IB", {"0", "b"}, {{"level", "20m"}})
        .add("resistor", "RC", {"c", "0"}, {{"r", "1k"}})
        .add("bipolar-transistor", "Q1", {"c", "b", "0"}, {{"beta", "40"}}, 1)
        .plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_NEAR(at(*r, "Q1.v", 0.399e-3), 0, 1e-9);
    EXPECT_NEAR(at(*r, "Q1.v", 0.401e-3), 1e3 * (2 * 0.401 - 0.8), 1e-6);
}

// With v_CB = 0: i_C = I_s (exp(v / (n V_T)) - 1), i_B = i_C / beta; in reverse, emitter and collector exchanged, the
// same with beta_R.
TEST(Bipolar, FollowsItsExponentials) {
    for (const double sign : {1.0, -1.0})
        for (const bool reverse : {false, true}) {
            Circuit c;
            c.add("dc-voltage", "V1", {"b", "0"}, {{"level", sign > 0 ? "0.65" : "-0.65"}})
                .add("bipolar-transistor", "Q1", {reverse ? "0" : "b", "b", reverse ? "b" : "0"},
                     {{"polarity", sign > 0 ? "npn" : "pnp"},
                      {"beta", "80"},
                      {"betar", "4"},
                      {"is", "2e-14"},
                      {"n", "1.1"},
                      {"rb", "0"},
                      {"ron", "0"},
                      {"tf", "0"},
                      {"tr", "0"}},
                     4)
                .plan("1u");
            const auto r = run(c);
            ASSERT_TRUE(r);
            ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
            const double transport = 2e-14 * (std::exp(0.65 / (1.1 * 0.025693)) - 1);
            const double base = transport / (reverse ? 4 : 80);
            EXPECT_RELATIVE(at(*r, "Q1.ib", 0.9e-6), sign * base, 1e-5);
            EXPECT_RELATIVE(at(*r, "Q1.i", 0.9e-6), reverse ? -sign * (transport + base) : sign * transport, 1e-5);
        }
}

// Charge control: a step of base current I_B lets the collector rise as beta I_B (1 - exp(-t / (beta tau_F))).
TEST(Bipolar, RisesWithItsTransitTime) {
    Circuit c;
    c.add("dc-voltage", "V1", {"c", "0"}, {{"level", "5"}})
        .add("points-current", "IB", {"0", "b"}, {{"points", "0 1u, 0.1u 1u, 0.100001u 10m"}})
        .add("bipolar-transistor", "Q1", {"c", "b", "0"},
             {{"beta", "50"},
              {"is", "1e-14"},
              {"n", "1"},
              {"rb", "0"},
              {"ron", "0"},
              {"tf", "4n"},
              {"tr", "0"},
              {"cbe", "1e-15"},
              {"cbc", "1e-15"}},
             4)
        .plan("2u", "1e-5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    for (const double t : {0.2e-6, 0.3e-6, 0.5e-6, 1e-6})
        EXPECT_NEAR(at(*r, "Q1.i", t), 50 * 10e-3 * (1 - std::exp(-(t - 0.1e-6) / (50 * 4e-9))), 5e-4) << t;
}
