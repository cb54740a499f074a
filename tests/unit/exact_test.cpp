// Pieces of the exact engine on their own: elimination against dense algebra, the clock against asking every block.

#include <algorithm>
#include <map>
#include <random>

#include "engines/exact/elimination.h"
#include "engines/exact/interval_map.h"
#include "engines/exact/subnetwork.h"
#include "network/clock.h"
#include "runs/run.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::exact;
using hedgerow::test::Circuit;

namespace {

using Dense = Eigen::MatrixXd;

/// A random sparse matrix of given rank: rows beyond it are combinations of the others.
Dense randomMatrix(int size, int rank, std::mt19937& random) {
    std::uniform_int_distribution<int> column(0, size - 1), entry(-2, 2);
    Dense m = Dense::Zero(size, size);
    for (int r = 0; r < rank; ++r) {
        m(r, r) = 1;
        for (int k = 0; k < 3; ++k) m(r, column(random)) += entry(random);
    }
    for (int r = rank; r < size; ++r)
        for (int k = 0; k < 2; ++k) m.row(r) += entry(random) * m.row(column(random) % std::max(rank, 1));
    return m;
}

std::vector<SparseRow<double>> sparse(const Dense& m) {
    std::vector<SparseRow<double>> rows(static_cast<std::size_t>(m.rows()));
    for (int r = 0; r < m.rows(); ++r)
        for (int c = 0; c < m.cols(); ++c)
            if (m(r, c) != 0) rows[static_cast<std::size_t>(r)].push_back({c, m(r, c)});
    return rows;
}

}  // namespace

// Rank, kernel and solutions agree with full pivoting on the dense matrix (Eigen), for ranks full and deficient.
TEST(Elimination, AgreesWithDenseAlgebra) {
    std::mt19937 random(5);
    for (int trial = 0; trial < 300; ++trial) {
        const int size = 2 + trial % 25, rank = std::max(1, size - trial % 4);
        const Dense f = randomMatrix(size, rank, random);
        // Right-hand sides that can be met, and one that is arbitrary.
        const Dense wanted = Dense::Random(size, 3);
        Dense augmented(size, size + 4);
        augmented << f, f * wanted, Dense::Random(size, 1);
        const Elimination<double> elimination(sparse(augmented), size, 4);
        Eigen::FullPivLU<Dense> reference(f);
        ASSERT_EQ(elimination.freeCount(), reference.dimensionOfKernel()) << "trial " << trial;
        Sparse<double> solvedRows, kernelRows;
        elimination.solve(solvedRows, kernelRows);
        const Dense solution = solvedRows, kernel = kernelRows;
        const double scale = std::max(1.0, f.cwiseAbs().maxCoeff()) * std::max(1.0, solution.cwiseAbs().maxCoeff());
        EXPECT_LT((f * solution.leftCols(3) - f * wanted).cwiseAbs().maxCoeff(), 1e-9 * scale);
        if (elimination.freeCount() == 0) {
            EXPECT_LT((f * solution.col(3) - augmented.col(size + 3)).cwiseAbs().maxCoeff(), 1e-9 * scale);
            continue;
        }
        EXPECT_LT((f * kernel).cwiseAbs().maxCoeff(), 1e-9 * scale);
        const Dense consistency = elimination.consistency();
        EXPECT_LT(consistency.leftCols(3).cwiseAbs().maxCoeff(), 1e-8 * scale) << "what can be met asks for nothing";
        // The same combination of rows of F itself vanishes.
        EXPECT_LT(Dense(elimination.leftOf(sparse(f), size)).cwiseAbs().maxCoeff(), 1e-8 * scale);
    }
}

// In every combination of segments the subnetworks together come to what the network comes to as a whole, or say that they
// do not stand alone. Ideal switches and floating stars make most of the combinations degenerate.
TEST(Subnetworks, AgreeWithTheWhole) {
    Circuit c;
    c.add("constant", "K1", {"g"}, {{"value", "0"}})
        .add("dc-voltage", "V1", {"s", "0"}, {{"level", "100"}})
        .add("inductor", "LS", {"s", "p"}, {{"l", "10u"}})
        .add("capacitor", "CL", {"p", "0"}, {{"c", "100u"}, {"v0", "100"}})
        .add("switch", "SX", {"p", "x", "g"})  // puts another capacitor beside that of the link
        .add("capacitor", "CX", {"x", "0"}, {{"c", "10u"}});
    for (int j = 0; j < 2; ++j)
        for (int k = 0; k < 3; ++k) {
            const std::string id = std::to_string(j) + std::to_string(k), map = "map" + id, out = "out" + id,
                              star = "star" + std::to_string(j);
            c.add("igbt", "QU" + id, {"p", map, "g"})
                .add("igbt", "QL" + id, {map, "0", "g"})
                .add("inductor", "L" + id, {map, out}, {{"l", "2m"}})
                .add("capacitor", "C" + id, {out, star}, {{"c", "10u"}})
                .add("resistor", "R" + id, {out, star}, {{"r", "20"}});
        }
    const auto prepared = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_TRUE(prepared) << prepared.error().message;
    const Network& network = (*prepared)->elaboration().network;
    const StateLayout<double> layout(network);
    const StaticReduction<double> reduction(layout);
    ASSERT_EQ(reduction.subnetworks().size(), 3u) << "two converters, and the switch at the link";
    std::mt19937 random(3);
    int together = 0, apart = 0;
    for (int trial = 0; trial < 400; ++trial) {
        Segments segments;
        std::map<std::string, bool> conducting;
        for (const auto& element : network.elements) {
            int segment = static_cast<int>(random() % static_cast<unsigned>(element->segmentCount()));
            // Both switches of a map at once would be a short circuit, which is rarely of interest.
            const bool lower = element->part().starts_with("QL");
            if (lower && conducting["QU" + element->part().substr(2)] && random() % 16 != 0) segment = 0;
            conducting[element->part()] = element->conducts(segment);
            segments.push_back(segment);
        }
        const SubnetworkState<double> whole(reduction, reduction.whole(), segments);
        Dense open = Dense::Zero(reduction.open(), layout.size()), jump = Dense::Zero(layout.size(), layout.size());
        bool alone = true;
        for (const Subnetwork& subnetwork : reduction.subnetworks()) {
            const SubnetworkState<double> state(reduction, subnetwork, segments);
            alone = alone && state.alone;
            if (!alone) break;
            const Dense rows = state.open;
            for (std::size_t u = 0; u < subnetwork.open.size(); ++u)
                open.row(subnetwork.open[u]) = rows.row(static_cast<Eigen::Index>(u));
            if (state.lift.size() > 0) jump += Dense(state.lift) * Dense(state.jump);
        }
        if (!alone) {
            ++apart;
            continue;
        }
        ASSERT_TRUE(whole.illPosedUnknowns.empty()) << "trial " << trial;
        ++together;
        // Of states that fit: those that the jump leads to.
        const Dense fitting = Dense::Identity(layout.size(), layout.size()) + jump;
        Dense wholeJump = Dense::Zero(layout.size(), layout.size());
        if (whole.lift.size() > 0) wholeJump = Dense(whole.lift) * Dense(whole.jump);
        EXPECT_LT((jump - wholeJump).cwiseAbs().maxCoeff(), 1e-11) << "trial " << trial;
        const double scale = std::max(1.0, open.cwiseAbs().maxCoeff());
        EXPECT_LT(((open - Dense(whole.open)) * fitting).cwiseAbs().maxCoeff(), 1e-10 * scale) << "trial " << trial;
    }
    EXPECT_GT(together, 100);
    EXPECT_GT(apart, 100) << "where SX is closed";
}

// Going by cycles comes to the same instants and signals as asking every block.
TEST(Clock, CyclesAgreeWithAskingTheBlocks) {
    Circuit c;
    c.add("constant", "K1", {"d"}, {{"value", "0.37"}})
        .add("modulator", "M1", {"d", "g", "h"}, {{"f", "30k"}, {"dead", "700n"}, {"carrier", "triangle"}})
        .add("modulator", "M2", {"", "k", ""}, {{"f", "47k"}, {"duty", "0.9"}, {"phase", "-0.3"}})
        .add("sampled-sine", "K2", {"r"}, {{"rate", "11k"}})
        .add("modulator", "M3", {"r", "m", ""}, {{"f", "11k"}})
        .add("dc-voltage", "V1", {"a", "0"});
    for (const char* gate : {"g", "h", "k", "m"}) c.add("switch", std::string("S") + gate, {"a", "0", gate}, {}, 2);
    const auto prepared = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_TRUE(prepared) << prepared.error().message;
    const Network& network = (*prepared)->elaboration().network;
    Clock clock(network);
    std::vector<double> signals(static_cast<std::size_t>(network.signalCount), 0.0);
    Tick t = 0;
    for (int event = 0; event < 2000; ++event) {
        std::vector<double> inputs, outputs;
        Tick next = neverTick;
        for (const SignalConnection& block : network.signalBlocks) {
            inputs.clear();
            for (const SignalInput& in : block.inputs) inputs.push_back(signals[static_cast<std::size_t>(in.signal)]);
            outputs.assign(block.outputs.size(), 0.0);
            block.block->evaluate(t, inputs, outputs);
            for (std::size_t i = 0; i < outputs.size(); ++i)
                if (block.outputs[i] >= 0) signals[static_cast<std::size_t>(block.outputs[i])] = outputs[i];
            next = std::min(next, block.block->nextInstant(t, inputs));
        }
        ASSERT_EQ(clock.signals(), signals) << "event " << event;
        ASSERT_EQ(clock.next(), next) << "event " << event;
        clock.advance(next);
        t = next;
    }
    EXPECT_EQ(clock.period(), 0) << "the periods differ";
}

TEST(Clock, SkipsWholePeriods) {
    Circuit c;
    c.add("modulator", "M1", {"", "g", "h"}, {{"f", "150k"}, {"duty", "0.3"}, {"dead", "80n"}})
        .add("dc-voltage", "V1", {"a", "0"})
        .add("switch", "S1", {"a", "0", "g"}, {}, 2)
        .add("switch", "S2", {"a", "0", "h"}, {}, 2);
    const auto prepared = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_TRUE(prepared);
    Clock walked((*prepared)->elaboration().network), skipped((*prepared)->elaboration().network);
    walked.advance(walked.next());
    skipped.advance(skipped.next());
    const FineTime start = walked.lastEdge();
    for (int edge = 0; edge < 4 * 1000; ++edge) walked.advance(walked.next());
    skipped.skipPeriods(1000);
    EXPECT_TRUE(walked.lastEdge() == skipped.lastEdge());
    EXPECT_TRUE(walked.lastEdge() == start + 1000 * walked.period());
    EXPECT_EQ(walked.next(), skipped.next());
    EXPECT_EQ(walked.phase(), skipped.phase());
    EXPECT_EQ(walked.state(), skipped.state());
}

// Roots of polynomials given by their roots.
TEST(FirstRoot, FindsTheFirstCrossingToTheLastDigit) {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> uniform(0.0, 1.0);
    for (int trial = 0; trial < 1000; ++trial) {
        // (r - x) (1 + b x + c x^2) with a positive second factor on [0, 1].
        const double r = uniform(random), b = uniform(random), c = uniform(random);
        const double polynomial[] = {r, r * b - 1, r * c - b, -c};
        EXPECT_NEAR(firstRoot(polynomial, 3, 1.0), r, 1e-15);
        EXPECT_EQ(firstRoot(polynomial, 3, 0.9 * r), -1) << "beyond the interval";
    }
    const double below[] = {-1e-12, 1.0};
    EXPECT_EQ(firstRoot(below, 1, 1e-13), 0) << "already below zero";
}
