// Switching energies that rung 2 learns from rung 4.

#include <gtest/gtest.h>

#include <cmath>
#include <filesystem>
#include <set>

#include "analysis/losses.h"
#include "formats/hedge/hedge.h"
#include "network/loss_data.h"
#include "studies/learn.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

std::shared_ptr<const Project> physical() {
    auto loaded = loadHedge(std::filesystem::path(HEDGEROW_EXAMPLES) / "med-aux-physical.hedge");
    EXPECT_TRUE(loaded);
    return std::make_shared<const Project>(std::move(loaded->project));
}

std::shared_ptr<hedgerow::Run> spans(const std::shared_ptr<const Project>& project, const std::string& load,
                                     const std::string& last) {
    RunSettings settings;
    settings.end = "1m";
    settings.parameters = {{"Rload", load}};
    settings.spans = {"settle: at most 2", last};
    auto run = hedgerow::Run::prepare(project, settings);
    EXPECT_TRUE(run) << run.error().message;
    (*run)->execute();
    EXPECT_EQ((*run)->summary().end, RunEnd::finished) << (*run)->summary().brief();
    return *run;
}

// The reference is rung 4 itself: the settled circuit with every curve and charge in it, over whole periods.
TEST(Learning, GivesRungTwoTheLossesOfRungFourOverALoadSweep) {
    const auto project = physical();
    const auto learned = learnLosses({.project = project, .plan = "start-up"}, CancelToken());
    ASSERT_TRUE(learned) << learned.error().message;
    EXPECT_TRUE(learned->left.empty()) << learned->left.front();
    const auto with = std::make_shared<const Project>(withLearned(*project, *learned));
    const double period = 1 / 150e3;
    for (const char* load : {"1.2", "1.92", "3.5", "6"}) {
        const auto fine = spans(project, load, "for 3 periods of M1: all on 4");
        const auto quick = spans(with, load, "for 3 periods of M1: at most 2");
        double of4 = 0, of2 = 0;
        for (const char* part : {"Q1", "Q2"}) of4 += measures(*fine, std::string(part) + ".p", period, 3 * period).mean;
        for (const LossRow& row : lossesOf(*quick, toTicks(period), quick->summary().reached)) of2 += row.total();
        EXPECT_RELATIVE(of2, of4, 0.05) << load;
    }
}

TEST(Learning, SaysWhereItComesFromAndWhatItSaw) {
    const auto project = physical();
    const auto learned = learnLosses({.project = project, .plan = "start-up", .parts = {"Q1"}, .points = 3}, CancelToken());
    ASSERT_TRUE(learned);
    for (const LearnedPoint& point : learned->points) {
        EXPECT_EQ(point.part, "Q1");
        EXPECT_GT(point.current, 0);
        EXPECT_GT(point.voltage, 0);
    }
    const Project with = withLearned(*project, *learned);
    const Part* const part = with.findPart(std::string_view("Q1"));
    ASSERT_TRUE(part->values.find("learned"));
    EXPECT_NE(part->values.find("learned")->find("start-up"), std::string::npos);
    EXPECT_TRUE(EnergyTable::read(*part->values.find("eon")));
    EXPECT_FALSE(with.findPart(std::string_view("Q2"))->values.find("eon")) << "nobody asked for it";
}

/// A chopper of 400 V and 10 A with an inductance in its loop: each kind of transistor over a diode.
TEST(Learning, TakesEveryKindOfDevice) {
    for (const char* kind : {"mosfet", "igbt", "gan-hemt"}) {
        Circuit c;
        c.add("dc-voltage", "V1", {"p", "0"}, {{"level", "400"}})
            .add("inductor", "L9", {"p", "in"}, {{"l", "20n"}})
            .add("resistor", "R9", {"p", "in"}, {{"r", "0.5"}})
            .add("modulator", "M1", {"", "g", ""}, {{"f", "50k"}, {"duty", "0.5"}})
            .add(kind, "Q1", {"in", "sw", "g"}, {}, 2)
            .add("diode", "D1", {"0", "sw"}, {}, 2)
            .add("inductor", "L1", {"sw", "out"}, {{"l", "2m"}, {"i0", "9"}})
            .add("dc-voltage", "V2", {"out", "0"}, {{"level", "200"}})
            .plan("130u", "1e-3");
        const auto learned =
            learnLosses({.project = std::make_shared<const Project>(c.project()), .rungs = "all on 3", .points = 2}, CancelToken());
        ASSERT_TRUE(learned) << kind << ": " << learned.error().message;
        std::set<std::string> keys;
        for (const Learned::Value& value : learned->values) keys.insert(value.part + "." + value.key);
        EXPECT_TRUE(keys.contains("Q1.eon") && keys.contains("Q1.eoff")) << kind;
        EXPECT_TRUE(keys.contains("D1.err")) << kind;
        for (const LearnedPoint& point : learned->points) {
            EXPECT_RELATIVE(point.voltage, 400, 0.02) << kind;
            EXPECT_LT(std::abs(point.energy), 400 * 12 * 2e-6) << kind << ": less than all of the power for 2 us";
        }
    }
}

TEST(Learning, TakesAThyristor) {
    Circuit c;
    c.add("sine-voltage", "V1", {"a", "0"}, {{"peak", "325"}, {"f", "50"}})
        .add("inductor", "L9", {"a", "x"}, {{"l", "100u"}})
        .add("resistor", "R9", {"a", "x"}, {{"r", "100"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "50"}, {"duty", "0.05"}, {"phase", "0.2"}})
        .add("thyristor", "T1", {"x", "y", "g"}, {}, 2)
        .add("resistor", "R1", {"y", "0"}, {{"r", "20"}})
        .plan("70m", "1e-3");
    const auto learned =
        learnLosses({.project = std::make_shared<const Project>(c.project()), .rungs = "T1 on 3", .points = 2}, CancelToken());
    ASSERT_TRUE(learned) << learned.error().message;
    ASSERT_FALSE(learned->points.empty());
    EXPECT_EQ(learned->points.front().event, "on");
    EXPECT_RELATIVE(learned->points.front().voltage, 325 * std::sin(2 * 3.14159265358979 * 0.2), 0.02);
}

TEST(Learning, WhatCannotLearnIsSaid) {
    const auto project = physical();
    const auto message = [&](LearnRequest request) {
        const auto learned = learnLosses(request, CancelToken());
        return learned ? std::string() : learned.error().text();
    };
    EXPECT_NE(message({.project = project, .plan = "none"}).find("none"), std::string::npos);
    EXPECT_NE(message({.project = project, .parts = {"Q9"}}).find("Q9"), std::string::npos);
    EXPECT_NE(message({.project = project, .parts = {"R1"}}).find("R1"), std::string::npos);
    const CancelToken stop;
    stop.cancel();
    const auto stopped = learnLosses({.project = project}, stop);
    ASSERT_FALSE(stopped);
    EXPECT_EQ(stopped.error().code, ErrorCode::stop);
}

}  // namespace
