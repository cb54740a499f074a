// Where events are: instants at which diodes start and stop, against closed forms, over many random values; and the
// shortcuts of the exact engine where they begin, drift and begin anew.

#include <cmath>
#include <functional>
#include <numbers>
#include <random>

#include "support/circuit.h"
#include "support/verified.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

constexpr double pi = std::numbers::pi;

/// Random values over decades, as texts that hold every digit.
class Values {
public:
    explicit Values(unsigned seed) : random_(seed) {}
    double between(double low, double high) {
        return low * std::pow(high / low, std::uniform_real_distribution<double>(0, 1)(random_));
    }

private:
    std::mt19937 random_;
};

std::string exactly(double value) {
    char text[32];
    std::snprintf(text, sizeof text, "%.17g", value);
    return text;
}

/// The one instant at which a diode changes.
double onlyEdge(const Circuit& circuit, const char* quantity) {
    const auto r = run(circuit);
    if (!r) return -1;
    EXPECT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const auto found = edges(*r, quantity);
    EXPECT_EQ(found.size(), 1u);
    return found.empty() ? -1 : found.front();
}

/// The root of a function that falls from above zero to below it, by bisection in long double.
double rootOf(const std::function<long double(long double)>& falling, long double low, long double high) {
    for (int i = 0; i < 200; ++i) {
        const long double middle = (low + high) / 2;
        (falling(middle) > 0 ? low : high) = middle;
    }
    return static_cast<double>(low);
}

}  // namespace

// A winding that frees itself through a diode against a source: i = i0 - V t / L.
TEST(Crossings, StraightDecayEndsAtItsInstant) {
    Values values(1);
    for (int trial = 0; trial < 60; ++trial) {
        const double l = values.between(1e-7, 1e-1), i0 = values.between(1e-3, 1e3), v = values.between(0.5, 2000),
                     end = i0 * l / v;
        SCOPED_TRACE(exactly(l) + " H, " + exactly(i0) + " A, " + exactly(v) + " V");
        Circuit c;
        c.add("dc-voltage", "V1", {"k", "0"}, {{"level", exactly(v)}})
            .add("inductor", "L1", {"0", "a"}, {{"l", exactly(l)}, {"i0", exactly(i0)}})
            .add("diode", "D1", {"a", "k"})
            .plan(exactly(2 * end));
        EXPECT_NEAR(onlyEdge(c, "D1.on"), end, 1e-14 * end + 1e-16);
    }
}

// With a resistance: i = (i0 + V / R) exp(-R t / L) - V / R, from a hardly bent decay to one of many time constants.
TEST(Crossings, BentDecayEndsAtItsInstant) {
    Values values(2);
    for (int trial = 0; trial < 60; ++trial) {
        const double l = values.between(1e-6, 1e-2), r = values.between(1e-2, 1e3), v = values.between(1, 500),
                     i0 = values.between(1e-3, 100) * v / r, end = l / r * std::log1p(i0 * r / v);
        SCOPED_TRACE(exactly(l) + " H, " + exactly(r) + " ohm, " + exactly(i0) + " A");
        Circuit c;
        c.add("dc-voltage", "V1", {"k", "0"}, {{"level", exactly(v)}})
            .add("inductor", "L1", {"0", "m"}, {{"l", exactly(l)}, {"i0", exactly(i0)}})
            .add("resistor", "R1", {"m", "a"}, {{"r", exactly(r)}})
            .add("diode", "D1", {"a", "k"})
            .plan(exactly(2 * end));
        EXPECT_NEAR(onlyEdge(c, "D1.on"), end, 1e-13 * end + 1e-16);
    }
}

// A ring through a diode is cut after half a period, whatever its damping: pi / w.
TEST(Crossings, HalfARingEndsAtItsInstant) {
    Values values(3);
    for (int trial = 0; trial < 60; ++trial) {
        const double l = values.between(1e-7, 1e-2), c = values.between(1e-10, 1e-3),
                     r = values.between(1e-4, 1.5) * std::sqrt(l / c), w = std::sqrt(1 / (l * c) - r * r / (4 * l * l)),
                     end = pi / w;
        SCOPED_TRACE(exactly(l) + " H, " + exactly(c) + " F, " + exactly(r) + " ohm");
        Circuit circuit;
        circuit.add("capacitor", "C1", {"a", "0"}, {{"c", exactly(c)}, {"v0", "100"}})
            .add("diode", "D1", {"a", "b"})
            .add("inductor", "L1", {"b", "m"}, {{"l", exactly(l)}})
            .add("resistor", "R1", {"m", "0"}, {{"r", exactly(r)}})
            .plan(exactly(3 * end));
        EXPECT_NEAR(onlyEdge(circuit, "D1.on"), end, 2e-13 * end + 1e-16);
    }
}

// Against a battery behind a winding: the diode starts where the sine reaches the battery, with neither current nor
// slope, and stops where its current is gone again.
TEST(Crossings, ADiodeBeginsWithoutSlopeAndEndsAtItsInstant) {
    Values values(4);
    for (int trial = 0; trial < 40; ++trial) {
        const double f = values.between(10, 1e5), w = 2 * pi * f, peak = values.between(1, 1000),
                     e = peak * values.between(0.05, 0.95), l = values.between(1e-3, 1) / w,
                     r = values.between(1e-3, 1) * w * l, start = std::asin(e / peak) / w;
        SCOPED_TRACE(exactly(f) + " Hz, " + exactly(e / peak) + " of the peak, " + exactly(l) + " H, " + exactly(r) +
                     " ohm");
        Circuit c;
        c.add("sine-voltage", "V1", {"s", "0"}, {{"peak", exactly(peak)}, {"f", exactly(f)}})
            .add("inductor", "L1", {"s", "m"}, {{"l", exactly(l)}})
            .add("resistor", "R1", {"m", "a"}, {{"r", exactly(r)}})
            .add("diode", "D1", {"a", "k"})
            .add("dc-voltage", "V2", {"k", "0"}, {{"level", exactly(e)}})
            .plan(exactly(1 / f));
        const auto made = run(c);
        ASSERT_TRUE(made);
        ASSERT_EQ(made->summary().end, RunEnd::finished) << made->summary().brief();
        const auto found = edges(*made, "D1.on");
        ASSERT_EQ(found.size(), 2u);
        EXPECT_NEAR(found[0], start, 1e-13 / f + 1e-16);
        // i = A sin(w t - phi) - E / R + B exp(-R (t - start) / L), zero at the start.
        const long double z = std::hypot(static_cast<long double>(r), static_cast<long double>(w) * l),
                          phi = std::atan2(static_cast<long double>(w) * l, static_cast<long double>(r)), a = peak / z,
                          b = static_cast<long double>(e) / r - a * std::sin(w * static_cast<long double>(start) - phi);
        const double stop = rootOf(
            [&](long double t) {
                return a * std::sin(w * t - phi) - static_cast<long double>(e) / r +
                       b * std::exp(-r * (t - start) / static_cast<long double>(l));
            },
            (pi / 2) / w, 1 / static_cast<long double>(f));
        EXPECT_NEAR(found[1], stop, 1e-12 / f + 1e-16);
    }
}

// With losses of the second rung an off-resistance of ten million ohms multiplies what rounding leaves of a current:
// crossings are found where they are all the same. Until the line of the on-state, v = Vf + Ron (i - Vf / Roff), meets
// that of the off-state, at i = Vf / Roff, i + drop / Ron falls as exp(-Ron t / L).
TEST(Crossings, RoundingBehindAnOffResistanceMovesNothing) {
    Values values(5);
    for (int trial = 0; trial < 40; ++trial) {
        const double l = values.between(1e-6, 1e-3), i0 = values.between(0.1, 100), v = values.between(5, 800),
                     ron = 5e-3, roff = 1e7, knee = 0.7 / roff, drop = v + 0.7 - ron * knee,
                     end = l / ron * std::log1p((i0 - knee) * ron / (drop + knee * ron));
        SCOPED_TRACE(exactly(l) + " H, " + exactly(i0) + " A, " + exactly(v) + " V");
        Circuit c;
        c.add("dc-voltage", "V1", {"k", "0"}, {{"level", exactly(v)}})
            .add("inductor", "L1", {"0", "a"}, {{"l", exactly(l)}, {"i0", exactly(i0)}})
            .add("diode", "D1", {"a", "k"}, {{"vf", "0.7"}, {"ron", "5m"}, {"roff", "10M"}}, 2)
            .plan(exactly(1.5 * end));
        EXPECT_NEAR(onlyEdge(c, "D1.on"), end, 1e-12 * end + 1e-16);
    }
}

// Of two windings that run dry within a part of a step of each other, each stops its own diode, the sooner one first.
TEST(Crossings, CloseOnesKeepTheirOrder) {
    Values values(6);
    for (int trial = 0; trial < 30; ++trial) {
        const double apart = values.between(1e-9, 1e-2);
        SCOPED_TRACE(exactly(apart));
        Circuit c;
        c.add("dc-voltage", "V1", {"k", "0"}, {{"level", "10"}})
            .add("inductor", "L1", {"0", "a"}, {{"l", "1m"}, {"i0", "3"}})
            .add("diode", "D1", {"a", "k"})
            .add("inductor", "L2", {"0", "b"}, {{"l", "1m"}, {"i0", exactly(3 * (1 + apart))}})
            .add("diode", "D2", {"b", "k"})
            .plan("1m");
        const auto r = run(c);
        ASSERT_TRUE(r);
        const auto first = edges(*r, "D1.on"), second = edges(*r, "D2.on");
        ASSERT_EQ(first.size(), 1u);
        ASSERT_EQ(second.size(), 1u);
        EXPECT_NEAR(first[0], 3e-4, 6e-17) << "to the tick";
        EXPECT_NEAR(second[0] - first[0], 3e-4 * apart, 2e-16);
    }
}

// The two diodes of a bridge that conduct together share what they block: both reach their knees at one instant, which
// is one event, located the same in long double, although what counts as noise there is a part of a millivolt.
TEST(Crossings, DiodesInSeriesStartAndStopTogether) {
    Circuit c;
    c.add("sine-voltage", "V1", {"line", "n"}, {{"peak", "325"}, {"f", "50"}, {"ri", "0.4"}, {"li", "600u"}}, 2)
        .add("capacitor", "C1", {"p", "0"}, {{"c", "470u"}, {"v0", "290"}})
        .add("resistor", "R1", {"p", "0"}, {{"r", "120"}});
    const Circuit::Values knees = {{"vf", "0.9"}, {"ron", "20m"}, {"roff", "10M"}};
    c.add("diode", "D1", {"line", "p"}, knees, 2)
        .add("diode", "D2", {"n", "p"}, knees, 2)
        .add("diode", "D3", {"0", "line"}, knees, 2)
        .add("diode", "D4", {"0", "n"}, knees, 2)
        .plan("100m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    for (const auto& [one, other] : {std::pair{"D1.on", "D4.on"}, std::pair{"D2.on", "D3.on"}}) {
        EXPECT_EQ(edges(*r, one), edges(*r, other));
        EXPECT_EQ(edges(*r, one).size(), 10u) << "once on and once off a cycle";
    }
    const auto check = verify(*r, CancelToken());
    ASSERT_TRUE(check) << check.error().message;
    EXPECT_TRUE(check->sameEvents) << check->events << " and " << check->referenceEvents;
    EXPECT_LT(check->largestShift, 1e-12);
}

// A guard that dips below zero and comes back within a small part of a period is met twice, however long the steps are
// that a series is good for; one that stays above it by as little is not met. The dip of a sine of amplitude one below
// its offset 1 - d lasts 2 acos(1 - d) / w. What is shorter than a base step, 2e-3 / w, is beyond the resolution.
TEST(Crossings, DipsLongerThanABaseStepAreSeen) {
    for (const double depth : {1e-2, 1e-3, 1e-4, 1e-5, 2e-6}) {
        SCOPED_TRACE(depth);
        const auto circuit = [](double offset) {
            Circuit c;
            c.add("sine-current", "I1", {"0", "a"}, {{"peak", "1"}, {"f", "1k"}, {"offset", exactly(offset)}})
                .add("diode", "D1", {"a", "b"})
                .add("resistor", "R1", {"b", "0"}, {{"r", "1"}})
                .add("resistor", "R2", {"a", "0"}, {{"r", "1M"}})
                .plan("3m");
            return c;
        };
        const auto dips = edges(*run(circuit(1 - depth)), "D1.on");
        ASSERT_EQ(dips.size(), 6u);
        const double lasts = 2 * std::acos(1 - depth) / (2 * pi * 1e3);
        for (std::size_t k = 0; k < dips.size(); k += 2) EXPECT_NEAR(dips[k + 1] - dips[k], lasts, 1e-2 * lasts);
        EXPECT_TRUE(edges(*run(circuit(1 + depth)), "D1.on").empty());
    }
}

// Wherever the pattern begins in the run, and whatever the duty, rounds of a discontinuous stage change nothing. The
// output begins near its rest, V (1 + sqrt(1 + 4 D^2 R T / (2 L))) / 2.
class RoundsBegin : public ::testing::TestWithParam<std::tuple<double, const char*>> {};

TEST_P(RoundsBegin, Anywhere) {
    const auto& [duty, phase] = GetParam();
    const double rest = 24 * (1 + std::sqrt(1 + 4 * duty * duty * 200 * 1e-5 / (2 * 47e-6))) / 2;
    expectVerified(stepUp(exactly(duty), "200", exactly(0.98 * rest), "4m", phase), 1e-10,
                   [](const RunSummary& s) { EXPECT_GE(s.counter("periods along period maps"), 150) << "of 400"; });
}

INSTANTIATE_TEST_SUITE_P(Patterns, RoundsBegin,
                         ::testing::Combine(::testing::Values(0.1, 0.25, 0.4),
                                            ::testing::Values("0", "0.2", "0.5", "0.85")));

// While the output creeps to where it belongs, the diode's instant drifts out of one leg after the other. Each has a
// successor after two periods, not after ten.
TEST(Rounds, FollowADriftWithoutStumbling) {
    expectVerified(stepUp("0.3", "200", "40", "20m"), 1e-10, [](const RunSummary& summary) {
        EXPECT_GE(summary.counter("periods along period maps"), 1500) << "of 2000";
        EXPECT_LE(summary.counter("descents"), 140);
    });
}

// A source that steps up makes everything larger, and with it what counts as nothing.
TEST(Rounds, GoOnAfterASourceHasStepped) {
    Circuit c = stepUp("0.2", "300", "20", "9m");
    c.add("points-current", "I1", {"0", "out"}, {{"points", "0 0, 3m 0, 3m 1, 6m 1, 6m 0"}});
    expectVerified(c, 1e-10, [](const RunSummary& summary) {
        EXPECT_GE(summary.counter("periods along period maps"), 300) << "of 900";
        EXPECT_EQ(summary.counter("source breaks"), 2) << "it steps twice";
    });
}
