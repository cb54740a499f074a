// Every engine of this build over the same circuits as data (tests/conformance/circuits): expected quantities, and what
// every simulation promises: to go on, to be looked at, to be taken up again, to be stopped at any instant.

#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <random>

#include "network/simulation.h"
#include "runs/registry.h"
#include "support/circuit_file.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// A circuit on an engine.
struct EngineCase {
    std::string engine;
    const CircuitCase* circuit;
};
std::string nameOf(const testing::TestParamInfo<EngineCase>& info) {
    return info.param.engine + "_" + info.param.circuit->name;
}
/// For the name of a test that fails.
void PrintTo(const EngineCase& c, std::ostream* out) { *out << c.circuit->title << " (" << c.engine << ")"; }

const std::vector<CircuitCase>& allCircuits() {
    static const std::vector<CircuitCase> all = circuitCases(HEDGEROW_CIRCUITS);
    return all;
}

std::vector<EngineCase> allCases() {
    std::vector<EngineCase> cases;
    for (const CircuitCase& circuit : allCircuits())
        for (const auto& engine : engines())
            if (circuit.engines.empty() ||
                std::find(circuit.engines.begin(), circuit.engines.end(), engine->name()) != circuit.engines.end())
                cases.push_back({std::string(engine->name()), &circuit});
    return cases;
}

/// Keeps every row as it came.
class Rows final : public RunSink {
public:
    std::uint32_t addView(RowView view) override {
        views.push_back(std::move(view));
        return static_cast<std::uint32_t>(views.size() - 1);
    }
    std::uint32_t addSignals(std::span<const double> values) override {
        signals.emplace_back(values.begin(), values.end());
        return static_cast<std::uint32_t>(signals.size() - 1);
    }
    bool append(std::span<const PointRef> points, std::span<const double> numbers) override {
        for (const PointRef& point : points) {
            const auto row = numbers.subspan(point.offset, static_cast<std::size_t>(views[point.view].width));
            rows.push_back({point.t, views[point.view].conducting, signals[point.signalSet], {row.begin(), row.end()}});
        }
        return true;
    }
    void progress(Tick) override {}

    struct Row {
        Tick t;
        std::vector<std::uint8_t> conducting;
        std::vector<double> signals, numbers;
        bool operator==(const Row&) const = default;
    };
    std::vector<RowView> views;
    std::vector<std::vector<double>> signals;
    std::vector<Row> rows;
};

class Engines : public testing::TestWithParam<EngineCase> {
protected:
    void SetUp() override { prepare(GetParam().circuit->shortEnd); }
    void prepare(const std::string& end) {
        RunSettings settings;
        settings.end = end;
        settings.engine = GetParam().engine;
        settings.step = GetParam().circuit->step;
        auto prepared =
            hedgerow::Run::prepare(std::make_shared<const Project>(GetParam().circuit->circuit.project()), settings);
        ASSERT_TRUE(prepared) << prepared.error().message;
        run_ = *prepared;
    }
    std::unique_ptr<Simulation> begin(RunSink& sink, const CancelToken& cancel = {}) const {
        return run_->engine().begin(run_->elaboration().network, run_->request(), sink, cancel);
    }
    Tick end() const { return run_->end(); }
    Tick part(double share) const { return static_cast<Tick>(share * static_cast<double>(end())); }

    static void expectSame(const Snapshot& a, const Snapshot& b) {
        EXPECT_EQ(a.t, b.t);
        EXPECT_EQ(a.values(), b.values()) << "states, to the last bit";
        ASSERT_EQ(a.pieces.size(), b.pieces.size());
        for (std::size_t i = 0; i < a.pieces.size(); ++i)
            EXPECT_EQ(a.pieces[i].segment, b.pieces[i].segment) << a.pieces[i].part;
        ASSERT_EQ(a.blocks.size(), b.blocks.size());
        for (std::size_t i = 0; i < a.blocks.size(); ++i) {
            EXPECT_EQ(a.blocks[i].outputs, b.blocks[i].outputs) << a.blocks[i].part;
            EXPECT_EQ(a.blocks[i].memory, b.blocks[i].memory) << a.blocks[i].part;
        }
    }
    /// @param tolerance  of the largest value of the same kind
    static void expectNear(const Snapshot& a, const Snapshot& b, double tolerance) {
        ASSERT_EQ(a.states.size(), b.states.size());
        double largest = 1e-3;
        for (const Snapshot::State& state : a.states) largest = std::max(largest, std::abs(state.value));
        for (std::size_t i = 0; i < a.states.size(); ++i)
            EXPECT_NEAR(a.states[i].value, b.states[i].value, tolerance * largest)
                << a.states[i].part << "." << a.states[i].name;
    }

    /// What going on from a snapshot may change of the states: engines with steps begin new ones. On a grid that begins
    /// anew, what oscillates by itself comes back in another phase.
    double goingOn() const {
        return GetParam().engine == "exact" ? 1e-8 : GetParam().engine == "adaptive" ? 5e-3 : 0.1;
    }

    std::shared_ptr<hedgerow::Run> run_;
};

TEST_P(Engines, GivesWhatIsExpected) {
    prepare("");
    run_->execute();
    ASSERT_EQ(run_->summary().end, RunEnd::finished) << run_->summary().brief();
    EXPECT_FALSE(run_->summary().snapshot.states.empty());
    for (const Expectation& e : GetParam().circuit->expectations)
        EXPECT_NEAR(measured(*run_, e), e.value, e.within * std::abs(e.value))
            << e.measure << " of " << e.quantity << "; source:" << e.source;
}

// Invariant 1 of Simulation.
TEST_P(Engines, ManyCallsGiveTheSameBitsAsOne) {
    Rows whole, cut;
    const auto once = begin(whole);
    ASSERT_TRUE(once->start());
    ASSERT_EQ(once->advance(end()), RunEnd::finished) << once->summary().brief();
    const unsigned seeds = GetParam().engine == "exact" ? 8 : 2;
    for (unsigned seed = 1; seed <= seeds; ++seed) {
        cut = {};
        const auto often = begin(cut);
        ASSERT_TRUE(often->start());
        std::mt19937 random(seed);
        Tick at = 0;
        // Calls of all lengths: far below a period, and many periods.
        while (at < end()) {
            const double share = std::pow(10.0, -1.0 - 4.0 * static_cast<double>(random()) / 4294967296.0);
            at = std::min(end(), at + std::max<Tick>(1, part(share)));
            ASSERT_EQ(often->advance(at), RunEnd::finished) << often->summary().brief();
            if (GetParam().engine != "fixed") {
                ASSERT_EQ(often->now(), at);
            }
        }
        expectSame(once->snapshot(), often->snapshot());
        const auto differ = std::mismatch(whole.rows.begin(), whole.rows.end(), cut.rows.begin(), cut.rows.end());
        if (differ.first != whole.rows.end() || differ.second != cut.rows.end())
            ADD_FAILURE() << "row " << differ.first - whole.rows.begin() << " of " << whole.rows.size() << " and "
                          << cut.rows.size() << ", at "
                          << toSeconds(differ.first != whole.rows.end() ? differ.first->t : differ.second->t) << " s";
    }
}

// A look in the middle of an interval is what a run to there gives.
TEST_P(Engines, SnapshotsWithinIntervalsAreRight) {
    Rows a;
    const auto looked = begin(a);
    ASSERT_TRUE(looked->start());
    for (const double share : {0.1234567, 0.4711, 0.815}) {
        ASSERT_EQ(looked->advance(part(share)), RunEnd::finished);
        Rows b;
        RunRequest request = run_->request();
        EXPECT_LE(looked->now(), part(share));
        EXPECT_GE(looked->now(), part(share) - toTicks(request.fixed.step)) << "on a grid, the last instant before";
        request.end = looked->now();
        const auto direct = run_->engine().begin(run_->elaboration().network, request, b, CancelToken());
        ASSERT_TRUE(direct->start());
        ASSERT_EQ(direct->advance(request.end), RunEnd::finished);
        expectNear(direct->snapshot(), looked->snapshot(), GetParam().engine == "adaptive" ? 3e-4 : 1e-9);
    }
}

TEST_P(Engines, TakenUpFromASnapshotItGoesOn) {
    Rows a, b;
    const auto whole = begin(a);
    ASSERT_TRUE(whole->start());
    ASSERT_EQ(whole->advance(part(0.37)), RunEnd::finished);
    const Snapshot middle = whole->snapshot();
    ASSERT_EQ(whole->advance(end()), RunEnd::finished);

    const auto second = begin(b);
    ASSERT_TRUE(second->start(middle)) << second->summary().brief();
    EXPECT_EQ(second->now(), middle.t);
    ASSERT_EQ(second->advance(end()), RunEnd::finished) << second->summary().brief();
    expectNear(whole->snapshot(), second->snapshot(), goingOn());
}

TEST_P(Engines, GoesOnInAnEqualNetworkAsIfNothingHadHappened) {
    auto other = hedgerow::Run::prepare(std::make_shared<const Project>(GetParam().circuit->circuit.project()));
    ASSERT_TRUE(other);
    Rows a, b;
    const auto whole = begin(a), changed = begin(b);
    ASSERT_TRUE(whole->start());
    ASSERT_TRUE(changed->start());
    ASSERT_EQ(whole->advance(end()), RunEnd::finished);
    for (const double share : {0.2, 0.5003, 0.77}) {
        ASSERT_EQ(changed->advance(part(share)), RunEnd::finished);
        ASSERT_TRUE(changed->goOnIn((*other)->elaboration().network)) << changed->summary().brief();
    }
    ASSERT_EQ(changed->advance(end()), RunEnd::finished) << changed->summary().brief();
    expectNear(whole->snapshot(), changed->snapshot(), goingOn());
}

// Invariant 2 of Simulation.
TEST_P(Engines, StoppedAnywhereItLeavesASnapshotThatGoesOn) {
    Rows a;
    const auto whole = begin(a);
    ASSERT_TRUE(whole->start());
    ASSERT_EQ(whole->advance(end()), RunEnd::finished);
    class Stopping final : public RunSink {
    public:
        explicit Stopping(Tick at, CancelToken token) : at_(at), token_(std::move(token)) {}
        std::uint32_t addView(RowView) override { return views_++; }
        std::uint32_t addSignals(std::span<const double>) override { return 0; }
        bool append(std::span<const PointRef>, std::span<const double>) override { return true; }
        void progress(Tick t) override {
            if (t >= at_) token_.cancel();
        }

    private:
        Tick at_;
        CancelToken token_;
        std::uint32_t views_ = 0;
    };
    for (const double share : {0.001, 0.3, 0.69}) {
        const CancelToken token;
        Stopping sink(part(share), token);
        const auto stopped = begin(sink, token);
        ASSERT_TRUE(stopped->start());
        ASSERT_EQ(stopped->advance(end()), RunEnd::stopped);
        const Snapshot left = stopped->snapshot();
        EXPECT_LT(left.t, end());
        EXPECT_GT(left.t, 0);
        Rows b;
        const auto second = begin(b);
        ASSERT_TRUE(second->start(left));
        ASSERT_EQ(second->advance(end()), RunEnd::finished) << second->summary().brief();
        expectNear(whole->snapshot(), second->snapshot(), goingOn());
    }
}

// Nobody asks for points: none is made, and the states are the same.
TEST_P(Engines, WithoutARecorderNoPointIsComputed) {
    class NoPoints final : public RunSink {
    public:
        bool wantsPoints() const override { return false; }
        std::uint32_t addView(RowView) override { return views_++; }
        std::uint32_t addSignals(std::span<const double>) override { return 0; }
        bool append(std::span<const PointRef> points, std::span<const double>) override {
            points_ += points.size();
            return true;
        }
        void progress(Tick) override {}
        std::size_t points_ = 0;

    private:
        std::uint32_t views_ = 0;
    };
    Rows rows;
    NoPoints none;
    const auto recorded = begin(rows), bare = begin(none);
    ASSERT_TRUE(recorded->start());
    ASSERT_TRUE(bare->start());
    ASSERT_EQ(recorded->advance(end()), RunEnd::finished);
    ASSERT_EQ(bare->advance(end()), RunEnd::finished) << bare->summary().brief();
    EXPECT_EQ(none.points_, 0u);
    EXPECT_EQ(bare->summary().counter("stored points"), 0);
    expectNear(recorded->snapshot(), bare->snapshot(), goingOn());
}

// Measures made while the run goes on are those of its stored lines.
TEST_P(Engines, MeasuresWithoutStoringAreThoseOfTheLines) {
    const auto stored = run_;
    stored->execute();
    ASSERT_EQ(stored->summary().end, RunEnd::finished);
    const std::vector<std::string> names = stored->quantityNames();
    const double from = 0.4 * toSeconds(end()), to = 0.93 * toSeconds(end());
    SetUp();  // another run of the same
    const auto streamed = run_->executeMeasured(names, toTicks(from), toTicks(to), CancelToken());
    ASSERT_TRUE(streamed);
    for (std::size_t i = 0; i < names.size(); ++i) {
        const Measures lines = measures(*stored, names[i], from, to);
        const auto& m = (*streamed)[i];
        ASSERT_TRUE(m) << names[i];
        // Steps bend for unknowns inside of parts too, which nobody watches: lines differ by what the plan allows.
        const double within = GetParam().engine == "adaptive" ? 1e-4 : 1e-9;
        const double size = std::max({std::abs(lines.min), std::abs(lines.max), 1e-9});
        EXPECT_NEAR(m->min, lines.min, within * size) << names[i];
        EXPECT_NEAR(m->max, lines.max, within * size) << names[i];
        EXPECT_NEAR(m->mean, lines.mean, within * size) << names[i];
        EXPECT_NEAR(m->rms, lines.rms, within * size) << names[i];
    }
    EXPECT_EQ(run_->store().count(), 0u);
}

INSTANTIATE_TEST_SUITE_P(All, Engines, testing::ValuesIn(allCases()), nameOf);

// Start values that contradict each other are refused alike.
TEST(EnginesAlike, RefuseContradictingStartValues) {
    Circuit c;
    c.add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}, {"v0", "10"}})
        .add("capacitor", "C2", {"a", "0"}, {{"c", "1u"}, {"v0", "20"}})
        .add("resistor", "R1", {"a", "0"}, {{"r", "1k"}})
        .plan("1m");
    for (const auto& engine : engines()) {
        RunSettings settings;
        settings.engine = engine->name();
        settings.step = "1u";
        auto prepared = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()), settings);
        ASSERT_TRUE(prepared);
        (*prepared)->execute();
        const RunSummary& summary = (*prepared)->summary();
        EXPECT_EQ(summary.end, RunEnd::failed) << engine->name();
        ASSERT_TRUE(summary.error) << engine->name();
        EXPECT_EQ(summary.error->code, ErrorCode::range) << engine->name();
        EXPECT_TRUE(summary.error->part == "C1" || summary.error->part == "C2") << summary.error->part;
        EXPECT_EQ(summary.error->field, "v0") << engine->name();
    }
}

// Names tell what goes where: another order of the parts, and parts that are new or gone.
TEST(Snapshots, GoByNames) {
    const auto networkOf = [](const Circuit& c) {
        auto prepared = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()));
        EXPECT_TRUE(prepared);
        return *prepared;
    };
    Circuit first, second;
    first.add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}, {"v0", "10"}})
        .add("inductor", "L1", {"a", "b"}, {{"l", "1m"}, {"i0", "2"}})
        .add("resistor", "R1", {"b", "0"}, {{"r", "5"}})
        .plan("1m");
    second.add("inductor", "L2", {"b", "c"}, {{"l", "1m"}, {"i0", "7"}})
        .add("resistor", "R2", {"c", "0"}, {{"r", "5"}})
        .add("capacitor", "C1", {"a", "0"}, {{"c", "2u"}})
        .add("resistor", "R1", {"a", "b"}, {{"r", "5"}})
        .plan("1m");
    const auto a = networkOf(first), b = networkOf(second);
    Rows rows;
    const auto simulation = a->engine().begin(a->elaboration().network, a->request(), rows, CancelToken());
    ASSERT_TRUE(simulation->start());
    const Carried carried = carriedInto(b->elaboration().network, simulation->snapshot());
    EXPECT_EQ(carried.states, (std::vector<double>{7, 5})) << "its charge stays: 10 uC on 2 uF";
    EXPECT_EQ(carried.knownStates, (std::vector<char>{0, 1}));
    EXPECT_EQ(carried.missing, std::vector<std::string>{"L2.i"});
    EXPECT_EQ(carried.leftOver, std::vector<std::string>{"L1.i"});
}

}  // namespace
