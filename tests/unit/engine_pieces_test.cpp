// More pieces of the exact engine on their own: products, sparse sums, boxes around conditions, steps of any length,
// series, and what a line may hide; each against the same thing done plainly.

#include <cmath>
#include <map>
#include <random>

#include "base/largest.h"
#include "engines/exact/conditions.h"
#include "engines/exact/interval_map.h"
#include "engines/exact/propagator.h"
#include "engines/exact/trace_ranges.h"
#include "runs/run.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::exact;
using hedgerow::test::Circuit;

namespace {

using Dense = Matrix<double>;
using Random = std::mt19937;

double uniform(Random& random, double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random);
}

Dense randomDense(Random& random, Eigen::Index rows, Eigen::Index columns, double share = 1) {
    Dense m = Dense::Zero(rows, columns);
    for (Eigen::Index i = 0; i < rows; ++i)
        for (Eigen::Index j = 0; j < columns; ++j)
            if (uniform(random, 0, 1) < share) m(i, j) = uniform(random, -1, 1);
    return m;
}

Sparse<double> sparse(const Dense& m) { return m.sparseView(0.0, 0.0); }

template <class Real>
void expectProductsLikePlainSums() {
    Random random(1);
    for (std::size_t rows = 1; rows <= 75; ++rows)
        for (const std::size_t columns :
             {std::size_t{1}, std::size_t{2}, std::size_t{3}, std::size_t{7}, std::size_t{40}}) {
            std::vector<Real> m(rows * columns), x(columns), out(rows + 1, Real(7)), plain(rows, Real(0));
            for (Real& value : m) value = static_cast<Real>(uniform(random, -1, 1));
            for (Real& value : x) value = static_cast<Real>(uniform(random, -1, 1));
            for (std::size_t j = 0; j < columns; ++j)
                for (std::size_t i = 0; i < rows; ++i) plain[i] += m[j * rows + i] * x[j];
            product(m.data(), rows, columns, x.data(), out.data());
            for (std::size_t i = 0; i < rows; ++i)
                ASSERT_EQ(out[i], plain[i]) << rows << " x " << columns << ", row " << i;
            ASSERT_EQ(out[rows], Real(7)) << "nothing is written behind the last row";
        }
}

/// A network and what the exact engine makes of it in one configuration.
struct Solved {
    explicit Solved(const Circuit& circuit)
        : run(*hedgerow::Run::prepare(std::make_shared<const Project>(circuit.project()))) {}
    const Network& network() const { return run->elaboration().network; }
    Segments segments() const {
        Segments all;
        for (const auto& element : network().elements) all.push_back(element->initialSegment(false));
        return all;
    }
    std::shared_ptr<hedgerow::Run> run;
};

template <class Real>
struct Steps {
    explicit Steps(const Solved& solved)
        : layout(solved.network()),
          reduction(layout),
          states(reduction, false),
          configuration(reduction, states, solved.segments()),
          propagator(layout, configuration) {}
    /// A random consistent y with its sources at their values at zero.
    Vector<Real> start(Random& random, const Network& network) const {
        Vector<Real> y(layout.size());
        for (int i = 0; i < layout.states; ++i) y(i) = static_cast<Real>(uniform(random, -10, 10));
        y(layout.states) = 1;
        for (std::size_t i = 0; i < network.sources.size(); ++i) {
            std::vector<double> values(static_cast<std::size_t>(network.sources[i]->size()));
            network.sources[i]->valueAt(0, values);
            for (std::size_t j = 0; j < values.size(); ++j)
                y(layout.states + network.sourceOffsets[i] + static_cast<int>(j)) = static_cast<Real>(values[j]);
        }
        if (configuration.projects) configuration.project(y.data());
        return y;
    }
    StateLayout<Real> layout;
    StaticReduction<Real> reduction;
    SubnetworkStates<Real> states;
    Configuration<Real> configuration;
    Propagator<Real> propagator;
};

/// Damped and hardly damped rings, sources that turn, and a stiff corner.
std::map<std::string, Circuit> circuits() {
    std::map<std::string, Circuit> all;
    all["ring"]
        .add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}, {"v0", "10"}})
        .add("inductor", "L1", {"a", "b"}, {{"l", "10u"}})
        .add("resistor", "R1", {"b", "0"}, {{"r", "10m"}});
    all["driven"]
        .add("sine-voltage", "V1", {"s", "0"}, {{"peak", "100"}, {"f", "5k"}, {"phase", "30"}})
        .add("inductor", "L1", {"s", "a"}, {{"l", "100u"}})
        .add("capacitor", "C1", {"a", "0"}, {{"c", "10u"}})
        .add("resistor", "R1", {"a", "0"}, {{"r", "5"}});
    all["three phases"].add("three-phase-voltage", "V1", {"a", "b", "c", "n"}, {{"ri", "10m"}, {"li", "300u"}}, 2);
    for (const std::string x : {"a", "b", "c"})
        all["three phases"]
            .add("inductor", "L" + x, {x, "m" + x}, {{"l", "1m"}})
            .add("resistor", "R" + x, {"m" + x, "star"}, {{"r", "2"}})
            .add("capacitor", "C" + x, {"m" + x, "star"}, {{"c", "20u"}});
    all["three phases"]
        .add("resistor", "RN", {"star", "0"}, {{"r", "1k"}})
        .add("resistor", "RG", {"n", "0"}, {{"r", "1"}});
    all["stiff"]
        .add("dc-voltage", "V1", {"s", "0"}, {{"level", "24"}})
        .add("inductor", "L1", {"s", "a"}, {{"l", "100u"}})
        .add("resistor", "R1", {"a", "b"}, {{"r", "1m"}})
        .add("capacitor", "C1", {"b", "0"}, {{"c", "10n"}})
        .add("capacitor", "C2", {"c", "0"}, {{"c", "100u"}})
        .add("resistor", "R2", {"b", "c"}, {{"r", "50m"}})
        .add("resistor", "R3", {"c", "0"}, {{"r", "10"}});
    for (auto& [name, circuit] : all) circuit.plan("1m");
    return all;
}

}  // namespace

// Whatever the processor offers, the sum of each row runs from the first column to the last: the same bits.
TEST(Products, AreThoseOfPlainSumsToTheLastBit) {
    expectProductsLikePlainSums<double>();
    expectProductsLikePlainSums<long double>();
}

TEST(SparseMatrices, AgreeWithDenseOnes) {
    Random random(2);
    for (int trial = 0; trial < 200; ++trial) {
        const auto size = [&] { return static_cast<Eigen::Index>(1 + random() % 20); };
        const Eigen::Index n = size(), m = size(), k = size();
        const double share = uniform(random, 0.05, 0.9);
        const Dense a = randomDense(random, n, m, share), b = randomDense(random, m, k, share),
                    c = randomDense(random, n, k, share), d = randomDense(random, size(), m, share);
        const Sparse<double> sa = sparse(a), sb = sparse(b), sc = sparse(c), sd = sparse(d);
        EXPECT_LT((Dense(exact::multiply(sa, sb)) - a * b).cwiseAbs().maxCoeff(), 1e-14);
        EXPECT_LT((Dense(addProduct(sc, -2.5, sa, sb)) - (c - 2.5 * a * b)).cwiseAbs().maxCoeff(), 1e-14);
        Dense above(n + d.rows(), m);
        above << a, d;
        EXPECT_EQ(Dense(stacked(sa, sd)), above);
        std::vector<int> some;
        for (int i = 0; i < n; ++i)
            if (random() % 2) some.push_back(i);
        EXPECT_EQ(Dense(chosen(sa, some)), Dense(a(some, Eigen::all)));
        const Vector<double> x = randomDense(random, m, 1);
        Vector<double> out(n), full(n);
        exact::multiply(sa, x.data(), out.data());
        EXPECT_LT((out - a * x).cwiseAbs().maxCoeff(), 1e-14);
        const Rows<double> inFull(sa, true), byEntries(sa, false);
        inFull.apply(x.data(), full.data());
        byEntries.apply(x.data(), out.data());
        EXPECT_LT((out - full).cwiseAbs().maxCoeff(), 1e-14);
        EXPECT_EQ(byEntries.full(), a);
        EXPECT_EQ(inFull.above(Rows<double>(sd, false)).full(), above);
        EXPECT_LT((inFull.times(Rows<double>(sb, true)).full() - a * b).cwiseAbs().maxCoeff(), 1e-14);
        // What is moved is where it was moved to.
        Sparse<double> from = sa, to = sb;
        to = std::move(from);
        const Sparse<double> made(std::move(to));
        EXPECT_EQ(Dense(made), a);
    }
}

// What cancels to rounding is no entry: a zero of the circuit stays one, however many sums it comes through.
TEST(SparseMatrices, KeepNothingOfWhatCancels) {
    Random random(3);
    RowSum<double> sum(8);
    for (int trial = 0; trial < 200; ++trial) {
        std::vector<double> terms;
        double total = 0;
        for (int k = 0; k < 6; ++k) {
            terms.push_back(uniform(random, -1, 1) * std::pow(10.0, uniform(random, -6, 6)));
            total += terms.back();
        }
        std::shuffle(terms.begin(), terms.end(), random);
        for (const double term : terms) sum.add(3, term);
        sum.add(3, -total);
        sum.add(5, 1e-300);
        SparseRow<double> row = {{0, 1.0}};
        sum.take(row);
        ASSERT_EQ(row.size(), 2u) << "trial " << trial;
        EXPECT_EQ(row[0].column, 0) << "a row is appended to";
        EXPECT_EQ(row[1].column, 5);
        sum.take(row);
        EXPECT_EQ(row.size(), 2u) << "it is zero again";
    }
    sum.add(6, 1.0);
    sum.add(1, 2.0);
    sum.add(6, 0.5);
    sum.add(2, 1e-9);
    SparseRow<double> row;
    sum.take(row, 1e-8);
    ASSERT_EQ(row.size(), 3u) << "a single term is no rounding, however small";
    EXPECT_EQ(row[0].column, 1);
    EXPECT_EQ(row[1].column, 2);
    EXPECT_EQ(row[2].value, 1.5);
}

// Boxes only save products: what holds is the same as when every row is computed. Values creep, jump and creep on.
TEST(Conditions, HoldWhereAllTheirRowsDo) {
    Random random(4);
    int held = 0, failed = 0;
    for (int trial = 0; trial < 60; ++trial) {
        const auto n = static_cast<Eigen::Index>(1 + random() % 6), count = static_cast<Eigen::Index>(random() % 8),
                   limited = static_cast<Eigen::Index>(random() % 5);
        const Dense demands = randomDense(random, count, n), limits = randomDense(random, limited, n, 0.7);
        std::vector<double> least;
        for (Eigen::Index i = 0; i < count; ++i) least.push_back(uniform(random, -1.2, 0.2));
        Conditions<double> conditions;
        if (count > 0) conditions.demand(demands, least);
        if (limited > 0) conditions.limit(limits);
        // The same behind a map, as the conditions of a later map are.
        const Dense whole = Dense::Identity(n, n) + 0.1 * randomDense(random, n, n);
        Conditions<double> behind;
        behind.follow(conditions, whole);
        EXPECT_EQ(behind.size(), conditions.size());
        Vector<double> y = randomDense(random, n, 1), step = 1e-3 * randomDense(random, n, 1);
        for (int visit = 0; visit < 400; ++visit) {
            if (random() % 50 == 0) y = randomDense(random, n, 1);
            if (random() % 20 == 0) step = std::pow(10.0, uniform(random, -8, -1)) * randomDense(random, n, 1);
            y += step;
            const auto all = [&](const Vector<double>& at) {
                for (Eigen::Index i = 0; i < count; ++i)
                    if (!(demands.row(i).dot(at) > least[static_cast<std::size_t>(i)])) return false;
                return limited == 0 || (limits * at).cwiseAbs().maxCoeff() <= 1;
            };
            const bool expected = all(y);
            ASSERT_EQ(conditions.hold(y), expected) << "trial " << trial << ", visit " << visit;
            ASSERT_EQ(behind.hold(y), all(whole * y)) << "trial " << trial << ", visit " << visit;
            ++(expected ? held : failed);
        }
    }
    EXPECT_GT(held, 2000);
    EXPECT_GT(failed, 2000);
    Conditions<double> nothing;
    Vector<double> broken = Vector<double>::Constant(2, std::nan(""));
    EXPECT_TRUE(nothing.hold(broken)) << "nothing is asked";
    Conditions<double> something;
    something.demand(Dense::Identity(2, 2), {-1, -1});
    EXPECT_FALSE(something.hold(broken)) << "what is not a number meets nothing";
}

// Steps of any length, in one go or in pieces, by ladder, cached interval or series, agree with long double.
TEST(Propagator, LengthsAddUp) {
    Random random(5);
    for (const auto& [name, circuit] : circuits()) {
        SCOPED_TRACE(name);
        const Solved solved(circuit);
        Steps<double> steps(solved);
        Steps<long double> fine(solved);
        ASSERT_TRUE(steps.configuration.illPosedUnknowns.empty());
        for (int trial = 0; trial < 150; ++trial) {
            // A few lengths again and again, so that they get matrices of their own.
            const Tick length = trial % 3 == 0 ? toTicks(7.3e-6) : toTicks(std::pow(10.0, uniform(random, -10, -3.3)));
            const Vector<double> start = steps.start(random, solved.network());
            Vector<double> once = start, twice = start;
            Vector<long double> exactly = start.cast<long double>();
            if (fine.configuration.projects) fine.configuration.project(exactly.data());
            steps.propagator.advance(once, length);
            const Tick part = static_cast<Tick>(uniform(random, 0, 1) * static_cast<double>(length));
            steps.propagator.advance(twice, part);
            steps.propagator.advance(twice, length - part);
            fine.propagator.advance(exactly, length);
            const double size = std::max(start.cwiseAbs().maxCoeff(), once.cwiseAbs().maxCoeff());
            const double rounding = 3e-15 * (30 + static_cast<double>(steps.propagator.norm()) * toSeconds(length));
            EXPECT_LT((once - exactly.cast<double>()).cwiseAbs().maxCoeff(), rounding * size) << toSeconds(length);
            EXPECT_LT((twice - once).cwiseAbs().maxCoeff(), rounding * size) << toSeconds(length);
            const Dense composed = steps.propagator.composed(length);
            EXPECT_LT((start + composed * start - once).cwiseAbs().maxCoeff(), 10 * rounding * size);
        }
    }
}

// As far as its series reaches, the polynomial is the way: at any instant within, to the last digits.
TEST(Propagator, SeriesAreExactAsFarAsTheyReach) {
    Random random(6);
    for (const auto& [name, circuit] : circuits()) {
        SCOPED_TRACE(name);
        const Solved solved(circuit);
        Steps<double> steps(solved);
        Propagator<double>& propagator = steps.propagator;
        ASSERT_GT(propagator.seriesReach(), propagator.baseStep());
        for (int trial = 0; trial < 100; ++trial) {
            const Vector<double> start = steps.start(random, solved.network());
            const auto length =
                static_cast<Tick>(uniform(random, 0.01, 1) * static_cast<double>(propagator.seriesReach()));
            const Dense coefficients = propagator.taylor(start, length);
            EXPECT_EQ(Vector<double>(coefficients.col(0)), start);
            const auto at = static_cast<Tick>(uniform(random, 0, 1) * static_cast<double>(length));
            Vector<double> series = Vector<double>::Zero(start.size()), stepped = start;
            for (Eigen::Index j = coefficients.cols(); j-- > 0;)
                series = series * toSeconds(at) + Vector<double>(coefficients.col(j));
            propagator.advance(stepped, at);
            EXPECT_LT((series - stepped).cwiseAbs().maxCoeff(), 2e-14 * start.cwiseAbs().maxCoeff());
        }
    }
}

TEST(Propagator, EasyLengthsAreNearWhatWasAsked) {
    Random random(7);
    const Solved solved(circuits().at("driven"));
    Steps<double> steps(solved);
    Propagator<double>& propagator = steps.propagator;
    for (int trial = 0; trial < 500; ++trial) {
        const Tick length = toTicks(std::pow(10.0, uniform(random, -11, -2))), easy = propagator.easyStep(length),
                   half = propagator.easyHalf(length), top = propagator.topStep(length);
        EXPECT_LE(easy, length);
        EXPECT_LT(length - easy, std::max(propagator.baseStep(), length / 31));
        EXPECT_GE(half, length / 4);
        EXPECT_LE(half, length - length / 4);
        EXPECT_LE(top, length);
        EXPECT_GT(top, 0);
    }
    // 5 kHz turns 31 krad/s, the filter rings at as much: a step of about one over that.
    EXPECT_LT(toSeconds(propagator.topStep(toTicks(1))), 1 / 31e3);
    EXPECT_GT(toSeconds(propagator.topStep(toTicks(1))), 0.25 / 31e3);
}

TEST(Largest, IsInfiniteWhereANumberIsNone) {
    EXPECT_EQ(largestOf(1, 2), 2);
    for (const auto& [a, b] : {std::pair(1.0, std::nan("")), std::pair(std::nan(""), 1.0)})
        EXPECT_TRUE(std::isinf(largestOf(a, b)));
    EXPECT_TRUE(std::isinf(largestOf(largestOf(1, std::nan("")), 3))) << "and stays so";
}

// What a line may hide is judged several unknowns at once in double and one by one in long double.
TEST(TraceRanges, OfSeveralAtOnceAreThoseOfEach) {
    const Solved solved(circuits().at("three phases"));
    const StateLayout<double> layout(solved.network());
    const StateLayout<long double> fine(solved.network());
    RunRequest request;
    request.traceTolerance = 1e-3;
    Scales<double> scales(layout);
    Scales<long double> fineMagnitudes(fine);
    TraceRanges<double> swings(layout, request, scales);
    TraceRanges<long double> fineSwings(fine, request, fineMagnitudes);
    const auto count = static_cast<std::size_t>(layout.unknowns);
    ASSERT_GT(count, 8u) << "more than two blocks of four";
    Random random(8);
    std::vector<double> z(count), last(count, 0.0), rate(count), lastRate(count, 0.0);
    int straight = 0, bent = 0;
    double lastAt = 0;
    for (int point = 0; point < 4000; ++point) {
        const double size = std::pow(10.0, uniform(random, -9, 0)), t = 1e-2 * point;
        for (std::size_t i = 0; i < count; ++i) {
            z[i] =
                std::sin(t + static_cast<double>(i)) * (1 + (point > 2000 ? 4.0 : 0.0)) + size * uniform(random, -1, 1);
            rate[i] = std::cos(t + static_cast<double>(i));
        }
        const std::vector<long double> fz(z.begin(), z.end()), flast(last.begin(), last.end()),
            frate(rate.begin(), rate.end()), flastRate(lastRate.begin(), lastRate.end());
        swings.see(z.data());
        fineSwings.see(fz.data());
        const double h = point % 2 == 0 ? std::pow(10.0, uniform(random, -4, 1)) : t - lastAt;
        const bool is = swings.straight(last.data(), lastRate.data(), z.data(), rate.data(), h);
        ASSERT_EQ(is, fineSwings.straight(flast.data(), flastRate.data(), fz.data(), frate.data(), h)) << point;
        ++(is ? straight : bent);
        for (int i = 0; i < layout.unknowns; ++i) {
            const auto k = static_cast<std::size_t>(i);
            ASSERT_NEAR(swings.allowed(i, last[k], z[k]), static_cast<double>(fineSwings.allowed(i, flast[k], fz[k])),
                        1e-13)
                << point;
        }
        ASSERT_EQ(swings.changedMuch(), fineSwings.changedMuch()) << point;
        if (point % 7 == 0) {
            last = z;
            lastRate = rate;
            lastAt = t;
        }
    }
    EXPECT_GT(straight, 20);
    EXPECT_GT(bent, 100);
    // Not a number is never straight.
    z[count - 1] = std::nan("");
    EXPECT_FALSE(swings.straight(last.data(), lastRate.data(), z.data(), rate.data(), 1e-9));
}

// The tail of a map ends where the first of its guards does; a companion that is far from its zero there is another
// event, and the map does not fit.
TEST(Tails, EndWithTheFirstOfTheirGuards) {
    Random random(9);
    for (int trial = 0; trial < 200; ++trial) {
        const double first = uniform(random, 0.1, 0.9), second = first * (1 + 1e-13 * uniform(random, -1, 1)),
                     slope = uniform(random, 0.5, 2);
        // c0 + c1 x of the guard, then of its companion.
        const double polynomials[] = {first, -1, slope * second, -slope};
        const std::vector<Companion<double>> companions = {{1, -1e-9}}, none;
        EXPECT_NEAR(tailCrossing(polynomials, 1, 1.0, none, -1.0), first, 1e-15);
        EXPECT_NEAR(tailCrossing(polynomials, 1, 1.0, companions, -1.0), std::min(first, second), 1e-15);
        EXPECT_NEAR(tailCrossing(polynomials, 1, 1.0, companions, first), std::min(first, second), 1e-15) << "guessed";
        const double apart[] = {first, -1, slope * (first + 0.05), -slope};
        EXPECT_EQ(tailCrossing(apart, 1, 1.0, companions, -1.0), -1);
        EXPECT_EQ(tailCrossing(polynomials, 1, 0.9 * first, none, -1.0), -1) << "not within the slack";
    }
}
