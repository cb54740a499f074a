#include <cmath>
#include <numbers>
#include <random>
#include <thread>

#include "traces/trace.h"

using namespace hedgerow;

namespace {

/// A store of two columns, read as a, b and a * b.
class Traces : public ::testing::Test {
protected:
    Traces() {
        network.nodes = {"a", "b"};
        layout = std::make_unique<RowLayout>(network);
        store->addView({2, {}, {}});
        store->addSignals({});
    }
    void add(Tick t, double a, double b = 0) {
        const double row[2] = {a, b};
        ASSERT_TRUE(store->append({{{t, 0, 0, 0}}}, row));
    }
    Trace read(QuantityInfo::Sort sort = QuantityInfo::Sort::linear) {
        QuantityInfo info{"a.v", "V", sort, {{0, 1.0}}, {{1, 1.0}}};
        Trace trace(store, info, *layout);
        trace.update();
        return trace;
    }
    Network network;
    std::unique_ptr<RowLayout> layout;
    std::shared_ptr<TraceStore> store = std::make_shared<TraceStore>(2, std::size_t{1} << 30);
};

constexpr Tick second = Tick{1} << 54;

}  // namespace

TEST_F(Traces, ValuesBetweenPointsAndAtJumps) {
    add(0, 0);
    add(second, 2);
    add(second, 5);  // a jump
    add(2 * second, 5);
    const Trace trace = read();
    EXPECT_DOUBLE_EQ(*trace.at(second / 4), 0.5);
    EXPECT_DOUBLE_EQ(*trace.at(second), 5) << "after the jump";
    EXPECT_DOUBLE_EQ(*trace.at(second - 1), 2.0);
    EXPECT_DOUBLE_EQ(*trace.at(2 * second), 5);
    EXPECT_FALSE(trace.at(2 * second + 1));
    EXPECT_FALSE(trace.at(-1));
}

// Triangle from 0 to 3: mean 1.5, RMS 3/sqrt(3).
TEST_F(Traces, MeasuresOfATriangleAreExact) {
    for (int i = 0; i <= 2000; ++i) add(i * (second / 1000), i % 2 ? 3.0 : 0.0);
    const Trace trace = read();
    const auto m = trace.measure(0, 2 * second);
    EXPECT_NEAR(m->mean, 1.5, 1e-12);
    EXPECT_NEAR(m->rms, 3 / std::sqrt(3.0), 1e-12);
    EXPECT_EQ(m->min, 0);
    EXPECT_EQ(m->max, 3);
    // A window that begins and ends inside lines: the quarter before a peak, from 1.5 to 3.
    const Tick step = second / 1000;
    const auto part = trace.measure(100 * step + step / 2, 101 * step);
    EXPECT_NEAR(part->mean, 2.25, 1e-9);
    EXPECT_NEAR(part->min, 1.5, 1e-9);
    EXPECT_NEAR(part->max, 3.0, 1e-12);
    EXPECT_FALSE(trace.measure(3 * second, 4 * second));
    EXPECT_FALSE(trace.measure(step, step));
}

// Power of two ramps: the mean of t * t is 1/3, whatever the points.
TEST_F(Traces, ProductsOfLinesAreIntegratedExactly) {
    for (int i = 0; i <= 7; ++i) add(i * (second / 7), i / 7.0, i / 7.0);
    const Trace trace = read(QuantityInfo::Sort::product);
    const auto m = trace.measure(0, trace.time(trace.size() - 1));
    EXPECT_NEAR(m->mean, 1.0 / 3, 1e-12);
    EXPECT_NEAR(m->rms, std::sqrt(0.2), 1e-12);
}

// The pyramid gives what a walk over all points gives, for any window.
TEST_F(Traces, PyramidAgreesWithAPlainWalk) {
    std::mt19937 random(3);
    std::normal_distribution<double> noise;
    Tick t = 0;
    for (int i = 0; i < 20'000; ++i) {
        add(t, noise(random));
        t += static_cast<Tick>(random() % 1000) * 1'000'000;
    }
    const Trace trace = read();
    for (int trial = 0; trial < 200; ++trial) {
        std::size_t first = random() % trace.size(), last = random() % trace.size();
        if (first > last) std::swap(first, last);
        ++last;
        double low = INFINITY, high = -INFINITY, integral = 0, squares = 0;
        for (std::size_t i = first; i < last; ++i) {
            low = std::min(low, trace.value(i)), high = std::max(high, trace.value(i));
            if (i + 1 == last) continue;
            const double h = toSeconds(trace.time(i + 1) - trace.time(i)), a = trace.value(i), b = trace.value(i + 1);
            integral += h * (a + b) / 2, squares += h * (a * a + a * b + b * b) / 3;
        }
        const auto [least, most] = trace.range(first, last);
        ASSERT_EQ(least, low);
        ASSERT_EQ(most, high);
        const Tick from = trace.time(first), to = trace.time(last - 1);
        if (from >= to) continue;
        const auto m = trace.measure(from, to);
        const double length = toSeconds(to - from);
        ASSERT_NEAR(m->mean, integral / length, 1e-9);
        ASSERT_NEAR(m->rms, std::sqrt(squares / length), 1e-9);
    }
}

// Drawn from what is at hand, a column shows at least what is in it, and what a detailed one shows is near: to within
// 16 points at either end.
TEST_F(Traces, WhatIsNotAtHandIsShownAsAWhole) {
    constexpr int points = 40'000, chunk = PointChunk::size;
    for (int i = 0; i < points; ++i) add(Tick{i} * 1000, std::sin(0.001 * i) + (i % 2 ? 0.01 : -0.01));
    const Trace trace = read();
    std::mt19937 random(5);
    for (const bool detailed : {false, true}) {
        for (std::size_t k = 0; detailed && k < points / chunk; k += 2) trace.detail(k);  // every second one
        for (int trial = 0; trial < 300; ++trial) {
            const Tick from = static_cast<Tick>(random() % (points - 700)) * 1000, to = from + 600'000;
            const auto [low, high] = trace.range(trace.firstAtOrAfter(from), trace.firstAtOrAfter(to));
            const auto seen = trace.rangeNear(from, to);
            ASSERT_TRUE(seen);
            // Beyond the ends at most 16 points are left out, which change it by 0.016.
            EXPECT_LE(seen->first, low + 0.04) << from;
            EXPECT_GE(seen->second, high - 0.04) << from;
            const std::size_t first = trace.firstAtOrAfter(from) / chunk, last = trace.firstAtOrAfter(to) / chunk;
            if (detailed && first == last && first % 2 == 0 && first < points / chunk) {
                EXPECT_NEAR(seen->first, low, 0.04) << from;
                EXPECT_NEAR(seen->second, high, 0.04) << from;
            }
        }
        // Narrow columns inside of a chunk are there too.
        for (int x = 0; x < points - 100; x += 37)
            EXPECT_TRUE(trace.rangeNear(Tick{x} * 1000, Tick{x + 40} * 1000)) << x;
    }
}

TEST_F(Traces, ReadersSeeOnlyWholePointsWhileTheRunGoesOn) {
    constexpr int points = 200'000;
    std::thread writer([&] {
        for (int i = 0; i < points; ++i) {
            const double row[2] = {double(i), -double(i)};
            store->append({{{i, 0, 0, 0}}}, row);
        }
    });
    Trace trace = read();
    std::size_t seen = 0;
    while (trace.size() < points) {
        trace.update();
        ASSERT_GE(trace.size(), seen);
        for (std::size_t i = seen; i < trace.size(); i += 997) ASSERT_EQ(trace.value(i), double(i));
        seen = trace.size();
    }
    writer.join();
    EXPECT_EQ(trace.range(0, points).second, double(points - 1));
}

TEST_F(Traces, TheMemoryLimitEndsARunCleanly) {
    TraceStore small(0, 400'000);
    small.addView({2, {}, {}});
    small.addSignals({});
    const double row[2] = {1, 2};
    std::size_t kept = 0;
    while (small.append({{{static_cast<Tick>(kept), 0, 0, 0}}}, row)) ++kept;
    EXPECT_GT(kept, PointChunk::size - 1);
    EXPECT_LE(small.bytes(), 400'000u);
    EXPECT_EQ(small.count(), kept);
}

// A sampled duty has no unit, as a gate has none: its values tell them apart, in exports and on lanes.
TEST(TraceOfASignal, IsLogicUntilItIsAnythingButZeroAndOne) {
    const auto of = [](std::vector<double> values) {
        auto times = std::make_shared<std::vector<Tick>>();
        for (std::size_t i = 0; i < values.size(); ++i) times->push_back(static_cast<Tick>(i) * second);
        return Trace(std::make_unique<ColumnPoints>(times, std::move(values), std::vector<double>{}, true), "M1.g", "",
                     true);
    };
    EXPECT_TRUE(of({0, 1, 1, 0}).logic());
    EXPECT_FALSE(of({0, 1, 0.45}).logic());
    EXPECT_FALSE(of({0, 1, 2}).logic());
}
