// States that another network has and a snapshot lacks start in equilibrium with those that are carried over; what a
// change of values leaves alone is kept. Closed forms.

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "model/event_text.h"
#include "network/simulation.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

class Nothing final : public RunSink {
public:
    std::uint32_t addView(RowView) override { return views_++; }
    std::uint32_t addSignals(std::span<const double>) override { return 0; }
    bool append(std::span<const PointRef>, std::span<const double>) override { return true; }
    void progress(Tick) override {}

private:
    std::uint32_t views_ = 0;
};

std::shared_ptr<hedgerow::Run> prepared(const Circuit& c, const std::string& engine = "") {
    RunSettings settings;
    settings.engine = engine;
    auto run = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()), settings);
    EXPECT_TRUE(run) << run.error().message;
    return run ? *run : nullptr;
}

Snapshot advanced(const hedgerow::Run& run, Tick until) {
    Nothing sink;
    const auto simulation = run.engine().begin(run.elaboration().network, run.request(), sink, CancelToken());
    EXPECT_TRUE(simulation->start());
    if (until > 0) {
        EXPECT_EQ(simulation->advance(until), RunEnd::finished);
    }
    return simulation->snapshot();
}

/// What a network starts with from a snapshot of another.
Snapshot takenUp(const hedgerow::Run& run, const Snapshot& from) {
    Nothing sink;
    const auto simulation = run.engine().begin(run.elaboration().network, run.request(), sink, CancelToken());
    EXPECT_TRUE(simulation->start(from)) << simulation->summary().brief();
    return simulation->snapshot();
}

double state(const Snapshot& snapshot, const std::string& part, const std::string& name) {
    for (const Snapshot::State& one : snapshot.states)
        if (one.part == part && one.name == name) return one.value;
    ADD_FAILURE() << "no state " << part << "." << name;
    return NAN;
}

/// A winding that carries 1 A into 3 Ohm.
Circuit winding() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("inductor", "L1", {"in", "o"}, {{"l", "1m"}, {"i0", "1"}})
        .add("resistor", "R1", {"o", "0"}, {{"r", "3"}})
        .plan("1m");
    return c;
}

class NewStates : public testing::TestWithParam<const char*> {};

TEST_P(NewStates, CapacitanceRestsAtTheVoltageThatACarriedCurrentMakes) {
    const auto before = prepared(winding());
    const auto after = prepared(winding().add("capacitor", "C1", {"o", "0"}, {{"c", "10n"}}), GetParam());
    const Snapshot start = takenUp(*after, advanced(*before, 0));
    EXPECT_NEAR(state(start, "L1", "i"), 1, 1e-9) << "its flux stays";
    EXPECT_NEAR(state(start, "C1", "v"), 3, 1e-6);
}

TEST_P(NewStates, WindingRestsAtTheCurrentThatACarriedVoltageMakes) {
    Circuit c, d;
    for (Circuit* one : {&c, &d})
        one->add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}, {"v0", "12"}})
            .add("resistor", "R1", {"a", "b"}, {{"r", "4"}})
            .plan("1u");
    c.add("resistor", "R2", {"b", "0"}, {{"r", "2"}});
    d.add("resistor", "R2", {"x", "0"}, {{"r", "2"}}).add("inductor", "L1", {"b", "x"}, {{"l", "1n"}});
    const Snapshot start = takenUp(*prepared(d, GetParam()), advanced(*prepared(c), 0));
    EXPECT_NEAR(state(start, "L1", "i"), 2, 1e-6) << "12 V over 6 Ohm";
    EXPECT_NEAR(state(start, "C1", "v"), 12, 1e-9);
}

TEST_P(NewStates, BehindADiodeTheyRestWhereItLeavesThem) {
    for (const double v0 : {10.0, -10.0}) {
        Circuit c, d;
        for (Circuit* one : {&c, &d})
            one->add("capacitor", "C1", {"a", "0"}, {{"c", "1u"}, {"v0", std::to_string(v0)}})
                .add("diode", "D1", {"a", "b"}, {{"vf", "0"}, {"ron", "1m"}}, 2)
                .add("resistor", "R1", {"b", "0"}, {{"r", "1k"}})
                .plan("1u");
        d.add("capacitor", "C2", {"b", "0"}, {{"c", "1n"}});
        const Snapshot start = takenUp(*prepared(d, GetParam()), advanced(*prepared(c), 0));
        const double expected = v0 > 0 ? v0 * 1e3 / (1e3 + 1e-3) : v0 * 1e3 / (1e3 + 1e7);
        EXPECT_NEAR(state(start, "C2", "v"), expected, 1e-5);
        EXPECT_NEAR(state(start, "C1", "v"), v0, 1e-9);
    }
}

TEST_P(NewStates, FilteredMeasurementRestsAtWhatItMeasures) {
    const auto before = prepared(winding());
    const auto after =
        prepared(winding().add("probe", "P1", {"u"}, {{"of", "R1.v"}}).add("low-pass", "F1", {"u", "y"}, {{"f", "10"}}),
                 GetParam());
    EXPECT_NEAR(state(takenUp(*after, advanced(*before, 0)), "F1", "x"), 3 / (2 * std::numbers::pi * 10), 1e-6)
        << "x' = u - w x";
}

INSTANTIATE_TEST_SUITE_P(Engines, NewStates, testing::Values("exact", "adaptive"));

// From an ideal switch to one with capacitances: they block what the ideal one blocked, and nothing rings.
TEST(NewStatesOfADevice, RungThreeStartsWhereRungTwoStands) {
    const auto stage = [](int rung) {
        Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
            .add("modulator", "M1", {"", "g", ""}, {{"f", "100k"}, {"duty", "0.4"}})
            .add("mosfet", "Q1", {"in", "x", "g"}, {}, rung)
            .add("diode", "D1", {"0", "x"}, {}, 2)
            .add("inductor", "L1", {"x", "o"}, {{"l", "47u"}, {"i0", "5"}})
            .add("resistor", "R1", {"o", "0"}, {{"r", "2"}})
            .plan("40u");
        return c;
    };
    const auto ideal = prepared(stage(2)), real = prepared(stage(3));
    ASSERT_EQ(ideal->engine().name(), "exact");
    ASSERT_EQ(real->engine().name(), "adaptive");
    const Snapshot off = advanced(*ideal, toTicks(17e-6)), start = takenUp(*real, off);
    EXPECT_EQ(state(start, "L1", "i"), state(off, "L1", "i")) << "its flux stays";
    // The diode carries the current: 24 V and its knee of 0.7 V and 10 mOhm lie over the switch.
    const double blocked = 24.7 + 0.01 * state(off, "L1", "i");
    double nearest = 1e9;
    for (const Snapshot::State& one : start.states)
        if (one.part == "Q1") nearest = std::min(nearest, std::abs(one.value - blocked));
    EXPECT_LT(nearest, 0.01) << "a capacitance of Q1 blocks " << blocked << " V";
    // It goes on without ringing: until the next edge the current follows L and R as before.
    Nothing sink;
    const auto simulation = real->engine().begin(real->elaboration().network, real->request(), sink, CancelToken());
    ASSERT_TRUE(simulation->start(off));
    ASSERT_EQ(simulation->advance(toTicks(19e-6)), RunEnd::finished);
    EXPECT_NEAR(state(simulation->snapshot(), "L1", "i"), state(advanced(*ideal, toTicks(19e-6)), "L1", "i"), 2e-3);
}

/// A chopped source behind L and C, 10 ms, in which a value steps so many times: to `first`, to `second`, ...
Circuit chopped(int steps, const std::string& target, const std::string& first, const std::string& second) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "100k"}, {"duty", "0.4"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "h"})
        .add("inductor", "L1", {"x", "o"}, {{"l", "47u"}})
        .add("capacitor", "C1", {"o", "0"}, {{"c", "47u"}})
        .add("resistor", "R1", {"o", "0"}, {{"r", "2"}})
        .plan("10m", "1e-2");
    for (int k = 0; k < steps; ++k)
        c.project().scenes.front().events.push_back(*readEventText(
            std::to_string(0.3 + 0.43 * k) + "m: " + target + " = " + (k % 2 == 0 ? first : second)));
    return c;
}

// Levels that step leave the equations alone: all that was built of them is kept.
TEST(Scenes, KeepWhatTheirStepsDoNotTouch) {
    const auto plain = run(chopped(0, "V1.level", "30", "24")), stepped = run(chopped(20, "V1.level", "30", "24"));
    ASSERT_TRUE(plain && stepped);
    ASSERT_EQ(stepped->summary().end, RunEnd::finished) << stepped->summary().brief();
    EXPECT_EQ(stepped->summary().counter("configurations"), plain->summary().counter("configurations"));
    // A chopped source in the mean: the output of the second-order filter settles to D V within each step's half ms and
    // more; after the last step, 1.1 ms before the end, it is at 0.4 * 24 V.
    EXPECT_NEAR(measures(*stepped, "o.v", 9.5e-3, 10e-3).mean, 9.6, 0.02);
}

// A resistance that steps has equations of its own; those of before are taken up again when it steps back.
TEST(Scenes, TakeUpEquationsThatComeBack) {
    const auto once = run(chopped(1, "R1.r", "4", "2")), often = run(chopped(20, "R1.r", "4", "2"));
    ASSERT_TRUE(once && often);
    EXPECT_EQ(often->summary().counter("configurations"), once->summary().counter("configurations"));
}

}  // namespace
