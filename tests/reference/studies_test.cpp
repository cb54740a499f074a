// Studies against closed forms: spreads of an RC time constant and of a step-down output, sensitivities, corners, and what
// becomes of a study that is stopped, killed, taken up again, or worked on by several.

#include <gtest/gtest.h>

#include <cmath>
#include <filesystem>
#include <fstream>
#include <numbers>
#include <set>

#include "formats/hedge/hedge.h"
#include "base/process.h"
#include "studies/optimise.h"
#include "studies/slurm.h"
#include "studies/study_folder.h"
#include "studies/study_statistics.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

namespace fs = std::filesystem;

/// A step into R and C: v(t) = V (1 - exp(-t / RC)).
Circuit lowPass() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "out"}, {{"r", "1k"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}})
        .add("resistor", "R9", {"in", "0"}, {{"r", "1k"}})
        .plan("3m", "1e-6");
    return c;
}

ParameterStudy asking(std::vector<std::string> varied, std::vector<std::string> measured, std::string runs = "grid") {
    return {.name = "test", .varied = std::move(varied), .measured = std::move(measured), .runs = std::move(runs), .extra = {}};
}

class Rows final : public StudyRows {
public:
    bool has(std::size_t index) const override { return seen.contains(index); }
    Status take(StudyRow row) override {
        seen.insert(row.index);
        auto taken = StudyRows::take(std::move(row));
        if (cancelAt && made.size() == cancelAt) cancel.cancel();
        return taken;
    }
    std::set<std::size_t> seen;
    std::size_t cancelAt = 0;
    CancelToken cancel;
};

class StudyFiles : public testing::Test {
protected:
    void SetUp() override {
        folder = fs::temp_directory_path() / ("hedgerow-study-" + std::to_string(::getpid()) + "-" +
                                              testing::UnitTest::GetInstance()->current_test_info()->name());
        fs::remove_all(folder);
        fs::create_directories(folder);
    }
    void TearDown() override { fs::remove_all(folder); }
    fs::path folder;
};

StudySetup ready(const Circuit& c, const ParameterStudy& study) {
    auto setup = prepareStudy(std::make_shared<const Project>(c.project()), study);
    EXPECT_TRUE(setup) << setup.error().text();
    return std::move(*setup);
}

TEST(Studies, AGridIsRunPointByPoint) {
    const StudySetup setup =
        ready(lowPass(), asking({"R1.r: 500, 1k, 2k", "C1.c: 1u to 2u in 2"}, {"value of out.v at 1m", "mean of out.v over last 1m"}));
    ASSERT_EQ(setup.points.size(), 6u);
    Rows rows;
    ASSERT_TRUE(runStudy(setup, rows, {}, CancelToken()));
    ASSERT_EQ(rows.made.size(), 6u);
    for (const StudyRow& row : rows.made) {
        ASSERT_TRUE(row.error.empty()) << row.error;
        const double r = evaluate(row.point[0])->value, c = evaluate(row.point[1])->value, tau = r * c;
        EXPECT_RELATIVE(row.values[0], 10 * (1 - std::exp(-1e-3 / tau)), 1e-5);
        const double mean = 10 - 10 * tau / 1e-3 * (std::exp(-2e-3 / tau) - std::exp(-3e-3 / tau));
        EXPECT_RELATIVE(row.values[1], mean, 1e-5);
        EXPECT_GT(row.seconds, row.building);
    }
}

TEST_F(StudyFiles, ToleranceOfATimeConstantHasItsDistribution) {
    // ln of the time constant's complement: y = -ln(1 - v/V) t0 = 1/(RC). R and C uniform within 5 and 10 %: the mean of R C is the
    // product of the means, its variance follows from those of both.
    const double a = 0.05, b = 0.10;
    const StudySetup setup = ready(lowPass(), asking({"R1.r: 1k +- 5 %", "C1.c: 1u +- 10 %"}, {"value of out.v at 1m above 6"}, "latin 2000"));
    auto file = StudyFile::create(folder / "a.study", setup);
    ASSERT_TRUE(file) << file.error().text();
    ASSERT_TRUE(runStudy(setup, **file, {}, CancelToken()));
    const auto table = (*file)->table();
    ASSERT_TRUE(table) << table.error().text();
    ASSERT_EQ(table->rows(), 2000u);
    double sum = 0, squares = 0;
    std::size_t above = 0;
    for (std::size_t row = 0; row < table->rows(); ++row) {
        const double tau = -1e-3 / std::log(1 - table->values[0][row] / 10);
        sum += tau, squares += tau * tau;
        above += table->values[0][row] >= 6;
    }
    const double mean = sum / 2000, deviation = std::sqrt(squares / 2000 - mean * mean);
    EXPECT_RELATIVE(mean, 1e-3, 2e-3);
    const double expected = 1e-3 * std::sqrt(a * a / 3 + b * b / 3 + a * a * b * b / 9);
    EXPECT_RELATIVE(deviation, expected, 0.03);
    // Above 6 V: R C < t / ln 2.5. The part of the rectangle below a hyperbola, by integration over R.
    double part = 0;
    constexpr int steps = 100'000;
    for (int i = 0; i < steps; ++i) {
        const double r = 1 - a + 2 * a * (i + 0.5) / steps, limit = 1 / std::log(2.5) / r;
        part += std::clamp((limit - (1 - b)) / (2 * b), 0.0, 1.0) / steps;
    }
    const MeasureStatistics s = statisticsOf(*table, 0);
    EXPECT_DOUBLE_EQ(s.yield, static_cast<double>(above) / 2000);
    EXPECT_NEAR(s.yield, part, 0.02);
    EXPECT_LE(s.yieldLow, part);
    EXPECT_GE(s.yieldHigh, part);
}

TEST_F(StudyFiles, SensitivitiesAreThoseOfTheClosedForm) {
    // A step-down stage, settled: the mean of the output is D V, and D V / (V D) moves by 1 with each; the inductance moves the ripple.
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "48"}})
        .add("modulator", "M1", {"", "g", "n"}, {{"f", "100k"}, {"duty", "0.5"}})
        .add("switch", "S1", {"in", "sw", "g"}, {}, 1)
        .add("switch", "S2", {"sw", "0", "n"}, {}, 1)
        .add("inductor", "L1", {"sw", "out"}, {{"l", "100u"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1m"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "4"}})
        .plan("1m", "1e-6");
    ParameterStudy study = asking({"V1.level: 47 to 49 in 3", "M1.duty: 0.49 to 0.51 in 3", "L1.l: 99u to 101u in 3"},
                                  {"mean of out.v", "pp of L1.i"});
    study.settle = true;
    const StudySetup setup = ready(c, study);
    auto file = StudyFile::create(folder / "a.study", setup);
    ASSERT_TRUE(file);
    ASSERT_TRUE(runStudy(setup, **file, {}, CancelToken()));
    const auto table = (*file)->table();
    ASSERT_TRUE(table);
    ASSERT_EQ(table->rows(), 27u);
    const auto of = [&](std::size_t measure, std::size_t axis) {
        for (const Sensitivity& one : sensitivitiesOf(*table, measure))
            if (one.axis == axis) return one;
        return Sensitivity{};
    };
    EXPECT_RELATIVE(of(0, 0).slope, 0.5, 1e-3);
    EXPECT_RELATIVE(of(0, 1).slope, 48, 1e-3);
    EXPECT_NEAR(of(0, 2).swing, 0, 1e-3) << "the inductance does not move the mean";
    // pp = V D (1 - D) / (L f)
    EXPECT_RELATIVE(of(1, 0).slope, 0.25 / 100e-6 / 100e3, 5e-3);
    EXPECT_RELATIVE(of(1, 2).slope, -48 * 0.25 / 100e3 / 1e-8, 5e-3);
    EXPECT_LT(std::abs(of(1, 1).share), 1e-3) << "at D = 0.5 the ripple is at its greatest";
}

TEST(Studies, WhatDoesNotArriveIsKnownBeforehand) {
    // R9 across a stiff source changes equations but no output; the phase of a modulator that drives nothing would not arrive.
    Circuit c = lowPass();
    c.project().parameters.push_back({.name = "unused", .value = "1", .unit = "", .note = "", .extra = {}});
    const StudySetup setup = ready(c, asking({"R9.r: 1k, 2k", "unused: 1, 2"}, {"value of out.v at 1m"}));
    const auto all = arrivals(setup);
    ASSERT_EQ(all.size(), 2u);
    EXPECT_TRUE(all[0].reached());
    EXPECT_TRUE(all[0].equations);
    EXPECT_FALSE(all[1].reached());
    Rows rows;
    ASSERT_TRUE(runStudy(setup, rows, {}, CancelToken()));
}

TEST(Studies, ARatingDoesNotReachTheCircuitBesideAControlEither) {
    auto loaded = loadHedge(HEDGEROW_EXAMPLES "/med-mast.hedge");
    ASSERT_TRUE(loaded);
    const auto setup = prepareStudy(std::make_shared<const Project>(std::move(loaded->project)),
                                    asking({"C2.tolerance: 0.1, 0.2"}, {"mean of out.v"}));
    ASSERT_TRUE(setup) << setup.error().text();
    EXPECT_FALSE(arrivals(*setup).front().reached());
}

TEST(Studies, WhatDoesNotArriveIsKnownBesideAControlToo) {
    Circuit c = lowPass();
    c.add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}, {"duty", "D"}}).add("switch", "S1", {"out", "0", "g"}, {}, 1);
    c.project().parameters.push_back({.name = "D", .value = "0.1", .unit = "", .note = "", .extra = {}});
    c.project().parameters.push_back({.name = "unused", .value = "1", .unit = "", .note = "", .extra = {}});
    const StudySetup setup = ready(c, asking({"D: 0.1, 0.2", "unused: 1, 2", "C1.esr: 1m, 2m", "M1.dead: 0, 1u"}, {"mean of out.v"}));
    const auto all = arrivals(setup);
    ASSERT_EQ(all.size(), 4u);
    EXPECT_TRUE(all[0].reached());
    EXPECT_FALSE(all[1].reached());
    EXPECT_FALSE(all[2].reached()) << "C1 stands on rung 1, its series resistance is of rung 2";
    EXPECT_TRUE(all[3].reached());
}

TEST_F(StudyFiles, WhatMovedNothingIsSaidAfterwards) {
    const StudySetup setup = ready(lowPass(), asking({"R9.r: 1k, 2k, 3k", "R1.r: 1k, 2k"}, {"value of out.v at 1m"}));
    auto file = StudyFile::create(folder / "a.study", setup);
    ASSERT_TRUE(file);
    ASSERT_TRUE(runStudy(setup, **file, {}, CancelToken()));
    const auto table = (*file)->table();
    ASSERT_TRUE(table);
    EXPECT_EQ(withoutEffect(*table), std::vector<std::string>{"R9.r"});
    bool said = false;
    for (const std::string& line : studySummary(*table)) said = said || line.find("R9.r did not change any measure") != std::string::npos;
    EXPECT_TRUE(said);
}

TEST(Studies, RungsPlansAndScenesVary) {
    Circuit c = lowPass();
    c.project().plans.push_back(c.project().plans.front());
    c.project().plans.back().name = "short", c.project().plans.back().end = "1m";
    const StudySetup setup = ready(c, asking({"plan: " + c.project().plans.front().name + "; short", "rungs: all on 1; all on 2"},
                                             {"max of out.v"}));
    Rows rows;
    ASSERT_TRUE(runStudy(setup, rows, {.threads = 1}, CancelToken()));
    ASSERT_EQ(rows.made.size(), 4u);
    for (const StudyRow& row : rows.made) {
        ASSERT_TRUE(row.error.empty()) << row.error;
        EXPECT_RELATIVE(row.values[0], 10 * (1 - std::exp(row.point[0] == "short" ? -1.0 : -3.0)), 1e-5);
    }
}

TEST(Studies, AValueInsideOneModuleLeavesTheOthersAlone) {
    auto loaded = loadHedge(HEDGEROW_EXAMPLES "/med-pump.hedge");
    ASSERT_TRUE(loaded);
    const auto project = std::make_shared<const Project>(std::move(loaded->project));
    ParameterStudy study = asking({"X1.A.S1.ron: 1m, 500m"}, {"loss of X1.A.S1", "loss of X1.B.S1"});
    const auto setup = prepareStudy(project, study);
    ASSERT_TRUE(setup) << setup.error().text();
    EXPECT_TRUE(arrivals(*setup).front().reached());
    Rows rows;
    ASSERT_TRUE(runStudy(*setup, rows, {.threads = 1}, CancelToken()));
    ASSERT_EQ(rows.made.size(), 2u);
    ASSERT_TRUE(rows.made[0].error.empty() && rows.made[1].error.empty()) << rows.made[0].error << rows.made[1].error;
    EXPECT_GT(rows.made[1].values[0], 20 * rows.made[0].values[0]);
    EXPECT_LT(rows.made[1].values[1], 2 * rows.made[0].values[1]);
    study.varied = {"X1.Z.S1.ron: 1m, 2m"};
    EXPECT_FALSE(prepareStudy(project, study));
    study.varied = {"X1.A.S1.nothing: 1m, 2m"};
    EXPECT_FALSE(prepareStudy(project, study));
}

TEST(Studies, TolerancesOnTheCardsAreDrawn) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "out"}, {{"r", "1k"}, {"tolerance", "5 %"}})
        .add("resistor", "R2", {"out", "0"}, {{"r", "1k"}, {"tolerance", "1 %"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "1u"}})
        .plan("10m", "1e-6");
    // The divider at both ends of both: 10 R2 / (R1 + R2).
    const StudySetup corners = ready(c, asking({"tolerances"}, {"value of out.v at 10m"}, "corners"));
    ASSERT_EQ(corners.points.varied().size(), 2u);
    EXPECT_EQ(corners.points.varied()[0].target, "R1.r");
    Rows rows;
    ASSERT_TRUE(runStudy(corners, rows, {}, CancelToken()));
    double least = 10, most = 0;
    for (const StudyRow& row : rows.made) least = std::min(least, row.values.at(0)), most = std::max(most, row.values.at(0));
    EXPECT_RELATIVE(least, 10 * 0.99 / (1.05 + 0.99), 1e-6);
    EXPECT_RELATIVE(most, 10 * 1.01 / (0.95 + 1.01), 1e-6);
    // Some of them, as a normal distribution: a third of the tolerance is its deviation.
    const StudySetup normal = ready(c, asking({"tolerances of R1, normal"}, {"value of out.v at 10m"}, "latin 200"));
    ASSERT_EQ(normal.points.varied().size(), 1u);
    EXPECT_RELATIVE(normal.points.varied()[0].deviation, 1000 * 0.05 / 3, 1e-12);
    const auto project = std::make_shared<const Project>(c.project());
    for (const char* line : {"tolerances of C1", "tolerances of R7", "tolerances, always"})
        EXPECT_FALSE(prepareStudy(project, asking({line}, {"value of out.v at 10m"}, "corners"))) << line;
}

TEST(Studies, KeptPartsAndModulesTakeThePlaceOfOthers) {
    Circuit c = lowPass();
    const auto keep = [&](const char* name, const char* kind, const char* key, const char* value) {
        Part part{.name = name, .kind = kind, .at = {}, .values = {}, .extra = {}};
        part.values.set(key, value);
        c.project().kept.push_back(part);
    };
    keep("small", "capacitor", "c", "500n"), keep("large", "capacitor", "c", "2u"), keep("other", "resistor", "r", "5");
    Rows rows;
    ASSERT_TRUE(runStudy(ready(c, asking({"C1: all kept"}, {"value of out.v at 1m"})), rows, {.threads = 1}, CancelToken()));
    ASSERT_EQ(rows.made.size(), 2u);
    EXPECT_EQ(rows.made[0].point[0], "small");
    EXPECT_RELATIVE(rows.made[0].values.at(0), 10 * (1 - std::exp(-2.0)), 1e-4);
    EXPECT_RELATIVE(rows.made[1].values.at(0), 10 * (1 - std::exp(-0.5)), 1e-4);
    const auto project = std::make_shared<const Project>(c.project());
    EXPECT_FALSE(prepareStudy(project, asking({"C1: other"}, {"value of out.v at 1m"})));
    EXPECT_FALSE(prepareStudy(project, asking({"V1: all kept"}, {"value of out.v at 1m"})));
}

TEST_F(StudyFiles, MoreRunsOfTheSameQuestionKeepWhatIsThere) {
    const Circuit c = lowPass();
    const auto make = [&](const char* varied, const char* runs) { return ready(c, asking({varied}, {"value of out.v at 1m"}, runs)); };
    const StudySetup few = make("R1.r: 500 to 2k", "random 20");
    auto file = StudyFile::create(folder / "a.study", few);
    ASSERT_TRUE(file) << file.error().text();
    ASSERT_TRUE(runStudy(few, **file, {}, CancelToken()));
    const auto before = (*file)->table();
    ASSERT_TRUE(before);
    const StudySetup many = make("R1.r: 500 to 2k", "random 30");
    ASSERT_TRUE((*file)->extend(few, many));
    EXPECT_TRUE((*file)->has(19));
    EXPECT_FALSE((*file)->has(20));
    ASSERT_TRUE(runStudy(many, **file, {}, CancelToken()));
    const auto after = (*file)->table();
    ASSERT_TRUE(after);
    ASSERT_EQ(after->rows(), 30u);
    for (std::size_t i = 0; i < 20; ++i) EXPECT_EQ(after->values[0][i], before->values[0][i]);
    // Another question, or one that leaves rows without a place, is none of these.
    EXPECT_FALSE((*file)->extend(many, make("C1.c: 500n to 2u", "random 30")));
    EXPECT_FALSE((*file)->extend(many, make("R1.r: 500 to 2k", "random 10")));
    EXPECT_EQ((*file)->table()->rows(), 30u);
    // A list gets longer in the middle: rows take their new numbers.
    const StudySetup coarse = make("R1.r: 500, 2k", "grid");
    auto grid = StudyFile::create(folder / "b.study", coarse);
    ASSERT_TRUE(grid);
    ASSERT_TRUE(runStudy(coarse, **grid, {}, CancelToken()));
    const StudySetup fine = make("R1.r: 500, 1k, 2k", "grid");
    ASSERT_TRUE((*grid)->extend(coarse, fine));
    EXPECT_FALSE((*grid)->has(1));
    ASSERT_TRUE(runStudy(fine, **grid, {}, CancelToken()));
    for (std::size_t i = 0; i < 3; ++i) {
        const double r = std::array{500.0, 1000.0, 2000.0}[i];
        EXPECT_RELATIVE((*grid)->table()->values[0][i], 10 * (1 - std::exp(-1000 / r)), 1e-4);
    }
}

TEST_F(StudyFiles, MoreRunsNeverMixTracesOrTasks) {
    const Circuit c = lowPass();
    const auto make = [&](const char* varied, const char* runs) {
        ParameterStudy study = asking({varied}, {"value of out.v at 1m"}, runs);
        study.keep = "out.v";
        return ready(c, study);
    };
    // Traces are named by the number of their run: one in the middle would take the trace of another.
    const StudySetup coarse = make("R1.r: 500, 2k", "grid");
    auto file = StudyFile::create(folder / "a.study", coarse);
    ASSERT_TRUE(file);
    ASSERT_TRUE(runStudy(coarse, **file, {}, CancelToken()));
    EXPECT_FALSE((*file)->extend(coarse, make("R1.r: 500, 1k, 2k", "grid")));
    EXPECT_TRUE((*file)->has(1));
    EXPECT_TRUE((*file)->extend(coarse, make("R1.r: 500, 2k, 4k", "grid"))) << "behind the others there is room";
    // A folder of tasks is cut once.
    const auto tasks = StudyFolder::create(folder / "s", make("R1.r: 500 to 2k", "random 4"), 2);
    ASSERT_TRUE(tasks);
    auto question = StudyFile::open(tasks->question());
    ASSERT_TRUE(question);
    const auto asked = (*question)->setup(true);
    ASSERT_TRUE(asked);
    EXPECT_FALSE((*question)->extend(*asked, make("R1.r: 500 to 2k", "random 8")));
}

TEST_F(StudyFiles, AFolderOfAStrangerLeadsNowhereElse) {
    ParameterStudy study = asking({"R1.r: 500, 1k, 2k, 4k"}, {"value of out.v at 1m"});
    study.keep = "out.v";
    const StudySetup setup = ready(lowPass(), study);
    const auto tasks = StudyFolder::create(folder / "s", setup, 2);
    ASSERT_TRUE(tasks);
    const fs::path mine = folder / "mine.txt";
    std::ofstream(mine) << "mine";
    const auto untouched = [&] {
        std::ifstream file(mine);
        std::string text;
        std::getline(file, text);
        return text == "mine";
    };
    // Where results, scripts and lists would be written there are links.
    fs::create_symlink(mine, folder / "s/chunks/000001.json");
    fs::create_symlink(mine, folder / "s/chunks/run-0000001.h5");
    EXPECT_FALSE(tasks->work(0, CancelToken())) << "a trace through a link";
    fs::remove(folder / "s/chunks/run-0000001.h5");
    EXPECT_TRUE(tasks->work(0, CancelToken()));
    EXPECT_TRUE(tasks->work(1, CancelToken())) << "a link of a result is replaced";
    EXPECT_TRUE(fs::is_regular_file(fs::symlink_status(folder / "s/chunks/000001.json")));
    EXPECT_TRUE(untouched());
    for (const char* list : {"[{\"job\": \"7; rm -rf x\", \"offset\": 0, \"chunks\": \"0\"}]", "[{\"job\": \"\"}]", "{", "[[]]",
                             "[{\"job\": \"7\", \"offset\": -1, \"chunks\": \"0-\"}]"}) {
        std::ofstream(folder / "s/jobs.json") << list;
        EXPECT_FALSE(SlurmJobs::open(*tasks)) << list;
    }
}

TEST(Studies, ThePriceIsThatOfTheFirstRunTimesAll) {
    ParameterStudy study = asking({"R1.r: 500 to 2k in 10", "C1.c: 1u, 2u"}, {"value of out.v at 1m"});
    study.keep = "out.v";
    const StudyPrice price = priceStudy(ready(lowPass(), study), CancelToken());
    EXPECT_EQ(price.runs, 20u);
    EXPECT_GT(price.first.seconds, 0);
    EXPECT_DOUBLE_EQ(price.all, 20 * price.first.seconds);
    EXPECT_GT(price.memory, 0u);
    EXPECT_GT(price.disk, 20u * 16);
    ASSERT_EQ(price.arrivals.size(), 2u);
    EXPECT_TRUE(price.arrivals[0].equations && price.arrivals[1].equations);
}

TEST_F(StudyFiles, ASearchStandsInItsFileWithWhatItCameTo) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "12"}, {"ri", "3"}}, 2).add("resistor", "R1", {"in", "0"}, {{"r", "1"}}).plan("1m", "1e-6");
    const StudySetup setup = ready(c, asking({"R1.r: 500m to 20"}, {"p = mean of R1.p"}, "maximise p"));
    auto file = StudyFile::create(folder / "a.study", setup);
    ASSERT_TRUE(file);
    ASSERT_TRUE(runStudy(setup, **file, {}, CancelToken()));
    auto again = StudyFile::open(folder / "a.study");
    ASSERT_TRUE(again);
    const auto table = (*again)->table();
    ASSERT_TRUE(table);
    ASSERT_FALSE(table->conclusion.empty());
    EXPECT_NE(table->conclusion.front().find("best: R1.r = "), std::string::npos) << table->conclusion.front();
    EXPECT_EQ(studySummary(*table)[1], table->conclusion.front());
    const auto reopened = (*again)->setup();
    ASSERT_TRUE(reopened);
    EXPECT_TRUE(reopened->searched());
    EXPECT_EQ((*again)->rows()->size(), table->rows());
}

TEST(Slurm, ListsOfTasksAreWrittenAndRead) {
    EXPECT_EQ(arrayText({0, 1, 2, 3, 7, 9, 10}), "0-3,7,9-10");
    EXPECT_EQ(arrayText({}), "");
    for (const std::vector<std::size_t>& numbers : {std::vector<std::size_t>{0}, {5, 6}, {1, 3, 5, 7, 8}, {}})
        EXPECT_EQ(*arrayNumbers(arrayText(numbers)), numbers);
    for (const char* text : {"a", "1-", "-1", "3-1", "1,,2", "1-2-3", "0-99999999999999999999"}) EXPECT_FALSE(arrayNumbers(text)) << text;
}

TEST_F(StudyFiles, AProgramIsRunToItsEndWithWhatItSays) {
    const auto said = runProcess({"sh", "-c", "echo one; echo two >&2; exit 3"}, 10, CancelToken());
    ASSERT_TRUE(said);
    EXPECT_EQ(said->code, 3);
    EXPECT_EQ(said->out, "one\n");
    EXPECT_EQ(said->err, "two\n");
    EXPECT_FALSE(runProcess({"no-program-of-this-name"}, 10, CancelToken()));
    EXPECT_FALSE(runProcess({"sleep", "60"}, 0.2, CancelToken()));
    EXPECT_FALSE(runProcess({"sh", "-c", "exec >&- 2>&-; sleep 60"}, 0.3, CancelToken())) << "one that says nothing more goes on all the same";
    const CancelToken stop;
    stop.cancel();
    const auto stopped = runProcess({"sleep", "60"}, 60, stop);
    ASSERT_FALSE(stopped);
    EXPECT_EQ(stopped.error().code, ErrorCode::stop);
}

TEST(Studies, ARunThatFailsIsARow) {
    const StudySetup setup = ready(lowPass(), asking({"C1.c: 1u, -1u, 2u"}, {"max of out.v"}));
    Rows rows;
    ASSERT_TRUE(runStudy(setup, rows, {}, CancelToken()));
    ASSERT_EQ(rows.made.size(), 3u);
    int failed = 0;
    for (const StudyRow& row : rows.made)
        if (!row.error.empty()) {
            ++failed;
            EXPECT_NE(row.error.find("C1"), std::string::npos) << row.error;
            EXPECT_TRUE(row.values.empty());
            EXPECT_FALSE(row.good);
        }
    EXPECT_EQ(failed, 1);
}

TEST_F(StudyFiles, AStoppedStudyGoesOnWhereItStood) {
    const ParameterStudy study = asking({"R1.r: 100 to 10k in 40"}, {"value of out.v at 1m"});
    const StudySetup setup = ready(lowPass(), study);
    const fs::path path = folder / "a.study";
    {
        auto file = StudyFile::create(path, setup);
        ASSERT_TRUE(file);
        const CancelToken cancel;
        std::size_t seen = 0;
        const auto done = runStudy(setup, **file, {.threads = 1, .progress = [&](const StudyProgress& at) {
                                                       seen = at.done;
                                                       if (at.done == 15) cancel.cancel();
                                                   }},
                                   cancel);
        ASSERT_FALSE(done);
        EXPECT_EQ(done.error().code, ErrorCode::stop);
        EXPECT_EQ(seen, 15u);
    }
    auto file = StudyFile::open(path);
    ASSERT_TRUE(file) << file.error().text();
    const auto again = (*file)->setup();
    ASSERT_TRUE(again) << again.error().text();
    EXPECT_EQ(again->study, study);
    std::size_t fresh = 0;
    ASSERT_TRUE(runStudy(*again, **file, {.progress = [&](const StudyProgress&) { ++fresh; }}, CancelToken()));
    EXPECT_EQ(fresh, 25u) << "rows that are there are not run again";
    const auto table = (*file)->table();
    ASSERT_TRUE(table);
    ASSERT_EQ(table->rows(), 40u);
    for (std::size_t row = 0; row < 40; ++row)
        EXPECT_RELATIVE(table->values[0][row], 10 * (1 - std::exp(-1e-3 / (table->number(row, 0) * 1e-6))), 1e-5);
    for (const char* name : {"t.csv", "t.json", "t.h5", "t.html"}) EXPECT_TRUE(exportStudy(*table, folder / name)) << name;
    EXPECT_FALSE(exportStudy(*table, folder / "t.doc"));
}

TEST_F(StudyFiles, AFolderIsWorkedOnInAnyOrderTwiceAndNotAtAll) {
    const StudySetup setup = ready(lowPass(), asking({"R1.r: 100 to 10k in 23"}, {"value of out.v at 1m"}));
    auto made = StudyFolder::create(folder / "s", setup, 5);
    ASSERT_TRUE(made) << made.error().text();
    EXPECT_EQ(made->chunks(), 5u);
    for (const std::size_t chunk : {4u, 0u, 0u, 2u}) ASSERT_TRUE(made->work(chunk, CancelToken()));
    EXPECT_FALSE(made->work(5, CancelToken()));
    const auto opened = StudyFolder::open(folder / "s");
    ASSERT_TRUE(opened);
    EXPECT_EQ(opened->missing(), (std::vector<std::size_t>{1, 3}));
    ASSERT_EQ(*opened->gather(), 3u);
    // A task that died in the middle of writing leaves nothing that counts.
    std::ofstream(folder / "s/chunks/000001.json") << "[{\"index\": 5, \"po";
    EXPECT_FALSE(opened->gather());
    for (const std::size_t chunk : {1u, 3u}) ASSERT_TRUE(opened->work(chunk, CancelToken()));
    ASSERT_EQ(*opened->gather(), 5u);
    auto file = StudyFile::open(opened->question(), true);
    ASSERT_TRUE(file);
    const auto table = (*file)->table();
    ASSERT_TRUE(table);
    EXPECT_EQ(table->rows(), 23u);
    EXPECT_FALSE(StudyFolder::open(folder / "none"));
    EXPECT_FALSE(StudyFolder::create(folder / "s", setup, 5)) << "it is there already";
}

TEST_F(StudyFiles, AStudyOfAStrangerReadsNothingElsewhere) {
    // Its project says that it lay in another folder: what lies there is read only where the user says so.
    fs::create_directories(folder / "theirs"), fs::create_directories(folder / "mine/x.hedge-runs");
    std::ofstream(folder / "theirs/values.csv") << "1000\n2000\n3000\n";
    Circuit c = lowPass();
    c.project().folder.moveTo(folder / "theirs");
    const StudySetup setup = ready(c, asking({"R1.r: measured values.csv"}, {"max of out.v"}, "random 3"));
    ASSERT_TRUE(StudyFile::create(folder / "mine/x.hedge-runs/a.study", setup));
    const auto file = StudyFile::open(folder / "mine/x.hedge-runs/a.study");
    ASSERT_TRUE(file);
    const auto refused = (*file)->setup();
    ASSERT_FALSE(refused);
    EXPECT_NE(refused.error().message.find("values.csv"), std::string::npos) << refused.error().message;
    EXPECT_TRUE((*file)->setup(true));
    // Beside the project's own runs it lies where the project does.
    std::ofstream(folder / "mine/values.csv") << "1000\n2000\n";
    Circuit own = lowPass();
    own.project().folder.moveTo(folder / "mine");
    ASSERT_TRUE(StudyFile::create(folder / "mine/x.hedge-runs/b.study", ready(own, asking({"R1.r: measured values.csv"}, {"max of out.v"}, "random 3"))));
    EXPECT_TRUE((*StudyFile::open(folder / "mine/x.hedge-runs/b.study"))->setup());
}

TEST_F(StudyFiles, WhatIsNoStudyIsRefused) {
    std::ofstream(folder / "text.study") << "not a database at all, but long enough to look like one to nobody";
    EXPECT_FALSE(StudyFile::open(folder / "text.study"));
    std::ofstream(folder / "empty.study");
    EXPECT_FALSE(StudyFile::open(folder / "empty.study"));
    EXPECT_FALSE(StudyFile::open(folder / "missing.study"));
    const StudySetup setup = ready(lowPass(), asking({"R1.r: 1k, 2k"}, {"max of out.v"}));
    ASSERT_TRUE(StudyFile::create(folder / "a.study", setup));
    EXPECT_FALSE(StudyFile::create(folder / "a.study", setup)) << "nothing is overwritten";
}

TEST(Studies, QuestionsThatAreNoneAreRefusedBeforeAnyRun) {
    const auto why = [](const ParameterStudy& study) {
        const auto setup = prepareStudy(std::make_shared<const Project>(lowPass().project()), study);
        return setup ? std::string() : setup.error().message;
    };
    EXPECT_NE(why(asking({}, {"max of out.v"})).find("nothing varies"), std::string::npos);
    EXPECT_NE(why(asking({"R1.r: 1k"}, {})).find("measured"), std::string::npos);
    EXPECT_NE(why(asking({"R7.r: 1k, 2k"}, {"max of out.v"})).find("R7"), std::string::npos);
    EXPECT_NE(why(asking({"R1.x: 1k, 2k"}, {"max of out.v"})).find("R1"), std::string::npos);
    EXPECT_NE(why(asking({"Rload: 1k, 2k"}, {"max of out.v"})).find("Rload"), std::string::npos);
    EXPECT_NE(why(asking({"R1.r: 1k, 2k"}, {"max of nowhere.v"})).find("nowhere"), std::string::npos);
    EXPECT_NE(why(asking({"R1.r: 1k, 2k"}, {"max of out.v above 3 below 2"})).find("between"), std::string::npos);
    EXPECT_NE(why(asking({"R1.r: 1k, 2k", "R1.r: 3k"}, {"max of out.v"})).find("twice"), std::string::npos);
    EXPECT_NE(why(asking({"R1.r: 1k +- 5 %"}, {"max of out.v"})).find("single values"), std::string::npos);
    EXPECT_NE(why(asking({"R1.r: 1k, 2k"}, {"max of out.v"}, "sometimes")).find("sometimes"), std::string::npos);
    ParameterStudy keeping = asking({"R1.r: 1k, 2k"}, {"max of out.v"});
    keeping.keep = "in.v + gone.v";
    EXPECT_NE(why(keeping).find("gone.v"), std::string::npos);
}

// ---- optimising

/// x and y of a box that goes from `low` to `high`.
double scaled(double part, double low, double high) { return low + part * (high - low); }

TEST(Optimise, RosenbrocksValley) {
    // H. H. Rosenbrock, The Computer Journal 3 (1960): the least value 0 is at (1, 1).
    const Objective objective{.variables = 2, .constraints = 0, .at = [](const std::vector<double>& x) {
                                  const double a = scaled(x[0], -2, 2), b = scaled(x[1], -1, 3);
                                  return Objective::At{.value = 100 * std::pow(b - a * a, 2) + std::pow(1 - a, 2)};
                              }};
    const Optimum best = minimise(objective, {.starts = {{0.2, 0.5}}, .most = 3000, .tolerance = 1e-7}, CancelToken());
    ASSERT_EQ(best.at.size(), 2u);
    EXPECT_NEAR(scaled(best.at[0], -2, 2), 1, 2e-2);
    EXPECT_NEAR(scaled(best.at[1], -1, 3), 1, 4e-2);
    EXPECT_LT(best.value, 1e-3);
}

TEST(Optimise, TwoTextbookProblemsWithConstraints) {
    // The nearest point of a half plane: (x - 2)^2 + (y - 1)^2 with x + y <= 2 has its least value 1/2 at (1.5, 0.5).
    const Objective plane{.variables = 2, .constraints = 1, .at = [](const std::vector<double>& u) {
                              const double x = scaled(u[0], -3, 3), y = scaled(u[1], -3, 3);
                              return Objective::At{.value = std::pow(x - 2, 2) + std::pow(y - 1, 2), .constraints = {x + y - 2}};
                          }};
    const Optimum a = minimise(plane, {.starts = {{0.1, 0.1}}, .most = 600, .tolerance = 1e-7}, CancelToken());
    ASSERT_FALSE(a.at.empty());
    EXPECT_NEAR(scaled(a.at[0], -3, 3), 1.5, 2e-3);
    EXPECT_NEAR(a.value, 0.5, 1e-4);
    EXPECT_TRUE(a.ended);
    // Problem 6 of W. Hock and K. Schittkowski's kind, as an inequality: least x y with x^2 + y^2 <= 2 is -1 at (1, -1) and (-1, 1).
    const Objective circle{.variables = 2, .constraints = 1, .at = [](const std::vector<double>& u) {
                               const double x = scaled(u[0], -2, 2), y = scaled(u[1], -2, 2);
                               return Objective::At{.value = x * y, .constraints = {x * x + y * y - 2}};
                           }};
    const Optimum b = minimise(circle, {.way = Sampling::Search::Way::global, .starts = {{0.5, 0.5}}, .most = 3000, .tolerance = 1e-6}, CancelToken());
    ASSERT_FALSE(b.at.empty());
    EXPECT_NEAR(b.value, -1, 1e-3);
    EXPECT_LE(b.constraints[0], 1e-9);
}

TEST(Optimise, WhereNothingHasAValueThereIsNoOptimum) {
    const Objective none{.variables = 1, .constraints = 1, .at = [](const std::vector<double>&) {
                             return Objective::At{.value = NAN, .constraints = {1}};
                         }};
    EXPECT_TRUE(minimise(none, {.most = 50}, CancelToken()).at.empty());
}

TEST(Optimise, ALoadTakesMostPowerWhereItMatchesItsSource) {
    // P = V^2 R / (R_i + R)^2 is greatest at R = R_i: V^2 / (4 R_i).
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "12"}, {"ri", "3"}}, 2).add("resistor", "R1", {"in", "0"}, {{"r", "1"}}).plan("1m", "1e-6");
    const auto searched = [&](const StudySetup& setup, StudySink& rows) { return searchStudy(setup, rows, {}, CancelToken()); };
    const StudySetup setup = ready(c, asking({"R1.r: 500m to 20"}, {"p = mean of R1.p"}, "maximise p, 120 runs"));
    Rows rows;
    const auto best = searched(setup, rows);
    ASSERT_TRUE(best) << best.error().text();
    EXPECT_RELATIVE(best->value, 12.0 * 12 / 12, 1e-6);
    EXPECT_RELATIVE(evaluate(best->best.point[0])->value, 3, 0.01);
    EXPECT_TRUE(best->binding.empty());
    ASSERT_EQ(best->flatness.size(), 1u);
    EXPECT_LT(best->flatness[0], 0.01);
    EXPECT_GE(rows.made.size(), static_cast<std::size_t>(best->evaluations));
    EXPECT_EQ(rows.conclusion, best->words);
    // It begins at the present value, 1 Ohm.
    EXPECT_RELATIVE(evaluate(rows.made.at(0).point[0])->value, 1, 1e-12);
    // What is there is not run again, and it goes on from the best of it.
    Rows again;
    again.made = rows.made;
    const auto further = searched(setup, again);
    ASSERT_TRUE(further) << further.error().text();
    EXPECT_GE(further->value, best->value);
    EXPECT_LT(again.made.size(), rows.made.size() + 60);
    // By gradient it is the same place.
    Rows steep;
    const auto by = searched(ready(c, asking({"R1.r: 500m to 20"}, {"p = mean of R1.p"}, "maximise p, 120 runs, by gradient")), steep);
    ASSERT_TRUE(by) << by.error().text();
    EXPECT_RELATIVE(by->value, 12, 1e-6);
    // With a limit on its current it stands there: I = V / (R_i + R) <= 1.5 A, R = 5 Ohm; with every way of looking.
    for (const char* how : {"", ", by gradient", ", globally"}) {
        const StudySetup limited = ready(c, asking({"R1.r: 500m to 20"}, {"p = mean of R1.p", "max of R1.i below 1.5"}, std::string("maximise p") + how));
        Rows more;
        const auto bound = searched(limited, more);
        ASSERT_TRUE(bound) << bound.error().text();
        EXPECT_RELATIVE(evaluate(bound->best.point[0])->value, 5, 1e-3) << how;
        EXPECT_EQ(bound->binding, std::vector<std::string>{"max of R1.i below 1.5"}) << how;
    }
    // An expression of measures, parameters and values: p / R has its greatest value at the least resistance.
    const auto expression = ready(c, asking({"R1.r: 500m to 20"}, {"p = mean of R1.p", "density = expression p / R1.r"}, "maximise density"));
    Rows dense;
    const auto least = searched(expression, dense);
    ASSERT_TRUE(least) << least.error().text();
    EXPECT_RELATIVE(evaluate(least->best.point[0])->value, 0.5, 1e-3);
    EXPECT_RELATIVE(least->value, std::pow(12 / 3.5, 2), 1e-3);
    // Preferred values are taken as they are.
    Rows some;
    const auto listed = searched(ready(c, asking({"R1.r: E6 from 1 to 10"}, {"p = mean of R1.p"}, "maximise p, 100 runs, globally")), some);
    ASSERT_TRUE(listed) << listed.error().text();
    EXPECT_TRUE(listed->best.point[0] == "3.3" || listed->best.point[0] == "2.2") << listed->best.point[0];
    const auto project = std::make_shared<const Project>(c.project());
    EXPECT_FALSE(prepareStudy(project, asking({"R1.r: 500m to 20"}, {"p = mean of R1.p"}, "maximise q + 1")));
    EXPECT_FALSE(prepareStudy(project, asking({"rungs: all on 1; all on 2"}, {"p = mean of R1.p"}, "maximise p")));
    Rows none;
    const auto far = searched(ready(c, asking({"R1.r: 500m to 20"}, {"p = mean of R1.p above 100"}, "maximise p, 30 runs")), none);
    ASSERT_FALSE(far);
    EXPECT_NE(far.error().message.find("keeps all limits"), std::string::npos) << far.error().message;
    Rows nowhere;
    const auto divided = searched(ready(c, asking({"R1.r: 500m to 20"}, {"p = mean of R1.p"}, "maximise 1 / (p - p)")), nowhere);
    ASSERT_FALSE(divided);
    EXPECT_NE(divided.error().message.find("division by zero"), std::string::npos) << divided.error().message;
    // One value alone is a study of one run, and of a search with nothing to look for.
    EXPECT_TRUE(arrivals(ready(c, asking({"R1.r: 5"}, {"p = mean of R1.p"}))).front().reached());
}

}  // namespace
