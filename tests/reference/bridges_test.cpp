// Bridges: several diodes and switches that commutate together.

#include <cmath>
#include <numbers>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

constexpr double pi = std::numbers::pi;

/// Three star-connected sources, 120 degrees apart.
Circuit threePhase(int rung, const std::string& inductance) {
    Circuit c;
    const char* phases[] = {"0", "-120", "120"};
    for (int i = 0; i < 3; ++i) {
        const std::string id = std::to_string(i + 1);
        c.add("sine-voltage", "V" + id, {"p" + id, "n"},
              {{"peak", "325"}, {"phase", phases[i]}, {"ri", "0"}, {"li", inductance}}, rung);
        c.add("diode", "DU" + id, {"p" + id, "out"}).add("diode", "DL" + id, {"0", "p" + id});
    }
    c.add("inductor", "L1", {"out", "a"}, {{"l", "1"}, {"i0", "20"}})
        .add("resistor", "R1", {"a", "0"}, {{"r", "26.9"}});
    return c;
}

}  // namespace

// Six-pulse rectifier without overlap: mean 3 sqrt(3) V / pi.
TEST(SixPulse, MeanWithoutOverlap) {
    Circuit c = threePhase(1, "0");
    c.plan("60m", "1e-5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_RELATIVE(measures(*r, "out.v", 20e-3, 60e-3).mean, 3 * std::sqrt(3.0) * 325 / pi, 1e-5);
    // Between two commutations the output is the largest line-to-line voltage.
    const auto out = r->trace("out.v");
    for (std::size_t i = 0; i < out->size(); i += 5) {
        const double w = 2 * pi * 50 * toSeconds(out->time(i));
        const double a = 325 * std::sin(w), b = 325 * std::sin(w - 2 * pi / 3), d = 325 * std::sin(w + 2 * pi / 3);
        ASSERT_NEAR(out->value(i), std::max({a, b, d}) - std::min({a, b, d}), 1e-6) << toSeconds(out->time(i));
    }
    EXPECT_EQ(edges(*r, "DU1.on").size(), 6u) << "once on and once off a cycle";
}

// With source inductance the valves overlap: the mean drops by 3 w L I / pi (N. Mohan et al., Power Electronics, ch.
// 5).
TEST(SixPulse, OverlapLowersTheMean) {
    Circuit c = threePhase(2, "1m");
    c.plan("200m", "1e-5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double current = measures(*r, "L1.i", 180e-3, 200e-3).mean;
    EXPECT_RELATIVE(measures(*r, "out.v", 180e-3, 200e-3).mean,
                    3 * std::sqrt(3.0) * 325 / pi - 3 * 50 * 2 * 1e-3 * current, 1e-3);
}

// Single-phase bridge of switches with diodes across, square-wave operated, into RL: the steady current of a square
// wave is I (1 - 2 exp(-t/tau) / (1 + exp(-T/2tau))).
TEST(SwitchedBridge, SquareWaveIntoResistorInductor) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "1k"}, {"duty", "0.5"}});
    const char* gates[] = {"g", "h", "h", "g"};
    const char* upper[] = {"in", "a", "in", "b"};
    const char* lower[] = {"a", "0", "b", "0"};
    for (int i = 0; i < 4; ++i) {
        const std::string id = std::to_string(i + 1);
        c.add("switch", "S" + id, {upper[i], lower[i], gates[i]}).add("diode", "D" + id, {lower[i], upper[i]});
    }
    c.add("resistor", "R1", {"a", "m"}, {{"r", "10"}})
        .add("inductor", "L1", {"m", "b"}, {{"l", "5m"}})
        .plan("20m", "1e-4");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double tau = 5e-3 / 10, half = 0.5e-3;
    const double peak = 10 * std::tanh(half / (2 * tau));
    // After 19 periods exp(-38) of the start is left.
    EXPECT_NEAR(at(*r, "L1.i", 19e-3), -peak, 1e-9);
    EXPECT_NEAR(at(*r, "L1.i", 19.5e-3), peak, 1e-9);
    // A closed switch carries both ways: the diode beside it stays out of it.
    EXPECT_EQ(at(*r, "D1.on", 19.1e-3), 0.0);
    EXPECT_NEAR(at(*r, "S1.i", 19.1e-3), at(*r, "L1.i", 19.1e-3), 1e-9);
}

// The same bridge with dead time: in it the current goes through the diodes back into the source.
TEST(SwitchedBridge, DeadTimeReturnsTheCurrentToTheSource) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "1k"}, {"duty", "0.5"}, {"dead", "20u"}});
    c.add("switch", "S1", {"in", "a", "g"})
        .add("switch", "S2", {"a", "0", "h"})
        .add("switch", "S3", {"in", "b", "h"})
        .add("switch", "S4", {"b", "0", "g"});
    c.add("diode", "D1", {"a", "in"})
        .add("diode", "D2", {"0", "a"})
        .add("diode", "D3", {"b", "in"})
        .add("diode", "D4", {"0", "b"});
    c.add("inductor", "L1", {"a", "b"}, {{"l", "5m"}, {"i0", "4"}}).plan("3m", "1e-4");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    // Within the first dead time 4 A flow from 0 through D2, L1 and D3 into the source.
    EXPECT_EQ(at(*r, "D2.on", 10e-6), 1.0);
    EXPECT_EQ(at(*r, "D3.on", 10e-6), 1.0);
    EXPECT_NEAR(at(*r, "V1.i", 10e-6), 4 - 100 / 5e-3 * 10e-6, 1e-9);
}
