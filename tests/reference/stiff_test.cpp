// Off-resistances, core-loss resistances and inductances of any size, also behind leakage inductances: time constants
// down to 1e-30 s beside those of the converter. Random converters are solved for a row of each; the numbers must go to
// those of the largest resistance as one over the resistance, and neither points nor steps grow.

#include <algorithm>
#include <cmath>
#include <map>
#include <random>

#include "formats/hedge/hedge.h"
#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

struct Case {
    Circuit circuit;
    double period = 0, voltage = 0;
    std::vector<std::string> switches;  ///< parts with an off-resistance
    std::string what;
};

class Stiff : public ::testing::TestWithParam<unsigned> {
protected:
    double number(double low, double high) {
        return std::exp(std::uniform_real_distribution<double>(std::log(low), std::log(high))(random_));
    }
    static std::string text(double value) {
        char buffer[32];
        std::snprintf(buffer, sizeof buffer, "%.9g", value);
        return buffer;
    }
    void diode(Case& c, const std::string& name, const std::string& anode, const std::string& cathode) {
        c.circuit.add("diode", name, {anode, cathode}, {{"vf", text(number(0.2, 1))}, {"ron", text(number(1e-3, 2e-2))}},
                      2);
        c.switches.push_back(name);
    }
    void transistor(Case& c, const std::string& name, const std::string& from, const std::string& to,
                    const std::string& gate) {
        c.circuit.add("switch", name, {from, to, gate}, {{"ron", text(number(1e-3, 2e-2))}}, 2);
        c.switches.push_back(name);
    }

    Case chopper(bool up) {
        const double f = number(2e4, 2e5);
        Case c{{}, 1 / f, number(12, 400), {}, up ? "step-up" : "step-down"};
        const double load = number(5, 50);
        c.circuit.add("dc-voltage", "V1", {"in", "0"}, {{"level", text(c.voltage)}})
            .add("modulator", "M1", {"", "g", ""}, {{"f", text(f)}, {"duty", text(number(0.3, 0.6))}})
            .add("inductor", "L1", {up ? "in" : "x", up ? "x" : "out"}, {{"l", text(number(0.2, 4) * load / f)}})
            .add("capacitor", "C1", {"out", "0"}, {{"c", text(number(5, 50) / (load * f))}})
            .add("resistor", "R1", {"out", "0"}, {{"r", text(load)}});
        transistor(c, "S1", up ? "x" : "in", up ? "0" : "x", "g");
        diode(c, "D1", up ? "x" : "0", up ? "out" : "x");
        return c;
    }

    /// A half bridge with a resonant tank, a transformer and a diode bridge.
    Case resonant() {
        const double f0 = number(5e4, 2e5), z = number(20, 60), ratio = number(0.3, 20), load = number(3, 12) * z;
        Case c{{}, 1 / (f0 * number(0.8, 1.3)), number(100, 800), {}, "resonant"};
        const double lr = z / (2 * M_PI * f0), side = load / (ratio * ratio);
        c.circuit.add("dc-voltage", "V1", {"in", "0"}, {{"level", text(c.voltage)}})
            .add("modulator", "M1", {"", "g", "n"}, {{"f", text(1 / c.period)}, {"duty", "0.5"}})
            .add("capacitor", "Cr", {"h", "a"}, {{"c", text(1 / (2 * M_PI * f0 * z))}})
            .add("inductor", "Lr", {"a", "b"}, {{"l", text(lr)}})
            .add("inductor", "Lm", {"b", "0"}, {{"l", text(number(3, 10) * lr)}})
            .add("transformer", "T1", {"b", "0", "s1", "s2"}, {{"n1", text(ratio)}, {"n2", "1"}})
            .add("capacitor", "C1", {"o", "0"}, {{"c", text(number(20, 80) / (side * f0))}})
            .add("resistor", "R1", {"o", "0"}, {{"r", text(side)}});
        transistor(c, "S1", "in", "h", "g");
        transistor(c, "S2", "h", "0", "n");
        diode(c, "D1", "s1", "o");
        diode(c, "D2", "s2", "o");
        diode(c, "D3", "0", "s1");
        diode(c, "D4", "0", "s2");
        return c;
    }

    /// A diode bridge behind an inductance of the mains.
    Case rectifier() {
        const double load = number(10, 100);
        Case c{{}, 0.02, 325, {}, "rectifier"};
        c.circuit.add("sine-voltage", "V1", {"m", "q"}, {{"peak", "325"}, {"f", "50"}})
            .add("inductor", "L1", {"m", "u"}, {{"l", text(number(1e-6, 5e-3))}})
            .add("capacitor", "C1", {"o", "0"}, {{"c", text(number(0.005, 0.05) / load)}})
            .add("resistor", "R1", {"o", "0"}, {{"r", text(load)}});
        diode(c, "D1", "u", "o");
        diode(c, "D2", "q", "o");
        diode(c, "D3", "0", "u");
        diode(c, "D4", "0", "q");
        return c;
    }

    Case make() {
        switch (GetParam() % 4) {
            case 0:
                return chopper(false);
            case 1:
                return chopper(true);
            case 2:
                return resonant();
        }
        return rectifier();
    }

    struct Outcome {
        std::vector<double> ends;  ///< of the states
        std::int64_t points = 0, steps = 0;
    };
    static Outcome solve(Case& c) {
        Outcome outcome;
        const double end = (c.period > 0.01 ? 3 : 30) * c.period;
        c.circuit.plan(text(end), "1e-3");
        const auto r = run(c.circuit);
        if (!r) return outcome;
        EXPECT_EQ(r->summary().end, RunEnd::finished) << c.what << ": " << r->summary().brief();
        for (const auto& [name, count] : r->summary().counters) {
            if (name == "stored points") outcome.points = count;
            if (name == "steps") outcome.steps = count;
        }
        outcome.ends = r->summary().snapshot.values();
        return outcome;
    }

    std::mt19937 random_{GetParam()};
};

TEST_P(Stiff, OffResistancesOfAnySize) {
    Case c = make();
    const auto with = [&](double resistance) {
        for (const std::string& name : c.switches) c.circuit.set(name, "roff", text(resistance));
        return solve(c);
    };
    const Outcome ideal = with(1e15);
    ASSERT_FALSE(ideal.ends.empty());
    const double largest = *std::max_element(ideal.ends.begin(), ideal.ends.end());
    for (double resistance = 1e14; resistance > 0.9e3; resistance /= 10) {
        SCOPED_TRACE(c.what + ", " + std::to_string(GetParam()) + ": " + text(resistance) + " Ohm");
        const Outcome now = with(resistance);
        ASSERT_EQ(now.ends.size(), ideal.ends.size());
        for (std::size_t i = 0; i < now.ends.size(); ++i) {
            // What leaks is small against the currents of the converter, by the resistance against its own.
            const double size = std::max(std::abs(ideal.ends[i]), 0.01 * largest);
            EXPECT_NEAR(now.ends[i], ideal.ends[i], size * (1e-6 + 3e4 / resistance)) << i;
        }
        // Below 100 MOhm what dies out is part of the picture.
        const std::int64_t times = resistance >= 1e8 ? 3 : 12;
        EXPECT_LE(now.points, times * ideal.points + 100);
        EXPECT_LE(now.steps, times * ideal.steps + 1000);
    }
}

// In series with the transistor of a chopper. At each turn-off what is stored in it is lost in the off-resistance.
TEST_P(Stiff, InductancesDownToNothing) {
    const bool up = GetParam() % 2 == 1;
    const unsigned seed = GetParam();
    const auto with = [&](double stray, double resistance) {
        random_.seed(seed);
        Case c = chopper(up);
        c.what = up ? "step-up with stray inductance" : "step-down with stray inductance";
        for (Part& part : c.circuit.project().sheet().parts)
            if (part.name == "S1") {
                // Its upper end moves to a net of its own.
                const PartKind& kind = *partLibrary().catalogue().find("switch");
                const Point pin = part.toSheet(kind.pins[0].at);
                for (Label& label : c.circuit.project().sheet().labels)
                    if (label.at == pin) label.net = "stray";
            }
        c.circuit.add("inductor", "LS", {up ? "x" : "in", "stray"}, {{"l", text(stray)}});
        for (const std::string& name : c.switches) c.circuit.set(name, "roff", text(resistance));
        return solve(c);
    };
    const Outcome ideal = with(1e-13, 1e12);
    ASSERT_FALSE(ideal.ends.empty());
    const double largest = *std::max_element(ideal.ends.begin(), ideal.ends.end());
    for (const double stray : {1e-15, 1e-13, 1e-11, 1e-9})
        for (const double resistance : {1e5, 1e7, 1e9, 1e12, 1e15}) {
            SCOPED_TRACE(std::to_string(seed) + ": " + text(stray) + " H, " + text(resistance) + " Ohm");
            const Outcome now = with(stray, resistance);
            ASSERT_EQ(now.ends.size(), ideal.ends.size());
            for (std::size_t i = 0; i + 1 < now.ends.size(); ++i)
                EXPECT_NEAR(now.ends[i], ideal.ends[i],
                            std::max(std::abs(ideal.ends[i]), 0.01 * largest) * (1e-5 + 3e4 / resistance + 1e7 * stray))
                    << i;
            EXPECT_LE(now.points, 4 * ideal.points + 200);
            EXPECT_LE(now.steps, 4 * ideal.steps + 2000);
        }
}

/// Of the core of a transformer behind a leakage inductance.
TEST_P(Stiff, CoreLossResistancesOfAnySize) {
    std::map<double, Outcome> found;
    for (double loss = 1; loss < 2e15; loss *= 31.6) {
        random_.seed(GetParam());
        Case c = resonant();
        c.circuit.add("resistor", "RC", {"b", "0"}, {{"r", text(loss)}});
        SCOPED_TRACE(std::to_string(GetParam()) + ": " + text(loss) + " Ohm");
        found[loss] = solve(c);
        ASSERT_FALSE(found[loss].ends.empty());
    }
    const Outcome& none = found.rbegin()->second;
    const double largest = *std::max_element(none.ends.begin(), none.ends.end());
    for (const auto& [loss, now] : found) {
        SCOPED_TRACE(std::to_string(GetParam()) + ": " + text(loss) + " Ohm");
        for (std::size_t i = 0; i < now.ends.size() && loss > 1e6; ++i) {
            EXPECT_NEAR(now.ends[i], none.ends[i],
                        std::max(std::abs(none.ends[i]), 0.01 * largest) * (1e-6 + 3e4 / loss));
        }
        EXPECT_LE(now.points, 4 * none.points + 400);
        EXPECT_LE(now.steps, 4 * none.steps + 2000);
    }
}

INSTANTIATE_TEST_SUITE_P(Seeds, Stiff, ::testing::Range(0u, 48u));

TEST(StiffSignals, OfRoundingNoiseAreNotResolved) {
    // Nothing drives the currents of MED-PUMP in its first microsecond, while a large capacitance at a switch rings: what the probes
    // see of them is the last digit of what is not there.
    auto loaded = loadHedge(HEDGEROW_EXAMPLES "/med-pump.hedge");
    ASSERT_TRUE(loaded);
    Sheet* leg = nullptr;
    for (Sheet& sheet : loaded->project.sheets)
        if (sheet.name == "leg") leg = &sheet;
    ASSERT_TRUE(leg);
    for (Part& part : leg->parts)
        if (part.name == "S1") part.rung = 3, part.values.set("c_a", "741n");
    RunSettings settings{.end = "1u", .engine = "exact"};
    const auto run = hedgerow::Run::prepare(std::make_shared<const Project>(std::move(loaded->project)), settings);
    ASSERT_TRUE(run) << run.error().text();
    (*run)->execute();
    ASSERT_EQ((*run)->summary().end, RunEnd::finished) << (*run)->summary().brief();
    EXPECT_LT((*run)->points(), 20'000u);
}

}  // namespace
