#include "network/periodic.h"

#include <random>

using namespace hedgerow;

// Going from edge to edge, the level changes at every edge and nowhere else.
TEST(Periodic, NextIsTheNextChange) {
    std::mt19937 random(9);
    std::uniform_real_distribution<double> uniform(0.0, 1.0);
    for (int trial = 0; trial < 200; ++trial) {
        const double period = std::exp(uniform(random) * 14 - 16), on = uniform(random),
                     off = on + uniform(random) * 0.98;
        const PeriodicInterval interval(period, (uniform(random) - 0.5) * period, on, off);
        Tick t = 0;
        bool level = interval.high(t);
        for (int edge = 0; edge < 50; ++edge) {
            const Tick next = interval.next(t);
            ASSERT_GT(next, t);
            ASSERT_EQ(interval.high((t + next) / 2), level);
            ASSERT_EQ(interval.high(next - 1), level);
            ASSERT_NE(interval.high(next), level) << "trial " << trial << " edge " << edge;
            level = !level;
            t = next;
        }
    }
}

// Edge number k is where k periods end, rounded once: no drift over many periods.
TEST(Periodic, DoesNotDrift) {
    const PeriodicInterval interval(1 / 150e3, 0, 0, 0.5);
    Tick t = 0;
    for (int k = 0; k < 200'000; ++k) t = interval.next(t);
    EXPECT_EQ(t, toTicks(100'000.0L * static_cast<long double>(1 / 150e3)));
}

TEST(Periodic, DegenerateIntervals) {
    EXPECT_TRUE(PeriodicInterval(1e-3, 0, 0, 1).high(123));
    EXPECT_FALSE(PeriodicInterval(1e-3, 0, 0.3, 0.3).high(123));
    EXPECT_EQ(PeriodicInterval(1e-3, 0, 0.3, 0.2).next(0), neverTick);
    EXPECT_EQ(PeriodicInterval(400, 0, 0.9, 0.95).next(toTicks(399)), neverTick) << "beyond the longest run";
}
