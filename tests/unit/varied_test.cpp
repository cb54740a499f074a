// What varies, as lines, and the points that follow.

#include <gtest/gtest.h>

#include <cmath>
#include <numeric>
#include <set>

#include "model/quantity.h"
#include "studies/varied.h"

using namespace hedgerow;

namespace {

Project project() {
    Project p;
    p.parameters.push_back({.name = "A", .value = "1", .unit = "V", .note = "", .extra = {}});
    p.parameters.push_back({.name = "B", .value = "1", .unit = "", .note = "", .extra = {}});
    p.plans.push_back({.name = "other", .extra = {}});
    return p;
}

Result<StudyPoints> points(const std::vector<std::string>& lines, const std::string& runs, std::uint64_t seed = 1) {
    auto set = readVaried(lines, project());
    if (!set) return set.error();
    const auto sampling = readSampling(runs);
    if (!sampling) return sampling.error();
    return StudyPoints::make(std::move(*set), *sampling, seed);
}

std::vector<double> column(const StudyPoints& all, std::size_t axis) {
    std::vector<double> values;
    for (std::size_t i = 0; i < all.size(); ++i) values.push_back(evaluate(all.at(i)[axis])->value);
    return values;
}

std::string why(const std::string& line, const std::string& runs = "grid") {
    const auto all = points({line}, runs);
    return all ? "" : all.error().message;
}

TEST(Varied, ListsRangesAndPreferredValues) {
    const auto list = points({"A: 1, 2.2k, 3 + 4", "B: 5 to 7 in 3"}, "grid");
    ASSERT_TRUE(list) << list.error().message;
    ASSERT_EQ(list->size(), 9u);
    EXPECT_EQ(list->at(0), (StudyPoint{"1", "5"}));
    EXPECT_EQ(list->at(1), (StudyPoint{"1", "6"})) << "the last one varies fastest";
    EXPECT_EQ(list->at(8), (StudyPoint{"3 + 4", "7"}));
    const auto decades = points({"A: 1 to 100, 2 a decade"}, "grid");
    ASSERT_TRUE(decades);
    const std::vector<double> values = column(*decades, 0);
    ASSERT_EQ(values.size(), 5u);
    for (std::size_t i = 0; i < 5; ++i) EXPECT_NEAR(values[i], std::pow(10.0, static_cast<double>(i) / 2), 1e-9 * values[i]);
    const auto ratio = points({"A: 1m to 1 in 4 by ratio"}, "grid");
    ASSERT_TRUE(ratio) << ratio.error().message;
    EXPECT_NEAR(column(*ratio, 0)[1], 0.01, 1e-12);
    const auto row = points({"A: E12 from 10 to 100"}, "grid");
    ASSERT_TRUE(row) << row.error().message;
    EXPECT_EQ(column(*row, 0), (std::vector<double>{10, 12, 15, 18, 22, 27, 33, 39, 47, 56, 68, 82, 100}));
    EXPECT_EQ(points({"A: E96 from 1 to 9.99"}, "grid")->size(), 96u);
    EXPECT_EQ(points({"plan: look; other"}, "grid")->at(1), StudyPoint{"other"});
}

TEST(Varied, RowsAndCorners) {
    const auto rows = points({"A: 1, 2, 3", "B: 4, 5, 6"}, "rows");
    ASSERT_TRUE(rows);
    ASSERT_EQ(rows->size(), 3u);
    EXPECT_EQ(rows->at(2), (StudyPoint{"3", "6"}));
    EXPECT_FALSE(points({"A: 1, 2, 3", "B: 4, 5"}, "rows"));
    const auto corners = points({"A: 10 +- 10 %", "B: normal 5, deviation 1, within 2"}, "corners");
    ASSERT_TRUE(corners) << corners.error().message;
    ASSERT_EQ(corners->size(), 4u);
    EXPECT_EQ(corners->at(0), (StudyPoint{"9", "3"}));
    EXPECT_EQ(corners->at(3), (StudyPoint{"11", "7"}));
}

TEST(Varied, DrawnPointsAreTheSameEachTimeAndFollowTheirDistribution) {
    const std::vector<std::string> lines{"A: 10 +- 20 %", "B: normal 5, deviation 10 %"};
    for (const char* runs : {"random 4000", "latin 4000", "sobol 4096"}) {
        const auto all = points(lines, runs, 7), again = points(lines, runs, 7), other = points(lines, runs, 8);
        ASSERT_TRUE(all && again && other) << runs;
        EXPECT_EQ(all->at(1234), again->at(1234)) << runs;
        EXPECT_NE(all->at(1234), other->at(1234)) << runs;
        for (const auto& [axis, mean, deviation] : {std::tuple{0u, 10.0, 4 / std::sqrt(12.0)}, std::tuple{1u, 5.0, 0.5}}) {
            const std::vector<double> values = column(*all, axis);
            const double n = static_cast<double>(values.size()), m = std::accumulate(values.begin(), values.end(), 0.0) / n;
            double squares = 0;
            for (const double v : values) squares += (v - m) * (v - m);
            EXPECT_NEAR(m, mean, 4 * deviation / std::sqrt(n)) << runs;
            EXPECT_NEAR(std::sqrt(squares / n), deviation, 0.05 * deviation) << runs;
        }
    }
}

TEST(Varied, LatinAndSobolPointsFillEveryStratum) {
    std::vector<std::string> lines;
    Project p;
    for (int i = 0; i < 16; ++i) {
        p.parameters.push_back({.name = "P" + std::to_string(i), .value = "1", .unit = "", .note = "", .extra = {}});
        lines.push_back("P" + std::to_string(i) + ": 0.5 +- 0.5");
    }
    for (const char* runs : {"latin 256", "sobol 256"}) {
        auto set = readVaried(lines, p);
        ASSERT_TRUE(set);
        const auto all = StudyPoints::make(std::move(*set), *readSampling(runs), 1);
        ASSERT_TRUE(all) << all.error().message;
        for (std::size_t axis = 0; axis < 16; ++axis) {
            std::set<int> strata;
            for (std::size_t i = 0; i < 256; ++i) strata.insert(static_cast<int>(evaluate(all->at(i)[axis])->value * 256));
            EXPECT_EQ(strata.size(), 256u) << runs << ", " << axis;
        }
    }
    // In two dimensions every elementary box of 256 points holds one: a net of base 2.
    const auto plane = points({"A: 0.5 +- 0.5", "B: 0.5 +- 0.5"}, "sobol 256");
    ASSERT_TRUE(plane);
    std::set<std::pair<int, int>> boxes;
    for (std::size_t i = 0; i < 256; ++i) {
        const StudyPoint at = plane->at(i);
        boxes.insert({static_cast<int>(evaluate(at[0])->value * 16), static_cast<int>(evaluate(at[1])->value * 16)});
    }
    EXPECT_EQ(boxes.size(), 256u);
}

TEST(Varied, CorrelatedPointsAreCorrelated) {
    const auto all = points({"A: normal 0, deviation 1", "B: normal 0, deviation 1", "correlation of A and B: -0.7"}, "random 20000");
    ASSERT_TRUE(all) << all.error().message;
    const std::vector<double> a = column(*all, 0), b = column(*all, 1);
    double ab = 0, aa = 0, bb = 0;
    for (std::size_t i = 0; i < a.size(); ++i) ab += a[i] * b[i], aa += a[i] * a[i], bb += b[i] * b[i];
    EXPECT_NEAR(ab / std::sqrt(aa * bb), -0.7, 0.02);
    EXPECT_FALSE(points({"A: 1 +- 1", "B: 1 +- 1", "correlation of A and B: 0.5"}, "latin 10"));
    EXPECT_FALSE(points({"A: 1 +- 1", "correlation of A and B: 0.5"}, "random 10"));
    EXPECT_FALSE(points({"A: 1 +- 1", "B: 1 +- 1", "correlation of A and B: 1"}, "random 10"));
}

TEST(Varied, QuantilesOfTheNormalDistribution) {
    // Tables of the standard normal distribution.
    EXPECT_NEAR(normalQuantile(0.5), 0, 1e-15);
    EXPECT_NEAR(normalQuantile(0.975), 1.959963984540054, 1e-12);
    EXPECT_NEAR(normalQuantile(0.001), -3.090232306167813, 1e-12);
    EXPECT_NEAR(normalQuantile(1e-12), -7.034483825301132, 1e-9);
    for (double u = 1e-6; u < 1; u += 0.00317) EXPECT_NEAR(0.5 * std::erfc(-normalQuantile(u) / std::sqrt(2.0)), u, 1e-13);
}

TEST(Varied, WhatIsWrongIsSaidWithItsLine) {
    EXPECT_NE(why("A").find("colon"), std::string::npos);
    EXPECT_NE(why("A:").find("missing"), std::string::npos);
    EXPECT_NE(why("X: 1, 2").find("no parameter 'X'"), std::string::npos);
    EXPECT_NE(why("A: 1 to 2 in 1").find("2 or more"), std::string::npos);
    EXPECT_NE(why("A: 0 to 2, 3 a decade").find("above 0"), std::string::npos);
    EXPECT_NE(why("A: 2 to 2 in 5").find("alike"), std::string::npos);
    EXPECT_NE(why("A: 1 m to 2 s in 4").find("\"A: 1 m to 2 s in 4\""), std::string::npos);
    EXPECT_NE(why("A: normal 5", "random 5").find("deviation"), std::string::npos);
    EXPECT_NE(why("A: normal 5, deviation 1, without 3", "random 5").find("without"), std::string::npos);
    EXPECT_NE(why("A: E13 from 1 to 2").find("E12"), std::string::npos);
    EXPECT_NE(why("plan: none").find("no plan"), std::string::npos);
    EXPECT_NE(why("rungs: all on green").find("rungs"), std::string::npos);
    EXPECT_NE(why("A: measured nowhere.csv", "random 5").find("nowhere"), std::string::npos);
    EXPECT_NE(why("table nowhere.csv").find("nowhere"), std::string::npos);
    EXPECT_NE(why("A: 1 to 2 in 100000000").find("number of values"), std::string::npos);
    EXPECT_FALSE(points({"A: 1 to 2 in 10000", "B: 1 to 2 in 10000"}, "grid")) << "a hundred million runs";
    for (const char* runs : {"random", "random 0", "random -4", "latin 1.5", "sobol x", "corner"}) EXPECT_FALSE(readSampling(runs)) << runs;
}

}  // namespace
