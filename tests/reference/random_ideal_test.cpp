// Random circuits of ideal parts, degenerate ones among them: capacitors in parallel, inductors in series with
// switches, islands behind diodes. Each runs with its powers in balance, or gives an error that names parts; none
// hangs.

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <random>
#include <tuple>

#include "runs/verify.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

class RandomIdeal : public ::testing::TestWithParam<unsigned> {
protected:
    std::string value(double low, double high) {
        const double v = std::exp(std::uniform_real_distribution<double>(std::log(low), std::log(high))(random));
        return std::to_string(v * 1e9) + "e-9";
    }
    std::string node() { return random() % 4 == 0 ? "0" : "n" + std::to_string(random() % 4); }

    Circuit circuit() {
        Circuit c;
        c.add("sine-voltage", "V1", {"n0", "0"}, {{"peak", value(5, 50)}, {"f", value(200, 2000)}});
        c.add("modulator", "M1", {"", "g", "h"}, {{"f", value(2000, 20000)}, {"duty", "0.4"}, {"dead", "500n"}});
        const int parts = 4 + static_cast<int>(random() % 7);
        for (int i = 0; i < parts; ++i) {
            const std::string a = node(), id = std::to_string(i);
            std::string b = node();
            if (a == b) b = a == "0" ? "n1" : "0";
            switch (random() % 7) {
                case 0:
                case 1:
                    c.add("resistor", "R" + id, {a, b}, {{"r", value(0.5, 200)}});
                    break;
                case 2:
                    c.add("inductor", "L" + id, {a, b}, {{"l", value(50e-6, 5e-3)}});
                    break;
                case 3:
                    c.add("capacitor", "C" + id, {a, b}, {{"c", value(1e-6, 100e-6)}});
                    break;
                case 4:
                    c.add("diode", "D" + id, {a, b});
                    break;
                case 5:
                    c.add("switch", "S" + id, {a, b, random() % 2 ? "g" : "h"});
                    break;
                default:
                    c.add("resistor", "R" + id, {a, "0"}, {{"r", value(1, 50)}});
                    break;
            }
        }
        c.plan("3m", "1e-2");
        return c;
    }
    std::mt19937 random{GetParam()};
};

/// Sum of all powers at every stored point, against the largest of them.
void expectBalance(const Run& r) {
    std::vector<std::unique_ptr<Trace>> powers;
    for (const std::string& name : r.quantityNames())
        if (name.ends_with(".p")) powers.push_back(r.trace(name));
    double largest = 0;
    for (const auto& power : powers) {
        const auto [low, high] = power->range(0, power->size());
        largest = std::max({largest, std::abs(low), std::abs(high)});
    }
    ASSERT_TRUE(std::isfinite(largest));
    for (std::size_t i = 0; i < r.store().count(); ++i) {
        double sum = 0;
        for (const auto& power : powers) sum += power->value(i);
        ASSERT_LE(std::abs(sum), 1e-9 * largest + 1e-12) << "at point " << i;
    }
}

}  // namespace

TEST_P(RandomIdeal, RunsInBalanceOrNamesParts) {
    int ran = 0, sameOrder = 0, refusedInRun = 0;
    for (int trial = 0; trial < 40; ++trial) {
        SCOPED_TRACE(trial);
        const Circuit c = circuit();
        auto prepared = Run::prepare(std::make_shared<const Project>(c.project()));
        if (!prepared) {
            EXPECT_FALSE(prepared.error().message.empty());
            continue;
        }
        (*prepared)->execute();
        const RunSummary& summary = (*prepared)->summary();
        if (summary.end == RunEnd::failed) {
            ++refusedInRun;
            ASSERT_TRUE(summary.error);
            bool names = !summary.error->net.empty();
            for (const Part& part : c.project().sheet().parts)
                names = names || summary.error->message.find(part.name) != std::string::npos;
            EXPECT_TRUE(names) << summary.error->message;
            continue;
        }
        ASSERT_EQ(summary.end, RunEnd::finished);
        ++ran;
        expectBalance(**prepared);
        // The same circuit in long double, by finer steps, without shortcuts. What is zero but for rounding has no
        // digits to agree in.
        const auto verification = verify(**prepared, CancelToken());
        ASSERT_TRUE(verification) << verification.error().message;
        for (const Verification::Difference& d : verification->differences)
            // A power is zero by a current or a voltage that is, times one that may be 50.
            EXPECT_TRUE(d.relative <= 1e-9 || d.largest <= (d.unit == "W" ? 5e-11 : 1e-12))
                << d.quantity << " " << d.largest << d.unit;
        sameOrder += verification->sameEvents;
        if (!verification->sameEvents)
            std::cerr << "TRIAL " << trial << " " << summary.brief() << " " << verification->events << " vs "
                      << verification->referenceEvents << " shift " << verification->largestShift << " worst "
                      << verification->differences.front().relative << "\n";
    }
    EXPECT_GT(ran, 3);
    EXPECT_GE(sameOrder, ran - 2) << "parts that change at one instant may do so in either order";
    RecordProperty("ran", ran);
    RecordProperty("refused", refusedInRun);
}

// What the parts are called and in which order they are listed changes nothing but rounding. The switching parts have
// resistances here: which of two ideal diodes side by side conducts, or whether one without current and voltage does,
// has no answer.
TEST_P(RandomIdeal, NamesAndOrderDoNotMatter) {
    int compared = 0;
    for (int trial = 0; trial < 25; ++trial) {
        SCOPED_TRACE(trial);
        Circuit c = circuit();
        for (Part& part : c.project().sheet().parts)
            if (part.kind == "diode" || part.kind == "switch") part.rung = 2;
        Project other = c.project();
        std::shuffle(other.sheet().parts.begin(), other.sheet().parts.end(), random);
        for (Part& part : other.sheet().parts) part.name += "x";
        auto first = Run::prepare(std::make_shared<const Project>(c.project()));
        auto second = Run::prepare(std::make_shared<const Project>(other));
        ASSERT_EQ(static_cast<bool>(first), static_cast<bool>(second));
        if (!first) continue;
        (*first)->execute();
        (*second)->execute();
        ASSERT_EQ((*first)->summary().end, (*second)->summary().end) << (*second)->summary().brief();
        if ((*first)->summary().end == RunEnd::failed) continue;
        ++compared;
        std::map<std::string, double> largest;  // of its unit
        std::vector<std::tuple<std::string, std::string, double, double>> ends;
        for (const std::string& name : (*first)->quantityNames()) {
            const std::size_t dot = name.find('.');
            const bool ofPart = std::any_of(c.project().sheet().parts.begin(), c.project().sheet().parts.end(),
                                            [&](const Part& p) { return p.name == name.substr(0, dot); });
            const auto a = (*first)->trace(name);
            const auto b = (*second)->trace(ofPart ? name.substr(0, dot) + "x" + name.substr(dot) : name);
            ASSERT_TRUE(a && b) << name;
            const auto [low, high] = a->range(0, a->size());
            largest[a->unit()] = std::max({largest[a->unit()], std::abs(low), std::abs(high)});
            ends.emplace_back(name, a->unit(), a->value(a->size() - 1), b->value(b->size() - 1));
        }
        // Currents of windings that cancel each other leave rounding, which an off-resistance of 10 Mohm makes a
        // voltage.
        std::map<std::string, double> rounding;
        rounding["V"] = 4 * std::numeric_limits<double>::epsilon() * largest["A"] * 1e7;
        rounding["W"] = rounding["V"] * largest["A"];
        for (const auto& [name, unit, a, b] : ends)
            EXPECT_NEAR(a, b, 1e-9 * largest[unit] + rounding[unit] + 1e-12) << name;
    }
    EXPECT_GT(compared, 0);
}

INSTANTIATE_TEST_SUITE_P(Seeds, RandomIdeal, ::testing::Range(1u, 51u));

namespace {

/// Random loads, up to four, at one link whose capacitor has a series resistance or none.
class RandomPlant : public RandomIdeal {
protected:
    Circuit plant() {
        Circuit c;
        const bool lossy = random() % 2 != 0;
        c.add("dc-voltage", "V1", {"s", "0"}, {{"level", value(20, 200)}})
            .add("resistor", "RS", {"s", "p"}, {{"r", value(0.1, 2)}})
            .add("capacitor", "CL", {"p", "0"}, {{"c", value(20e-6, 500e-6)}, {"esr", value(1e-3, 0.1)}},
                 lossy ? 2 : 1);
        const int loads = lossy ? 4 : 2 + static_cast<int>(random() % 3);  // a small lossy one is a single section
        for (int k = 0; k < loads; ++k) {
            const std::string id = std::to_string(k), g = "g" + id, h = "h" + id, leg = "leg" + id, out = "out" + id;
            c.add("modulator", "M" + id, {"", g, h},
                  {{"f", value(2000, 20000)}, {"duty", value(0.2, 0.8)}, {"dead", "500n"}});
            const char* upper = random() % 3 ? "igbt" : "mosfet";
            for (int leg2 = 0; leg2 < 3; ++leg2) {
                const std::string x = leg + std::to_string(leg2), y = out + std::to_string(leg2);
                c.add(upper, "QU" + id + std::to_string(leg2), {"p", x, leg2 == 1 ? h : g})
                    .add(upper, "QL" + id + std::to_string(leg2), {x, "0", leg2 == 1 ? g : h})
                    .add("inductor", "L" + id + std::to_string(leg2), {x, y}, {{"l", value(50e-6, 5e-3)}});
                if (random() % 2)
                    c.add("capacitor", "C" + id + std::to_string(leg2), {y, "star" + id}, {{"c", value(1e-6, 50e-6)}});
                c.add("resistor", "R" + id + std::to_string(leg2), {y, "star" + id}, {{"r", value(1, 50)}});
            }
            // Now and then something that does not stand alone: a capacitor that is put beside that of the link.
            if (random() % 4 == 0)
                c.add("switch", "SX" + id, {"p", "x" + id, g})
                    .add("capacitor", "CX" + id, {"x" + id, "0"}, {{"c", value(1e-6, 20e-6)}})
                    .add("resistor", "RX" + id, {"x" + id, "0"}, {{"r", value(5, 50)}});
            if (random() % 3 == 0) c.add("resistor", "RN" + id, {"star" + id, "0"}, {{"r", value(1, 1000)}});
        }
        c.plan("1m", "1e-2");
        return c;
    }
};

}  // namespace

// The other run knows no sections: it solves each configuration as a whole, in long double and by finer steps.
TEST_P(RandomPlant, SectionsMakeNoDifference) {
    for (int trial = 0; trial < 4; ++trial) {
        SCOPED_TRACE(trial);
        const Circuit c = plant();
        auto prepared = Run::prepare(std::make_shared<const Project>(c.project()));
        ASSERT_TRUE(prepared) << prepared.error().message;
        (*prepared)->execute();
        ASSERT_EQ((*prepared)->summary().end, RunEnd::finished) << (*prepared)->summary().brief();
        EXPECT_GT((*prepared)->summary().counter("subnetworks"), 1);
        expectBalance(**prepared);
        const auto verification = verify(**prepared, CancelToken());
        ASSERT_TRUE(verification) << verification.error().message;
        EXPECT_TRUE(verification->sameEvents);
        // Where a guard crosses zero at a small angle its instant has fewer digits, with or without sections.
        const double allowed = verification->largestShift > 1e-14 ? 1e-7 : 1e-9;
        for (const Verification::Difference& d : verification->differences)
            EXPECT_TRUE(d.relative <= allowed || d.largest <= 1e-12) << d.quantity << " " << d.largest << d.unit;
    }
}

INSTANTIATE_TEST_SUITE_P(Seeds, RandomPlant, ::testing::Range(1u, 26u));
