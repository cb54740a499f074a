// What makes the exact engine fast may not change what it finds: legs and rounds against the general way in long
// double, long runs against closed forms, and the start of runs.

#include <cmath>
#include <fstream>
#include <numbers>
#include <thread>

#include "circuits.h"
#include "runs/registry.h"
#include "runs/state_file.h"
#include "support/circuit.h"
#include "support/folder.h"
#include "support/verified.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// @param leastAlongLegs, leastAlongRounds  of events and of periods
void expectVerified(const Circuit& circuit, double tolerance, std::int64_t leastAlongLegs,
                    std::int64_t leastAlongRounds = 0) {
    test::expectVerified(circuit, tolerance, [&](const RunSummary& summary) {
        EXPECT_GE(summary.counter("events along interval maps"), leastAlongLegs);
        EXPECT_GE(summary.counter("periods along period maps"), leastAlongRounds);
    });
}

/// Counts points and keeps the last row: for runs too long to be stored.
class Counter final : public RunSink {
public:
    std::uint32_t addView(RowView) override { return views++; }
    std::uint32_t addSignals(std::span<const double>) override { return signalSets++; }
    bool append(std::span<const PointRef> list, std::span<const double> numbers) override {
        points += list.size();
        last.assign(numbers.begin() + list.back().offset, numbers.end());
        return true;
    }
    void progress(Tick) override {}
    std::uint32_t views = 0, signalSets = 0;
    std::size_t points = 0;
    std::vector<double> last;
};

}  // namespace

// Rounds take the edges where they are, the check rounds them to ticks of 6e-17 s.
TEST(Shortcuts, RoundsOfContinuousConduction) { expectVerified(stepUp("0.5", "24", "48", "5m"), 1e-10, 700, 350); }

// Several periods are one matrix: wherever the run ends among them, every edge and every value is as without.
TEST(Shortcuts, RoundsOfSeveralPeriodsEndAnywhere) {
    for (int more = 0; more < 9; ++more) {
        Circuit c = stepUp("0.5", "24", "48", "5m");
        const std::string end = std::to_string(2000 + 10 * more + 3) + "u";
        c.plan(end, "1e-3");
        expectVerified(c, 1e-10, 250, 100);
        const auto r = run(c);
        ASSERT_TRUE(r);
        // Two edges a period at k T and (k + 1/2) T; 3 us into the last one the switch is on.
        const auto all = edges(*r, "M1.g");
        ASSERT_EQ(all.size(), 2 * (200 + static_cast<std::size_t>(more)) + 0u) << more;
        for (std::size_t k = 0; k < all.size(); ++k) ASSERT_NEAR(all[k], 5e-6 * static_cast<double>(k + 1), 1e-15) << k;
    }
}

// A guard ends within each period, and the rest of it is as long as that leaves it.
TEST(Shortcuts, RoundsOfDiscontinuousConduction) {
    expectVerified(stepUp("0.3", "200", "60", "30m"), 1e-10, 8000, 2000);
}

// Two diodes end together, and the current they carried has to find another way.
TEST(Shortcuts, RoundsOfAPhaseShiftedBridge) {
    Circuit c = bench::phaseShiftedBridge();
    c.plan("5m", "1e-2");
    expectVerified(c, 1e-9, 3000, 200);
}

// The diodes of the resonant half-bridge stop at a quarter of a period that the load decides.
TEST(Shortcuts, RoundsOfAResonantHalfBridge) {
    Circuit c = bench::resonantHalfBridge();
    c.plan("20m", "1e-2");
    expectVerified(c, 1e-9, 5000, 200);
}

TEST(Shortcuts, LegsOfDiscontinuousConduction) { expectVerified(stepUp("0.3", "200", "60", "5m"), 1e-10, 1000); }

// A circuit of 240 storage elements, most of whose matrices are zeros.
TEST(Shortcuts, SeriesOfASparseCircuit) {
    Circuit c = bench::ladder(240);
    c.plan("1m", "1e-2");
    expectVerified(c, 1e-9, 0);
}

TEST(Shortcuts, LegsOfAModulatedBridge) {
    Circuit c;
    c.add("dc-voltage", "V1", {"p", "0"}, {{"level", "700"}});
    for (const int k : {0, 1, 2}) {
        const std::string x = std::to_string(k);
        c.add("sampled-sine", "K" + x, {"ref" + x}, {{"peak", "0.42"}, {"phase", std::to_string(-120 * k)}})
            .add("modulator", "M" + x, {"ref" + x, "g" + x, "h" + x},
                 {{"f", "10k"}, {"dead", "1u"}, {"carrier", "triangle"}})
            .add("igbt", "QU" + x, {"p", "leg" + x, "g" + x})
            .add("igbt", "QL" + x, {"leg" + x, "0", "h" + x})
            .add("inductor", "L" + x, {"leg" + x, "out" + x}, {{"l", "2m"}})
            .add("capacitor", "C" + x, {"out" + x, "star"}, {{"c", "10u"}})
            .add("resistor", "R" + x, {"out" + x, "star"}, {{"r", "20"}});
    }
    c.plan("60m", "1e-2");
    expectVerified(c, 1e-9, 800);
}

TEST(Shortcuts, LegsWithSineSources) {
    Circuit c;
    c.add("sine-voltage", "V1", {"a", "0"}, {{"peak", "325"}})
        .add("inductor", "L1", {"a", "x"}, {{"l", "1m"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "20k"}, {"duty", "0.4"}})
        .add("switch", "S1", {"x", "0", "g"})
        .add("switch", "S2", {"x", "y", "h"})
        .add("capacitor", "C1", {"y", "0"}, {{"c", "20u"}})
        .add("resistor", "R1", {"y", "0"}, {{"r", "50"}})
        .plan("40m", "1e-3");
    expectVerified(c, 1e-10, 1000);
}

// Ten million events: a chopped R and L comes back to the same current after each period, by the closed form
// i = (V/R) (1 - exp(-D T/tau)) / (1 - exp(-T/tau)) at the end of the on-time.
TEST(Shortcuts, TenMillionEventsDoNotDrift) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "150k"}, {"duty", "0.3"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "h"})
        .add("resistor", "R1", {"x", "y"}, {{"r", "2"}})
        .add("inductor", "L1", {"y", "0"}, {{"l", "20u"}})
        .plan("33.4");
    auto prepared = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_TRUE(prepared);
    RunRequest request = (*prepared)->request();
    const double period = 1 / 150e3, tau = 1e-5;
    // To the end of an on-time, after five million periods.
    request.end = toTick(toFine(5'000'000.0L / 150e3L) + toFine(0.3L / 150e3L)) - 2;
    request.traceTolerance = 0.1;
    Counter counter;
    const RunSummary summary =
        (*prepared)->engine().run((*prepared)->elaboration().network, request, counter, CancelToken());
    ASSERT_EQ(summary.end, RunEnd::finished);
    EXPECT_EQ(summary.counter("events"), 10'000'001);
    const double expected = 5 * (1 - std::exp(-0.3 * period / tau)) / (1 - std::exp(-period / tau));
    EXPECT_RELATIVE(summary.snapshot.values()[0], expected, 2e-11) << "two ticks early";
}

// A lossless oscillation at 50 kHz keeps its energy over a second.
TEST(Shortcuts, LosslessOscillationKeepsItsEnergyForASecond) {
    Circuit c;
    c.add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}, {"v0", "10"}})
        .add("inductor", "L1", {"a", "0"}, {{"l", "10.132118364234u"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "77k"}})
        .add("switch", "S1", {"a", "b", "g"})
        .add("switch", "S2", {"b", "a", "g"})
        .plan("1");
    auto prepared = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_TRUE(prepared);
    RunRequest request = (*prepared)->request();
    request.traceTolerance = 0.1;
    Counter counter;
    const RunSummary summary =
        (*prepared)->engine().run((*prepared)->elaboration().network, request, counter, CancelToken());
    ASSERT_EQ(summary.end, RunEnd::finished) << summary.brief();
    const double v = summary.snapshot.values()[0], i = summary.snapshot.values()[1];
    EXPECT_RELATIVE(0.5e-6 * v * v + 0.5 * 10.132118364234e-6 * i * i, 50e-6, 1e-9);
}

TEST(Shortcuts, ManyThreadsGiveTheSameBits) {
    const Circuit c = stepUp("0.3", "200", "60", "3m");
    std::vector<std::shared_ptr<hedgerow::Run>> runs;
    for (int k = 0; k < 4; ++k) runs.push_back(*hedgerow::Run::prepare(std::make_shared<const Project>(c.project())));
    std::vector<std::thread> threads;
    for (const auto& r : runs) threads.emplace_back([r] { r->execute(); });
    for (std::thread& thread : threads) thread.join();
    const auto first = runs[0]->trace("L1.i");
    for (const auto& r : runs) {
        const auto other = r->trace("L1.i");
        ASSERT_EQ(other->size(), first->size());
        for (std::size_t i = 0; i < first->size(); ++i) ASSERT_EQ(other->value(i), first->value(i));
    }
}

TEST(Tolerance, OfOneQuantityAddsPointsForItAlone) {
    Circuit c = stepUp("0.5", "24", "48", "1m");
    const auto coarse = run(c);
    c.project().plans[0].tolerances = {{"out.v", "1e-6"}};
    const auto fine = run(c);
    EXPECT_GT(fine->summary().counter("stored points"), 5 * coarse->summary().counter("stored points"));
    c.project().plans[0].tolerances = {{"nobody.v", "1e-6"}};
    const auto refused = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_FALSE(refused);
    EXPECT_NE(refused.error().message.find("nobody.v"), std::string::npos);
}

// At rest a winding is a wire and a capacitor is open: 24 V over 1 + 5 ohm.
TEST(Start, FromTheOperatingPointNothingMoves) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("resistor", "R1", {"in", "x"}, {{"r", "1"}})
        .add("inductor", "L1", {"x", "y"}, {{"l", "1m"}})
        .add("diode", "D1", {"y", "out"}, {{"vf", "0.6"}, {"ron", "0"}, {"roff", "1G"}}, 2)
        .add("capacitor", "C1", {"out", "0"}, {{"c", "10u"}})
        .add("resistor", "R2", {"out", "0"}, {{"r", "5"}})
        .plan("5m");
    c.project().plans[0].start = "operating point";
    const auto r = run(c);
    for (const double t : {0.0, 1e-3, 5e-3}) EXPECT_RELATIVE(at(*r, "out.v", t), (24 - 0.6) / 6 * 5, 1e-8);
    EXPECT_LT(measures(*r, "L1.i", 0, 5e-3).peakToPeak(), 1e-9);
}

TEST(Start, WithoutRestIsAnError) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}).add("inductor", "L1", {"in", "0"}).plan("1m");
    c.project().plans[0].start = "operating point";
    const auto refused = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_FALSE(refused);
    EXPECT_NE(refused.error().message.find("L1"), std::string::npos) << refused.error().message;
}

TEST(Start, GoesOnFromTheEndOfAnotherRun) {
    const TemporaryFolder folder;
    Circuit c = stepUp("0.5", "24", "48", "1m");
    const auto whole = run(Circuit(c).plan("2m", "1e-3")), half = run(c);
    const auto path = folder.path() / "end.json";
    ASSERT_TRUE(writeStates(path, half->summary().snapshot));
    c.project().folder.moveTo(folder.path());
    c.project().plans[0].start = "end.json";
    const auto rest = run(c);
    EXPECT_RELATIVE(at(*rest, "out.v", 0.9e-3), at(*whole, "out.v", 1.9e-3), 1e-6);
    std::ofstream(path) << R"({"hedgerow-state": 1, "states": [{"part": "C9", "value": 1}]})";
    auto refused = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
    ASSERT_FALSE(refused);
    EXPECT_NE(refused.error().message.find("C9"), std::string::npos);
    std::ofstream(path) << "{";
    EXPECT_FALSE(hedgerow::Run::prepare(std::make_shared<const Project>(c.project())));
}

// C1 V1 + C2 V2 over C1 + C2: 2 uF at 10 V beside 3 uF at 5 V come to 7 V, and 6 uC flow.
TEST(Start, ContradictionsAreReportedAndEvenedOutOnDemand) {
    Circuit c;
    c.add("capacitor", "C1", {"a", "0"}, {{"c", "2u"}, {"v0", "10"}})
        .add("capacitor", "C2", {"a", "0"}, {{"c", "3u"}, {"v0", "5"}})
        .add("resistor", "R1", {"a", "0"}, {{"r", "1M"}})
        .plan("1m");
    const auto refused = run(c);
    ASSERT_EQ(refused->summary().end, RunEnd::failed);
    const std::string message = refused->summary().error->message;
    EXPECT_NE(message.find("C1"), std::string::npos) << message;
    EXPECT_NE(message.find("7 V"), std::string::npos) << message;
    EXPECT_NE(message.find("6 µC"), std::string::npos) << message;
    c.project().plans[0].evenOut = true;
    EXPECT_RELATIVE(at(*run(c), "a.v", 0.0), 7.0, 1e-12);
    // What the user did not give adapts without a word.
    c.project().plans[0].evenOut = false;
    c.set("C1", "v0", "");
    c.set("C2", "v0", "");
    EXPECT_EQ(run(c)->summary().end, RunEnd::finished);
}
