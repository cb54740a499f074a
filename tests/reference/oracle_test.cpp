// The engine against an independent integrator: Radau IIA of order 5 on the raw stamped descriptor (E. Hairer and
// G. Wanner, Solving Ordinary Differential Equations II, 1996, sect. IV.5), restarted at every event of the run. It
// shares the stamps with the engine, but neither its elimination, its exponentials nor its projections.

#include <cmath>
#include <random>

#include <Eigen/Dense>

#include "formats/hedge/hedge.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

using Matrix = Eigen::MatrixXd;
using Vector = Eigen::VectorXd;

Matrix dense(const std::vector<Triplet>& entries, int rows, int columns) {
    Matrix matrix = Matrix::Zero(rows, columns);
    for (const Triplet& e : entries) matrix(e.row, e.column) += e.value;
    return matrix;
}

/// x' = K z with F z = Hx x + Bw w(t): an index-1 descriptor in the circuits used here.
class Oracle {
public:
    Oracle(const Network& network, const std::vector<int>& segments) : network_(network) {
        LinearStamp stamp(network.nodeCount());
        for (std::size_t i = 0; i < segments.size(); ++i) network.elements[i]->stamp(stamp, segments[i]);
        const int m = network.unknownCount(), n = static_cast<int>(network.states.size());
        f_ = dense(stamp.f, m, m);
        hx_ = dense(stamp.hx, m, n);
        bw_ = dense(stamp.bw, m, network.sourceCount);
        k_ = dense(stamp.k, n, m);
        lu_.compute(f_);
    }
    bool regular() const { return std::abs(f_.fullPivLu().rcond()) > 1e-13; }
    Vector unknowns(const Vector& x, Tick t) const { return lu_.solve(hx_ * x + bw_ * sources(t)); }

    /// From x at t over a whole number of equal steps.
    Vector integrate(Vector x, Tick t, Tick length, int steps) const {
        static const double s6 = std::sqrt(6.0);
        const double c[3] = {(4 - s6) / 10, (4 + s6) / 10, 1};
        Matrix a(3, 3);
        a << (88 - 7 * s6) / 360, (296 - 169 * s6) / 1800, (-2 + 3 * s6) / 225, (296 + 169 * s6) / 1800,
            (88 + 7 * s6) / 360, (-2 - 3 * s6) / 225, (16 - s6) / 36, (16 + s6) / 36, 1.0 / 9;
        const int n = static_cast<int>(x.size());
        if (n == 0) return x;
        const Matrix A = k_ * lu_.solve(hx_), B = k_ * lu_.solve(bw_);
        const double h = toSeconds(length) / steps;
        Matrix system = Matrix::Identity(3 * n, 3 * n);
        for (int i = 0; i < 3; ++i)
            for (int j = 0; j < 3; ++j) system.block(i * n, j * n, n, n) -= h * a(i, j) * A;
        const Eigen::PartialPivLU<Matrix> lu(system);
        for (int step = 0; step < steps; ++step) {
            Matrix forcing(n, 3);
            for (int i = 0; i < 3; ++i)
                forcing.col(i) =
                    B * sources(t + static_cast<Tick>((step + c[i]) * (static_cast<double>(length) / steps)));
            Vector right(3 * n);
            for (int i = 0; i < 3; ++i) {
                right.segment(i * n, n) = x;
                for (int j = 0; j < 3; ++j) right.segment(i * n, n) += h * a(i, j) * forcing.col(j);
            }
            x = Vector(lu.solve(right)).tail(n);
        }
        return x;
    }

private:
    Vector sources(Tick t) const {
        Vector w = Vector::Zero(network_.sourceCount);
        w(0) = 1;
        for (std::size_t i = 0; i < network_.sources.size(); ++i) {
            // Left limits matter at the end of a span: a hair before.
            network_.sources[i]->valueAt(
                t, {w.data() + network_.sourceOffsets[i], static_cast<std::size_t>(network_.sources[i]->size())});
        }
        return w;
    }
    const Network& network_;
    Matrix f_, hx_, bw_, k_;
    Eigen::PartialPivLU<Matrix> lu_;
};

/// Follows the events of a run with the oracle and compares every unknown at every event.
void compare(const Circuit& circuit, double tolerance) {
    const auto r = run(circuit);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const Network& network = r->elaboration().network;
    const RowLayout& layout = r->layout();
    const auto chunks = r->store().chunks();
    const auto views = r->store().views();
    const std::size_t points = r->store().count();
    const auto viewAt = [&](std::size_t i) -> const RowView& {
        return *views[chunks[i / PointChunk::size]->views[i % PointChunk::size]];
    };
    std::vector<std::unique_ptr<Trace>> unknowns;
    for (int c = 0; c < layout.unknowns; ++c) {
        unknowns.push_back(std::make_unique<Trace>(
            r->storePointer(), QuantityInfo{"z", "", QuantityInfo::Sort::linear, {{c, 1.0}}}, layout));
        unknowns.back()->update();
    }
    const auto value = [&](std::size_t i, int column) { return unknowns[static_cast<std::size_t>(column)]->value(i); };
    const auto time = [&](std::size_t i) { return chunks[i / PointChunk::size]->times[i % PointChunk::size]; };
    Vector x(static_cast<int>(network.states.size()));
    for (int i = 0; i < x.size(); ++i) x(i) = network.states[static_cast<std::size_t>(i)].initial;
    double largest = 0;
    for (std::size_t i = 0; i < points; ++i)
        for (int c = 0; c < layout.unknowns; ++c) largest = std::max(largest, std::abs(value(i, c)));
    int spans = 0;
    for (std::size_t start = 0; start + 1 < points;) {
        std::vector<int> segments(network.elements.size(), 0);
        for (std::size_t e = 0; e < segments.size(); ++e)
            if (layout.placeOfElement[e] >= 0)
                segments[e] = viewAt(start).conducting[static_cast<std::size_t>(layout.placeOfElement[e])];
        std::size_t end = start + 1;
        while (end + 1 < points && time(end + 1) != time(end)) ++end;
        const Oracle oracle(network, segments);
        ASSERT_TRUE(oracle.regular()) << "the oracle needs resistances everywhere";
        const Tick length = time(end) - time(start);
        x = oracle.integrate(x, time(start), length, 400);
        const Vector z = oracle.unknowns(x, time(end));
        for (int c = 0; c < layout.unknowns; ++c)
            ASSERT_NEAR(value(end, c), z(c), tolerance * largest)
                << network.describeUnknown(c) << " at " << toSeconds(time(end));
        ++spans;
        start = end + 1;
    }
    EXPECT_GT(spans, 3);
}

}  // namespace

TEST(Oracle, LossyRectifierWithSourceInductance) {
    Circuit c;
    c.add("sine-voltage", "V1", {"p", "n"}, {{"peak", "325"}, {"ri", "0.4"}, {"li", "600u"}}, 2);
    const Circuit::Values diode = {{"vf", "0.9"}, {"ron", "20m"}, {"roff", "10k"}};
    c.add("diode", "D1", {"p", "out"}, diode, 2)
        .add("diode", "D2", {"n", "out"}, diode, 2)
        .add("diode", "D3", {"0", "p"}, diode, 2)
        .add("diode", "D4", {"0", "n"}, diode, 2)
        .add("capacitor", "C1", {"out", "0"}, {{"c", "200u"}, {"esr", "80m"}, {"rp", "1M"}}, 2)
        .add("resistor", "R1", {"out", "0"}, {{"r", "100"}})
        .plan("40m", "1e-2");
    compare(c, 1e-9);
}

TEST(Oracle, LossySynchronousStepDown) {
    Circuit c;
    const Circuit::Values diode = {{"vf", "0.8"}, {"ron", "6m"}, {"roff", "10k"}},
                          gate = {{"ron", "9m"}, {"roff", "10k"}};
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "80"}, {"ri", "20m"}}, 2)
        .add("capacitor", "C1", {"in", "0"}, {{"c", "22u"}, {"esr", "3m"}, {"v0", "80"}}, 2)
        .add("modulator", "M1", {"", "g", "n"}, {{"f", "150k"}, {"duty", "0.3"}, {"dead", "80n"}})
        .add("switch", "S1", {"in", "sw", "g"}, gate, 2)
        .add("diode", "D1", {"sw", "in"}, diode, 2)
        .add("switch", "S2", {"sw", "0", "n"}, gate, 2)
        .add("diode", "D2", {"0", "sw"}, diode, 2)
        .add("inductor", "L1", {"sw", "out"}, {{"l", "22u"}, {"dcr", "7m"}, {"rc", "10k"}}, 2)
        .add("capacitor", "C2", {"out", "0"}, {{"c", "94u"}, {"esr", "2m"}}, 2)
        .add("resistor", "R1", {"out", "0"}, {{"r", "1.92"}})
        .plan("200u", "1e-2");
    compare(c, 1e-9);
}

// Legs at one link: each is a section with configurations of its own. A capacitor without resistance fixes the
// potential of the link; with one, the link is torn.
class LegsAtOneLink : public ::testing::TestWithParam<std::pair<int, const char*>> {};
TEST_P(LegsAtOneLink, AreSectionsOfTheirOwn) {
    const auto [legs, esr] = GetParam();
    const Circuit::Values diode = {{"vf", "0.8"}, {"ron", "6m"}, {"roff", "10k"}},
                          gate = {{"ron", "9m"}, {"roff", "10k"}};
    Circuit c;
    c.add("dc-voltage", "V1", {"s", "0"}, {{"level", "80"}, {"ri", "50m"}}, 2)
        .add("inductor", "LS", {"s", "p"}, {{"l", "10u"}, {"dcr", "5m"}, {"rc", "1k"}}, 2)
        .add("capacitor", "CL", {"p", "0"}, {{"c", "47u"}, {"v0", "80"}, {"esr", esr}}, *esr == '0' ? 1 : 2);
    for (int k = 0; k < legs; ++k) {
        const std::string id = std::to_string(k), leg = "leg" + id, out = "out" + id, g = "g" + id, n = "n" + id;
        c.add("modulator", "M" + id, {"", g, n},
              {{"f", std::to_string(90 + 17 * k) + "k"}, {"duty", std::to_string(0.3 + 0.1 * k)}, {"dead", "80n"}})
            .add("switch", "SU" + id, {"p", leg, g}, gate, 2)
            .add("diode", "DU" + id, {leg, "p"}, diode, 2)
            .add("switch", "SL" + id, {leg, "0", n}, gate, 2)
            .add("diode", "DL" + id, {"0", leg}, diode, 2)
            .add("inductor", "L" + id, {leg, out}, {{"l", "22u"}, {"dcr", "7m"}, {"rc", "10k"}}, 2)
            .add("capacitor", "C" + id, {out, "0"}, {{"c", "94u"}, {"esr", "2m"}}, 2)
            .add("resistor", "R" + id, {out, "0"}, {{"r", std::to_string(2 + k)}});
    }
    c.plan("100u", "1e-2");
    compare(c, 1e-9);
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_EQ(r->summary().counter("subnetworks"), legs);
    // Combinations are many more than what each of them comes to.
    EXPECT_LT(r->summary().counter("states of subnetworks"), 16 * legs);
    EXPECT_GT(r->summary().counter("configurations"), 90);
}
INSTANTIATE_TEST_SUITE_P(Oracle, LegsAtOneLink,
                         ::testing::Values(std::pair{4, "0"}, std::pair{5, "3m"}, std::pair{6, "50m"}));

// Random ladders of R, L, C with diodes, gates and every source: agreement at every event.
TEST(Oracle, RandomSwitchedLadders) {
    std::mt19937 random(11);
    const auto uniform = [&](double low, double high) {
        return std::uniform_real_distribution<double>(low, high)(random);
    };
    const auto log = [&](double low, double high) {
        return std::to_string(std::exp(uniform(std::log(low), std::log(high))) * 1e6) + "e-6";
    };
    for (int trial = 0; trial < 60; ++trial) {
        Circuit c;
        c.add("sine-voltage", "V1", {"n0", "0"}, {{"peak", log(5, 50)}, {"f", log(200, 3000)}, {"ri", log(0.05, 1)}}, 2)
            .add("modulator", "M1", {"", "g", "h"},
                 {{"f", log(2000, 20000)}, {"duty", std::to_string(uniform(0.1, 0.9))}, {"dead", "1u"}});
        const int stages = 2 + static_cast<int>(random() % 4);
        for (int s = 0; s < stages; ++s) {
            const std::string a = "n" + std::to_string(s), b = "n" + std::to_string(s + 1), id = std::to_string(s);
            switch (random() % 5) {
                case 0:
                    c.add("resistor", "RS" + id, {a, b}, {{"r", log(0.1, 10)}});
                    break;
                case 1:
                    c.add("inductor", "LS" + id, {a, b}, {{"l", log(50e-6, 2e-3)}, {"dcr", log(0.01, 1)}, {"rc", "1k"}},
                          2);
                    break;
                case 2:
                    c.add("diode", "DS" + id, {a, b}, {{"vf", "0.7"}, {"ron", "50m"}, {"roff", "5k"}}, 2);
                    break;
                case 3:
                    c.add("switch", "SS" + id, {a, b, "g"}, {{"ron", "50m"}, {"roff", "5k"}}, 2);
                    break;
                default:
                    c.add("switch", "SS" + id, {a, b, "h"}, {{"ron", "50m"}, {"roff", "5k"}}, 2);
                    break;
            }
            switch (random() % 4) {
                case 0:
                    c.add("resistor", "RP" + id, {b, "0"}, {{"r", log(1, 100)}});
                    break;
                case 1:
                    c.add("capacitor", "CP" + id, {b, "0"},
                          {{"c", log(1e-6, 100e-6)}, {"esr", log(0.01, 0.5)}, {"rp", "1k"}}, 2);
                    break;
                case 2:
                    c.add("diode", "DP" + id, {"0", b}, {{"vf", "0.7"}, {"ron", "50m"}, {"roff", "5k"}}, 2);
                    break;
                default:
                    c.add("inductor", "LP" + id, {b, "0"},
                          {{"l", log(100e-6, 5e-3)}, {"dcr", log(0.1, 2)}, {"rc", "1k"}}, 2);
                    break;
            }
        }
        c.add("resistor", "RL", {"n" + std::to_string(stages), "0"}, {{"r", log(2, 200)}}).plan("2m", "1e-2");
        SCOPED_TRACE(trial);
        compare(c, 1e-8);
        if (HasFatalFailure()) return;
    }
}

// Power balance, every branch counted: sources, storage and losses add up to nothing at every stored point (Tellegen).
TEST(Balance, PowersOfAllPartsSumToZero) {
    for (const char* name : {"med-aux.hedge", "mains-input.hedge", "chopped-load.hedge"}) {
        SCOPED_TRACE(name);
        auto loaded = loadHedge(std::string(HEDGEROW_EXAMPLES) + "/" + name);
        ASSERT_TRUE(loaded);
        loaded->project.plans[0].tolerance = "1e-2";
        const auto r = run(loaded->project);
        ASSERT_TRUE(r);
        std::vector<std::unique_ptr<Trace>> powers;
        for (const std::string& quantity : r->quantityNames())
            if (quantity.ends_with(".p")) powers.push_back(r->trace(quantity));
        double largest = 0;
        for (const auto& power : powers)
            largest = std::max(
                {largest, std::abs(power->range(0, power->size()).first), power->range(0, power->size()).second});
        for (std::size_t i = 0; i < r->store().count(); i += 3) {
            double sum = 0;
            for (const auto& power : powers) sum += power->value(i);
            ASSERT_LE(std::abs(sum), 1e-11 * largest) << toSeconds(powers[0]->time(i));
        }
    }
}
