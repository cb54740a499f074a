// Degenerate circuits are everyday circuits: each works by its closed form, or is refused with names.

#include <cmath>
#include <numbers>

#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;
using std::numbers::pi;

// A capacitor put across a source by an ideal switch takes its charge at once.
TEST(Degenerate, CapacitorAcrossASourceThroughASwitch) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "1k"}, {"duty", "0.5"}, {"phase", "0.25"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("capacitor", "C1", {"x", "0"}, {{"c", "1u"}})
        .add("resistor", "R1", {"x", "0"}, {{"r", "1k"}})
        .plan("2m", "1e-6");
    const auto r = run(c);
    EXPECT_NEAR(at(*r, "x.v", 0.2e-3), 0.0, 1e-12);
    EXPECT_RELATIVE(at(*r, "x.v", 0.26e-3), 10.0, 1e-12);
    EXPECT_RELATIVE(at(*r, "x.v", 1.0e-3), 10 * std::exp(-0.25), 1e-5) << "it discharges while the switch is open";
}

// Two transformers whose secondaries float share no potential with the reference.
// A capacitor that a switch puts beside that of a link shares its charge with it (closed form), while another load at
// the link goes on for itself: what is solved apart otherwise is solved together then.
TEST(Degenerate, ChargeIsSharedWithALinkThatOthersUse) {
    constexpr double link = 47e-6, other = 10e-6;
    Circuit c;
    c.add("dc-voltage", "V1", {"s", "0"}, {{"level", "100"}})
        .add("resistor", "RS", {"s", "p"}, {{"r", "1"}})
        .add("capacitor", "CL", {"p", "0"}, {{"c", "47u"}, {"v0", "100"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}, {"duty", "0.5"}, {"phase", "0.3"}})
        .add("switch", "SX", {"p", "x", "g"})
        .add("capacitor", "CX", {"x", "0"}, {{"c", "10u"}, {"v0", "20"}})
        .add("resistor", "RX", {"x", "0"}, {{"r", "5"}})
        .add("modulator", "M2", {"", "h", ""}, {{"f", "37k"}, {"duty", "0.4"}})
        .add("switch", "S2", {"p", "y", "h"})
        .add("diode", "D2", {"0", "y"})
        .add("inductor", "L2", {"y", "out"}, {{"l", "100u"}})
        .add("resistor", "R2", {"out", "0"}, {{"r", "10"}})
        .plan("1m", "1e-3");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_GT(r->summary().counter("subnetworks"), 1);
    const auto vl = r->trace("CL.v"), vx = r->trace("CX.v"), on = r->trace("SX.on"), il = r->trace("L2.i");
    int shared = 0;
    for (std::size_t i = 0; i + 1 < vl->size(); ++i) {
        if (vl->time(i) != vl->time(i + 1) || on->value(i) > 0.5 || on->value(i + 1) < 0.5) continue;
        ++shared;
        const double both = (link * vl->value(i) + other * vx->value(i)) / (link + other);
        EXPECT_NEAR(vl->value(i + 1), both, 1e-11 * both);
        EXPECT_NEAR(vx->value(i + 1), both, 1e-11 * both);
        EXPECT_NEAR(il->value(i + 1), il->value(i), 1e-12);
    }
    EXPECT_EQ(shared, 10);
}

TEST(Degenerate, FloatingSecondaries) {
    Circuit c;
    c.add("sine-voltage", "V1", {"p", "0"}, {{"peak", "100"}})
        .add("transformer", "T1", {"p", "0", "s1", "s2"}, {{"n1", "2"}})
        .add("transformer", "T2", {"p", "0", "u1", "u2"}, {{"n1", "5"}})
        .add("resistor", "R1", {"s1", "s2"}, {{"r", "10"}})
        .add("resistor", "R2", {"u1", "u2"}, {{"r", "10"}})
        .plan("5m");
    const auto r = run(c);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_RELATIVE(at(*r, "R1.v", 5e-3), 50.0, 1e-9);
    EXPECT_RELATIVE(at(*r, "R2.v", 5e-3), 20.0, 1e-9);
    EXPECT_NEAR(at(*r, "s1.v", 5e-3) + at(*r, "s2.v", 5e-3), 0.0, 1e-9) << "each floats around zero";
}

// A ring of ideal transformers with one ratio free of contradiction carries a circulating current of its own choosing:
// least norm, or a refusal that names it. Contradictory ratios are a short circuit.
TEST(Degenerate, TransformersInALoop) {
    const auto loop = [](const char* ratio) {
        Circuit c;
        c.add("sine-voltage", "V1", {"p", "0"}, {{"peak", "100"}})
            .add("transformer", "T1", {"p", "0", "s", "0"}, {{"n1", "2"}})
            .add("transformer", "T2", {"p", "0", "s", "0"}, {{"n1", ratio}})
            .add("resistor", "R1", {"s", "0"}, {{"r", "10"}})
            .plan("20m");
        auto prepared = Run::prepare(std::make_shared<const Project>(c.project()));
        EXPECT_TRUE(prepared);
        (*prepared)->execute();
        return *prepared;
    };
    const auto contradictory = loop("3");
    ASSERT_EQ(contradictory->summary().end, RunEnd::failed);
    EXPECT_NE(contradictory->summary().error->message.find("T"), std::string::npos);
    const auto equal = loop("2");
    if (equal->summary().end == RunEnd::finished)
        EXPECT_RELATIVE(at(*equal, "R1.v", 5e-3), 50.0, 1e-9);
    else
        EXPECT_NE(equal->summary().error->message.find("T"), std::string::npos);
}

// A six-pulse thyristor bridge with source inductance: mean of the ideal voltage less the commutation drop,
// (3 sqrt(2) V / pi) cos(a) - 3 w L I / pi, at a nearly constant current (N. Mohan et al., Power Electronics, ch. 6).
TEST(ThyristorBridge, OverlapLowersTheMean) {
    const double degrees = 40;
    Circuit c;
    c.add("three-phase-voltage", "V1", {"a", "b", "c", "0"}, {{"v", "400"}, {"ri", "0"}, {"li", "500u"}}, 2);
    const char* phases[] = {"a", "b", "c"};
    for (int k = 0; k < 3; ++k) {
        const std::string x = phases[k];
        for (const bool upper : {true, false}) {
            const double at = degrees + (upper ? 30 : 210) + 120 * k;
            const std::string name = (upper ? "U" : "L") + x;
            c.add("modulator", "M" + name, {"", "g" + name, ""},
                  {{"f", "50"}, {"duty", "1/3"}, {"phase", std::to_string(static_cast<int>(at) % 360) + "/360"}})
                .add("thyristor", "T" + name,
                     upper ? std::vector<std::string>{x, "p", "g" + name}
                           : std::vector<std::string>{"m", x, "g" + name});
        }
    }
    c.add("inductor", "L1", {"p", "q"}, {{"l", "200m"}})
        .add("resistor", "R1", {"q", "m"}, {{"r", "20"}})
        .plan("0.4", "1e-4");
    const auto r = run(c);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double current = measures(*r, "L1.i", 0.38, 0.40).mean;
    const double expected =
        3 * std::sqrt(2.0) * 400 / pi * std::cos(degrees * pi / 180) - 3 * 100 * pi * 500e-6 / pi * current;
    EXPECT_RELATIVE(measures(*r, "R1.v", 0.38, 0.40).mean, expected, 2e-3);
}

// A current that only grazes zero does not turn the diode off; one that dips below does, twice a period.
TEST(Events, GrazingAndDoubleCrossings) {
    const auto circuit = [](const char* offset) {
        Circuit c;
        c.add("sine-current", "I1", {"0", "a"}, {{"peak", "1"}, {"f", "1k"}, {"offset", offset}})
            .add("diode", "D1", {"a", "b"})
            .add("resistor", "R1", {"b", "0"}, {{"r", "1"}})
            .add("resistor", "R2", {"a", "0"}, {{"r", "1M"}})
            .plan("10m");
        return c;
    };
    EXPECT_EQ(edges(*run(circuit("1.000001")), "D1.on").size(), 0u);
    EXPECT_EQ(edges(*run(circuit("0.999999")), "D1.on").size(), 20u);
}

// Both sides of a bridge switch at one instant, and gates of one period at different phases meet.
TEST(Events, SimultaneousEdgesAreOneEvent) {
    Circuit c;
    c.add("dc-voltage", "V1", {"p", "0"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "10k"}, {"duty", "0.5"}})
        .add("switch", "S1", {"p", "a", "g"})
        .add("switch", "S2", {"a", "0", "h"})
        .add("switch", "S3", {"p", "b", "h"})
        .add("switch", "S4", {"b", "0", "g"})
        .add("inductor", "L1", {"a", "b"}, {{"l", "1m"}})
        .add("resistor", "R1", {"a", "b"}, {{"r", "100"}})
        .plan("1.02m");
    const auto r = run(c);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    EXPECT_EQ(r->summary().counter("events"), 21);
    EXPECT_RELATIVE(measures(*r, "L1.v", 0, 1e-3).rms, 10.0, 1e-9);
}
