// Losses of switches by their data sheets, against closed forms.

#include <cmath>
#include <numbers>

#include <gtest/gtest.h>

#include "network/loss_data.h"
#include "analysis/core_loss.h"
#include "analysis/losses.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// A leg that chops 100 V into a current source of 10 A: hard switching at 20 kHz, 40 % on.
Circuit chopper(const char* transistor) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
        .add(transistor, "Q1", {"in", "sw", "g"}, {{"ron", "20m"}}, 2)
        .add("diode", "D1", {"0", "sw"}, {{"vf", "0.8"}, {"ron", "10m"}}, 2)
        .add("dc-current", "I1", {"sw", "0"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "20k"}, {"duty", "0.4"}})
        .plan("1m", "1e-5");
    return c;
}

const LossRow& rowOf(const std::vector<LossRow>& rows, const std::string& part) {
    for (const LossRow& row : rows)
        if (row.part == part) return row;
    static const LossRow none;
    ADD_FAILURE() << part << " has no losses";
    return none;
}

}  // namespace

TEST(EnergyTables, AreInterpolatedInCurrentVoltageAndTemperature) {
    const auto table = EnergyTable::read("400 25: 10 1m, 20 3m; 800 25: 10 2m, 20 6m; 400 125: 10 2m, 20 6m");
    ASSERT_TRUE(table) << table.error().message;
    EXPECT_DOUBLE_EQ(table->at(10, 400, 25), 1e-3);
    EXPECT_DOUBLE_EQ(table->at(5, 400, 25), 0.5e-3);   // from none at no current
    EXPECT_DOUBLE_EQ(table->at(15, 400, 25), 2e-3);    // between points
    EXPECT_DOUBLE_EQ(table->at(30, 400, 25), 5e-3);    // on along the last line
    EXPECT_DOUBLE_EQ(table->at(10, 600, 25), 1.5e-3);  // between voltages
    EXPECT_DOUBLE_EQ(table->at(10, 200, 25), 0.5e-3);  // in proportion below
    EXPECT_DOUBLE_EQ(table->at(10, 1600, 25), 4e-3);   // and above
    EXPECT_DOUBLE_EQ(table->at(10, 400, 75), 1.5e-3);  // between temperatures
    EXPECT_DOUBLE_EQ(table->at(10, 400, 200), 2e-3);   // the nearest outside
    EXPECT_DOUBLE_EQ(table->at(10, 400, -40), 1e-3);
    EXPECT_EQ(table->at(0, 400, 25), 0);
    EXPECT_EQ(table->at(10, 0, 25), 0);
    EXPECT_TRUE(EnergyTable::read("")->empty());
    for (const char* wrong :
         {"10 1m", "400: 10", "400: 20 1m, 10 2m", "-1: 10 1m", "400 25 3: 1 1", "400: 10 x", "400:"})
        EXPECT_FALSE(EnergyTable::read(wrong)) << wrong;
}

// One stage of a ladder is one term; of two the sums of resistances, and the step at the junction, are those of the
// ladder solved by hand.
TEST(ThermalNetworks, LaddersBecomeChains) {
    const auto one = ThermalNetwork::read("0.5 0.02", true);
    ASSERT_TRUE(one);
    ASSERT_EQ(one->terms().size(), 1u);
    EXPECT_NEAR(one->terms()[0].resistance, 0.5, 1e-12);
    EXPECT_NEAR(one->terms()[0].time, 0.01, 1e-12);
    const auto two = ThermalNetwork::read("0.2 0.05, 0.6 1", true);
    ASSERT_TRUE(two);
    EXPECT_NEAR(two->resistance(), 0.8, 1e-12);
    // Z(s) = R1 + ... : at t = 0 the rise is p / C1; sum R/tau = 1/C1.
    double start = 0;
    for (const auto& term : two->terms()) start += term.resistance / term.time;
    EXPECT_NEAR(start, 1 / 0.05, 1e-9);
    // Against small steps of the two balances.
    double t1 = 0, t2 = 0;
    const double h = 1e-5;
    for (int k = 0; k < 20000; ++k) {
        const double flow = (t1 - t2) / 0.2;
        t1 += h * (1 - flow) / 0.05;
        t2 += h * (flow - t2 / 0.6) / 1;
    }
    double rise = 0;
    for (const auto& term : two->terms()) rise += term.resistance * (1 - std::exp(-0.2 / term.time));
    EXPECT_NEAR(rise, t1, 1e-4);
    EXPECT_NEAR(ThermalNetwork::read("0.2 1m, 0.5 20m", false)->resistance(), 0.7, 1e-12);
    EXPECT_TRUE(ThermalNetwork::read("", false)->terms().empty());
    EXPECT_FALSE(ThermalNetwork::read("0.2", false));
    EXPECT_FALSE(ThermalNetwork::read("0.2 -1", false));
}

// Each period turns on and off once at 10 A, and the diode recovers once: energies times the frequency.
TEST(Losses, AreEnergiesTimesFrequencyAndWhatIsConducted) {
    for (const char* transistor : {"mosfet", "igbt"}) {
        Circuit c = chopper(transistor);
        c.set("Q1", "eon", "100: 10 2m").set("Q1", "eoff", "200: 10 6m").set("D1", "err", "100: 10 1m");
        const auto r = run(c);
        ASSERT_TRUE(r);
        ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
        const auto rows = lossesOf(*r, toTicks(0.1e-3 + 1e-9), toTicks(0.6e-3 + 1e-9));
        const LossRow &q = rowOf(rows, "Q1"), &d = rowOf(rows, "D1");
        const double drop = std::string(transistor) == "igbt" ? 1.0 : 0.0;  // its knee
        EXPECT_NEAR(q.conduction, 0.4 * (10 * drop + 0.02 * 100), 0.01) << transistor;
        EXPECT_NEAR(d.conduction, 0.6 * (0.8 * 10 + 0.01 * 100), 0.01);
        // The transistor blocks 100 V and the drop of the diode, 0.9 V.
        EXPECT_NEAR(q.on, 20e3 * 2e-3 * 1.009, 0.01);
        EXPECT_NEAR(q.off, 20e3 * 6e-3 / 2 * 1.009, 0.02);
        EXPECT_NEAR(d.rr, 20e3 * 1e-3 * (100 - 0.02 * 10 - drop) / 100, 0.02);
        EXPECT_EQ(q.events, 20);
        EXPECT_EQ(d.events, 10);
        EXPECT_FALSE(q.mean);
        EXPECT_GE(rows[0].total(), rows[1].total()) << "the largest first";
    }
}

// At the temperature that the losses lead to: E(T) = E0 (1 + a (T - 25)), T = Tc + R (Pc + f E(T)), solved by hand.
TEST(Losses, TakeTheirOwnTemperature) {
    Circuit c = chopper("mosfet");
    c.set("Q1", "eon", "100.9 25: 10 1m; 100.9 225: 10 3m").set("Q1", "zth", "0.5 2m, 1 50m").set("Q1", "tcase", "60");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto rows = lossesOf(*r, toTicks(0.1e-3 + 1e-9), toTicks(0.6e-3 + 1e-9));
    const LossRow& q = rowOf(rows, "Q1");
    const double a = 2e-3 / 200, f = 20e3, conducted = q.conduction;
    const double temperature = (60 + 1.5 * (conducted + f * (1e-3 - a * 25))) / (1 - 1.5 * f * a);
    ASSERT_LT(temperature, 225) << "within the table";
    ASSERT_TRUE(q.mean);
    EXPECT_NEAR(*q.mean, temperature, 0.05);
    // An energy lifts the junction by E/C at once: the peak is above the mean by less than that.
    const double jump = q.on / f * (0.5 / 2e-3 + 1 / 50e-3);
    EXPECT_GT(*q.peak, *q.mean);
    EXPECT_LT(*q.peak, *q.mean + jump);
}

// Without voltage before it, or without current, switching costs nothing; rungs 1 and 3 have no table losses.
TEST(Losses, AreNoneWhereSwitchingIsSoft) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
        .add("mosfet", "Q1", {"in", "sw", "g"}, {{"eon", "100: 10 1m"}, {"eoff", "100: 10 1m"}}, 2)
        .add("inductor", "L1", {"sw", "x"}, {{"l", "100u"}})
        .add("resistor", "R1", {"x", "0"}, {{"r", "1k"}})
        .add("diode", "D1", {"0", "sw"}, {{"err", "100: 10 1m"}}, 2)
        .add("modulator", "M1", {"", "g", ""}, {{"f", "20k"}, {"duty", "0.4"}})
        .plan("1m", "1e-5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto rows = lossesOf(*r, 0, r->end());
    // Turning on begins at no current in the winding; what is left is the leakage.
    EXPECT_LT(rowOf(rows, "Q1").on, 1e-2);
    EXPECT_LT(rowOf(rows, "D1").rr, 0.05 * rowOf(rows, "Q1").off + 1e-9);
    Circuit ideal = chopper("mosfet");
    ideal.project().sheet().parts[2].rung = 1;
    for (const LossRow& row : lossesOf(*run(ideal), 0, toTicks(1e-3))) EXPECT_NE(row.part, "Q1");
}

TEST(Losses, BadDataAreNamed) {
    Circuit c = chopper("mosfet");
    c.set("Q1", "eon", "10 1m");
    const auto refused = hedgerow::Run::prepare(std::make_shared<Project>(c.project()));
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().part, "Q1");
    EXPECT_EQ(refused.error().field, "eon");
    EXPECT_NE(refused.error().message.find("write the voltage"), std::string::npos) << refused.error().message;
}

// For a sine the improved equation is Steinmetz's own.
TEST(CoreLosses, OfASineAreThoseOfItsEquation) {
    const CoreLoss core{3.0, 100e3, 20e-6, 1.5, 2.6};
    for (const auto& [f, flux] : {std::pair{100e3, 20e-6}, std::pair{50e3, 10e-6}, std::pair{300e3, 4e-6}}) {
        std::vector<double> times, voltages;
        const double w = 2 * std::numbers::pi * f;
        for (int k = 0; k <= 4000; ++k) {
            const double t = k / 2000.0 / f;
            times.push_back(t);
            voltages.push_back(w * flux * std::sin(w * t));  // from one turn of the flux to another
        }
        EXPECT_RELATIVE(core.mean(times, voltages), 3 * std::pow(f / 100e3, 1.5) * std::pow(flux / 20e-6, 2.6), 2e-3);
    }
}

// A square voltage makes a triangle of flux: k_i (2 B f)^a B^(b - a) for a swing of B, with the k_i of the equation.
TEST(CoreLosses, OfATriangleHaveAClosedForm) {
    const CoreLoss core{3.0, 100e3, 20e-6, 1.5, 2.6};
    const double f = 80e3, swing = 30e-6, v = swing * 2 * f;
    std::vector<double> times, voltages;
    for (int k = 0; k < 10; ++k)
        for (const auto& [part, sign] : {std::pair{0.0, 1}, std::pair{0.5, 1}, std::pair{0.5, -1}, std::pair{1.0, -1}})
            times.push_back((k + part) / f), voltages.push_back(sign * v);
    double turn = 0;
    for (int k = 0; k < 100000; ++k)
        turn += std::pow(std::abs(std::cos(2 * std::numbers::pi * (k + 0.5) / 100000)), 1.5);
    turn *= 2 * std::numbers::pi / 100000;
    const double k = 3 / std::pow(100e3, 1.5) / std::pow(20e-6, 2.6);
    const double ki = k / (std::pow(2, 1.1) * std::pow(2 * std::numbers::pi, 0.5) * turn);
    EXPECT_RELATIVE(core.mean(times, voltages), ki * std::pow(v, 1.5) * std::pow(swing, 1.1), 1e-6);
    // A minor loop of a tenth of the swing within a rise costs what it would alone, and the rise what it does without.
    const auto with = [&](bool loop) {
        std::vector<double> t{0}, u{v};
        const auto go = [&](double volts, double seconds) {
            t.push_back(t.back()), u.push_back(volts);
            t.push_back(t.back() + seconds), u.push_back(volts);
        };
        const double half = 0.5 / f, small = half / 10;
        go(v, half / 2);
        if (loop) go(-v, small), go(v, small);
        go(v, half / 2);
        go(-v, half);
        return core.mean(t, u) * t.back();
    };
    EXPECT_RELATIVE(with(true) - with(false), ki * std::pow(v, 1.5) * 2 * (0.05 / f) * std::pow(swing / 10, 1.1), 1e-6);
}

TEST(CoreLosses, AreToldForInductorsAndTransformers) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "12.566371"}, {"f", "100k"}})
        .add("inductor", "L1", {"in", "0"},
             {{"l", "100u"}, {"dcr", "1u"}, {"rc", "1G"}, {"pcore", "2"}, {"fcore", "100k"}, {"lcore", "20u"}}, 2)
        .add("transformer", "TR1", {"in", "0", "s", "0"},
             {{"r1", "1u"}, {"rc", "1G"}, {"pcore", "5"}, {"fcore", "100k"}, {"lcore", "20u"}}, 2)
        .add("resistor", "R1", {"s", "0"}, {{"r", "1k"}})
        .plan("200u", "1e-6");
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto rows = lossesOf(*r, toTicks(100e-6), toTicks(200e-6));
    ASSERT_EQ(rows.size(), 2u);
    EXPECT_EQ(rows[0].part, "TR1");
    EXPECT_RELATIVE(rows[0].core, 5, 5e-3);
    EXPECT_RELATIVE(rows[1].core, 2, 5e-3);
    c.set("L1", "pcore", "0");
    const auto without = run(c);
    ASSERT_TRUE(without);
    EXPECT_EQ(lossesOf(*without, 0, toTicks(200e-6)).size(), 1u);
}

// A contact chops both half-waves of a current: each closing and opening has its energy, whatever the sign.
TEST(Losses, AContactTurnsOnAndOffBothWays) {
    for (const char* level : {"10", "-10"}) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", std::string(level[0] == '-' ? "-" : "") + "100"}})
            .add("switch", "S1", {"in", "sw", "g"}, {{"ron", "20m"}, {"eon", "100: 10 1m"}, {"eoff", "100: 10 2m"}}, 2)
            .add("diode", "D1", {level[0] == '-' ? "sw" : "0", level[0] == '-' ? "0" : "sw"}, {{"vf", "0"}}, 2)
            .add("dc-current", "I1", {"sw", "0"}, {{"level", level}})
            .add("modulator", "M1", {"", "g", ""}, {{"f", "20k"}, {"duty", "0.4"}})
            .plan("1m", "1e-5");
        const auto r = run(c);
        ASSERT_TRUE(r);
        const auto rows = lossesOf(*r, 0, r->end());
        const LossRow& row = rowOf(rows, "S1");
        EXPECT_RELATIVE(row.on, 20 * 1.0, 0.06) << level;  // 1 mJ, 20,000 times a second; the first edge is the start
        EXPECT_RELATIVE(row.off, 20 * 2.0, 0.06) << level;
        EXPECT_EQ(row.rr, 0);
    }
}

// A thyristor that is fired takes 10 A from 100 V once; one that is always fired recovers each time its voltage turns.
TEST(Losses, AThyristorTurnsOnAndRecovers) {
    const auto circuit = [](const char* source, const Circuit::Values& values, const char* gate) {
        Circuit c;
        c.add(source, "V1", {"in", "0"}, values)
            .add("thyristor", "T1", {"in", "out", "g"},
                 {{"vf", "0"}, {"ron", "1u"}, {"eon", "100: 10 1m"}, {"err", "100: 10 3m"}}, 2)
            .add("resistor", "R1", {"out", "0"}, {{"r", "10"}})
            .plan("10m", "1e-5");
        if (std::string(gate) == "on")
            c.add("constant", "K1", {"g"}, {{"value", "1"}});
        else
            c.add("signal-step", "K1", {"g"}, {{"at", "1m"}});
        return c;
    };
    const auto fired = run(circuit("dc-voltage", {{"level", "100"}}, "later"));
    ASSERT_TRUE(fired);
    ASSERT_EQ(fired->summary().end, RunEnd::finished) << fired->summary().brief();
    const auto ofFired = lossesOf(*fired, 0, fired->end());
    EXPECT_RELATIVE(rowOf(ofFired, "T1").on, 1e-3 / 10e-3, 1e-3);
    EXPECT_EQ(rowOf(ofFired, "T1").rr, 0);

    const auto turned = run(circuit("pulse-voltage", {{"low", "-100"}, {"high", "100"}, {"f", "1k"}}, "on"));
    ASSERT_TRUE(turned);
    ASSERT_EQ(turned->summary().end, RunEnd::finished) << turned->summary().brief();
    const auto ofTurned = lossesOf(*turned, 0, turned->end());
    EXPECT_EQ(rowOf(ofTurned, "T1").on, 0) << "no voltage was blocked forwards";
    EXPECT_RELATIVE(rowOf(ofTurned, "T1").rr, 3e-3 * 1e3, 0.11);  // ten periods, at one end of which it may not show
}
