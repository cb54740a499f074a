// Sources by formula, against closed forms.

#include <cmath>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// The inputs that are not named stay open.
std::vector<std::string> pins(std::vector<std::string> nets) {
    nets.resize(8);
    return nets;
}

}  // namespace

// A multiplier: the product of two voltages, one of them a ramp.
TEST(FormulaSources, MultiplyTwoVoltages) {
    Circuit c;
    c.add("points-voltage", "VA", {"a", "0"}, {{"points", "0 0, 1m 5"}})
        .add("dc-voltage", "VB", {"b", "0"}, {{"level", "3"}})
        .add("voltage-by-formula", "E1", pins({"out", "0", "a", "0", "b", "0"}), {{"formula", "x*y + 1"}}, 4)
        .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
        .plan("1m", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    for (const double t : {0.1e-3, 0.45e-3, 0.9e-3}) {
        EXPECT_NEAR(at(*r, "out.v", t), 3 * 5e3 * t + 1, 1e-4);
        EXPECT_NEAR(at(*r, "E1.i", t), -(15e3 * t + 1) / 10, 1e-5);
    }
}

// i = I (e^(v/V) - 1) behind a resistance: the operating point solves v + R i = E.
TEST(FormulaSources, MakeAConductorWithACurve) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "5"}})
        .add("resistor", "R1", {"in", "d"}, {{"r", "1k"}})
        .add("current-by-formula", "G1", pins({"d", "0", "d", "0"}), {{"formula", "1f*(exp(x/25m) - 1)"}}, 4)
        .plan("1m", "1e-7");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    double v = 0.7;
    for (int n = 0; n < 60; ++n) {
        const double i = 1e-15 * std::expm1(v / 25e-3), slope = 1e-15 * std::exp(v / 25e-3) / 25e-3;
        v -= (v + 1000 * i - 5) / (1 + 1000 * slope);
    }
    EXPECT_NEAR(at(*r, "d.v", 0.5e-3), v, 1e-6);
    EXPECT_NEAR(at(*r, "G1.i", 0.5e-3), (5 - v) / 1000, 1e-8);
}

// dv/dt = -k v^2: v = v0 / (1 + k v0 t).
TEST(FormulaSources, DischargeAlongAHyperbola) {
    Circuit c;
    c.add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}, {"v0", "10"}})
        .add("current-by-formula", "G1", pins({"a", "0", "a", "0"}), {{"formula", "k*x*abs(x)"}}, 4)
        .plan("2m", "1e-7");
    Parameter k;
    k.name = "k", k.value = "1m";
    c.project().parameters.push_back(k);
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    for (const double t : {0.1e-3, 0.7e-3, 1.9e-3}) EXPECT_RELATIVE(at(*r, "a.v", t), 10 / (1 + 1e3 * 10 * t), 1e-5);
}

// On rung 1 the exact engine takes the tangent: of 2 + x^2 at x = 3 that is 6 x - 7.
TEST(FormulaSources, AreTangentsOnTheLowestRung) {
    Circuit c;
    c.add("points-voltage", "VA", {"a", "0"}, {{"points", "0 0, 1m 5"}})
        .add("voltage-by-formula", "E1", pins({"out", "0", "a", "0"}), {{"formula", "2 + x^2"}, {"x0", "3"}}, 1)
        .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
        .plan("1m", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_EQ(r->engine().name(), "exact");
    for (const double t : {0.1e-3, 0.6e-3, 0.9e-3}) EXPECT_NEAR(at(*r, "out.v", t), 6 * 5e3 * t - 7, 1e-9);
}

TEST(FormulaSources, RefuseWhatTheyDoNotUnderstand) {
    for (const auto& [formula, why] :
         {std::pair{"x +", "something is missing"}, {"q*x", "q"}, {"frob(x)", "no function frob"}}) {
        Circuit c;
        c.add("dc-voltage", "V1", {"a", "0"}, {{"level", "5"}})
            .add("voltage-by-formula", "E1", pins({"out", "0", "a", "0"}), {{"formula", formula}}, 4)
            .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
            .plan("1m");
        const auto prepared = Run::prepare(std::make_shared<Project>(c.project()), {});
        ASSERT_FALSE(prepared) << formula;
        EXPECT_NE(prepared.error().message.find(why), std::string::npos) << prepared.error().message;
        EXPECT_EQ(prepared.error().part, "E1");
        EXPECT_EQ(prepared.error().field, "formula");
    }
}
