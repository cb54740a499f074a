// Converters against the closed forms of any textbook (e.g. R. W. Erickson and D. Maksimović, Fundamentals of Power
// Electronics, ch. 2 and 5), and against a hand-written interval map where those forms are approximate.

#include <cmath>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// Step-down stage with an ideal switch and diode into a fixed output voltage: the current is a chain of straight
/// lines.
Circuit stepDownIntoFixedOutput(const std::string& duty, const std::string& output) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "80"}})
        .add("switch", "S1", {"in", "sw", "g"})
        .add("diode", "D1", {"0", "sw"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "150k"}, {"duty", duty}})
        .add("inductor", "L1", {"sw", "out"}, {{"l", "22u"}})
        .add("dc-voltage", "V2", {"out", "0"}, {{"level", output}})
        .plan("200u");
    return c;
}

Circuit stepDown(const std::string& duty, const std::string& load, const std::string& v0, const std::string& i0) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "80"}})
        .add("switch", "S1", {"in", "sw", "g"})
        .add("diode", "D1", {"0", "sw"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "150k"}, {"duty", duty}})
        .add("inductor", "L1", {"sw", "out"}, {{"l", "22u"}, {"i0", i0}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1m"}, {"v0", v0}})
        .add("resistor", "R1", {"out", "0"}, {{"r", load}});
    return c;
}

}  // namespace

// Continuous conduction: ripple = (V - Vo) D T / L, exact while the output is fixed.
TEST(StepDown, ContinuousRippleIsTheTextbookTriangle) {
    const auto r = run(stepDownIntoFixedOutput("0.3", "24"));
    ASSERT_TRUE(r);
    const double period = 1 / 150e3, rise = (80 - 24) * 0.3 * period / 22e-6;
    // From rest the current returns to zero at the end of each period: D V = Vo is the boundary of conduction.
    const Measures m = measures(*r, "L1.i", 10 * period, 20 * period);
    EXPECT_RELATIVE(m.peakToPeak(), rise, 1e-9);
    EXPECT_RELATIVE(m.mean, rise / 2, 1e-9);
    EXPECT_RELATIVE(m.rms, rise / std::sqrt(3.0), 1e-9);
}

// Discontinuous conduction into a fixed voltage: peak = (V - Vo) D T / L, conduction of the diode for D (V - Vo)/Vo T.
TEST(StepDown, DiscontinuousConductionEndsExactly) {
    const auto r = run(stepDownIntoFixedOutput("0.2", "24"));
    ASSERT_TRUE(r);
    const double period = 1 / 150e3, peak = (80 - 24) * 0.2 * period / 22e-6, fall = peak * 22e-6 / 24;
    const std::vector<double> changes = edges(*r, "D1.on");
    ASSERT_GE(changes.size(), 40u);
    for (std::size_t k = 0; k < 20; ++k) {
        const double on = (static_cast<double>(k) + 0.2) * period;
        EXPECT_NEAR(changes[2 * k], on, 1e-9 * period) << k;
        EXPECT_NEAR(changes[2 * k + 1], on + fall, 1e-9 * period) << k;
    }
    const Measures m = measures(*r, "L1.i", 5 * period, 25 * period);
    EXPECT_RELATIVE(m.max, peak, 1e-9);
    EXPECT_NEAR(m.min, 0.0, 1e-12);
    EXPECT_RELATIVE(m.mean, peak * (0.2 * period + fall) / 2 / period, 1e-9);
}

// M(D) = D in continuous conduction. The steady state is exact for the mean, whatever the ripple of the output.
TEST(StepDown, ContinuousConversionRatio) {
    auto c = stepDown("0.3", "1.92", "24", "12.5");
    c.plan("30m", "1e-3");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double period = 1 / 150e3;
    EXPECT_RELATIVE(measures(*r, "out.v", 0.03 - 600 * period, 0.03).mean, 24.0, 1e-4);
    EXPECT_RELATIVE(measures(*r, "L1.i", 0.03 - 600 * period, 0.03).mean, 12.5, 1e-4);
}

// M(D, K) = 2 / (1 + sqrt(1 + 4 K / D^2)), K = 2 L / (R T), in discontinuous conduction (small-ripple output).
TEST(StepDown, DiscontinuousConversionRatio) {
    const double period = 1 / 150e3, load = 200, k = 2 * 22e-6 / (load * period);
    const double expected = 80 * 2 / (1 + std::sqrt(1 + 4 * k / (0.2 * 0.2)));
    auto c = stepDown("0.2", "200", std::to_string(expected), "0");
    c.plan("20m", "1e-3");
    const auto r = run(c);
    ASSERT_TRUE(r);
    // The output ripple of some 10 ppm and what is left of the settling bound how well the formula can hold.
    EXPECT_RELATIVE(measures(*r, "out.v", 0.02 - 300 * period, 0.02).mean, expected, 1e-4);
    EXPECT_NEAR(measures(*r, "L1.i", 0.02 - 3 * period, 0.02).min, 0.0, 1e-9);
}

// The same stage cycle by cycle in long double: exact solutions of the LC in each of its three intervals, the end of
// conduction by Newton iteration. An independent computation of the whole start-up, discontinuous conduction included.
TEST(StepDown, FollowsAnIndependentIntervalMap) {
    using Real = long double;
    const Real L = 22e-6L, C = 20e-6L, R = 8, V = 80, T = 1 / 150e3L, D = 0.25L;
    const Real a = 1 / (2 * R * C), w = std::sqrt(1 / (L * C) - a * a);
    // L i' = e - v, C v' = i - v/R from (i, v) over t.
    const auto propagate = [&](Real e, Real& i, Real& v, Real t) {
        const Real x = v - e, slope = (i - v / R) / C;
        const Real decay = std::exp(-a * t), c = std::cos(w * t), s = std::sin(w * t);
        const Real x1 = decay * (x * c + (slope + a * x) / w * s);
        const Real dx1 = -a * x1 + decay * (-x * w * s + (slope + a * x) * c);
        v = x1 + e;
        i = C * dx1 + v / R;
    };
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "80"}})
        .add("switch", "S1", {"in", "sw", "g"})
        .add("diode", "D1", {"0", "sw"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "150k"}, {"duty", "0.25"}})
        .add("inductor", "L1", {"sw", "out"}, {{"l", "22u"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "20u"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "8"}})
        .plan("1.334m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    Real i = 0, v = 0;
    int discontinuous = 0;
    for (int k = 0; k < 200; ++k) {
        ASSERT_NEAR(at(*r, "L1.i", static_cast<double>(k * T)), static_cast<double>(i), 1e-8) << "period " << k;
        ASSERT_NEAR(at(*r, "out.v", static_cast<double>(k * T)), static_cast<double>(v), 1e-8) << "period " << k;
        propagate(V, i, v, D * T);
        Real rest = (1 - D) * T, iEnd = i, vEnd = v;
        propagate(0, iEnd, vEnd, rest);
        if (iEnd < 0) {
            ++discontinuous;
            Real low = 0, high = rest;
            for (int n = 0; n < 200; ++n) {
                const Real middle = (low + high) / 2;
                Real im = i, vm = v;
                propagate(0, im, vm, middle);
                (im > 0 ? low : high) = middle;
            }
            propagate(0, i, v, low);
            i = 0;
            v *= std::exp(-(rest - low) / (R * C));
        } else {
            i = iEnd, v = vEnd;
        }
    }
    EXPECT_GT(discontinuous, 10);
    EXPECT_LT(discontinuous, 200);
}

// Step-up in discontinuous conduction at a fixed output: the diode conducts for D V/(Vo - V) T.
TEST(StepUp, DiscontinuousConduction) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("inductor", "L1", {"in", "sw"}, {{"l", "10u"}})
        .add("switch", "S1", {"sw", "0", "g"})
        .add("diode", "D1", {"sw", "out"})
        .add("dc-voltage", "V2", {"out", "0"}, {{"level", "80"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "100k"}, {"duty", "0.5"}})
        .plan("200u");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double period = 1e-5, peak = 24 * 0.5 * period / 10e-6, fall = peak * 10e-6 / (80 - 24);
    const Measures m = measures(*r, "L1.i", 5 * period, 15 * period);
    EXPECT_RELATIVE(m.max, peak, 1e-9);
    EXPECT_RELATIVE(m.mean, peak * (0.5 * period + fall) / 2 / period, 1e-9);
    // All that the source delivers is burnt or stored: here, all goes to the output.
    EXPECT_RELATIVE(measures(*r, "V1.p", 5 * period, 15 * period).mean,
                    -measures(*r, "V2.p", 5 * period, 15 * period).mean, 1e-10);
}

// Synchronous stage with dead time: while both gates are off the diode carries the current.
TEST(StepDown, DeadTimeHandsTheCurrentToTheDiode) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "80"}})
        .add("switch", "S1", {"in", "sw", "g"})
        .add("switch", "S2", {"sw", "0", "n"})
        .add("diode", "D1", {"sw", "in"})
        .add("diode", "D2", {"0", "sw"})
        .add("modulator", "M1", {"", "g", "n"}, {{"f", "150k"}, {"duty", "0.3"}, {"dead", "100n"}})
        .add("inductor", "L1", {"sw", "out"}, {{"l", "22u"}, {"i0", "10"}})
        .add("dc-voltage", "V2", {"out", "0"}, {{"level", "23"}})
        .plan("100u");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double period = 1 / 150e3;
    EXPECT_EQ(at(*r, "D2.on", 3.3 * period + 50e-9), 1.0);
    EXPECT_NEAR(at(*r, "D2.i", 3.3 * period + 50e-9), at(*r, "L1.i", 3.3 * period + 50e-9), 1e-9);
    EXPECT_EQ(at(*r, "D2.on", 3.5 * period), 0.0) << "a closed switch beside it carries all of the current";
    EXPECT_NEAR(at(*r, "S2.i", 3.5 * period), -at(*r, "L1.i", 3.5 * period), 1e-9);
    // The node is at 0 V from the end of the gate to the end of the dead time before the next one: duty shrinks by the
    // dead time.
    EXPECT_RELATIVE(measures(*r, "sw.v", 2 * period, 12 * period).mean, 80 * (0.3 - 100e-9 / period), 1e-9);
}
