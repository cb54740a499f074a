// Which rung to climb to next: what the waveforms of known circuits say.

#include <cmath>

#include "model/quantity.h"
#include "analysis/next_rung.h"
#include "runs/run_changes.h"
#include "runs/rung_prices.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

const RungAdvice* about(const std::vector<RungAdvice>& all, const std::string& part) {
    for (const RungAdvice& one : all)
        if (one.part == part) return &one;
    return nullptr;
}

/// A step-down stage, everything on rung 1.
Circuit stage() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "48"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "100k"}, {"duty", "0.5"}})
        .add("mosfet", "Q1", {"in", "sw", "g"})
        .add("diode", "D1", {"0", "sw"})
        .add("inductor", "L1", {"sw", "out"}, {{"l", "100u"}, {"i0", "5"}, {"dcr", "20m"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "100u"}, {"v0", "24"}, {"esr", "50m"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "4.8"}})
        .plan("500u");
    return c;
}

}  // namespace

TEST(NextRung, NamesTheNetThatJumpsWithoutACapacitance) {
    Circuit c = stage();
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto all = nextRungs(*r);
    const RungAdvice* first = about(all, "Q1");
    ASSERT_TRUE(first);
    EXPECT_EQ(all.front().part, "Q1") << "before anything else";
    EXPECT_EQ(first->rung, 3);
    EXPECT_NE(first->why.find("net sw jumps by 48 V"), std::string::npos) << first->why;
    EXPECT_NEAR(first->at / 5e-6, std::round(first->at / 5e-6), 1e-6) << "at an edge";
    // On rung 3 it has one.
    for (Part& part : c.project().sheet().parts)
        if (part.name == "Q1") part.rung = 3;
    c.plan("30u");
    const auto dynamic = run(c);
    ASSERT_TRUE(dynamic);
    EXPECT_FALSE(about(nextRungs(*dynamic), "Q1"));
}

TEST(NextRung, TellsWhatEachPartWouldAdd) {
    const auto r = run(stage());
    ASSERT_TRUE(r);
    const auto all = nextRungs(*r);
    const RungAdvice *diode = about(all, "D1"), *capacitor = about(all, "C1"), *winding = about(all, "L1"),
                     *source = about(all, "V1");
    ASSERT_TRUE(diode && capacitor && winding && source);
    EXPECT_EQ(diode->rung, 3);
    EXPECT_NE(diode->why.find("in no time"), std::string::npos) << diode->why;
    EXPECT_EQ(capacitor->rung, 2);
    const auto current = measures(*r, "C1.i", 0, 500e-6);
    EXPECT_NE(capacitor->why.find("would add " + formatQuantity(50e-3 * (current.max - current.min), "V", 3)),
              std::string::npos)
        << capacitor->why;
    EXPECT_NE(winding->why.find("would burn"), std::string::npos) << winding->why;
    EXPECT_EQ(source->rung, 3);
    EXPECT_GT(diode->weight, winding->weight);
    EXPECT_FALSE(about(all, "R1")) << "a resistor gains nothing here";
    for (std::size_t i = 1; i < all.size(); ++i) EXPECT_GE(all[i - 1].weight, all[i].weight);
}

TEST(NextRung, WarnsOfSaturation) {
    Circuit c = stage();
    c.set("L1", "isat", "6");
    const RungAdvice* winding = nullptr;
    const auto r = run(c);
    ASSERT_TRUE(r);
    const auto all = nextRungs(*r);
    winding = about(all, "L1");
    ASSERT_TRUE(winding);
    EXPECT_EQ(winding->rung, 4);
    EXPECT_NE(winding->why.find("saturates"), std::string::npos);
}

TEST(NextRung, QuietCircuitsAskForLittle) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "10"}, {"f", "50"}})
        .add("resistor", "R1", {"in", "0"}, {{"r", "10"}})
        .plan("40m");
    const auto r = run(c);
    ASSERT_TRUE(r);
    EXPECT_TRUE(nextRungs(*r).empty());
}

// A rung up: what the numbers of two runs say of it.
TEST(RunChanges, CompareLanesAndThePartsThatChanged) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("diode", "D1", {"in", "out"}, {{"vf", "1"}, {"ron", "100m"}, {"roff", "1G"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "0.9"}})
        .plan("1m");
    Lane lane;
    lane.quantities = {"out.v", "no.such"};
    c.project().lanes = {lane};
    const auto ideal = run(c);
    for (Part& part : c.project().sheet().parts)
        if (part.name == "D1") part.rung = 2;
    const auto lossy = run(c);
    ASSERT_TRUE(ideal && lossy);
    const auto changes = changesBetween(*lossy, *ideal, 0, toTicks(1e-3));
    ASSERT_EQ(changes.size(), 4u) << "the lane, and v, i and p of the diode";
    EXPECT_EQ(changes[0].quantity, "out.v");
    EXPECT_NEAR(changes[0].other.mean, 10, 1e-9);
    EXPECT_NEAR(changes[0].now.mean, 9.0 / 1.0 * 0.9, 1e-6);
    EXPECT_EQ(changes[3].quantity, "D1.p");
    EXPECT_NEAR(changes[3].now.mean, 9 * (1 + 0.9), 1e-5) << "what it burns";
    EXPECT_EQ(changes[3].other.peak, 0);
    EXPECT_EQ(changesBetween(*ideal, *ideal, 0, toTicks(1e-3)).size(), 1u) << "only the lane";
}

// What is measured is what ran: each rung of the part, over the lowest.
TEST(RungPrices, AreOfEveryRungThatRuns) {
    Circuit c = stage();
    c.plan("50u");
    const Project project = c.project();
    const Part* diode = project.findPart("D1");
    const auto prices = measurePrices(project, {}, diode->id, CancelToken());
    ASSERT_TRUE(prices) << prices.error().message;
    ASSERT_EQ(prices->size(), 4u);
    EXPECT_EQ(prices->front().relative, 1.0);
    for (std::size_t i = 0; i < prices->size(); ++i) {
        EXPECT_EQ((*prices)[i].rung, static_cast<int>(i) + 1);
        EXPECT_GT((*prices)[i].relative, 0);
    }
    EXPECT_EQ(project.findPart("D1")->rung, diode->rung);
}

TEST(RungPrices, SayWhyThereAreNone) {
    const Project project = stage().project();
    EXPECT_FALSE(measurePrices(project, {}, -5, CancelToken()));
    const CancelToken stopped;
    stopped.cancel();
    EXPECT_EQ(measurePrices(project, {}, project.findPart("D1")->id, stopped).error().code, ErrorCode::stop);
    Circuit broken = stage();
    broken.set("L1", "l", "nosuch");
    const Project bad = broken.project();
    EXPECT_FALSE(measurePrices(bad, {}, bad.findPart("D1")->id, CancelToken()));
}
