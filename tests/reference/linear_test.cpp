// Linear circuits against closed forms.

#include <cmath>
#include <numbers>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

constexpr double pi = std::numbers::pi;

// Values at stored points are exact; `at` between points is on a chord, so instants are taken from the trace.
template <class Expected>
void expectAtPoints(const Run& run, const std::string& quantity, Expected expected, double relative, double floor) {
    const auto trace = run.trace(quantity);
    ASSERT_TRUE(trace);
    ASSERT_GT(trace->size(), 10u);
    for (std::size_t i = 0; i < trace->size(); ++i) {
        const double wanted = expected(toSeconds(trace->time(i)));
        ASSERT_NEAR(trace->value(i), wanted, relative * std::abs(wanted) + floor)
            << quantity << " at " << toSeconds(trace->time(i));
    }
}

}  // namespace

// v(t) = V + (v0 - V) exp(-t/RC)
TEST(Linear, ResistorCapacitorChargesExponentially) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "out"}, {{"r", "1k"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}, {"v0", "2"}})
        .plan("5m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    expectAtPoints(
        *r, "out.v", [](double t) { return 10 - 8 * std::exp(-t / 1e-3); }, 1e-12, 0);
    expectAtPoints(
        *r, "C1.i", [](double t) { return 8e-3 * std::exp(-t / 1e-3); }, 1e-11, 1e-16);
}

// Underdamped series RLC: i = V/(w L) exp(-a t) sin(w t), a = R/2L, w = sqrt(1/LC - a^2).
TEST(Linear, SeriesResonanceRings) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "a"}, {{"r", "2"}})
        .add("inductor", "L1", {"a", "b"}, {{"l", "100u"}})
        .add("capacitor", "C1", {"b", "0"}, {{"c", "1u"}})
        .plan("400u");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double a = 2 / (2 * 100e-6), w = std::sqrt(1 / (100e-6 * 1e-6) - a * a);
    expectAtPoints(
        *r, "L1.i", [&](double t) { return 10 / (w * 100e-6) * std::exp(-a * t) * std::sin(w * t); }, 1e-9, 1e-12);
    expectAtPoints(
        *r, "b.v", [&](double t) { return 10 - 10 * std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t)); },
        1e-9, 1e-11);
}

// A switch that opens leaves the LC ringing from the state it had: v = -I Z sin(w t) exp(...), with two closed forms
// joined.
TEST(Linear, SwitchReleaseStartsFromTheStateItLeft) {
    Circuit c;
    // Until 50 us the source drives L through S1; then L rings into C, which was held at 0 by nothing but its own
    // charge.
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "12"}})
        .add("switch", "S1", {"in", "a", "g"})
        .add("pulse-voltage", "VX", {"x", "0"}, {{"high", "1"}})
        .add("resistor", "RX", {"x", "0"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "1k"}, {"duty", "0.05"}})
        .add("inductor", "L1", {"a", "0"}, {{"l", "100u"}})
        .add("capacitor", "C1", {"a", "0"}, {{"c", "10u"}, {"v0", "12"}})
        .add("resistor", "R1", {"a", "0"}, {{"r", "20"}})
        .plan("800u");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double current = 12 * 50e-6 / 100e-6;  // 6 A at release
    const double a = 1 / (2 * 20 * 10e-6), w = std::sqrt(1 / (100e-6 * 10e-6) - a * a);
    // C v' = -v/R - i, L i' = v; v(0) = 12, i(0) = 6: v'(0) = -(12/20 + 6)/C.
    const double slope = -(12 / 20.0 + current) / 10e-6;
    const auto expected = [&](double t) {
        if (t <= 50e-6) return 12.0;
        const double s = t - 50e-6;
        return std::exp(-a * s) * (12 * std::cos(w * s) + (slope + a * 12) / w * std::sin(w * s));
    };
    expectAtPoints(*r, "a.v", expected, 1e-9, 1e-10);
}

// Steady amplitude and phase of an RL on a sine, from phasors, plus the decaying offset.
TEST(Linear, SineIntoResistorInductor) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "325"}, {"f", "50"}, {"phase", "30"}})
        .add("resistor", "R1", {"in", "a"}, {{"r", "10"}})
        .add("inductor", "L1", {"a", "0"}, {{"l", "20m"}})
        .plan("100m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double w = 2 * pi * 50, z = std::hypot(10, w * 20e-3), lag = std::atan2(w * 20e-3, 10), phase = pi / 6;
    expectAtPoints(
        *r, "L1.i",
        [&](double t) {
            return 325 / z * (std::sin(w * t + phase - lag) - std::sin(phase - lag) * std::exp(-t * 10 / 20e-3));
        },
        1e-9, 1e-11);
    // RMS of a sine is peak / sqrt(2); the chords of the stored trace cost up to their tolerance.
    EXPECT_RELATIVE(measures(*r, "in.v", 0, 0.1).rms, 325 / std::sqrt(2.0), 3e-4);
}

// A trapezoid into a resistor: the corners are exact instants.
TEST(Linear, PulseHasExactCorners) {
    Circuit c;
    c.add("pulse-current", "I1", {"0", "out"},
          {{"low", "1"},
           {"high", "3"},
           {"f", "10k"},
           {"duty", "0.4"},
           {"rise", "5u"},
           {"fall", "10u"},
           {"delay", "20u"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "2"}})
        .plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_DOUBLE_EQ(at(*r, "out.v", 10e-6), 2.0);
    EXPECT_NEAR(at(*r, "out.v", 22.5e-6), 4.0, 1e-9);
    EXPECT_NEAR(at(*r, "out.v", 40e-6), 6.0, 1e-12);
    EXPECT_NEAR(at(*r, "out.v", 65e-6), 4.0, 1e-9);
    EXPECT_NEAR(at(*r, "out.v", 920e-6 + 2.5e-6), 4.0, 1e-9);
    // mean = low + swing * (duty T + (fall - rise)/2) / T
    EXPECT_RELATIVE(measures(*r, "I1.i", 20e-6, 820e-6).mean, 1 + 2 * (0.4 + 2.5e-6 / 100e-6), 1e-12);
}

// One rung up: losses of every passive against hand-written equations.
TEST(Linear, LossyRungsSolveTheirOwnEquations) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}, {"ri", "0.5"}, {"li", "0"}}, 2)
        .add("inductor", "L1", {"in", "a"}, {{"l", "1m"}, {"dcr", "0.5"}, {"rc", "1G"}}, 2)
        .add("resistor", "R1", {"a", "0"}, {{"r", "4"}})
        .plan("20m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    expectAtPoints(
        *r, "L1.i", [](double t) { return 2 * (1 - std::exp(-t * 5 / 1e-3)); }, 1e-7, 1e-8);
    Circuit d;
    d.add("dc-current", "I1", {"0", "a"}, {{"level", "2"}})
        .add("capacitor", "C1", {"a", "0"}, {{"c", "100u"}, {"esr", "0.1"}, {"rp", "50"}}, 2)
        .plan("30m");
    const auto s = run(d);
    ASSERT_TRUE(s);
    // C x' = 2 - x/50
    expectAtPoints(
        *s, "a.v", [](double t) { return 0.2 + 100 * (1 - std::exp(-t / (50 * 100e-6))); }, 1e-12, 0);
}

// Voltage source behind an inductance feeding a resistor.
TEST(Linear, SourceInductanceIsAState) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}, {"ri", "1"}, {"li", "10u"}}, 2)
        .add("resistor", "R1", {"in", "0"}, {{"r", "3"}})
        .plan("20u");
    const auto r = run(c);
    ASSERT_TRUE(r);
    expectAtPoints(
        *r, "R1.i", [](double t) { return 6 * (1 - std::exp(-t * 4 / 10e-6)); }, 1e-11, 1e-14);
}

// Energy of a lossless LC stays: 10,000 oscillations.
TEST(Linear, LosslessResonanceKeepsItsEnergy) {
    Circuit c;
    c.add("inductor", "L1", {"a", "0"}, {{"l", "10u"}, {"i0", "1"}})
        .add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}})
        .plan("0.1987", "1e-2");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto current = r->trace("L1.i"), voltage = r->trace("a.v");
    const std::size_t last = current->size() - 1;
    const double energy =
        0.5 * 10e-6 * std::pow(current->value(last), 2) + 0.5 * 1e-6 * std::pow(voltage->value(last), 2);
    EXPECT_RELATIVE(energy, 0.5 * 10e-6, 1e-9);
}
