// Runs of several spans: what is handed over from one circuit and one engine to the next, against closed forms.

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "runs/price.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

std::shared_ptr<hedgerow::Run> prepared(const Circuit& c, const std::vector<std::string>& spans) {
    RunSettings settings;
    settings.spans = spans;
    auto run = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()), settings);
    EXPECT_TRUE(run) << run.error().message;
    return run ? *run : nullptr;
}

std::shared_ptr<hedgerow::Run> done(const Circuit& c, const std::vector<std::string>& spans) {
    auto run = prepared(c, spans);
    if (!run) return run;
    run->execute();
    EXPECT_EQ(run->summary().end, RunEnd::finished) << run->summary().brief();
    EXPECT_EQ(run->summary().spans.size(), spans.size());
    return run;
}

std::string refusal(const Circuit& c, const std::vector<std::string>& spans) {
    RunSettings settings;
    settings.spans = spans;
    const auto run = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()), settings);
    return run ? "" : run.error().message;
}

/// 10 V over 1 kOhm into 1 uF.
Circuit charging() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "out"}, {{"r", "1k"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}})
        .plan("5m", "1e-6");
    return c;
}
double charged(double t) { return 10 * (1 - std::exp(-t / 1e-3)); }

TEST(Spans, EnginesTakeOverFromEachOther) {
    const auto run = done(charging(), {"until 1m: exact", "for 1m: adaptive, tolerance 1e-7", "until 3m: fixed, step 1u",
                                       "to the end: exact"});
    ASSERT_TRUE(run);
    for (const double t : {0.5e-3, 1e-3, 1.7e-3, 2e-3, 2.4e-3, 3e-3, 4.2e-3, 5e-3})
        EXPECT_NEAR(at(*run, "C1.v", t), charged(t), 2e-5) << t;
    EXPECT_EQ(run->summary().engine, "exact, adaptive, fixed");
    EXPECT_EQ(run->summary().spans[2].engine, "fixed");
    EXPECT_NEAR(toSeconds(run->summary().spans[2].from), 2e-3, 1e-12);
    const auto all = measures(*run, "C1.v", 0, 5e-3);
    EXPECT_NEAR(all.mean, 10 - 10 * 1e-3 / 5e-3 * (1 - std::exp(-5.0)), 1e-4);
}

TEST(Spans, ARingingCircuitKeepsItsEnergyOverBorders) {
    // L and C without loss: v = 10 (1 - cos w t).
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("inductor", "L1", {"in", "out"}, {{"l", "1m"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}})
        .plan("1m", "1e-6");
    const auto run = done(c, {"until 0.21m: exact", "until 0.4m: adaptive, tolerance 1e-8", "to the end: exact"});
    ASSERT_TRUE(run);
    const double w = 1 / std::sqrt(1e-3 * 1e-6);
    for (const double t : {0.1e-3, 0.21e-3, 0.3e-3, 0.4e-3, 0.9e-3}) {
        EXPECT_NEAR(at(*run, "C1.v", t), 10 * (1 - std::cos(w * t)), 1e-4) << t;
        EXPECT_NEAR(at(*run, "L1.i", t), 10 * std::sqrt(1e-6 / 1e-3) * std::sin(w * t), 1e-5) << t;
    }
    for (std::size_t i = 1; i < 3; ++i) {
        const SpanOutcome& span = run->summary().spans[i];
        const double t = toSeconds(span.from), v = 10 * (1 - std::cos(w * t)),
                     i1 = 10 * std::sqrt(1e-3) * std::sin(w * t);
        EXPECT_NEAR(span.energyBefore, 0.5e-6 * v * v + 0.5e-3 * i1 * i1, 2e-9);
        EXPECT_NEAR(span.energyAfter, span.energyBefore, 1e-15);
        EXPECT_TRUE(span.gone.empty() && span.added.empty());
        EXPECT_TRUE(span.jumps.empty()) << span.jumps.front().quantity;
    }
}

/// A transistor that stays as it is, with 10 Ohm to 100 V.
Circuit leg(const std::string& gate) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "100"}})
        .add("resistor", "R1", {"in", "d"}, {{"r", "10"}})
        .add("constant", "K1", {"g"}, {{"value", gate}})
        .add("mosfet", "Q1", {"d", "0", "g"}, {{"coss", "400p"}, {"crss", "50p"}, {"roff", "none"}, {"ron", "10m"}}, 2)
        .plan("20u");
    return c;
}

TEST(Spans, OutputCapacitanceAppearsAtFullVoltageWithItsCharge) {
    const auto run = done(leg("0"), {"until 10u: as drawn", "to the end: Q1 on 3"});
    ASSERT_TRUE(run);
    const SpanOutcome& span = run->summary().spans[1];
    // All of it lies over the blocked transistor: C v^2 / 2.
    EXPECT_RELATIVE(span.energyNew, 0.5 * 400e-12 * 100 * 100, 0.01);
    EXPECT_NEAR(at(*run, "Q1.v", 9.9e-6), 100, 1e-3);
    EXPECT_NEAR(at(*run, "Q1.v", 10.1e-6), 100, 0.05);
    EXPECT_NEAR(at(*run, "Q1.i", 10.1e-6), 0, 1e-3) << "nothing has to be charged";
    for (const Jump& jump : span.jumps) EXPECT_FALSE(jump.caution) << jump.quantity;
}

TEST(Spans, OutputCapacitanceAppearsAtZeroVoltageWithNone) {
    const auto run = done(leg("1"), {"until 10u: as drawn", "to the end: Q1 on 3"});
    ASSERT_TRUE(run);
    EXPECT_NEAR(at(*run, "Q1.v", 9.9e-6), 0.1, 1e-3);
    EXPECT_LT(std::abs(at(*run, "Q1.v", 10.5e-6)), 1.0);
    EXPECT_NEAR(at(*run, "R1.i", 10.5e-6), 10, 0.1);
    // Only the gate is charged: C v^2 / 2 of 3 nF at 12 V.
    EXPECT_LT(run->summary().spans[1].energyNew, 0.5 * 3.1e-9 * 12.1 * 12.1 + 0.5 * 5.1e-9 * 10.1 * 10.1);
}

TEST(Spans, WhatGoesDownALadderTakesItsEnergyAlong) {
    const auto run = done(leg("0"), {"until 10u: Q1 on 3", "to the end: Q1 on 1"});
    ASSERT_TRUE(run);
    const SpanOutcome& span = run->summary().spans[1];
    EXPECT_RELATIVE(span.energyGone, 0.5 * 400e-12 * 100 * 100, 0.01);
    EXPECT_FALSE(span.gone.empty());
    EXPECT_NEAR(span.energyAfter, 0, 1e-12);
}

TEST(Spans, AQuantityThatACircuitLacksHasAGap) {
    Circuit c = leg("0");
    const auto run = done(c, {"until 5u: as drawn", "until 10u: Q1 on 3", "until 15u: as drawn, keep R1.v", "to the end: keep nothing"});
    ASSERT_TRUE(run);
    std::string only;  // on rung 3
    for (const QuantityInfo& quantity : run->quantities())
        if (quantity.name.starts_with("Q1.") && !run->elaboration().network.findQuantity(quantity.name)) only = quantity.name;
    ASSERT_FALSE(only.empty());
    const auto there = run->trace(only);
    EXPECT_FALSE(there->at(toTicks(2e-6)));
    EXPECT_TRUE(there->at(toTicks(7e-6)));
    EXPECT_FALSE(there->at(toTicks(12e-6)));
    const auto some = there->measure(0, toTicks(20e-6));
    ASSERT_TRUE(some);
    EXPECT_NEAR(some->seconds, 5e-6, 1e-12);
    EXPECT_FALSE(there->measure(0, toTicks(4e-6))) << "it has no values there";
    const auto kept = run->trace("R1.v"), left = run->trace("Q1.v"), state = run->trace("Q1.on");
    EXPECT_TRUE(kept->at(toTicks(12e-6)));
    EXPECT_FALSE(left->at(toTicks(12e-6)));
    EXPECT_FALSE(kept->at(toTicks(18e-6)));
    EXPECT_NEAR(kept->measure(0, toTicks(20e-6))->seconds, 15e-6, 1e-12);
    EXPECT_NEAR(left->measure(0, toTicks(20e-6))->seconds, 10e-6, 1e-12);
    if (state) {
        EXPECT_FALSE(state->at(toTicks(18e-6)));
    }
}

TEST(Spans, EndWhenAConditionHoldsAtItsVeryInstant) {
    const auto run = done(charging(), {"until C1.v > 5: exact", "for 1m: adaptive, tolerance 1e-7"});
    ASSERT_TRUE(run);
    const double passed = 1e-3 * std::log(2.0);
    EXPECT_NEAR(toSeconds(run->summary().spans[1].from), passed, 1e-8);
    EXPECT_NEAR(toSeconds(run->end()), passed + 1e-3, 1e-8) << "the run is as long as it was";
    EXPECT_NEAR(at(*run, "C1.v", 1.2e-3), charged(1.2e-3), 2e-5);
    const auto points = run->trace("C1.v");
    for (std::size_t i = 1; i < points->size(); ++i) ASSERT_GE(points->time(i), points->time(i - 1));

    const auto fixed = done(charging(), {"until C1.v > 5: fixed, step 10u", "for 0.1m: exact"});
    EXPECT_NEAR(toSeconds(fixed->summary().spans[1].from), passed, 2e-7);
    const auto never = done(charging(), {"until C1.v > 50 or 2m: exact", "for 1m: exact"});
    EXPECT_NEAR(toSeconds(never->end()), 3e-3, 1e-12);
    EXPECT_NE(never->summary().spans[0].ended.find("never held"), std::string::npos);
    const auto falls = done(charging(), {"until R1.v < 2.5", "for 0.1m"});
    EXPECT_NEAR(toSeconds(falls->summary().spans[1].from), 1e-3 * std::log(4.0), 1e-8);
}

/// A chopper with an LC filter that takes about 2 ms to settle.
Circuit chopper() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "48"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "100k"}, {"duty", "0.5"}})
        .add("switch", "S1", {"in", "sw", "g"}, {{"ron", "10m"}}, 2)
        .add("diode", "D1", {"0", "sw"}, {{"vf", "0.7"}, {"ron", "10m"}}, 2)
        .add("inductor", "L1", {"sw", "out"}, {{"l", "47u"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "22u"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "2"}})
        .plan("10m", "1e-5");
    return c;
}

TEST(Spans, ASettledSpanTakesNoTimeAndLandsInTheSamePhase) {
    const Circuit c = chopper();
    const auto run = done(c, {"until 32u: as drawn", "settle", "until 62u"});
    const auto plain = done(c, {"until 10m"});
    ASSERT_TRUE(run && plain);
    EXPECT_EQ(run->summary().spans[1].from, run->summary().spans[1].to);
    // The long run is in the periodic state too: the same phase, so many periods later.
    for (double t = 33e-6; t < 62e-6; t += 2.9e-6) {
        EXPECT_NEAR(at(*run, "L1.i", t), at(*plain, "L1.i", t + 9.9e-3), 1e-3) << t;
        EXPECT_NEAR(at(*run, "C1.v", t), at(*plain, "C1.v", t + 9.9e-3), 1e-3) << t;
    }
}

TEST(Spans, UntilSettledEndsWithAPeriodAndWhatIsLeftIsSmall) {
    const auto run = done(chopper(), {"until settled", "for 20u"});
    ASSERT_TRUE(run);
    const double end = toSeconds(run->summary().spans[0].to);
    EXPECT_LT(end, 5e-3);
    EXPECT_NEAR(end / 10e-6, std::round(end / 10e-6), 1e-6);
    const auto settled = done(chopper(), {"settle", "for 20u"});
    EXPECT_NEAR(at(*run, "C1.v", end + 5e-6), at(*settled, "C1.v", 5e-6), 2e-3 * 24);
}

TEST(Spans, ComeAgainAndTheTimeBetweenGoesOnAsBefore) {
    const auto run = done(chopper(), {"until 1m: all on 1", "every 1m for 20u until 4m: all on 2", "until 5m: all on 1"});
    ASSERT_TRUE(run);
    EXPECT_EQ(run->summary().spans[1].times, 3);
    // On rung 1 the diode has no knee: where rung 2 is in force its voltage shows it.
    const auto low = [&](double t) { return measures(*run, "D1.v", t, t + 10e-6).max; };
    EXPECT_LT(low(0.9e-3), 0.01);
    EXPECT_GT(low(1.005e-3), 0.6);
    EXPECT_LT(low(1.5e-3), 0.01);
    EXPECT_GT(low(3.005e-3), 0.6);
    EXPECT_LT(low(4.5e-3), 0.01);
}

TEST(Spans, EventsOfTheSceneComeWhereTheyStand) {
    Circuit c = chopper();
    c.project().scenes.front().events = {{.at = "2m", .target = "R1.r", .value = "1"},
                                         {.at = "3m", .target = "R1.r", .value = "2", .duration = "0.2m"}};
    const auto run = done(c, {"until 100u after event 1: as drawn", "until 10u after event 2: all on 1", "until 4m"});
    ASSERT_TRUE(run);
    EXPECT_NEAR(toSeconds(run->summary().spans[1].from), 2.1e-3, 1e-12);
    EXPECT_NEAR(toSeconds(run->summary().spans[2].from), 3.21e-3, 1e-12) << "a ramp ends with its last value";
    const auto plain = done(c, {"until 4m"});
    EXPECT_NEAR(at(*run, "C1.v", 2.05e-3), at(*plain, "C1.v", 2.05e-3), 1e-6);
    EXPECT_RELATIVE(at(*run, "R1.i", 2.9e-3), at(*run, "C1.v", 2.9e-3) / 1.0, 1e-6);
}

TEST(Spans, ASceneMayChangeWhatEquationsThereAre) {
    // The series resistance becomes zero: another network, which an event could not bring before.
    Circuit c = charging();
    c.add("inductor", "L1", {"out", "x"}, {{"l", "1m"}, {"dcr", "0.5"}}, 2).add("resistor", "R2", {"x", "0"}, {{"r", "1k"}});
    c.project().scenes.front().events = {{.at = "2m", .target = "L1.dcr", .value = "0"}};
    auto run = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_TRUE(run) << run.error().message;
    (*run)->execute();
    EXPECT_EQ((*run)->summary().end, RunEnd::finished) << (*run)->summary().brief();
    const double before = at(**run, "L1.i", 1.99e-3), after = at(**run, "L1.i", 2.01e-3);
    EXPECT_RELATIVE(after, before, 0.02);
}

TEST(Spans, WhatCannotBeIsSaidBeforeTheRun) {
    const Circuit c = charging();
    const std::pair<std::vector<std::string>, const char*> cases[] = {
        {{"until 6m"}, "after the plan"},
        {{"until 2m", "until 1m"}, "does not begin before"},
        {{"to the end", "until 3m"}, "only the last span"},
        {{"settle"}, "a span must come after"},
        {{"until 1m: Q9 on 2"}, "Q9"},
        {{"until 1m: keep nope.v"}, "nope.v"},
        {{"until nope.v > 3"}, "nope.v"},
        {{"until C1.v > volts"}, "volts"},
        {{"every 1m for 2m: exact"}, "less than the time"},
        {{"until 1m after event 1"}, "0 events"},
        {{"until -1m"}, "no time after"},
        {{"until 1m: tolerance 3"}, "out of range"},
        {{"until settled: fixed, step 1u"}, "fixed grid"},
        {{"until 1m: fixed, step 0"}, "out of range"},
    };
    for (const auto& [spans, fault] : cases) {
        const std::string message = refusal(c, spans);
        EXPECT_NE(message.find(fault), std::string::npos) << spans.front() << ": " << message;
    }
}

TEST(Spans, AStopInTheMiddleLeavesWhatWasComputed) {
    Circuit c = chopper();
    const auto run = prepared(c, {"until 1m", "to the end: adaptive, tolerance 1e-9"});
    ASSERT_TRUE(run);
    std::thread stopper([&] {
        while (toSeconds(run->reached()) < 1.05e-3) std::this_thread::yield();
        run->cancel();
    });
    run->execute();
    stopper.join();
    EXPECT_EQ(run->summary().end, RunEnd::stopped);
    EXPECT_FALSE(run->summary().error);
    EXPECT_GE(toSeconds(run->summary().reached), 1e-3);
    EXPECT_GT(run->points(), 100u);
}

TEST(Prices, OfShortRunsAreWhatTheyTake) {
    const auto run = prepared(chopper(), {"until 1m: all on 1", "settle", "for 20u: adaptive"});
    ASSERT_TRUE(run);
    const auto price = priceOf(*run, PriceBook(), 0.5, CancelToken());
    ASSERT_TRUE(price) << price.error().message;
    ASSERT_EQ(price->spans.size(), 3u);
    run->execute();
    for (std::size_t i = 0; i < 3; ++i) {
        EXPECT_TRUE(price->spans[i].whole);
        EXPECT_GT(price->spans[i].seconds, 0);
        EXPECT_LE(price->spans[i].low, price->spans[i].seconds);
        EXPECT_GE(price->spans[i].high, price->spans[i].seconds);
    }
    EXPECT_NEAR(price->spans[0].events, static_cast<double>(run->summary().spans[0].events), 1);
    EXPECT_RELATIVE(price->spans[2].points, static_cast<double>(run->summary().spans[2].points), 0.1);
    PriceBook book;
    learnFrom(*price, run->summary(), book);
    EXPECT_EQ(book.factor(price->spans[0].kind).known, 1);
}

TEST(Prices, OfLongRunsGrowWithTheirLength) {
    const auto shorter = prepared(chopper(), {"until 5m: adaptive"}), longer = prepared(chopper(), {"until 10m: adaptive"});
    const auto one = priceOf(*shorter, PriceBook(), 0.02, CancelToken()), two = priceOf(*longer, PriceBook(), 0.02, CancelToken());
    ASSERT_TRUE(one && two);
    EXPECT_FALSE(two->spans[0].whole);
    EXPECT_GT(two->points, 1.5 * one->points);
    EXPECT_NEAR(two->events, 2000, 200) << "counted, and the diode's besides";
    const CancelToken stop;
    stop.cancel();
    EXPECT_FALSE(priceOf(*longer, PriceBook(), 0.02, stop));
}

}  // namespace
