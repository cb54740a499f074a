// Commutation, redistribution of charge and flux, and circuits that cannot work.

#include <cmath>
#include <numbers>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {
constexpr double pi = std::numbers::pi;
}

// Half-wave rectifier with RL load: conduction ends where i(t) = 0, beyond pi; the extinction angle solves
// sin(b - f) = -sin(f) exp(-b / tan f), f = atan(w L / R).
TEST(Rectifier, ExtinctionAngleOfResistorInductorLoad) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "100"}, {"f", "50"}})
        .add("diode", "D1", {"in", "a"})
        .add("resistor", "R1", {"a", "b"}, {{"r", "10"}})
        .add("inductor", "L1", {"b", "0"}, {{"l", "50m"}})
        .plan("60m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double w = 2 * pi * 50, f = std::atan2(w * 50e-3, 10);
    double low = pi, high = 2 * pi;
    for (int i = 0; i < 200; ++i) {
        const double b = (low + high) / 2;
        (std::sin(b - f) + std::sin(f) * std::exp(-b / std::tan(f)) > 0 ? low : high) = b;
    }
    const std::vector<double> changes = edges(*r, "D1.on");
    ASSERT_GE(changes.size(), 5u);
    // The diode conducts from the start; the changes are off, on, off, ...
    EXPECT_RELATIVE(changes[0], low / w, 1e-9);
    EXPECT_RELATIVE(changes[1], 0.02, 1e-9);
    EXPECT_RELATIVE(changes[2], 0.02 + low / w, 1e-9);
}

// Rectifier into a fixed voltage behind a resistor: conducts from asin(E/V) to pi minus that.
TEST(Rectifier, ConductionAngleAgainstFixedVoltage) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "100"}, {"f", "50"}})
        .add("diode", "D1", {"in", "a"}, {{"vf", "1"}, {"ron", "0.01"}, {"roff", "1G"}}, 2)
        .add("resistor", "R1", {"a", "b"}, {{"r", "5"}})
        .add("dc-voltage", "V2", {"b", "0"}, {{"level", "59"}})
        .plan("40m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const std::vector<double> changes = edges(*r, "D1.on");
    ASSERT_EQ(changes.size(), 4u);
    // The leakage of 1 GΩ shifts the knee by 1e-8 of it.
    EXPECT_NEAR(changes[0], std::asin(0.6) / (2 * pi * 50), 1e-9 * 0.02);
    EXPECT_NEAR(changes[1], (pi - std::asin(0.6)) / (2 * pi * 50), 1e-9 * 0.02);
}

// Full bridge of ideal diodes: |v|, commutating without any resistance in the loop.
TEST(Rectifier, IdealBridgeCommutates) {
    Circuit c;
    c.add("sine-voltage", "V1", {"p", "n"}, {{"peak", "325"}, {"f", "50"}, {"phase", "10"}})
        .add("diode", "D1", {"p", "out"})
        .add("diode", "D2", {"n", "out"})
        .add("diode", "D3", {"0", "p"})
        .add("diode", "D4", {"0", "n"})
        .add("inductor", "L1", {"out", "a"}, {{"l", "10m"}, {"i0", "5"}})
        .add("resistor", "R1", {"a", "0"}, {{"r", "20"}})
        .plan("100m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const auto out = r->trace("out.v");
    for (std::size_t i = 0; i < out->size(); ++i)
        ASSERT_NEAR(out->value(i), std::abs(325 * std::sin(2 * pi * 50 * toSeconds(out->time(i)) + pi / 18)), 1e-7);
    EXPECT_RELATIVE(measures(*r, "out.v", 0.02, 0.1).mean, 2 * 325 / pi, 1e-4);
}

// Bridge with a smoothing capacitor: during conduction the output follows the source exactly.
TEST(Rectifier, IdealBridgeIntoCapacitor) {
    Circuit c;
    c.add("sine-voltage", "V1", {"p", "n"}, {{"peak", "325"}, {"f", "50"}})
        .add("diode", "D1", {"p", "out"})
        .add("diode", "D2", {"n", "out"})
        .add("diode", "D3", {"0", "p"})
        .add("diode", "D4", {"0", "n"})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "100u"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "200"}})
        .plan("60m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    // After the peak the diode lets go where C dv/dt + v/R = 0: tan(w t) = -w R C; then exp(-t/RC) until it meets |v|
    // again.
    const double w = 2 * pi * 50, rc = 200 * 100e-6, release = (pi - std::atan(w * rc)) / w;
    const double held = 325 * std::sin(w * release);
    double low = 0.01 + 1e-6, high = 0.015;
    for (int i = 0; i < 200; ++i) {
        const double t = (low + high) / 2;
        (held * std::exp(-(t - release) / rc) > 325 * std::abs(std::sin(w * t)) ? low : high) = t;
    }
    const std::vector<double> d1 = edges(*r, "D1.on"), d2 = edges(*r, "D2.on");
    ASSERT_FALSE(d1.empty());
    ASSERT_FALSE(d2.empty());
    EXPECT_RELATIVE(d1[0], release, 1e-9);
    EXPECT_RELATIVE(d2[0], low, 1e-9);
}

// A switch joins two capacitors: charge is kept, half of the energy of the difference is lost, in no time.
TEST(Redistribution, TwoCapacitorsJoined) {
    Circuit c;
    c.add("capacitor", "C1", {"a", "0"}, {{"c", "3u"}, {"v0", "10"}})
        .add("capacitor", "C2", {"b", "0"}, {{"c", "1u"}, {"v0", "2"}})
        .add("switch", "S1", {"a", "b", "g"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "1k"}, {"duty", "0.5"}, {"phase", "0.25"}})
        .plan("600u");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double joined = (3 * 10 + 1 * 2) / 4.0;
    EXPECT_NEAR(at(*r, "a.v", 100e-6), 10, 1e-12);
    EXPECT_NEAR(at(*r, "b.v", 100e-6), 2, 1e-12);
    EXPECT_RELATIVE(at(*r, "a.v", 400e-6), joined, 1e-12);
    EXPECT_RELATIVE(at(*r, "b.v", 400e-6), joined, 1e-12);
    const double before = 0.5 * (3e-6 * 100 + 1e-6 * 4), after = 0.5 * 4e-6 * joined * joined;
    EXPECT_RELATIVE(before - after, 0.5 * (3e-6 * 1e-6 / 4e-6) * 64, 1e-12);
}

// Two windings forced into series share their flux: (L1 i1 + L2 i2) / (L1 + L2).
TEST(Redistribution, TwoWindingsInSeries) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "1"}})
        .add("inductor", "L1", {"in", "m"}, {{"l", "3m"}, {"i0", "4"}})
        .add("inductor", "L2", {"m", "0"}, {{"l", "1m"}, {"i0", "0"}})
        .plan("1u");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_NEAR(at(*r, "L1.i", 0), 3.0, 1e-12);
    EXPECT_NEAR(at(*r, "L2.i", 0), 3.0, 1e-12);
}

// A capacitor directly across a source follows it, and takes C dv/dt.
TEST(Redistribution, CapacitorAcrossSource) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "10"}, {"f", "1k"}})
        .add("capacitor", "C1", {"in", "0"}, {{"c", "1u"}})
        .plan("2m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const double w = 2 * pi * 1000;
    const auto current = r->trace("C1.i");
    for (std::size_t i = 0; i < current->size(); ++i)
        ASSERT_NEAR(current->value(i), 1e-6 * 10 * w * std::cos(w * toSeconds(current->time(i))), 1e-10);
}

// Two closed ideal switches in parallel share equally: least norm.
TEST(Degenerate, ParallelSwitchesShare) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("switch", "S1", {"in", "a", "g"})
        .add("switch", "S2", {"in", "a", "g"})
        .add("constant", "K1", {"g"})
        .add("resistor", "R1", {"a", "0"}, {{"r", "5"}})
        .plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_NEAR(at(*r, "S1.i", 5e-4), 1.0, 1e-12);
    EXPECT_NEAR(at(*r, "S2.i", 5e-4), 1.0, 1e-12);
}

// An island behind open switches floats so that the voltages across them sum to zero.
TEST(Degenerate, IslandBehindOpenSwitchesFloatsBetween) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("switch", "S1", {"in", "a", "g"})
        .add("resistor", "R1", {"a", "b"})
        .add("switch", "S2", {"b", "0", "g"})
        .add("constant", "K1", {"g"}, {{"value", "0"}})
        .plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_NEAR(at(*r, "a.v", 5e-4), 5.0, 1e-12);
    EXPECT_NEAR(at(*r, "b.v", 5e-4), 5.0, 1e-12);
}

TEST(Refused, OpeningTheOnlyPathOfAWindingNamesIt) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("switch", "S1", {"in", "a", "g"})
        .add("inductor", "L3", {"a", "b"}, {{"l", "1m"}})
        .add("resistor", "R1", {"b", "0"}, {{"r", "2"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "100"}, {"duty", "0.5"}})
        .plan("20m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::failed);
    const Error& error = *r->summary().error;
    EXPECT_EQ(error.part, "L3");
    EXPECT_NE(error.message.find("L3 carries 12 A"), std::string::npos) << error.message;
    EXPECT_NE(error.message.find("when S1 turns off at 5 ms"), std::string::npos) << error.message;
    EXPECT_NEAR(toSeconds(r->summary().reached), 5e-3, 1e-12) << "what was computed is kept";
    EXPECT_GT(r->store().count(), 10u);
}

TEST(Refused, ShortCircuitThroughSwitchesNamesTheLoop) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "80"}})
        .add("switch", "S1", {"in", "sw", "g"})
        .add("switch", "S2", {"sw", "0", "h"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "1k"}, {"duty", "0.5"}, {"phase", "0.1"}})
        .add("constant", "K1", {"h"})
        .add("resistor", "R1", {"sw", "0"})
        .plan("2m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::failed);
    for (const char* part : {"V1", "S1", "S2", "short circuit", "when S1 turns on at 100 µs"})
        EXPECT_NE(r->summary().error->message.find(part), std::string::npos)
            << part << " in: " << r->summary().error->message;
}

TEST(Refused, OpeningTheOnlyPathOfACurrentSourceNamesTheNet) {
    Circuit c;
    c.add("dc-current", "I1", {"0", "a"}, {{"level", "1"}})
        .add("switch", "S1", {"a", "0", "g"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}})
        .plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::failed);
    EXPECT_EQ(r->summary().error->net, "a");
    EXPECT_NE(
        r->summary().error->message.find("a current is forced into net a and every path from there is open when S1 "
                                         "turns off at 50 µs"),
        std::string::npos)
        << r->summary().error->message;
}

// Time constants far below a tick: the slopes are rounding noise, the values are not.
TEST(Degenerate, ExtremeStiffnessCostsNoPoints) {
    Circuit c;
    c.add("dc-voltage", "V1", {"a", "0"}, {{"level", "10"}})
        .add("inductor", "L1", {"a", "b"}, {{"l", "1f"}})
        .add("resistor", "R1", {"b", "0"}, {{"r", "1M"}})
        .add("resistor", "R2", {"a", "d"}, {{"r", "1u"}})
        .add("capacitor", "C1", {"d", "0"}, {{"c", "1p"}})
        .plan("5m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_LT(r->store().count(), 5000u);
    EXPECT_RELATIVE(at(*r, "L1.i", 1e-3), 1e-5, 1e-9);
    EXPECT_RELATIVE(at(*r, "d.v", 1e-3), 10, 1e-9);
}

// A finer tolerance takes as many more points as its square root says, and no more.
TEST(Property, PointsGrowWithTheSquareRootOfTheTolerance) {
    const auto points = [](const char* tolerance) {
        Circuit c;
        c.add("sine-voltage", "V1", {"a", "0"}).add("resistor", "R1", {"a", "0"}).plan("40m", tolerance);
        return static_cast<double>(run(c)->store().count());
    };
    EXPECT_NEAR(points("1e-6") / points("1e-4"), 10, 5);
    EXPECT_NEAR(points("1e-8") / points("1e-6"), 10, 5);
}

TEST(Refused, DiodeAcrossASourceIsAShort) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "5"}}).add("diode", "D1", {"in", "0"}).plan("1m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::failed);
    EXPECT_NE(r->summary().error->message.find("V1 and D1"), std::string::npos) << r->summary().error->message;
}

// The same circuit, drawn in another order and with other names, gives the same numbers.
TEST(Property, OrderAndNamesDoNotMatter) {
    const auto build = [](bool other) {
        Circuit c;
        const auto source = [&] { c.add("dc-voltage", other ? "A9" : "V1", {"in", "0"}, {{"level", "80"}}); };
        const auto load = [&] { c.add("resistor", other ? "B9" : "R1", {"out", "0"}, {{"r", "8"}}); };
        const auto stage = [&] {
            c.add("switch", "S1", {"in", "sw", "g"})
                .add("modulator", "M1", {"", "g", ""}, {{"f", "150k"}, {"duty", "0.25"}})
                .add("diode", "D1", {"0", "sw"});
        };
        const auto filter = [&] {
            c.add("inductor", "L1", {"sw", "out"}, {{"l", "22u"}}).add("capacitor", "C1", {"out", "0"}, {{"c", "20u"}});
        };
        if (other)
            load(), filter(), stage(), source();
        else
            source(), stage(), filter(), load();
        c.plan("500u");
        return run(c);
    };
    const auto a = build(false), b = build(true);
    ASSERT_TRUE(a && b);
    for (double t = 0; t <= 500e-6; t += 1 / 150e3) {
        EXPECT_NEAR(at(*a, "out.v", t), at(*b, "out.v", t), 1e-9) << t;
        EXPECT_NEAR(at(*a, "L1.i", t), at(*b, "L1.i", t), 1e-9) << t;
    }
    EXPECT_EQ(a->summary().counter("located crossings"), b->summary().counter("located crossings"));
}

// Same input, same bits.
TEST(Property, RunsRepeatBitByBit) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "100"}})
        .add("diode", "D1", {"in", "a"})
        .add("resistor", "R1", {"a", "b"}, {{"r", "1"}})
        .add("capacitor", "C1", {"b", "0"}, {{"c", "1m"}})
        .add("resistor", "R2", {"b", "0"}, {{"r", "50"}})
        .plan("100m");
    const auto a = run(c), b = run(c);
    ASSERT_TRUE(a && b);
    const auto x = a->trace("b.v"), y = b->trace("b.v");
    ASSERT_EQ(x->size(), y->size());
    for (std::size_t i = 0; i < x->size(); ++i) {
        ASSERT_EQ(x->time(i), y->time(i));
        ASSERT_EQ(x->value(i), y->value(i));
    }
}
