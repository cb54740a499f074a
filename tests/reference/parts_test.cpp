// Every part against the closed form of a circuit in which it decides everything.

#include <cmath>
#include <complex>
#include <fstream>
#include <numbers>

#include "runs/registry.h"
#include "support/circuit.h"
#include "support/folder.h"

using namespace hedgerow;
using namespace hedgerow::test;
using std::numbers::pi;

namespace {

std::string failureOf(const Circuit& circuit) {
    auto prepared = Run::prepare(std::make_shared<const Project>(circuit.project()));
    if (!prepared) return prepared.error().text();
    (*prepared)->execute();
    return (*prepared)->summary().error ? (*prepared)->summary().error->text() : "";
}

}  // namespace

// With the second winding shorted, L1 (1 - k^2) is left.
TEST(Coupled, ShortedSecondaryLeavesTheLeakage) {
    for (const double k : {0.5, -0.9, 0.999}) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
            .add("coupled-inductors-2", "L1", {"in", "0", "s", "0"},
                 {{"l1", "100u"}, {"l2", "400u"}, {"k12", std::to_string(k)}})
            .add("resistor", "RS", {"s", "0"}, {{"r", "1n"}})
            .plan("20u");
        const auto r = run(c);
        const double slope = 10 / (100e-6 * (1 - k * k));
        EXPECT_RELATIVE(at(*r, "L1.i1", 10e-6), slope * 10e-6, 1e-6);
        EXPECT_RELATIVE(at(*r, "L1.i2", 10e-6), -k * 0.5 * slope * 10e-6, 1e-6) << "i2 = -k sqrt(L1/L2) i1";
    }
}

// Perfect coupling makes a transformer of ratio sqrt(L1 / L2): v2 = 2 v1, and L1 magnetises.
TEST(Coupled, PerfectCouplingIsATransformer) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("coupled-inductors-2", "L1", {"in", "0", "s", "0"}, {{"l1", "100u"}, {"l2", "400u"}, {"k12", "1"}})
        .add("resistor", "R1", {"s", "0"}, {{"r", "5"}})
        .plan("10u");
    const auto r = run(c);
    EXPECT_RELATIVE(at(*r, "s.v", 3e-6), 20.0, 1e-12);
    EXPECT_RELATIVE(at(*r, "L1.i2", 3e-6), -4.0, 1e-12);
    EXPECT_RELATIVE(at(*r, "L1.i1", 3e-6), 8.0 + 10 * 3e-6 / 100e-6, 1e-10);
}

// Six equal windings in series, all coupled by k: L = 6 l + 30 k l.
TEST(Coupled, SixWindingsInSeries) {
    Circuit c;
    c.add("dc-voltage", "V1", {"n0", "0"}, {{"level", "1"}});
    std::vector<std::string> nets;
    for (int i = 0; i < 6; ++i) {
        nets.push_back("n" + std::to_string(i));
        nets.push_back(i == 5 ? "0" : "n" + std::to_string(i + 1));
    }
    c.add("coupled-inductors-6", "L1", nets, {});
    for (const ParameterKind& p : partLibrary().catalogue().find("coupled-inductors-6")->parameters)
        if (p.key[0] == 'k') c.set("L1", p.key, "0.3");
    c.plan("1m");
    EXPECT_RELATIVE(at(*run(c), "L1.i1", 0.5e-3), 0.5e-3 / (100e-6 * (6 + 30 * 0.3)), 1e-10);
}

TEST(Coupled, ImpossibleCouplingsAreRefused) {
    Circuit c;
    c.add("dc-voltage", "V1", {"a", "0"})
        .add("coupled-inductors-3", "L1", {"a", "0", "a", "0", "a", "0"},
             {{"k12", "0.9"}, {"k13", "0.9"}, {"k23", "-0.9"}});
    EXPECT_NE(failureOf(c).find("couplings cannot all be"), std::string::npos);
}

TEST(CommonMode, HindersOnlyWhatIsCommon) {
    Circuit common, differential;
    const Circuit::Values choke = {{"l", "5m"}, {"leak", "20u"}};
    common.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("common-mode-choke", "L1", {"in", "0", "in", "0"}, choke)
        .plan("1m");
    differential.add("dc-voltage", "V1", {"in", "back"}, {{"level", "10"}})
        .add("common-mode-choke", "L1", {"in", "x", "back", "x"}, choke)
        .add("resistor", "RX", {"x", "0"}, {{"r", "1k"}})
        .plan("1m");
    // Both windings in parallel: L + M over 2 = L - leak / 4; in opposition: the leakage alone.
    const auto c = run(common), d = run(differential);
    EXPECT_RELATIVE(at(*c, "L1.i1", 0.5e-3), 10 * 0.5e-3 / (2 * (5e-3 - 20e-6 / 4)), 1e-9);
    EXPECT_RELATIVE(at(*d, "L1.i1", 0.5e-3), 10 * 0.5e-3 / 20e-6, 1e-9);
}

TEST(Transformer, IdealScalesAndConservesPower) {
    Circuit c;
    c.add("sine-voltage", "V1", {"p", "0"}, {{"peak", "100"}})
        .add("transformer-3", "TR", {"p", "0", "s", "0", "t", "0"}, {{"n1", "10"}, {"n2", "2"}, {"n3", "5"}})
        .add("resistor", "R2", {"s", "0"}, {{"r", "4"}})
        .add("resistor", "R3", {"t", "0"}, {{"r", "25"}})
        .plan("5m");
    const auto r = run(c);
    EXPECT_RELATIVE(at(*r, "s.v", 5e-3), 20.0, 1e-9);
    EXPECT_RELATIVE(at(*r, "t.v", 5e-3), 50.0, 1e-9);
    EXPECT_RELATIVE(at(*r, "TR.i1", 5e-3), (20.0 * 5 + 50.0 * 2) / 100, 1e-9) << "power in = power out";
}

TEST(Transformer, MagnetisesAndLeaks) {
    Circuit open, shorted;
    const Circuit::Values values = {{"n1", "2"}, {"n2", "1"}, {"lm", "5m"},     {"rc", "1G"},
                                    {"r1", "0"}, {"r2", "0"}, {"leak1", "20u"}, {"leak2", "5u"}};
    open.add("dc-voltage", "V1", {"p", "0"}, {{"level", "10"}})
        .add("transformer", "TR", {"p", "0", "s", "0"}, values, 2)
        .add("resistor", "RS", {"s", "0"}, {{"r", "1G"}})
        .plan("1m");
    EXPECT_RELATIVE(at(*run(open), "TR.i1", 0.5e-3), 10 * 0.5e-3 / 5e-3, 1e-6);
    // Shorted: L = leak1 + (Lm parallel to 4 leak2).
    shorted.add("dc-voltage", "V1", {"p", "0"}, {{"level", "10"}})
        .add("transformer", "TR", {"p", "0", "s", "0"}, values, 3)
        .add("ammeter", "AS", {"s", "0"})
        .plan("1m");
    const double leak = 20e-6 + 1 / (1 / 5e-3 + 1 / 20e-6);
    EXPECT_RELATIVE(at(*run(shorted), "TR.i1", 0.5e-3), 10 * 0.5e-3 / leak, 1e-6);
}

TEST(ThreePhase, LinesAreAThirdOfAPeriodApart) {
    for (const char* sequence : {"abc", "acb"}) {
        Circuit c;
        c.add("three-phase-voltage", "V1", {"a", "b", "c", "0"}, {{"v", "400"}, {"sequence", sequence}})
            .add("resistor", "RA", {"a", "b"}, {{"r", "10"}})
            .add("resistor", "RB", {"b", "c"}, {{"r", "10"}})
            .add("resistor", "RC", {"c", "a"}, {{"r", "10"}})
            .plan("20m", "1e-6");
        const auto r = run(c);
        EXPECT_RELATIVE(measures(*r, "RA.v", 0, 20e-3).rms, 400.0, 1e-5);
        const double way = std::string(sequence) == "abc" ? -1 : 1;
        EXPECT_RELATIVE(at(*r, "b.v", 5e-3), 400 * std::sqrt(2.0 / 3) * std::sin(pi / 2 + way * 2 * pi / 3), 1e-6);
        EXPECT_NEAR(at(*r, "a.v", 3e-3) + at(*r, "b.v", 3e-3) + at(*r, "c.v", 3e-3), 0.0, 1e-3);
    }
}

TEST(Points, StraightHeldRepeatedAndJumping) {
    Circuit c;
    c.add("points-voltage", "V1", {"a", "0"}, {{"points", "0 0, 1m 10, 1m 2, 3m 6"}})
        .add("points-voltage", "V2", {"b", "0"}, {{"points", "0 1; 1m 3"}, {"between", "held"}, {"period", "2m"}})
        .add("resistor", "R1", {"a", "b"}, {{"r", "1"}})
        .plan("10m");
    const auto r = run(c);
    EXPECT_NEAR(at(*r, "a.v", 0.5e-3), 5, 1e-9);
    EXPECT_NEAR(at(*r, "a.v", 1e-3), 2, 1e-9) << "after the jump";
    EXPECT_NEAR(at(*r, "a.v", 2e-3), 4, 1e-9);
    EXPECT_NEAR(at(*r, "a.v", 9e-3), 6, 1e-9) << "it stays";
    EXPECT_NEAR(at(*r, "b.v", 0.5e-3), 1, 1e-9);
    EXPECT_NEAR(at(*r, "b.v", 7.5e-3), 3, 1e-9) << "the fourth period";
}

TEST(Points, ATableFromAFileAndItsFaults) {
    const TemporaryFolder folder;
    std::ofstream(folder.path() / "load.csv") << "time,current\n0,0\n1e-3,2\n2e-3,2\n";
    std::ofstream(folder.path() / "bad.csv") << "time,current\n0,0\nx,2\n";
    const auto with = [&](const std::string& points) {
        Circuit c;
        c.add("points-current", "I1", {"0", "a"}, {{"points", points}}).add("resistor", "R1", {"a", "0"}, {{"r", "3"}});
        c.plan("4m");
        c.project().folder.moveTo(folder.path());
        return c;
    };
    EXPECT_NEAR(at(*run(with("load.csv")), "a.v", 0.5e-3), 3.0, 1e-9);
    EXPECT_NE(failureOf(with("bad.csv")).find("line 3"), std::string::npos);
    EXPECT_NE(failureOf(with("none.csv")).find("cannot be read"), std::string::npos);
    EXPECT_NE(failureOf(with("0 0, 2m 1, 1m 5")).find("must rise"), std::string::npos);
    EXPECT_NE(failureOf(with("0 0, 2m")).find("no value"), std::string::npos);
    EXPECT_FALSE(failureOf(with("0 zero")).empty());
}

TEST(Controlled, AllFourScale) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "3"}})
        .add("resistor", "RI", {"in", "x"}, {{"r", "2"}})
        .add("current-controlled-voltage", "E1", {"e1", "0", "x", "0"}, {{"gain", "5"}})
        .add("voltage-controlled-voltage", "E2", {"e2", "0", "in", "0"}, {{"gain", "-4"}})
        .add("voltage-controlled-current", "G1", {"0", "g1", "in", "0"}, {{"gain", "2"}})
        .add("current-controlled-current", "G2", {"0", "g2", "e1", "y"}, {{"gain", "0.5"}})
        .add("resistor", "RY", {"y", "0"}, {{"r", "3"}});
    for (const char* net : {"e2", "g1", "g2"}) c.add("resistor", std::string("R") + net, {net, "0"}, {{"r", "1"}});
    c.plan("1m");
    const auto r = run(c);
    EXPECT_NEAR(at(*r, "e1.v", 1e-4), 5 * 1.5, 1e-12);
    EXPECT_NEAR(at(*r, "e2.v", 1e-4), -12, 1e-12);
    EXPECT_NEAR(at(*r, "g1.v", 1e-4), 6, 1e-12);
    EXPECT_NEAR(at(*r, "g2.v", 1e-4), 0.5 * 7.5 / 3, 1e-12);
}

// Opened at 4 ms: a sine through R and L is next zero where its steady part passes zero (the transient is over).
TEST(Breaker, OpensAtTheZeroOfItsCurrentOrAtOnce) {
    const auto circuit = [](const char* opens) {
        Circuit c;
        c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "325"}})
            .add("modulator", "M1", {"", "g", ""}, {{"f", "1"}, {"duty", "0.204"}})
            .add("breaker", "Q1", {"in", "x", "g"}, {{"opens", opens}})
            .add("resistor", "R1", {"x", "0"}, {{"r", "10"}})
            .plan("0.3");
        return c;
    };
    const auto zero = edges(*run(circuit("at zero")), "Q1.on"), once = edges(*run(circuit("at once")), "Q1.on");
    ASSERT_EQ(zero.size(), 1u);
    ASSERT_EQ(once.size(), 1u);
    EXPECT_NEAR(zero[0], 0.21, 1e-12);
    EXPECT_NEAR(once[0], 0.204, 1e-12);
}

TEST(Zener, ClampsBothWays) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "100"}})
        .add("resistor", "R1", {"in", "x"}, {{"r", "100"}})
        .add("zener", "D1", {"0", "x"}, {{"vz", "12"}})
        .add("sine-voltage", "V2", {"in2", "0"}, {{"peak", "100"}})
        .add("resistor", "R2", {"in2", "y"}, {{"r", "100"}})
        .add("zener", "D2", {"0", "y"}, {{"vz", "12"}, {"vf", "0.7"}, {"ron", "1"}, {"rz", "2"}, {"roff", "1G"}}, 2)
        .plan("20m", "1e-8");
    const auto r = run(c);
    EXPECT_RELATIVE(at(*r, "x.v", 5e-3), 12.0, 1e-12);
    EXPECT_NEAR(at(*r, "x.v", 15e-3), 0.0, 1e-12);
    EXPECT_RELATIVE(at(*r, "y.v", 5e-3), 12 + 2 * (100 - 12) / 102.0, 1e-6);
    EXPECT_RELATIVE(at(*r, "y.v", 15e-3), -(0.7 + (100 - 0.7) / 101.0), 1e-6);
}

TEST(Mosfet, SharesReverseCurrentWithItsDiode) {
    Circuit c;
    c.add("dc-current", "I1", {"d", "0"}, {{"level", "100"}})
        .add("constant", "K1", {"g"})
        .add("mosfet", "Q1", {"d", "0", "g"}, {{"ron", "20m"}, {"vf", "0.8"}, {"rd", "5m"}}, 2)
        .plan("1m");
    // Channel and diode side by side carry 100 A: v / 20m + (v - 0.8) / 5m = 100.
    const double v = (100 + 0.8 / 5e-3) / (1 / 20e-3 + 1 / 5e-3);
    EXPECT_RELATIVE(at(*run(c), "d.v", 1e-4), -v, 1e-9);
    c.set("I1", "level", "30");
    EXPECT_RELATIVE(at(*run(c), "d.v", 1e-4), -0.6, 1e-9) << "below the knee the channel carries all";
}

TEST(Igbt, HasAKneeEachWay) {
    for (const auto& [current, voltage] : {std::pair{"-50", 1.2 + 50 * 0.01}, std::pair{"50", -(0.9 + 50 * 0.008)}}) {
        Circuit c;
        c.add("dc-current", "I1", {"c", "0"}, {{"level", current}})
            .add("constant", "K1", {"g"})
            .add("igbt", "Q1", {"c", "0", "g"}, {{"vce", "1.2"}, {"ron", "10m"}, {"vf", "0.9"}, {"rd", "8m"}}, 2)
            .plan("1m");
        EXPECT_RELATIVE(at(*run(c), "c.v", 1e-4), voltage, 1e-6);
    }
}

namespace {

Circuit phaseControlled(const std::string& kind, double degrees, Circuit::Values values = {}, int rung = 1) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "325"}})
        .add("modulator", "M1", {"", "g", ""},
             {{"f", "100"}, {"duty", "0.05"}, {"phase", std::to_string(degrees) + "/180"}})
        .add(kind, "T1", {"in", "out", "g"}, values, rung)
        .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
        .plan("100m", "1e-6");
    return c;
}

}  // namespace

// Mean of a half wave cut at the firing angle: V (1 + cos a) / (2 pi); RMS of both half waves: V sqrt((pi - a +
// sin(2a)/2) / (2 pi)).
TEST(Thyristor, PhaseControlOfAResistor) {
    for (const double degrees : {30.0, 90.0, 150.0}) {
        const double a = degrees * pi / 180;
        const auto half = run(phaseControlled("thyristor", degrees)), whole = run(phaseControlled("triac", degrees));
        EXPECT_RELATIVE(measures(*half, "R1.v", 20e-3, 100e-3).mean, 325 * (1 + std::cos(a)) / (2 * pi), 1e-6);
        EXPECT_RELATIVE(measures(*whole, "R1.v", 20e-3, 100e-3).rms,
                        325 * std::sqrt((pi - a + std::sin(2 * a) / 2) / (2 * pi)), 1e-6);
    }
}

// Off when the current has fallen to the holding current, not to zero; not on when it has not latched.
TEST(Thyristor, HoldsAndLatches) {
    const auto held =
        run(phaseControlled("thyristor", 90, {{"vf", "0"}, {"ron", "1u"}, {"ihold", "5"}, {"ilatch", "6"}}, 2));
    const auto changes = edges(*held, "T1.on");
    ASSERT_GE(changes.size(), 2u);
    EXPECT_NEAR(changes[0], 5e-3, 1e-9);
    EXPECT_NEAR(changes[1], 10e-3 - std::asin(50.0 / 325) / (100 * pi), 1e-7);
    // 325 V on 10 ohm never reach 40 A: as the gate leaves it goes off.
    const auto weak = run(phaseControlled("thyristor", 90, {{"ihold", "5"}, {"ilatch", "40"}}, 2));
    EXPECT_NEAR(edges(*weak, "T1.on").at(1), 5.5e-3, 1e-9);
}

// A forward voltage that returns within the turn-off time makes it conduct again without a gate.
TEST(Thyristor, NeedsItsTurnOffTime) {
    const auto conducts = [](const char* tq) {
        Circuit c;
        // +50 V, then -50 V for 100 us from 1 ms on, then +50 V again.
        c.add("points-voltage", "V1", {"in", "0"}, {{"points", "0 50, 1m 50, 1m -50, 1.1m -50, 1.1m 50"}})
            .add("modulator", "M1", {"", "g", ""}, {{"f", "1"}, {"duty", "10u"}})
            .add("thyristor", "T1", {"in", "out", "g"}, {{"tq", tq}}, 2)
            .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
            .plan("3m");
        return at(*run(c), "T1.on", 2e-3) > 0.5;
    };
    EXPECT_TRUE(conducts("150u"));
    EXPECT_FALSE(conducts("50u"));
    EXPECT_FALSE(conducts("0"));
}

// Constant current: the open-circuit voltage falls in proportion, the RC pair settles exponentially.
TEST(Battery, DischargesByItsThreeTerms) {
    Circuit c;
    c.add("battery", "B1", {"p", "0"},
          {{"vempty", "40"},
           {"vfull", "50"},
           {"soc", "80%"},
           {"charge", "3600"},
           {"r0", "10m"},
           {"r1", "5m"},
           {"c1", "1k"}},
          2)
        .add("dc-current", "I1", {"p", "0"}, {{"level", "20"}})
        .plan("30", "1e-5");
    const double t = 12, expected = 48 - 20 * t / 3600 * 10 - 20 * 10e-3 - 20 * 5e-3 * (1 - std::exp(-t / 5));
    EXPECT_RELATIVE(at(*run(c), "p.v", t), expected, 1e-6);
}

TEST(Solar, PassesThroughItsPoints) {
    Circuit c;
    c.add("solar-string", "PV1", {"p", "0"},
          {{"isc", "9"}, {"voc", "370"}, {"imp", "8.4"}, {"vmp", "300"}, {"pieces", "60"}})
        .add("points-voltage", "V1", {"p", "0"}, {{"points", "0 0, 1 400"}})
        .plan("1", "1e-4");
    const auto r = run(c);
    EXPECT_RELATIVE(at(*r, "PV1.i", 0.0), -9.0, 1e-9);
    EXPECT_RELATIVE(at(*r, "PV1.i", 300.0 / 400), -8.4, 2e-3) << "the maximum power lies between two points";
    EXPECT_NEAR(at(*r, "PV1.i", 370.0 / 400), 0.0, 1e-4);
}

// 50 ohm parallel to (50 uH + 5 ohm), whatever the mains are: CISPR 16-1-2, figure of the impedance, and by its elements.
// From 9 kHz on it is that of the figure within a quarter, on a stiff source too.
TEST(MainsNetwork, HasItsImpedance) {
    for (const double f : {9e3, 50e3, 150e3, 1e6}) {
        Circuit c;
        const double periods = 40, settled = std::min(4e-3, 400 / f);
        c.add("artificial-mains-network", "AMN", {"0", "e", "0"})
            .add("sine-current", "I1", {"0", "e"}, {{"peak", "1"}, {"f", std::to_string(f)}})
            .plan(std::to_string(1e6 * (settled + periods / f)) + "u", "1e-4");
        const double w = 2 * pi * f;
        const std::complex<double> j(0, 1), mains = j * w * 250e-6, shunt = 5.0 + 1.0 / (j * w * 8e-6),
                                            line = j * w * 50e-6 + mains * shunt / (mains + shunt),
                                            receiver = 1 / (1 / 50.0 + 1 / 1e3) + 1.0 / (j * w * 250e-9);
        const auto r = run(c);
        ASSERT_TRUE(r);
        const Measures m = measures(*r, "e.v", settled, settled + periods / f);
        const double impedance = m.rms * std::sqrt(2.0);
        EXPECT_RELATIVE(impedance, std::abs(line * receiver / (line + receiver)), 2e-3) << f;
        const std::complex<double> figure = 50.0 * (5.0 + j * w * 50e-6) / (55.0 + j * w * 50e-6);
        EXPECT_RELATIVE(impedance, std::abs(figure), 0.25) << f;
    }
}

TEST(SampledSine, IsHeldBetweenSamples) {
    Circuit c;
    c.add("sampled-sine", "K1", {"y"}, {{"peak", "0.4"}, {"f", "50"}, {"offset", "0.5"}, {"rate", "1k"}})
        .add("modulator", "M1", {"y", "g", ""}, {{"f", "1k"}})
        .add("dc-voltage", "V1", {"in", "0"}, {{"level", "1"}})
        .add("switch", "S1", {"in", "out", "g"})
        .add("resistor", "R1", {"out", "0"}, {{"r", "1"}})
        .plan("20m");
    const auto r = run(c);
    for (int k = 0; k < 20; ++k) {
        const double duty = 0.5 + 0.4 * std::sin(2 * pi * 50 * k * 1e-3);
        EXPECT_NEAR(at(*r, "K1.y", (k + 0.7) * 1e-3), duty, 1e-12);
        EXPECT_NEAR(measures(*r, "out.v", k * 1e-3, (k + 1) * 1e-3).mean, duty, 1e-9) << k;
    }
}

// A sine passes the thresholds where asin says; between them the switch stays as it is.
TEST(ControlledSwitch, ClosesAndOpensAtItsThresholds) {
    Circuit c;
    c.add("sine-voltage", "VC", {"k", "0"}, {{"peak", "5"}, {"f", "1k"}})
        .add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("voltage-controlled-switch", "S1", {"in", "out", "k", "0"}, {{"von", "3"}, {"voff", "-2"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "5"}})
        .plan("2m", "1e-3");
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double w = 2 * std::numbers::pi * 1e3;
    const double closes = std::asin(3.0 / 5) / w, opens = (std::numbers::pi + std::asin(2.0 / 5)) / w;
    for (const double period : {0.0, 1e-3}) {
        EXPECT_NEAR(at(*r, "S1.i", period + closes - 1e-9), 0, 1e-12);
        EXPECT_NEAR(at(*r, "S1.i", period + closes + 1e-9), 2, 1e-12);
        EXPECT_NEAR(at(*r, "S1.i", period + opens - 1e-9), 2, 1e-12);
        EXPECT_NEAR(at(*r, "S1.i", period + opens + 1e-9), 0, 1e-12);
    }
    EXPECT_EQ(r->summary().counter("located crossings"), 4);
}
