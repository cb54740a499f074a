#include "support/test_set.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <utility>

#include "network/elaborate.h"
#include "parts/generators.h"
#include "runs/registry.h"
#include "support/circuit.h"

namespace hedgerow::test {

namespace {

/// The transistor of the amplifier: g = b (exp((v_b - v_e) / U_F) - 1) leaves at the emitter, a g of it comes in at the
/// collector.
class TestTransistor final : public Element {
public:
    TestTransistor(int base, int emitter, int collector)
        : Element("T"), base_(base), emitter_(emitter), collector_(collector) {}
    bool smooth() const override { return true; }
    void stamp(LinearStamp&, int) const override {}
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        constexpr double a = 0.99, b = 1e-6, uf = 0.026;
        const double e = b * std::exp((at.potential(base_) - at.potential(emitter_)) / uf), g = e - b;
        const std::pair<int, double> shares[] = {{base_, 1 - a}, {collector_, a}, {emitter_, -1}};
        for (const auto& [row, share] : shares) {
            out.flow(row, share * g);
            out.byUnknown(row, base_, share * e / uf);
            out.byUnknown(row, emitter_, -share * e / uf);
        }
    }

private:
    int base_, emitter_, collector_;
};

/// y' = f(y, u): columns y, then y', then u.
class RingModulator final : public Element {
public:
    static constexpr int n = 15;
    RingModulator() : Element("R") {}
    bool smooth() const override { return true; }
    static int y(int i) { return i - 1; }
    static int rate(int i) { return n + i - 1; }
    static int input(int i) { return 2 * n + i - 1; }
    void stamp(LinearStamp& s, int) const override {
        for (int i = 1; i <= n; ++i) {
            s.unknown(y(i), y(i), 1);
            s.state(y(i), i - 1, 1);
            s.rate(i - 1, rate(i), 1);
            s.unknown(rate(i), rate(i), 1);
        }
        const double c = 1.6e-8, cs = 2e-12, cp = 1e-8, r = 25e3, rp = 50, lh = 4.45, ls1 = 2e-3, ls2 = 5e-4,
                     ls3 = 5e-4, rg1 = 36.3, rg2 = 17.3, rg3 = 17.3, ri = 50, rc = 600;
        const auto put = [&](int i, double by, std::initializer_list<std::pair<int, double>> terms) {
            for (const auto& [column, value] : terms) s.unknown(rate(i), column, -value / by);
        };
        put(1, c, {{y(8), 1}, {y(10), -0.5}, {y(11), 0.5}, {y(14), 1}, {y(1), -1 / r}});
        put(2, c, {{y(9), 1}, {y(12), -0.5}, {y(13), 0.5}, {y(15), 1}, {y(2), -1 / r}});
        put(3, cs, {{y(10), 1}});
        put(4, cs, {{y(11), -1}});
        put(5, cs, {{y(12), 1}});
        put(6, cs, {{y(13), -1}});
        put(7, cp, {{y(7), -1 / rp}});
        put(8, lh, {{y(1), -1}});
        put(9, lh, {{y(2), -1}});
        put(10, ls2, {{y(1), 0.5}, {y(3), -1}, {y(10), -rg2}});
        put(11, ls3, {{y(1), -0.5}, {y(4), 1}, {y(11), -rg3}});
        put(12, ls2, {{y(2), 0.5}, {y(5), -1}, {y(12), -rg2}});
        put(13, ls3, {{y(2), -0.5}, {y(6), 1}, {y(13), -rg3}});
        put(14, ls1, {{y(1), -1}, {input(1), 1}, {y(14), -(ri + rg1)}});
        put(15, ls1, {{y(2), -1}, {y(15), -(rc + rg1)}});
        // w = (1, sin, cos, sin, cos)
        for (const auto& [i, peak] : {std::pair{1, 0.5}, std::pair{2, 2.0}}) {
            s.unknown(input(i), input(i), 1);
            s.source(input(i), 2 * i - 1, peak);
        }
    }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        constexpr double gamma = 40.67286402e-9, delta = 17.7493332, cs = 2e-12, cp = 1e-8;
        struct Diode {
            std::array<std::pair<int, double>, 4> voltage;
            std::array<std::tuple<int, double, double>, 3> into;  ///< equation, sign, over
        };
        const Diode diodes[] = {
            {{{{y(3), 1}, {y(5), -1}, {y(7), -1}, {input(2), -1}}}, {{{3, -1, cs}, {5, 1, cs}, {7, 1, cp}}}},
            {{{{y(4), -1}, {y(6), 1}, {y(7), -1}, {input(2), -1}}}, {{{4, 1, cs}, {6, -1, cs}, {7, 1, cp}}}},
            {{{{y(4), 1}, {y(5), 1}, {y(7), 1}, {input(2), 1}}}, {{{4, -1, cs}, {5, -1, cs}, {7, -1, cp}}}},
            {{{{y(3), -1}, {y(6), -1}, {y(7), 1}, {input(2), 1}}}, {{{3, 1, cs}, {6, 1, cs}, {7, -1, cp}}}}};
        for (const Diode& diode : diodes) {
            double u = 0;
            for (const auto& [column, sign] : diode.voltage) u += sign * at.unknown(column);
            const double e = gamma * std::exp(delta * std::min(u, 40.0)), q = e - gamma;
            for (const auto& [equation, sign, over] : diode.into) {
                out.flow(rate(equation), -sign * q / over);
                for (const auto& [column, by] : diode.voltage)
                    out.byUnknown(rate(equation), column, -sign * delta * e * by / over);
            }
        }
    }
};

}  // namespace

TestSetProblem transistorAmplifier() {
    Circuit c;
    c.add("sine-voltage", "VE", {"e", "0"}, {{"peak", "0.1"}, {"f", "100"}})
        .add("dc-voltage", "VB", {"b", "0"}, {{"level", "6"}})
        .add("resistor", "R0", {"e", "n1"}, {{"r", "1k"}});
    const auto resistor = [&](const char* name, const char* a, const char* b) {
        c.add("resistor", name, {a, b}, {{"r", "9k"}});
    };
    const auto capacitor = [&](const char* name, const char* a, const char* b, const char* value, const char* start) {
        c.add("capacitor", name, {a, b}, {{"c", value}, {"v0", start}});
    };
    resistor("R1", "n2", "0"), resistor("R2", "n2", "b"), resistor("R3", "n3", "0"), resistor("R4", "n4", "b");
    resistor("R5", "n5", "0"), resistor("R6", "n5", "b"), resistor("R7", "n6", "0"), resistor("R8", "n7", "b");
    resistor("R9", "n8", "0");
    capacitor("C1", "n1", "n2", "1u", "-3"), capacitor("C2", "n3", "0", "2u", "3");
    capacitor("C3", "n4", "n5", "3u", "3"), capacitor("C4", "n6", "0", "4u", "3");
    capacitor("C5", "n7", "n8", "5u", "6");
    auto elaboration = elaborate(c.project(), partLibrary());
    Network network = std::move(elaboration->network);
    const auto node = [&](const std::string& name) {
        return static_cast<int>(std::find(network.nodes.begin(), network.nodes.end(), name) - network.nodes.begin());
    };
    network.elements.push_back(std::make_unique<TestTransistor>(node("n2"), node("n3"), node("n4")));
    network.elements.push_back(std::make_unique<TestTransistor>(node("n5"), node("n6"), node("n7")));
    // The published end values are node potentials; the states are differences of them.
    const double y[] = {-0.5562145012262709e-2, 0.3006522471903042e1, 0.2849958788608128e1, 0.2926422536206241e1,
                        0.2704617865010554e1,   0.2761837778393145e1, 0.4770927631616772e1, 0.1236995868091548e1};
    std::vector<double> wanted = {y[0] - y[1], y[2], y[3] - y[4], y[5], y[6] - y[7]};
    return {std::move(network), 0.2, std::move(wanted), std::vector<double>(5, 6.0)};
}

TestSetProblem ringModulator() {
    Network network;
    network.branchCount = 2 * RingModulator::n + 2;
    network.branchParts.assign(static_cast<std::size_t>(network.branchCount), "R");
    network.branchSorts.assign(static_cast<std::size_t>(network.branchCount), UnknownSort::signal);
    for (int i = 0; i < RingModulator::n; ++i)
        network.states.push_back(
            {.sort = StateSort::signal, .part = "R", .name = "x" + std::to_string(i + 1), .storage = 1.0});
    for (const double f : {1e3, 1e4}) {
        network.sourceOffsets.push_back(network.sourceCount);
        network.sources.push_back(std::make_unique<parts::SineGenerator>(f, 0.0));
        network.sourceCount += 2;
    }
    network.elements.push_back(std::make_unique<RingModulator>());
    std::vector<double> wanted = {-0.2339057358486745e-1, -0.7367485485540825e-2, 0.2582956709291169,
                                  -0.4064465721283450,    -0.4039455665149794,    0.2607966765422943,
                                  0.1106761861269975,     0.2939904342435596e-6,  -0.2840029933642329e-7,
                                  0.7267198267264553e-3,  0.7929487196960840e-3,  -0.7255283495698965e-3,
                                  -0.7941401968526521e-3, 0.7088495416976114e-4,  0.2390059075236570e-4};
    std::vector<double> sizes(15, 1e-3);
    std::fill_n(sizes.begin(), 7, 0.5);
    return {std::move(network), 1e-3, std::move(wanted), std::move(sizes)};
}

}  // namespace hedgerow::test
