// Random supplies and devices: every circuit that has an operating point starts from it, whatever its values are. What
// it finds is held for a while: states that rest do not move.

#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <random>

#include <fmt/format.h>

#include "runs/registry.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// Draws from the bits of the generator: the same circuits on every machine.
class Draw {
public:
    explicit Draw(unsigned seed) : random_(seed) {}
    double between(double low, double high) {
        return low + (high - low) * static_cast<double>(random_()) / 4294967296.0;
    }
    double decades(double low, double high) { return std::pow(10.0, between(low, high)); }
    template <class T>
    T oneOf(std::initializer_list<T> list) {
        return *(list.begin() + static_cast<std::ptrdiff_t>(random_() % list.size()));
    }
    std::string text(double value) { return fmt::format("{:.6g}", value); }

private:
    std::mt19937 random_;
};

struct RandomStage {
    explicit RandomStage(unsigned seed) : draw(seed) {}

    void device(const std::string& name, const std::string& from, const std::string& to, const std::string& gate) {
        c.add(kind, name, {from, to, gate}, {}, rung);
        for (const auto& [key, value] : values) c.set(name, key, value);
    }
    void diode(const std::string& from, const std::string& to) {
        if (diodeKind == "mosfet")
            c.add("mosfet", "D1", {to, from, "z"}, {}, rung);
        else
            c.add(diodeKind, "D1", {from, to}, {}, rung);
        if (diodeKind == "zener") c.set("D1", "vz", draw.text(3 * supply));
    }
    void output(double r) {
        c.add("capacitor", "C1", {"o", "0"}, {{"c", draw.text(draw.decades(-6, -3.5))}})
            .add("resistor", "R1", {"o", "0"}, {{"r", draw.text(r)}});
    }

    Circuit circuit() {
        supply = draw.decades(0.5, 3);
        rung = draw.oneOf({3, 4});
        kind = draw.oneOf<const char*>({"mosfet", "igbt", "gan-hemt", "switch"});
        diodeKind = draw.oneOf<const char*>({"diode", "mosfet", "zener"});
        const double f = draw.decades(4.3, 5.7), r = supply / draw.decades(-1, 1.3);
        const double l = supply / (f * draw.decades(0, 1) * std::max(supply / r, 1e-3));
        if (kind == "mosfet" || kind == "gan-hemt")
            values = {{"ron", draw.text(draw.decades(-3, -0.5))},    {"coss", draw.text(draw.decades(-10, -8.5))},
                      {"crss", draw.text(draw.decades(-12, -10.5))}, {"ciss", draw.text(draw.decades(-9, -8))},
                      {"rg", draw.text(draw.decades(-0.3, 1.5))},    {"lpk", draw.text(draw.decades(-9.5, -8))}};
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", draw.text(supply)}}, draw.oneOf({1, 2, 3}))
            .add("modulator", "M1", {"", "g", "n"},
                 {{"f", draw.text(f)}, {"duty", draw.text(draw.between(0.1, 0.9))}, {"dead", "50n"}})
            .add("constant", "K1", {"z"}, {{"value", "0"}})
            .plan("1n");
        const std::string inductance = draw.text(l);
        switch (draw.oneOf({0, 1, 2, 3})) {
            case 0:  // step-down
                device("Q1", "in", "x", "g");
                diode("0", "x");
                c.add("inductor", "L1", {"x", "o"}, {{"l", inductance}});
                output(r);
                break;
            case 1:  // step-up
                c.add("inductor", "L1", {"in", "x"}, {{"l", inductance}});
                device("Q1", "x", "0", "g");
                diode("x", "o");
                output(4 * r);
                break;
            case 2:  // half bridge
                device("Q1", "in", "x", "g");
                device("Q2", "x", "0", "n");
                c.add("inductor", "L1", {"x", "o"}, {{"l", inductance}});
                output(r);
                break;
            default:  // flyback
                c.add("transformer", "TR1", {"in", "x", "a", "b"},
                      {{"n1", draw.text(draw.between(0.5, 20))}, {"n2", "1"}, {"lm", draw.text(3 * l)}},
                      draw.oneOf({2, 3}));
                device("Q1", "x", "0", "g");
                diode("b", "o");
                c.add("resistor", "R9", {"a", "0"}, {{"r", "1m"}});
                output(r);
        }
        return c;
    }

    Draw draw;
    Circuit c;
    double supply = 0;
    int rung = 3;
    std::string kind, diodeKind;
    std::vector<std::pair<std::string, std::string>> values;
};

void expectStarts(unsigned seed) {
    SCOPED_TRACE("seed " + std::to_string(seed));
    RandomStage stage(seed);
    const Circuit c = stage.circuit();
    RunSettings settings;
    settings.start = "operating point";
    const auto prepared = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()), settings);
    ASSERT_TRUE(prepared) << prepared.error().message << "\n" << stage.supply << " V, " << stage.kind;
    hedgerow::Run& run = **prepared;
    ASSERT_EQ(run.engine().name(), "adaptive");
    run.execute();
    ASSERT_EQ(run.summary().end, RunEnd::finished) << run.summary().brief();
    // Nothing that rests moves: by no more than the tolerance of the lines, of the largest of its kind.
    const std::vector<double>& before = run.request().startStates;
    const std::vector<double> after = run.summary().snapshot.values();
    const auto& states = run.elaboration().network.states;
    double largest[2] = {stage.supply, 1e-3};
    for (std::size_t i = 0; i < before.size(); ++i) {
        double& size = largest[states[i].sort == StateSort::capacitorVoltage ? 0 : 1];
        if (!states[i].heat) size = std::max(size, std::abs(before[i]));
    }
    for (std::size_t i = 0; i < before.size(); ++i)
        if (!states[i].heat && states[i].sort != StateSort::signal) {
            EXPECT_NEAR(after[i], before[i], 0.02 * largest[states[i].sort == StateSort::capacitorVoltage ? 0 : 1])
                << states[i].part << "." << states[i].name;
        }
}

// The quick tests go through 40 circuits, the long ones through 2,000.
#ifdef HEDGEROW_LONG
constexpr unsigned blocks = 20, each = 100;
#else
constexpr unsigned blocks = 4, each = 10;
#endif

class RandomStarts : public testing::TestWithParam<unsigned> {};
TEST_P(RandomStarts, RestWhereTheyStart) {
    for (unsigned k = 0; k < each; ++k) expectStarts(GetParam() * each + k);
}
INSTANTIATE_TEST_SUITE_P(Seeds, RandomStarts, testing::Range(0u, blocks));

}  // namespace
