// Trade studies whose answers are known by construction.

#include <gtest/gtest.h>

#include <cmath>

#include "studies/trade.h"
#include "studies/trade_file.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// A chopper whose output ripple is made by the series resistance of C1. Parts that cannot matter to it: C2 over the
/// ideal source with a resistance of its own, L2 in a branch without current, a diode that always blocks, and R2 over the source.
Circuit built() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "48"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "100k"}, {"duty", "0.5"}})
        .add("switch", "S1", {"in", "sw", "g"}, {{"ron", "none"}, {"roff", "none"}}, 1)
        .add("diode", "D1", {"0", "sw"}, {}, 1)
        .add("inductor", "L1", {"sw", "out"}, {{"l", "47u"}}, 1)
        .add("capacitor", "C1", {"out", "0"}, {{"c", "100u"}, {"esr", "50m"}}, 2)
        .add("capacitor", "C2", {"in", "0"}, {{"c", "10u"}, {"esr", "20m"}, {"v0", "48"}}, 2)
        .add("inductor", "L2", {"in", "open"}, {{"l", "10u"}, {"dcr", "1"}}, 2)
        .add("resistor", "R3", {"open", "0"}, {{"r", "10M"}}, 1)
        .add("diode", "D2", {"0", "in"}, {}, 2)
        .add("resistor", "R2", {"in", "0"}, {{"r", "1k"}}, 1)
        .add("resistor", "R1", {"out", "0"}, {{"r", "2"}}, 1)
        .plan("3m", "1e-5");
    Project& project = c.project();
    project.plans.front().spans = {Span{.settle = true, .extra = {}},
                                   Span{.until = "40u", .since = "start", .extra = {}}};
    return c;
}

TradeRequest asking(const Circuit& c, bool search) {
    TradeRequest request{.project = std::make_shared<const Project>(c.project()), .study = {}, .search = search};
    request.study.features = {"pp of out.v within 1 %", "mean of out.v within 0.5 %", "pp of L1.i within 1 %"};
    request.study.alternatives = {"reference: all on 2", "all on 1", "C1 on 2, all on 1"};
    return request;
}

/// Its ripple: delta i = V (1 - D) D / (L f), and with a resistance that outweighs the capacitance delta v = R delta i.
const double swing = 48 * 0.5 * 0.5 / (47e-6 * 100e3);

TEST(Trade, FindsTheOnePartThatMatters) {
    Circuit c = built();
    // On rung 2 the switch and the diode have no losses, so that the output voltage is half of 48 V on both rungs.
    c.set("D1", "vf", "none"), c.set("D1", "ron", "none"), c.set("D1", "roff", "none");
    const auto result = runTrade(asking(c, true), CancelToken());
    ASSERT_TRUE(result) << result.error().message;
    EXPECT_TRUE(result->converged);
    EXPECT_LT(result->runs, 40);
    EXPECT_RELATIVE(result->reference[2], swing, 0.01);
    EXPECT_GT(result->reference[0], 0.9 * 50e-3 * swing);
    EXPECT_RELATIVE(result->reference[1], 24, 0.02);
    for (const PartVerdict& verdict : result->verdicts) {
        EXPECT_EQ(verdict.needed, verdict.part == "C1") << verdict.part << ": " << verdict.why;
        EXPECT_EQ(verdict.rung, verdict.part == "C1" ? 2 : 1) << verdict.part;
        EXPECT_FALSE(verdict.why.empty()) << verdict.part;
        if (verdict.part == "C1") {
            EXPECT_NE(verdict.why.find("pp of out.v"), std::string::npos) << verdict.why;
        }
    }
    EXPECT_TRUE(result->answer.starts_with("all on 1, C1 on 2") || result->answer.starts_with("C1 on 2, all on 1"))
        << result->answer;
}

TEST(Trade, JudgesAlternativesByTheAccuracyWanted) {
    const auto result = runTrade(asking(built(), false), CancelToken());
    ASSERT_TRUE(result) << result.error().message;
    ASSERT_EQ(result->points.size(), 3u);
    EXPECT_EQ(result->points[0].line, "as drawn");
    EXPECT_TRUE(result->points[0].present);
    const TradePoint& ideal = result->points[1];
    EXPECT_FALSE(ideal.good);
    // Without the resistance the ripple is that of the capacitance: delta i / (8 f C).
    EXPECT_RELATIVE(ideal.values[0], swing / (8 * 100e3 * 100e-6), 0.02);
    EXPECT_RELATIVE(ideal.errors[0], std::abs(ideal.values[0] - result->reference[0]) / (0.01 * result->reference[0]), 1e-9);
    int front = 0;
    for (const TradePoint& point : result->points) {
        front += point.front;
        EXPECT_GT(point.seconds, 0);
        EXPECT_EQ(point.good, point.worst <= 1);
    }
    EXPECT_GE(front, 1);
}

TEST(Trade, FailuresAreResultsToo) {
    TradeRequest request = asking(built(), false);
    request.study.alternatives = {"reference: all on 2", "all on 1", "fixed, step 1"};
    const auto result = runTrade(request, CancelToken());
    ASSERT_TRUE(result) << result.error().message;
    ASSERT_TRUE(result->points[2].error || !result->points[2].good);
    EXPECT_FALSE(result->points[2].front && result->points[2].error);
}

TEST(Trade, QuestionsThatAreNoneAreRefusedBeforeAnyRun) {
    const auto refusal = [](const std::function<void(TradeRequest&)>& spoil) {
        TradeRequest request = asking(built(), false);
        spoil(request);
        const auto result = runTrade(request, CancelToken());
        return result ? std::string() : result.error().message;
    };
    EXPECT_NE(refusal([](TradeRequest& r) { r.study.features = {}; }).find("what matters"), std::string::npos);
    EXPECT_NE(refusal([](TradeRequest& r) { r.study.features = {"nonsense"}; }).find("nonsense"), std::string::npos);
    EXPECT_NE(refusal([](TradeRequest& r) { r.study.alternatives = {"quickly"}; }).find("quickly"), std::string::npos);
    EXPECT_NE(refusal([](TradeRequest& r) { r.study.plan = "none"; }).find("none"), std::string::npos);
    EXPECT_NE(refusal([](TradeRequest& r) { r.study.features = {"pp of nope.v within 1 %"}; }).find("nope.v"),
              std::string::npos);
    EXPECT_NE(refusal([](TradeRequest& r) { r.study.alternatives = {"reference: Q9 on 3"}; }).find("Q9"), std::string::npos);
}

TEST(Trade, IsStoppedInTheMiddle) {
    TradeRequest request = asking(built(), true);
    const CancelToken cancel;
    request.progress = [&](const TradeProgress& at) {
        if (at.done >= 3) cancel.cancel();
    };
    const auto result = runTrade(request, cancel);
    ASSERT_FALSE(result);
    EXPECT_EQ(result.error().code, ErrorCode::stop);
}

TEST(Trade, StepsFallFromATenthOfThePeriodAndTheirErrorsWithThem) {
    TradeRequest request = asking(built(), false);
    request.study.features = {"pp of L1.i within 1 %", "mean of out.v within 1 %"};
    const auto lines = stepLines(*request.project, request.study);
    ASSERT_EQ(lines.size(), 14u);
    EXPECT_EQ(lines.front(), "fixed, step 1u");
    EXPECT_EQ(lines[1], "fixed, step 1u, edges on the grid");
    EXPECT_EQ(lines.back(), "fixed, step 10n, edges on the grid");
    request.study.alternatives = lines;
    request.study.alternatives.push_back("reference: exact");
    const auto result = runTrade(request, CancelToken());
    ASSERT_TRUE(result) << result.error().message;
    const auto worst = [&](const std::string& line) {
        for (const TradePoint& point : result->points)
            if (point.line == line) return point.error ? INFINITY : point.worst;
        return -1.0;
    };
    EXPECT_GE(result->apart, 0) << "the reference is exact: it is checked in long double";
    EXPECT_LT(result->apart, 1e-3);
    EXPECT_NE(standingText(*result).find("long double"), std::string::npos);
    double largest = 0;
    for (const TradePoint& point : result->points) {
        EXPECT_EQ(point.step > 0, point.line.starts_with("fixed")) << point.line;
        if (point.step <= 0) continue;
        EXPECT_GT(point.load, 0) << point.line;
        EXPECT_GT(point.longestLoad, 0) << point.line;
        EXPECT_NE(headroomText(point).find("its length to compute"), std::string::npos) << point.line;
        if (point.good) largest = std::max(largest, point.step);
    }
    ASSERT_TRUE(largestGoodStep(*result));
    EXPECT_EQ(largestGoodStep(*result)->step, largest);
    const auto again = readTrade(writeTrade(*result));
    ASSERT_TRUE(again) << again.error().message;
    EXPECT_EQ(again->apart, result->apart);
    EXPECT_EQ(largestGoodStep(*again)->load, largestGoodStep(*result)->load);
    EXPECT_LT(worst("fixed, step 10n"), worst("fixed, step 1u"));
    EXPECT_LT(worst("fixed, step 10n"), 1);
}

TEST(Trade, StepsHaveMultiplesForWhatIsSlow) {
    Circuit c = built();
    c.add("resistor", "R9", {"out", "0"}, {{"r", "1k"}}, 4);
    TradeStudy study;
    const auto lines = stepLines(c.project(), study);
    EXPECT_NE(std::find(lines.begin(), lines.end(), "fixed, step 1u, heat every 100"), lines.end());
    EXPECT_EQ(std::find(lines.begin(), lines.end(), "fixed, step 1u, control every 10"), lines.end()) << "no running signals";
}

TEST(Trade, ALineIsAppliedAfterTheLastSettledSpan) {
    Circuit c = built();
    c.project().plans.front().spans.insert(c.project().plans.front().spans.begin(),
                                           Span{.until = "1m", .rungs = "all on 1", .extra = {}});
    const auto changed = withLine(c.project(), {}, "all on 4, adaptive, tolerance 1e-6, edges on the grid, control every 7");
    ASSERT_TRUE(changed);
    const Plan& plan = changed->plans.front();
    EXPECT_EQ(plan.spans[0].rungs, "all on 1");
    EXPECT_EQ(plan.spans[1].rungs, "all on 4, at most 2");
    EXPECT_EQ(plan.spans[2].rungs, "all on 4");
    EXPECT_EQ(plan.spans[2].engine, "adaptive");
    EXPECT_EQ(plan.spans[2].tolerance, "1e-6");
    EXPECT_FALSE(plan.fixed.interpolate);
    EXPECT_EQ(plan.fixed.control, "7");
}

}  // namespace
