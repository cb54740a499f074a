#include <thread>

#include "model/changes.h"
#include "files/recovery.h"
#include "runs/registry.h"
#include "support/circuit.h"
#include "support/folder.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

Circuit chopper() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "Vin"}})
        .add("switch", "S1", {"in", "sw", "g"})
        .add("diode", "D1", {"0", "sw"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}, {"duty", "D"}})
        .add("inductor", "L1", {"sw", "a"}, {{"l", "1m"}})
        .add("resistor", "R1", {"a", "0"}, {{"r", "10"}});
    c.project().parameters = {{"Vin", "100", "V", "", ""}, {"D", "0.5", "", "", ""}};
    c.plan("5m");
    return c;
}

Error prepareError(const Project& project, const RunSettings& settings = {}) {
    const auto run = Run::prepare(std::make_shared<const Project>(project), settings);
    EXPECT_FALSE(run);
    return run ? Error{} : run.error();
}

}  // namespace

TEST(Session, SettingsOverrideTheProject) {
    const auto project = std::make_shared<const Project>(chopper().project());
    RunSettings settings;
    settings.end = "20m";
    settings.parameters = {{"D", "0.25"}};
    const auto prepared = Run::prepare(project, settings);
    ASSERT_TRUE(prepared);
    (*prepared)->execute();
    EXPECT_NEAR(toSeconds((*prepared)->summary().reached), 20e-3, 1e-15);
    EXPECT_NEAR(measures(**prepared, "sw.v", 10e-3, 20e-3).mean, 25.0, 1e-9);
    EXPECT_EQ((*prepared)->project().parameters[1].value, "0.25");
    EXPECT_EQ(project->parameters[1].value, "0.5") << "the project itself stays";
}

TEST(Session, RefusesWhatCannotRun) {
    const Project project = chopper().project();
    EXPECT_EQ(prepareError(project, {.plan = "nope"}).message, "the project has no plan 'nope'");
    EXPECT_EQ(prepareError(project, {.scene = "nope"}).message, "the project has no scene 'nope'");
    EXPECT_EQ(prepareError(project, {.parameters = {{"x", "1"}}}).message, "the project has no parameter 'x'");
    EXPECT_EQ(prepareError(project, {.end = "-1"}).field, "end");
    EXPECT_EQ(prepareError(project, {.end = "501"}).code, ErrorCode::range);
    EXPECT_EQ(prepareError(project, {.end = "5 V"}).code, ErrorCode::unit);
    EXPECT_EQ(prepareError(project, {.parameters = {{"D", "1.5"}}}).part, "M1");
    Project other = project;
    other.plans[0].engine = "guess";
    EXPECT_EQ(prepareError(other).message, "plan look: there is no engine 'guess'");
    other = project;
    other.plans[0].tolerance = "2";
    EXPECT_EQ(prepareError(other).field, "tolerance");
}

TEST(Session, CancelStopsAndKeeps) {
    Circuit c = chopper();
    c.plan("400");
    const auto prepared = Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_TRUE(prepared);
    std::thread worker([&] { (*prepared)->execute(); });
    while ((*prepared)->store().count() < 5000) std::this_thread::yield();
    (*prepared)->cancel();
    worker.join();
    EXPECT_EQ((*prepared)->summary().end, RunEnd::stopped);
    EXPECT_GE((*prepared)->store().count(), 5000u);
    EXPECT_GT((*prepared)->summary().reached, 0);
}

TEST(Session, MemoryLimitEndsTheRunWithWhatItHas) {
    RunSettings settings;
    settings.end = "1";
    settings.memoryLimit = 3'000'000;
    const auto prepared = Run::prepare(std::make_shared<const Project>(chopper().project()), settings);
    ASSERT_TRUE(prepared);
    (*prepared)->execute();
    EXPECT_EQ((*prepared)->summary().end, RunEnd::memory);
    EXPECT_LE((*prepared)->store().bytes(), 3'000'000u);
    EXPECT_GT((*prepared)->store().count(), 1000u);
}

TEST(Session, ExpectedEdgesAreCounted) {
    const auto prepared = Run::prepare(std::make_shared<const Project>(chopper().project()), {.end = "10m"});
    ASSERT_TRUE(prepared);
    EXPECT_EQ((*prepared)->expectedEdges(), 199);  // two a period of 100 us, the end itself excluded
    const auto longer = Run::prepare(std::make_shared<const Project>(chopper().project()), {.end = "10"});
    EXPECT_NEAR(static_cast<double>((*longer)->expectedEdges()), 200'000, 200);
}

TEST(Session, SummaryCountsAndTimes) {
    const auto r = run(chopper());
    const RunSummary& summary = r->summary();
    EXPECT_EQ(summary.counter("gate edges"), 99);
    EXPECT_EQ(summary.counter("stored points"), static_cast<std::int64_t>(r->store().count()));
    EXPECT_EQ(summary.eventsByPart.at("S1"), 99);
    EXPECT_GT(summary.second("total"), 0);
    EXPECT_NE(summary.full().find("gate edges"), std::string::npos);
    EXPECT_EQ(summary.brief().substr(0, 16), "finished at 5 ms");
}

TEST(Session, ChangesAreSaidInWords) {
    const Project before = chopper().project();
    Project after = before;
    after.findPart(after.sheet().parts[5].id)->values.set("l", "2m");
    after.sheet().parts[2].rung = 2;
    after.parameters[1].value = "0.4";
    after.sheet().parts.erase(after.sheet().parts.begin() + 6);
    EXPECT_EQ(changesBetween(before, after, partLibrary().catalogue()),
              (std::vector<std::string>{"S1 rung 1 → 2", "L1 inductance 1m → 2m", "removed R1", "D 0.5 → 0.4"}));
    EXPECT_TRUE(changesBetween(before, before, partLibrary().catalogue()).empty());
}

TEST(Recovery, SlotsOfTheLivingAreLeftAlone) {
    TemporaryFolder folder;
    const Project project = chopper().project();
    {
        RecoverySlot slot(folder.path());
        ASSERT_TRUE(slot.keep(project, "/somewhere/a.hedge"));
        EXPECT_TRUE(RecoverySlot::pending(folder.path()).empty());
    }
    EXPECT_TRUE(std::filesystem::is_empty(folder.path()));
}

TEST(Recovery, UnreadableSlotsAreLeftAlone) {
    TemporaryFolder folder;
    for (const char* content : {"", "{", "{\"project\": 5}", "{\"project\": \"{}\"}"}) {
        std::FILE* file = std::fopen((folder.path() / "1-0.json").c_str(), "w");
        std::fputs(content, file);
        std::fclose(file);
        EXPECT_TRUE(RecoverySlot::pending(folder.path()).empty());
    }
    EXPECT_TRUE(RecoverySlot::pending(folder.path() / "missing").empty());
    RecoverySlot nowhere("/proc/none");
    EXPECT_FALSE(nowhere.keep({}, ""));
}
