// Random circuits of ideal parts, degenerate ones among them: capacitors in parallel, inductors in series with
// switches, islands behind diodes. Each runs with its powers in balance, or gives an error that names parts; none
// hangs.

#include <chrono>
#include <cmath>
#include <random>

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
    int ran = 0, refusedInRun = 0;
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
    }
    EXPECT_GT(ran, 3);
    RecordProperty("ran", ran);
    RecordProperty("refused", refusedInRun);
}

INSTANTIATE_TEST_SUITE_P(Seeds, RandomIdeal, ::testing::Range(1u, 51u));
