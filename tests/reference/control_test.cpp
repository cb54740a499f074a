// Closed loops, modulators and tasks against exact discrete solutions and closed forms.

#include <unistd.h>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <numbers>

#include <gtest/gtest.h>

#include "model/modules.h"
#include "model/quantity.h"
#include "network/advice.h"
#include "analysis/observations.h"
#include "runs/registry.h"
#include "runs/state_file.h"
#include "analysis/stress.h"
#include "support/circuit.h"
#include "traces/spectrum.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

constexpr double pi = std::numbers::pi;

/// A sheet with nothing but signals on it.
Circuit signals() {
    Circuit c;
    c.project().sheet() = {};
    return c;
}

/// A source that follows net "u" feeds R = 1 kohm and C = 1 uF: one time constant of 1 ms at net "out".
Circuit& plant(Circuit& c) {
    return c.add("signal-voltage", "E1", {"in", "0", "u"})
        .add("resistor", "R1", {"in", "out"}, {{"r", "1k"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}})
        .add("probe", "P1", {"m"}, {{"of", "out.v"}});
}

/// The source runs off the rails of a series R-L load, which a leg of two switches feeds: its gate is net "q".
Circuit& chopper(Circuit& c) {
    return c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
        .add("switch", "S1", {"in", "sw", "q"})
        .add("diode", "D1", {"0", "sw"})
        .add("inductor", "L1", {"sw", "x"}, {{"l", "1m"}})
        .add("dc-voltage", "V2", {"x", "0"}, {{"level", "40"}})
        .add("probe", "P1", {"m"}, {{"of", "L1.i"}});
}

}  // namespace

// The plant between samples is v' = (u - v)/tau, exactly v_{k+1} = a v_k + (1 - a) u; the regulator is a sum.
TEST(SampledLoop, AgreesWithTheExactDifferenceEquation) {
    for (const bool late : {false, true}) {
        Circuit c;
        plant(c)
            .add("constant", "K1", {"ref"}, {{"value", "5"}})
            .add("sum", "SUM1", {"ref", "m", "", "e"}, {{"task", "T1"}})
            .add("pi", "REG1", {"e", "", "", "u"},
                 {{"kp", "0.8"}, {"ki", "900"}, {"low", "-100"}, {"high", "100"}, {"task", "T1"}})
            .add("task", "T1", {}, {{"period", "200u"}, {"delay", late ? "200u" : "0"}})
            .plan("8m", "1e-6");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        const double a = std::exp(-0.2), period = 200e-6;
        double v = 0, x = 0, waiting = 0;
        for (int k = 0; k < 39; ++k) {
            EXPECT_NEAR(at(*r, "out.v", k * period), v, 1e-9 * 5) << k;
            const double e = 5 - v;
            x += 900 * period * e;
            const double fresh = 0.8 * e + x, u = late ? waiting : fresh;
            waiting = fresh;
            EXPECT_NEAR(at(*r, "REG1.y", k * period), u, 1e-9 * 5) << k;
            v = a * v + (1 - a) * u;
        }
    }
}

// A loop that has settled starts settled from its stored end: the regulator remembers, code and delays too.
TEST(SampledLoop, StartsFromItsStoredEnd) {
    Circuit c;
    plant(c)
        .add("constant", "K1", {"ref"}, {{"value", "5"}})
        .add("sum", "SUM1", {"ref", "m", "", "e"}, {{"task", "T1"}})
        .add("pi", "REG1", {"e", "", "", "r"},
             {{"kp", "0.5"}, {"ki", "600"}, {"low", "-100"}, {"high", "100"}, {"task", "T1"}})
        .add("unit-delay", "Z1", {"r", "d"}, {{"task", "T1"}})
        .add("code", "CODE1", {"d", "", "", "", "u", "", "", ""},
             {{"code",
               "VAR_INPUT x : LREAL; END_VAR VAR_OUTPUT y : LREAL; END_VAR VAR n : LREAL; END_VAR n := n + 1; y := x;"},
              {"task", "T1"}})
        .add("task", "T1", {}, {{"period", "200u"}})
        .plan("60m", "1e-6");
    const auto first = run(c);
    ASSERT_TRUE(first);
    ASSERT_EQ(first->summary().end, RunEnd::finished) << first->summary().brief();
    const auto path = std::filesystem::temp_directory_path() / ("hedgerow_end_" + std::to_string(::getpid()) + ".json");
    ASSERT_TRUE(writeStates(path, first->summary().snapshot));
    c.project().folder.moveTo(path.parent_path());
    c.project().plans.front().start = path.filename().string();
    c.project().plans.front().end = "5m";
    const auto again = run(c);
    ASSERT_TRUE(again);
    ASSERT_EQ(again->summary().end, RunEnd::finished) << again->summary().brief();
    const Measures m = measures(*again, "out.v", 0, 5e-3);
    EXPECT_NEAR(m.min, 5, 1e-5);
    EXPECT_NEAR(m.max, 5, 1e-5);
    EXPECT_NEAR(at(*again, "CODE1.n", 1e-5), at(*first, "CODE1.n", 59.95e-3) + 1, 1.5) << "it goes on counting";
    // What is no memory of this control is left aside, what is no memory at all is refused.
    std::ofstream(path)
        << R"({"hedgerow-state": 2, "time": 0, "states": [], "control": {"T1": {"outputs": ["number", 7, 1]}}})";
    EXPECT_TRUE(run(c));
    std::ofstream(path) << R"({"hedgerow-state": 2, "time": 0, "states": [], "control": {"T1": 7}})";
    EXPECT_FALSE(Run::prepare(std::make_shared<Project>(c.project())));
    std::filesystem::remove(path);
}

// tau v' = u - v, u = kp (r - v) + x, x' = ki (r - v): a system of second order in closed form.
TEST(RunningLoop, AgreesWithTheClosedForm) {
    Circuit c;
    plant(c)
        .add("constant", "K1", {"ref"}, {{"value", "1"}})
        .add("sum", "SUM1", {"ref", "m", "", "e"})
        .add("pi", "REG1", {"e", "", "", "u"}, {{"kp", "1"}, {"ki", "4k"}, {"low", "-100"}, {"high", "100"}})
        .plan("6m", "1e-7");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_EQ(r->summary().engine, "exact");
    // s^2 + (1 + kp)/tau s + ki/tau: damping 1000/s, natural 2000 rad/s; v = 1 - e^{-at}(cos wt + b sin wt).
    const double damping = 1000, w = std::sqrt(4e6 - damping * damping);
    for (double t = 50e-6; t < 6e-3; t += 370e-6) {
        // v'(0) = kp/tau = 1000, so that b = (damping - 1000)/w = 0.
        const double v = 1 - std::exp(-damping * t) * (std::cos(w * t) + (damping - 1000) / w * std::sin(w * t));
        EXPECT_NEAR(at(*r, "out.v", t), v, 2e-6) << t;  // the trace tolerance
    }
}

// The integral of a regulator at its limit does not wind up: it leaves the limit as soon as the error turns.
TEST(RunningLoop, IntegralStopsAtTheLimits) {
    Circuit c = signals();
    c.add("signal-step", "K1", {"e"}, {{"before", "1"}, {"after", "-1"}, {"at", "10m"}})
        .add("pi", "REG1", {"e", "", "", "y"}, {{"kp", "0.1"}, {"ki", "1k"}, {"low", "0"}, {"high", "1"}})
        .plan("12m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_NEAR(at(*r, "REG1.y", 0.5e-3), 0.6, 1e-9);
    EXPECT_NEAR(at(*r, "REG1.y", 5e-3), 1.0, 1e-9);
    EXPECT_NEAR(at(*r, "REG1.y", 10.5e-3), 1 - 0.1 - 0.5, 1e-9);
    EXPECT_NEAR(at(*r, "REG1.y", 11.5e-3), 0.0, 1e-9);
}

// Hysteretic control: the current runs between ref - h/2 and ref + h/2, up by (V - E)/L, down by E/L.
TEST(Comparator, HystereticControlHasItsPeriod) {
    Circuit c;
    chopper(c)
        .add("constant", "K1", {"ref"}, {{"value", "10"}})
        .add("comparator", "CMP1", {"ref", "m", "q"}, {{"hysteresis", "2"}})
        .plan("3m", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const auto switching = edges(*r, "CMP1.q");
    ASSERT_GT(switching.size(), 30u);
    const double up = 2 * 1e-3 / 60, down = 2 * 1e-3 / 40;
    EXPECT_RELATIVE(switching[12] - switching[10], up + down, 1e-9);
    const Measures m = measures(*r, "L1.i", 1e-3, 3e-3);
    EXPECT_NEAR(m.max, 11, 1e-8);
    EXPECT_NEAR(m.min, 9, 1e-8);
}

// Peak-current control: set by a clock, reset where the current meets the reference less the slope compensation.
TEST(Comparator, PeakCurrentControlMeetsItsReference) {
    Circuit c;
    chopper(c)
        .add("modulator", "M1", {"", "clock", ""}, {{"f", "10k"}, {"duty", "0.01"}})
        .add("constant", "K1", {"peak"}, {{"value", "10"}})
        .add("carrier", "K2", {"slope"}, {{"f", "10k"}, {"high", "5"}})
        .add("sum", "SUM1", {"peak", "slope", "", "limit"})
        .add("comparator", "CMP1", {"m", "limit", "reset"})
        .add("latch", "FF1", {"clock", "reset", "q", ""})
        .plan("8m", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    // Duty 0.4 by the volt-seconds; the current is reset at 10 - 5 * 0.4 and ripples by 0.6 V L^-1 D T.
    const double ripple = 60.0 / 1e-3 * 0.4 * 100e-6;
    const Measures m = measures(*r, "L1.i", 7e-3, 8e-3);
    EXPECT_NEAR(m.max, 8.0, 1e-6);
    EXPECT_NEAR(m.min, 8.0 - ripple, 1e-6);
    const auto gate = edges(*r, "FF1.q");
    EXPECT_NEAR(gate[gate.size() - 1] - gate[gate.size() - 3], 100e-6, 1e-10);
}

// Natural sampling of a sine by a triangle. D. G. Holmes, T. A. Lipo, Pulse Width Modulation for Power Converters,
// 2003, (3.39): besides the fundamental M/2 there is, at m times the carrier plus n times the fundamental, 2/(pi m)
// J_n(m pi M/2) sin((m + n) pi/2), here for pulses between 0 and 1.
TEST(Modulator, NaturalSamplingHasTheSpectrumOfBessel) {
    Circuit c = signals();
    c.add("signal-sine", "K1", {"d"}, {{"peak", "0.4"}, {"offset", "0.5"}, {"f", "50"}})
        .add("modulator", "M1", {"d", "g", "n"}, {{"f", "1050"}, {"carrier", "triangle"}, {"sampling", "all the time"}})
        .plan("40m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const auto g = r->trace("M1.g");
    const auto h = harmonics(*g, 0, toTicks(40e-3), 50, 50);
    ASSERT_TRUE(h);
    const double depth = 0.8;
    EXPECT_NEAR(h->peak(1), depth / 2, 1e-9);
    EXPECT_NEAR(h->mean, 0.5, 1e-9);
    for (int m = 1; m <= 2; ++m)
        for (int n = -6; n <= 6; ++n) {
            if ((m + n) % 2 == 0 || 21 * m + n > 50) continue;
            // Sidebands of one group do not meet those of another here but in the last digits.
            const double expected = 2 / (pi * m) * std::abs(std::cyl_bessel_j(std::abs(n), m * pi * depth / 2));
            EXPECT_NEAR(h->peak(21 * m + n), expected, 2e-6) << m << " " << n;
        }
}

// Symmetrical regular sampling, once a period: (Holmes, Lipo, (3.73)), with q = m + n f0/fc, for pulses between 0 and
// 1: 2/(pi q) J_n(q pi M/2) sin((q + n) pi/2).
TEST(Modulator, RegularSamplingHasTheSpectrumOfBessel) {
    Circuit c = signals();
    c.add("signal-sine", "K1", {"d"}, {{"peak", "0.4"}, {"offset", "0.5"}, {"f", "50"}})
        .add("modulator", "M1", {"d", "g", "n"},
             {{"f", "1050"}, {"carrier", "triangle"}, {"sampling", "once a period"}})
        .plan("60m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto h = harmonics(*r->trace("M1.g"), toTicks(20e-3), toTicks(60e-3), 50, 50);
    ASSERT_TRUE(h);
    const double depth = 0.8;
    const auto expected = [&](int m, int n) {
        const double q = m + n / 21.0;
        const double bessel = std::cyl_bessel_j(std::abs(n), std::abs(q) * pi * depth / 2);
        return std::abs(2 / (pi * q) * bessel * std::sin((q + n) * pi / 2));
    };
    for (int n = 1; n <= 3; ++n) EXPECT_NEAR(h->peak(n), expected(0, n), 1e-6) << n;
    for (int m = 1; m <= 2; ++m)
        for (int n = -4; n <= 4; ++n) {
            if (21 * m + n > 50) continue;
            EXPECT_NEAR(h->peak(21 * m + n), expected(m, n), 2e-5) << m << " " << n;
        }
}

TEST(Modulator, RegularSamplingFollowsItsReferenceAtItsSamples) {
    for (const char* sampling : {"once a period", "twice a period"}) {
        Circuit c = signals();
        c.add("signal-sine", "K1", {"d"}, {{"peak", "0.4"}, {"offset", "0.5"}, {"f", "50"}})
            .add("modulator", "M1", {"d", "g", "n"},
                 {{"f", "1k"}, {"carrier", "triangle"}, {"sampling", sampling}, {"dead", "10u"}})
            .plan("20m");
        const auto r = run(c);
        ASSERT_TRUE(r);
        const auto g = edges(*r, "M1.g"), n = edges(*r, "M1.n");
        const bool twice = sampling[0] == 't';
        const auto duty = [](double t) { return 0.5 + 0.4 * std::sin(2 * pi * 50 * t); };
        // Each pulse of g begins (1 - d)/2 into the period, late by the dead time, and ends (1 + d)/2 into it.
        ASSERT_GE(g.size(), 38u);
        for (int k = 0; k < 19; ++k) {
            const double start = k * 1e-3, first = duty(start), second = duty(twice ? start + 0.5e-3 : start);
            EXPECT_NEAR(g[2 * static_cast<std::size_t>(k)], start + (1 - first) / 2 * 1e-3 + 10e-6, 1e-12) << k;
            EXPECT_NEAR(g[2 * static_cast<std::size_t>(k) + 1], start + (1 + second) / 2 * 1e-3, 1e-12) << k;
        }
        // Both are off for the dead time around every edge.
        for (const double edge : g) {
            bool found = false;
            for (const double other : n) found = found || std::abs(std::abs(edge - other) - 10e-6) < 1e-12;
            EXPECT_TRUE(found) << edge;
        }
    }
}

TEST(Modulator, ShortPulsesDoNotComeAndCountersHaveSteps) {
    Circuit c = signals();
    c.add("constant", "K1", {"a"}, {{"value", "0.004"}})
        .add("constant", "K2", {"b"}, {{"value", "0.3172"}})
        .add("modulator", "M1", {"a", "g", ""}, {{"f", "10k"}, {"sampling", "once a period"}, {"shortest", "1u"}})
        .add("modulator", "M2", {"b", "h", ""}, {{"f", "10k"}, {"sampling", "once a period"}, {"steps", "100"}})
        .plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_EQ(measures(*r, "M1.g", 0, 1e-3).max, 0);
    const auto h = edges(*r, "M2.g");
    ASSERT_GT(h.size(), 4u);
    EXPECT_NEAR(measures(*r, "M2.g", 0, 1e-3).mean, 0.32, 1e-12);
}

// The space vector adds -(min + max)/2: the phase-to-phase fundamental of a depth of 2/sqrt(3) is still that of the
// references; clamping at the peaks keeps one leg still at any time.
TEST(Modulator3, CommonSharesLeaveTheVoltagesBetweenPhases) {
    for (const char* common :
         {"nothing", "space vector", "third harmonic", "clamped at peaks", "clamped high", "clamped low"}) {
        const double depth = std::string(common) == "nothing" ? 0.9 : 1.1;
        Circuit c = signals();
        for (int k = 0; k < 3; ++k)
            c.add("signal-sine", "K" + std::to_string(k), {std::string(1, static_cast<char>('a' + k))},
                  {{"peak", std::to_string(depth)}, {"f", "50"}, {"phase", std::to_string(-120 * k)}});
        c.add("modulator3", "M1", {"a", "b", "c", "", "", "", "", "", ""}, {{"f", "9k"}, {"common", common}})
            .plan("40m");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished);
        const auto a = harmonics(*r->trace("M1.ga"), toTicks(20e-3), toTicks(40e-3), 50, 3);
        const auto b = harmonics(*r->trace("M1.gb"), toTicks(20e-3), toTicks(40e-3), 50, 3);
        ASSERT_TRUE(a && b);
        // Sampled 360 times a period: the sample and hold takes (pi/360)^2/6 of it, 1.3e-5.
        EXPECT_RELATIVE(std::abs(a->peaks[0] - b->peaks[0]), std::sqrt(3.0) * depth / 2, 1e-4) << common;
        const bool clamps = std::string(common).starts_with("clamped");
        // 360 edges in 20 ms from 180 carrier periods; clamping saves a third.
        const auto list = edges(*r, "M1.ga");
        const auto count = std::count_if(list.begin(), list.end(), [](double t) { return t >= 20e-3; });
        EXPECT_NEAR(static_cast<double>(count), clamps ? 240 : 360, 6) << common;
    }
}

TEST(ModulatorLevels, StackedCarriersShareTheRange) {
    for (const char* how : {"shifted in time", "stacked", "stacked, halves opposed", "stacked, neighbours opposed"}) {
        Circuit c = signals();
        c.add("signal-sine", "K1", {"u"}, {{"peak", "0.9"}, {"f", "50"}})
            .add("modulator-levels", "M1", {"u", "", "", "", "", "", "", "", ""},
                 {{"f", "5k"}, {"cells", "4"}, {"carriers", how}})
            .plan("40m");
        const auto r = run(c);
        ASSERT_TRUE(r);
        std::complex<double> sum = 0;
        double mean = 0;
        for (int k = 1; k <= 4; ++k) {
            const auto h = harmonics(*r->trace("M1.g" + std::to_string(k)), toTicks(20e-3), toTicks(40e-3), 50, 1);
            ASSERT_TRUE(h);
            sum += h->peaks[0];
            mean += h->mean;
        }
        EXPECT_RELATIVE(std::abs(sum) / 2, 0.9, 1e-4) << how;  // four cells of 0 to 1 for -1 to 1
        EXPECT_NEAR(mean, 2, 1e-6) << how;
    }
}

TEST(ModulatorShift, TheSecondLegIsLate) {
    Circuit c = signals();
    c.add("constant", "K1", {"u"}, {{"value", "0.6"}})
        .add("modulator-shift", "M1", {"u", "a", "", "b", ""}, {{"f", "100k"}})
        .add("constant", "K2", {"f"}, {{"value", "80k"}})
        .add("modulator-frequency", "M2", {"f", "c", ""}, {{"fmin", "50k"}, {"fmax", "200k"}, {"dead", "100n"}})
        .plan("200u");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto a = edges(*r, "M1.ga"), b = edges(*r, "M1.gb"), f = edges(*r, "M2.g");
    ASSERT_GT(f.size(), 8u);
    EXPECT_NEAR(f[6] - f[4], 12.5e-6, 1e-14);
    EXPECT_NEAR(f[5] - f[4], 6.25e-6 - 100e-9, 1e-14);
    for (const double edge : {b[3], b[4]}) {
        double nearest = 1;
        for (const double other : a) nearest = std::min(nearest, std::abs(edge - other - 3e-6));
        EXPECT_LT(nearest, 1e-14);
    }
}

// A thyristor behind a resistor on a sine: the mean voltage of half-wave phase control is û (1 + cos alpha)/(2 pi).
TEST(Firing, TheMeanVoltageFollowsTheAngle) {
    for (const double alpha : {30.0, 90.0, 135.0}) {
        Circuit c;
        c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "100"}, {"f", "50"}})
            .add("probe", "P1", {"m"}, {{"of", "in.v"}})
            .add("comparator", "CMP1", {"m", "", "sync"})
            .add("constant", "K1", {"alpha"}, {{"value", std::to_string(alpha)}})
            .add("firing2", "FA1", {"alpha", "sync", "g", ""}, {{"width", "20"}})
            .add("thyristor", "T1", {"in", "out", "g"})
            .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
            .plan("60m", "1e-6");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        const auto h = harmonics(*r->trace("out.v"), toTicks(20e-3), toTicks(60e-3), 50, 1);
        ASSERT_TRUE(h);
        EXPECT_RELATIVE(h->mean, 100 * (1 + std::cos(alpha * pi / 180)) / (2 * pi), 1e-4) << alpha;
    }
}

// A phase jump of the three phases: the loop answers by its linear model, phi'' + 2 zeta wn phi' + wn^2 phi = 0 of the
// phase error, as long as the jump is small: sin phi differs from phi by phi^2/6.
TEST(PhaseLock, AnswersAJumpByItsLinearModel) {
    const double jump = 0.02, natural = 2 * pi * 20, zeta = std::numbers::sqrt2 / 2;
    Circuit c;
    for (int k = 0; k < 3; ++k)
        c.add("sine-voltage", "V" + std::to_string(k), {"v" + std::to_string(k), "0"},
              {{"peak", "325"}, {"f", "50"}, {"phase", std::to_string(90 - 120 * k + jump * 180 / pi)}})
            .add("resistor", "R" + std::to_string(k), {"v" + std::to_string(k), "0"}, {{"r", "1k"}})
            .add("probe", "P" + std::to_string(k), {"m" + std::to_string(k)}, {{"of", "v" + std::to_string(k) + ".v"}});
    c.add("pll3", "PLL1", {"m0", "m1", "m2", "", "", "", ""},
          {{"peak", "325"}, {"damping", std::to_string(zeta)}, {"task", "T1"}})
        .add("task", "T1", {}, {{"period", "10u"}})
        .plan("60m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double w = natural * std::sqrt(1 - zeta * zeta);
    for (double t = 1e-3; t < 55e-3; t += 2.7e-3) {
        // phi(0) = jump, phi'(0) = -2 zeta wn jump by the proportional share.
        const double phi =
            jump * std::exp(-zeta * natural * t) * (std::cos(w * t) - zeta * natural / w * std::sin(w * t));
        EXPECT_NEAR(at(*r, "PLL1.q", t) / 325, phi, 0.02 * jump) << t;  // 10 us of 8 ms, and the hold of a sample
    }
    EXPECT_NEAR(at(*r, "PLL1.f", 59e-3), 50, 5e-3);
    EXPECT_NEAR(at(*r, "PLL1.d", 59e-3), 325, 1e-2);
}

TEST(PhaseLock, LocksToASinglePhase) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "325"}, {"f", "51.3"}, {"phase", "200"}})
        .add("resistor", "R1", {"in", "0"}, {{"r", "1k"}})
        .add("probe", "P1", {"m"}, {{"of", "in.v"}})
        .add("pll", "PLL1", {"m", "", "", "", ""}, {{"peak", "325"}, {"fn", "8"}, {"task", "T1"}})
        .add("task", "T1", {}, {{"period", "50u"}})
        .plan("500m", "1e-3");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_NEAR(at(*r, "PLL1.f", 499e-3), 51.3, 1e-3);
    EXPECT_NEAR(at(*r, "PLL1.d", 499e-3), 325, 0.1);
}

// Each filter on a sine, running and sampled, has the gain of its transfer function; at samples that of the trapezoidal
// rule, exact at the frequency that is kept.
TEST(Filters, HaveTheGainOfTheirTransferFunctions) {
    struct Case {
        const char* kind;
        std::vector<std::pair<std::string, std::string>> values;
        std::function<std::complex<double>(std::complex<double>)> gain;
    };
    const double w1 = 2 * pi * 1000;
    const std::vector<Case> cases = {
        {"low-pass", {{"f", "1k"}}, [&](auto s) { return 1.0 / (1.0 + s / w1); }},
        {"low-pass",
         {{"f", "1k"}, {"order", "second"}, {"damping", "0.4"}},
         [&](auto s) { return 1.0 / (1.0 + 0.8 * s / w1 + s * s / w1 / w1); }},
        {"notch",
         {{"f", "1k"}, {"damping", "0.3"}},
         [&](auto s) { return (s * s + w1 * w1) / (s * s + 0.6 * w1 * s + w1 * w1); }},
        {"lead-lag",
         {{"k", "2"}, {"fz", "1k"}, {"fp", "3k"}},
         [&](auto s) { return 2.0 * (1.0 + s / w1) / (1.0 + s / (3 * w1)); }},
        {"transfer-s",
         {{"num", "1, 2k, 3M"}, {"den", "1m, 10, 30k, 40M"}},
         [](auto s) { return (s * s + 2e3 * s + 3e6) / (1e-3 * s * s * s + 10.0 * s * s + 30e3 * s + 40e6); }},
        {"zeros-poles",
         {{"k", "5k"}, {"zeros", "-1k"}, {"poles", "-2k+3kj, -2k-3kj"}},
         [](auto s) { return 5e3 * (s + 1e3) / (s * s + 4e3 * s + 13e6); }},
        {"resonant", {{"kp", "0.5"}, {"kr", "100"}, {"f", "1k"}, {"width", "150"}}, [&](auto s) {
             return 0.5 + 200.0 * s / (s * s + 2 * 2 * pi * 150.0 * s + w1 * w1);
         }}};
    for (const Case& filter : cases)
        for (const double period : {0.0, 50e-6}) {
            Circuit c = signals();
            c.add("signal-sine", "K1", {"u"}, {{"f", "700"}}).add(filter.kind, "X", {"u", "y"}).plan("40m", "1e-6");
            for (const auto& [key, text] : filter.values) c.set("X", key, text);
            if (period > 0) c.set("X", "task", "T1").set("X", "keep", "700").add("task", "T1", {}, {{"period", "50u"}});
            const auto r = run(c);
            ASSERT_TRUE(r);
            ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
            const auto h = harmonics(*r->trace("X.y"), toTicks(30e-3), toTicks(40e-3), 700, 1);
            ASSERT_TRUE(h);
            double expected = std::abs(filter.gain({0, 2 * pi * 700}));
            // The hold between samples takes sin(x)/x of the fundamental.
            if (period > 0) expected *= std::sin(pi * 700 * period) / (pi * 700 * period);
            EXPECT_RELATIVE(h->peak(1), expected, period > 0 ? 1e-4 : 2e-6) << filter.kind << " " << period;
        }
}

TEST(SampledParts, DelaysMeansAndDifferences) {
    Circuit c = signals();
    c.add("signal-ramp", "K1", {"u"}, {{"from", "0"}, {"to", "10"}, {"duration", "10m"}})
        .add("task", "T1", {}, {{"period", "1m"}})
        .add("unit-delay", "Z1", {"u", ""}, {{"n", "3"}, {"y0", "-1"}})
        .add("transport-delay", "Z2", {"u", ""}, {{"delay", "2m"}, {"task", "T1"}})
        .add("moving-mean", "MEAN1", {"u", ""}, {{"window", "4m"}, {"task", "T1"}})
        .add("moving-rms", "RMS1", {"u", ""}, {{"window", "2m"}, {"task", "T1"}})
        .add("rate-limiter", "RL1", {"u", ""}, {{"up", "500"}, {"task", "T1"}})
        .add("quantiser", "ADC1", {"u", ""}, {{"high", "8"}, {"bits", "2"}})
        .add("transfer-z", "H1", {"u", ""}, {{"num", "1, 1"}, {"den", "2, -1"}})
        .plan("10m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_EQ(at(*r, "Z1.y", 2.5e-3), -1);
    EXPECT_NEAR(at(*r, "Z1.y", 5.5e-3), 2, 1e-12);
    EXPECT_NEAR(at(*r, "Z2.y", 5.5e-3), 3, 1e-12);
    EXPECT_NEAR(at(*r, "MEAN1.y", 5.5e-3), (2 + 3 + 4 + 5) / 4.0, 1e-12);
    EXPECT_NEAR(at(*r, "RMS1.y", 5.5e-3), std::sqrt((16 + 25) / 2.0), 1e-12);
    EXPECT_NEAR(at(*r, "RL1.y", 5.5e-3), 2.5, 1e-12);
    EXPECT_NEAR(at(*r, "ADC1.y", 5.5e-3), 6, 1e-12);  // steps of 2: 5 is rounded to 6
    EXPECT_NEAR(at(*r, "ADC1.y", 9.5e-3), 6, 1e-12);  // the last of 4 steps
    double y = 0, before = 0;
    for (int k = 0; k <= 5; ++k) y = (k + before + y) / 2, before = k;
    EXPECT_NEAR(at(*r, "H1.y", 5.5e-3), y, 1e-12);
}

// Without a task: samples of their own, and equations where there are some.
TEST(SampledParts, WorkWithoutATask) {
    Circuit c;
    // A triangle of 20 kHz on a ramp: a mean over whole periods sees the ramp alone, wherever its samples fall.
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("switch", "S1", {"in", "sw", "g"})
        .add("diode", "D1", {"0", "sw"})
        .add("inductor", "L1", {"sw", "x"}, {{"l", "100u"}})
        .add("dc-voltage", "V2", {"x", "0"}, {{"level", "2"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "20k"}, {"duty", "0.4"}})
        .add("probe", "P1", {"i"}, {{"of", "L1.i"}})
        .add("moving-mean", "MEAN1", {"i", ""}, {{"window", "500u"}, {"n", "7"}})
        .add("moving-rms", "RMS1", {"i", ""}, {{"window", "500u"}, {"n", "500"}})
        .add("transport-delay", "DL1", {"i", "late"}, {{"delay", "100u"}, {"n", "50"}})
        .plan("5m", "1e-5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_EQ(r->summary().engine, "exact");
    for (int k = 14; k < 60; k += 3) {
        const double t = 500e-6 / 7 * k;
        const Measures over = measures(*r, "L1.i", t - 500e-6, t);
        EXPECT_NEAR(at(*r, "MEAN1.y", t + 1e-6), over.mean, 1e-4 * over.mean) << k;
        EXPECT_NEAR(at(*r, "RMS1.y", t + 1e-6), over.rms, 0.01 * over.rms) << k;
        EXPECT_NEAR(at(*r, "DL1.y", t), at(*r, "L1.i", t - 100e-6), 0.2) << k;  // steps of 2 us, up to 80 kA/s
    }
}

// Up and down by its rates, and else behind its input by the lag times the slope.
TEST(SampledParts, ARateLimiterRunsWithoutATask) {
    Circuit c = signals();
    c.add("signal-step", "K1", {"u"}, {{"before", "0"}, {"after", "3"}, {"at", "1m"}})
        .add("rate-limiter", "RL1", {"u", "y"}, {{"up", "2k"}, {"down", "1k"}, {"lag", "10u"}})
        .add("signal-ramp", "K2", {"v"}, {{"from", "0"}, {"to", "10"}, {"duration", "10m"}})
        .add("rate-limiter", "RL2", {"v", "z"}, {{"up", "2k"}, {"down", "1k"}, {"lag", "10u"}})
        .plan("10m", "1e-7");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_NEAR(at(*r, "RL1.y", 2e-3), 2.0, 1e-6);
    // At a rate until it is lag times rate away, then exponentially.
    EXPECT_NEAR(at(*r, "RL1.y", 1e-3 + (3 - 0.02) / 2000), 2.98, 1e-6);
    EXPECT_NEAR(at(*r, "RL1.y", 1e-3 + (3 - 0.02) / 2000 + 20e-6), 3 - 0.02 * std::exp(-2.0), 1e-6);
    EXPECT_NEAR(at(*r, "RL2.y", 5e-3), 5 - 10e-6 * 1000, 1e-6);
}

// A loop that locks by samples of its own does so as one in a task of the same period.
TEST(PhaseLock, LocksWithoutATask) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "325"}, {"f", "50"}, {"phase", "30"}})
        .add("resistor", "R1", {"in", "0"}, {{"r", "1k"}})
        .add("probe", "P1", {"m"}, {{"of", "in.v"}})
        .add("pll", "PLL1", {"m", "", "", "", ""}, {{"peak", "325"}, {"n", "200"}})
        .add("pll", "PLL2", {"m", "", "", "", ""}, {{"peak", "325"}, {"task", "T1"}})
        .add("fundamental", "FUN1", {"m", "", ""}, {{"f", "50"}})
        .add("task", "T1", {}, {{"period", "100u"}})
        .plan("300m", "1e-3");
    const auto r = run(c);
    ASSERT_TRUE(r);
    for (double t = 1.05e-3; t < 0.3; t += 17e-3)
        EXPECT_NEAR(at(*r, "PLL1.theta", t), at(*r, "PLL2.theta", t), 1e-9) << t;
    EXPECT_NEAR(at(*r, "PLL1.f", 0.299), 50, 0.01);
    EXPECT_NEAR(at(*r, "FUN1.peak", 0.299), 325, 1e-6);
}

TEST(Logic, EdgesComeAtTheirInstants) {
    Circuit c = signals();
    c.add("modulator", "M1", {"", "u", "v"}, {{"f", "1k"}, {"duty", "0.3"}})
        .add("edge-delay", "ED1", {"u", "late"}, {{"rise", "50u"}, {"fall", "20u"}})
        .add("one-shot", "OS1", {"u", ""}, {{"length", "100u"}})
        .add("counter", "CT1", {"u", "", ""}, {{"modulus", "3"}})
        .add("logic", "LOG1", {"u", "late", "", ""}, {{"how", "and"}})
        .add("states", "SM1", {"u", "", "", "", "", "", "", ""},
             {{"table", "off: 0 5; on: 1 7; off > on: a; on > off: !a"}})
        .plan("5m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto late = edges(*r, "ED1.q"), shot = edges(*r, "OS1.q"), both = edges(*r, "LOG1.q");
    ASSERT_GE(late.size(), 4u);
    EXPECT_NEAR(late[2], 1e-3 + 50e-6, 1e-15);
    EXPECT_NEAR(late[3], 1.3e-3 + 20e-6, 1e-15);
    EXPECT_NEAR(shot[2] - shot[1], 0.1e-3, 1e-15);  // the trace begins within the first pulse
    EXPECT_NEAR(both[3], 1.3e-3, 1e-15);
    EXPECT_EQ(at(*r, "CT1.y", 1.5e-3), 2);
    EXPECT_EQ(at(*r, "CT1.y", 2.5e-3), 0);
    EXPECT_EQ(at(*r, "SM1.q2", 2.1e-3), 7);
    EXPECT_EQ(at(*r, "SM1.q2", 2.5e-3), 5);
}

TEST(Task, RunsWithTheCarrierOfAModulatorAndInOrderOfPriority) {
    Circuit c = signals();
    c.add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}, {"phase", "0.25"}})
        .add("signal-ramp", "K1", {"u"}, {{"from", "0"}, {"to", "1"}, {"duration", "1"}})
        .add("task", "T1", {}, {{"carrier", "M1"}, {"times", "2"}})
        .add("task", "T2", {}, {{"period", "50u"}, {"offset", "25u"}, {"priority", "0"}})
        .add("gain", "G1", {"u", "a"}, {{"k", "1k"}, {"task", "T2"}})
        .add("gain", "G2", {"a", "b"}, {{"k", "2"}, {"task", "T1"}})
        .plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    // Both tasks run at 25 us, 75 us...; the one of priority 0 first, so that G2 sees its fresh output.
    EXPECT_NEAR(at(*r, "G1.y", 130e-6), 0.125, 1e-12);
    EXPECT_NEAR(at(*r, "G2.y", 130e-6), 0.25, 1e-12);
    EXPECT_NEAR(at(*r, "G2.y", 124e-6), 0.15, 1e-12);
}

TEST(Code, DoesWhatTheRegulatorPartDoes) {
    const auto loop = [](bool code) {
        Circuit c;
        plant(c)
            .add("constant", "K1", {"ref"}, {{"value", "5"}})
            .add("task", "T1", {}, {{"period", "100u"}, {"delay", "30u"}});
        if (code)
            c.add(
                "code", "CODE1", {"ref", "m", "", "", "u", "", "", ""},
                {{"task", "T1"},
                 {"values", "kp = 0.8, ki = 3*300"},
                 {"code",
                  "VAR_INPUT r, v : LREAL; END_VAR VAR_OUTPUT u : LREAL; END_VAR VAR x, e : LREAL; END_VAR\n"
                  "e := r - v; x := LIMIT(-100, x + ki * SAMPLE_TIME * e, 100); u := LIMIT(-100, kp * e + x, 100);"}});
        else
            c.add("sum", "SUM1", {"ref", "m", "", "e"}, {{"task", "T1"}})
                .add("pi", "REG1", {"e", "", "", "u"},
                     {{"kp", "0.8"}, {"ki", "900"}, {"low", "-100"}, {"high", "100"}, {"task", "T1"}});
        return run(c.plan("5m"));
    };
    const auto a = loop(true), b = loop(false);
    ASSERT_TRUE(a && b);
    for (double t = 0; t < 5e-3; t += 130e-6) EXPECT_NEAR(at(*a, "out.v", t), at(*b, "out.v", t), 1e-9);
    EXPECT_NEAR(at(*a, "CODE1.e", 0.05e-3), 5, 1e-12);  // any variable can be watched
}

TEST(Code, FaultsNameThePartAndTheLine) {
    Circuit c;
    plant(c).add("task", "T1", {}, {{"period", "1m"}});
    c.add("code", "CODE1", {"m", "", "", "", "u", "", "", ""},
          {{"task", "T1"},
           {"code",
            "VAR_INPUT v : LREAL; END_VAR VAR_OUTPUT u : LREAL; END_VAR VAR n : INT := 3; END_VAR\nn := n - 1;\nu := 1 "
            "/ n;"}});
    const auto r = run(c.plan("10m"));
    ASSERT_TRUE(r);
    EXPECT_EQ(r->summary().end, RunEnd::failed);
    EXPECT_EQ(r->summary().error->part, "CODE1");
    EXPECT_NE(r->summary().error->message.find("line 3: a whole number is divided by zero at 2 ms"), std::string::npos)
        << r->summary().error->message;
    // A run stops where it is asked to, with what the variables are then.
    c.set("CODE1", "stop", "3");
    const auto asked = run(c);
    ASSERT_TRUE(asked);
    EXPECT_EQ(asked->summary().end, RunEnd::stopped) << "nothing is wrong";
    EXPECT_NE(asked->summary().error->message.find("CODE1: stopped at line 3 as asked: v = 0, u = 0, n = 2 at 0 s"),
              std::string::npos)
        << asked->summary().error->message;
    c.set("CODE1", "code", "VAR_OUTPUT u : LREAL; END_VAR\nu := nothing;");
    const auto refused = Run::prepare(std::make_shared<Project>(c.project()));
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().part, "CODE1");
    EXPECT_EQ(refused.error().field, "code");
    EXPECT_NE(refused.error().message.find("line 2, column 6: there is no variable called NOTHING"), std::string::npos);
}

TEST(AlgebraicLoops, AreSolvedWhereLinearAndNamedInTasks) {
    // y = 1 - 0.5 y has the solution 2/3: as equations, at once.
    Circuit c = signals();
    c.add("signal-sine", "K1", {"r"}, {{"peak", "0"}, {"offset", "1"}})
        .add("sum", "SUM1", {"r", "half", "", "y"})
        .add("gain", "G1", {"y", "half"}, {{"k", "0.5"}})
        .plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_NEAR(at(*r, "SUM1.y", 0.5e-3), 2.0 / 3, 1e-12);
    c.set("SUM1", "task", "T1").set("G1", "task", "T1").add("task", "T1", {}, {{"period", "100u"}});
    const auto refused = Run::prepare(std::make_shared<Project>(c.project()));
    ASSERT_FALSE(refused);
    EXPECT_NE(refused.error().message.find("SUM1 and G1 of task T1 feed each other within one sample"),
              std::string::npos)
        << refused.error().message;
}

TEST(AlgebraicLoops, OfHeldSignalsAreNamed) {
    Circuit c = signals();
    c.add("constant", "K1", {"r"}, {{"value", "1"}})
        .add("sum", "SUM1", {"r", "twice", "", "y"})
        .add("gain", "G1", {"y", "twice"}, {{"k", "2"}})
        .plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_EQ(r->summary().end, RunEnd::failed);
    EXPECT_NE(r->summary().error->message.find("chase each other"), std::string::npos) << r->summary().brief();
}

// The same loop by both engines.
TEST(SampledLoop, EnginesAgree) {
    Circuit c;
    chopper(c)
        .add("constant", "K1", {"ref"}, {{"value", "5"}})
        .add("task", "T1", {}, {{"carrier", "M1"}, {"delay", "50u"}})
        .add("sum", "SUM1", {"ref", "m", "", "e"}, {{"task", "T1"}})
        .add("pi", "REG1", {"e", "", "", "d"}, {{"kp", "0.02"}, {"ki", "20"}, {"task", "T1"}})
        .add("modulator", "M1", {"d", "q", ""}, {{"f", "10k"}, {"sampling", "once a period"}})
        .plan("4m", "1e-5");
    const auto exact = run(c);
    c.project().plans.front().engine = "adaptive";
    const auto adaptive = run(c);
    ASSERT_TRUE(exact && adaptive);
    ASSERT_EQ(exact->summary().end, RunEnd::finished) << exact->summary().brief();
    ASSERT_EQ(adaptive->summary().end, RunEnd::finished) << adaptive->summary().brief();
    for (double t = 0; t < 4e-3; t += 77e-6) EXPECT_NEAR(at(*exact, "L1.i", t), at(*adaptive, "L1.i", t), 2e-3) << t;
    EXPECT_GT(measures(*exact, "REG1.y", 3e-3, 4e-3).peakToPeak(), 0);
}

// A product of two running signals is solved by the adaptive engine.
TEST(SmoothSignals, ProductOfRunningSignals) {
    Circuit c = signals();
    c.add("signal-sine", "K1", {"a"}, {{"f", "100"}}).add("product", "MUL1", {"a", "a", "", "y"}).plan("20m", "1e-5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_EQ(r->summary().engine, "adaptive");
    for (double t = 0; t < 20e-3; t += 1.3e-3)
        EXPECT_NEAR(at(*r, "MUL1.y", t), std::pow(std::sin(2 * pi * 100 * t), 2), 1e-4);
}

namespace {

std::vector<std::string> advice(const Circuit& c) {
    const FlatProject flat = flattened(c.project(), partLibrary().catalogue());
    std::vector<std::string> messages;
    for (const Error& error : advise(flat.project, partLibrary(), flat.nets, ParameterTable(flat.project.parameters)))
        messages.push_back(error.part + ": " + error.message);
    return messages;
}
bool says(const std::vector<std::string>& messages, const std::string& part, const std::string& words) {
    return std::any_of(messages.begin(), messages.end(), [&](const std::string& m) {
        return m.starts_with(part + ":") && m.find(words) != std::string::npos;
    });
}

/// A step-up supply from 44 V with a regulator for its output.
Circuit stepUp(const std::string& asked) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "44"}})
        .add("inductor", "L1", {"in", "sw"}, {{"l", "100u"}})
        .add("mosfet", "Q1", {"sw", "0", "g"})
        .add("diode", "D1", {"sw", "out"})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "100u"}, {"v0", "44"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "50"}})
        .add("constant", "K1", {"ref"}, {{"value", asked}})
        .add("probe", "P1", {"m"}, {{"of", "out.v"}})
        .add("sum", "SUM1", {"ref", "m", "", "e"})
        .add("pi", "REG1", {"e", "", "", "d"}, {{"kp", "0.01"}, {"ki", "5"}, {"high", "0.8"}})
        .add("modulator", "M1", {"d", "g", ""}, {{"f", "50k"}, {"sampling", "once a period"}})
        .plan("8m");
    return c;
}

}  // namespace

TEST(Advice, AStepUpSupplyCannotGoBelowItsInput) {
    EXPECT_TRUE(says(advice(stepUp("40")), "K1", "cannot go below its input"));
    EXPECT_TRUE(advice(stepUp("60")).empty());
    EXPECT_TRUE(advice(stepUp("60 V")).empty());
    EXPECT_TRUE(says(advice(stepUp("60 A")), "SUM1", "takes A from K1 and V from P1"));
}

TEST(Advice, ALegWantsADeadTimeAndARegulatorAValidMeasurement) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"})
        .add("mosfet", "Q1", {"in", "sw", "g"})
        .add("mosfet", "Q2", {"sw", "0", "n"})
        .add("resistor", "R1", {"sw", "0"})
        .add("modulator", "M1", {"d", "g", "n"})
        .add("probe", "P1", {"m"}, {{"of", "sw.v"}})
        .add("moving-mean", "MEAN1", {"m", "u"}, {{"window", "5m"}, {"task", "T1"}})
        .add("pi", "REG1", {"u", "", "", "d"}, {{"task", "T1"}})
        .add("task", "T1", {});
    EXPECT_TRUE(says(advice(c), "M1", "without a dead time"));
    EXPECT_TRUE(says(advice(c), "REG1", "MEAN1 gives it is not right before 5 ms"));
    c.set("M1", "dead", "100n");
    EXPECT_FALSE(says(advice(c), "M1", "dead time"));
}

TEST(Observations, TellWhatWentWrongAndWhen) {
    const auto seen = [](const Circuit& c) {
        const auto r = run(c);
        std::vector<std::string> messages;
        if (!r) return messages;
        EXPECT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        for (const Observation& o : observe(*r)) messages.push_back(o.error.part + ": " + o.error.message);
        return messages;
    };
    EXPECT_TRUE(seen(stepUp("60")).empty());
    // 44 V cannot become 400 V with a duty of 0.8 at most.
    const auto tooMuch = seen(stepUp("400"));
    EXPECT_TRUE(says(tooMuch, "REG1", "stays at its upper limit")) << (tooMuch.empty() ? "" : tooMuch[0]);
    Circuit wrong = stepUp("60");
    wrong.set("SUM1", "signs", "++");
    EXPECT_TRUE(says(seen(wrong), "REG1", "is the sign of its feedback right"));
    Circuit beyond = stepUp("400");
    beyond.set("M1", "high", "0.7").set("REG1", "high", "0.9").set("REG1", "alarm", "1");
    EXPECT_TRUE(says(seen(beyond), "M1", "end of its range"));
    // A sampled integrator of too high a gain on a plain plant swings: v' = a v + (1 - a) u, u = u + K (r - v).
    Circuit swings;
    plant(swings)
        .add("constant", "K1", {"ref"}, {{"value", "5"}})
        .add("sum", "SUM1", {"ref", "m", "", "e"}, {{"task", "T1"}})
        .add("pi", "REG1", {"e", "", "", "u"},
             {{"kp", "0"}, {"ki", "1900"}, {"low", "-100"}, {"high", "100"}, {"task", "T1"}})
        .add("task", "T1", {}, {{"period", "2m"}})
        .plan("200m");
    EXPECT_TRUE(says(seen(swings), "REG1", "swings from sample to sample"));
}

TEST(Stress, TheWorstComesFirstWithItsInstant) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "100"}, {"f", "50"}})
        .add("diode", "D1", {"in", "out"}, {{"vmax", "200"}, {"imax", "11"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
        .plan("20m", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto rows = stressOf(*r);
    ASSERT_EQ(rows.size(), 2u);
    EXPECT_EQ(rows[0].quantity, "D1.i");
    EXPECT_NEAR(rows[0].peak, 10, 1e-4);
    EXPECT_NEAR(rows[0].share(), 10.0 / 11, 1e-5);
    EXPECT_NEAR(rows[0].at, 5e-3, 0.2e-3);
    EXPECT_EQ(rows[1].quantity, "D1.v");
    EXPECT_NEAR(rows[1].peak, 100, 1e-3);
    EXPECT_NEAR(rows[1].at, 15e-3, 0.2e-3);
    EXPECT_DOUBLE_EQ(rows[1].limit, 200);
}
