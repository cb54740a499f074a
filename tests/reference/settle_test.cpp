// The periodic state: against closed forms, against long plain runs, and against itself a period later.

#include <gtest/gtest.h>

#include "formats/hedge/hedge.h"

#include <cmath>
#include <filesystem>
#include <numbers>
#include <random>

#include "periodic/settle/common_period.h"
#include "periodic/settle/scout.h"
#include "support/circuit.h"
#include "support/circuit_file.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

std::shared_ptr<hedgerow::Run> settled(const Circuit& c, RunSettings settings = {}) {
    settings.settle = true;
    auto run = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()), settings);
    EXPECT_TRUE(run) << run.error().message;
    if (!run) return nullptr;
    (*run)->execute();
    return *run;
}

/// Why there is no periodic state.
std::string refusal(const Circuit& c, RunSettings settings = {}) {
    settings.settle = true;
    const auto run = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()), settings);
    if (!run) return run.error().message;
    (*run)->execute();
    EXPECT_EQ((*run)->summary().end, RunEnd::failed);
    return (*run)->summary().error ? (*run)->summary().error->message : "";
}

#define ASSERT_SETTLED(run)                                                        \
    ASSERT_TRUE(run);                                                              \
    ASSERT_EQ((run)->summary().end, RunEnd::finished) << (run)->summary().brief(); \
    ASSERT_TRUE((run)->settled())

/// After a period the states are what they were, relative to the largest of their kind.
void expectComesAgain(const hedgerow::Run& run, double tolerance) {
    settle::NoPoints sink;
    RunRequest request = run.request();
    request.end = toTicks(longestRunSeconds);
    const auto simulation = run.engine().begin(run.elaboration().network, request, sink, CancelToken());
    ASSERT_TRUE(simulation->start(run.settled()->start));
    ASSERT_EQ(simulation->advance(toTick(run.settled()->period)), RunEnd::finished);
    const std::vector<double> before = run.settled()->start.values(), after = simulation->snapshot().values();
    double largest = 0;
    for (const double value : before) largest = std::max(largest, std::abs(value));
    for (std::size_t i = 0; i < before.size(); ++i)
        EXPECT_NEAR(after[i], before[i], tolerance * largest) << run.settled()->start.states[i].part;
}

double state(const Snapshot& snapshot, const std::string& part) {
    for (const Snapshot::State& one : snapshot.states)
        if (one.part == part) return one.value;
    ADD_FAILURE() << "no state of " << part;
    return NAN;
}

Circuit chopper() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "150k"}, {"duty", "0.3"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "h"})
        .add("resistor", "R1", {"x", "y"}, {{"r", "2"}})
        .add("inductor", "L1", {"y", "0"}, {{"l", "20u"}})
        .plan("1m", "1e-6");
    return c;
}

/// Peak-current control: a clock sets, a comparator resets. Between two voltages, so that the duty is their ratio.
Circuit peakCurrent(const std::string& output) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("dc-voltage", "V2", {"out", "0"}, {{"level", output}})
        .add("modulator", "M1", {"", "clock", ""}, {{"f", "100k"}, {"duty", "0.01"}})
        .add("probe", "P1", {"i"}, {{"of", "L1.i"}})
        .add("constant", "K1", {"peak"}, {{"value", "5"}})
        .add("comparator", "C1", {"i", "peak", "reset"})
        .add("latch", "FF1", {"clock", "reset", "g", "h"})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "h"})
        .add("inductor", "L1", {"x", "out"}, {{"l", "20u"}, {"i0", "4"}})
        .plan("1m", "1e-6");
    return c;
}

}  // namespace

TEST(Settle, ChoppedCurrentHasItsClosedForm) {
    const auto run = settled(chopper());
    ASSERT_SETTLED(run);
    const double decay = std::exp(-2 / 20e-6 / 150e3), rise = std::exp(-0.3 * 2 / 20e-6 / 150e3);
    // At the start of the pulse the current is at its least: V/R (e^{(D-1)T/tau} - e^{-T/tau}) / (1 - e^{-T/tau}).
    EXPECT_NEAR(state(run->settled()->start, "L1"), 5 * (decay / rise - decay) / (1 - decay), 1e-10);
    ASSERT_EQ(run->settled()->multipliers.size(), 1u);
    EXPECT_NEAR(run->settled()->multipliers[0].value.real(), decay, 1e-9);
    EXPECT_LE(run->settled()->residual, 1e-9);
    EXPECT_LE(run->settled()->iterations, 3);
    EXPECT_TRUE(run->settled()->stable);
    EXPECT_EQ(run->end(), toTicks(3 / 150e3)) << "three periods";
    EXPECT_NEAR(measures(*run, "L1.i", 0, 3 / 150e3).mean, 1.5, 1e-6);
    expectComesAgain(*run, 1e-11);
}

TEST(Settle, MultipliersOfARingingCircuit) {
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"}, {{"peak", "10"}, {"f", "10k"}})
        .add("resistor", "R1", {"in", "a"}, {{"r", "1"}})
        .add("inductor", "L1", {"a", "b"}, {{"l", "100u"}})
        .add("capacitor", "C1", {"b", "0"}, {{"c", "1u"}})
        .plan("1m", "1e-6");
    const auto run = settled(c);
    ASSERT_SETTLED(run);
    const double decay = 1 / (2 * 100e-6), omega = std::sqrt(1 / (100e-6 * 1e-6) - decay * decay), period = 1e-4;
    ASSERT_EQ(run->settled()->multipliers.size(), 1u) << "a pair counts once";
    const auto value = run->settled()->multipliers[0].value;
    EXPECT_NEAR(value.real(), std::exp(-decay * period) * std::cos(omega * period), 1e-8);
    EXPECT_NEAR(std::abs(value.imag()), std::abs(std::exp(-decay * period) * std::sin(omega * period)), 1e-8);
    // The response to the sine: amplitude of the capacitor's voltage.
    const double w = 2 * std::numbers::pi * 10e3;
    const double amplitude = 10 / std::hypot(1 - w * w * 1e-10, w * 1e-6);
    EXPECT_NEAR(measures(*run, "C1.v", 0, 3e-4).max, amplitude, 1e-5 * amplitude);
}

TEST(Settle, RestingCurrentIsForgotten) {
    const auto file = readCircuitCase(std::filesystem::path(HEDGEROW_CIRCUITS) / "step-up-discontinuous.circuit");
    const auto run = settled(file.circuit);
    ASSERT_SETTLED(run);
    EXPECT_NEAR(measures(*run, "out.v", 0, 30e-6).mean, 60.477, 0.06) << "V/2 (1 + sqrt(1 + 2 D^2 R T / L))";
    // One multiplier is that of the capacitor; that of the winding, which starts each period without current, is zero.
    ASSERT_EQ(run->settled()->multipliers.size(), 1u);
    EXPECT_EQ(run->settled()->multipliers[0].parts, std::vector<std::string>{"C1.v"});
    EXPECT_LE(run->settled()->iterations, 8) << "from 40 V on, a third below";
    EXPECT_LE(run->settled()->residual, 1e-9);
}

// Peak-current control without a slope: a deviation at the clock becomes -D / (1 - D) times itself.
TEST(Settle, PeakCurrentControlHasItsMultiplier) {
    for (const auto& [output, duty] : {std::pair{"3", 0.3}, {"4", 0.4}, {"4.9", 0.49}}) {
        const auto run = settled(peakCurrent(output));
        ASSERT_SETTLED(run);
        ASSERT_EQ(run->settled()->multipliers.size(), 1u);
        EXPECT_NEAR(run->settled()->multipliers[0].value.real(), -duty / (1 - duty), 1e-7) << output;
        EXPECT_TRUE(run->settled()->stable);
    }
    const auto edge = settled(peakCurrent("5"));
    ASSERT_SETTLED(edge);
    EXPECT_NEAR(edge->settled()->multipliers.at(0).value.real(), -1, 1e-7);
}

TEST(Settle, AnUnstablePeriodicStateIsFoundAndSaid) {
    const auto run = settled(peakCurrent("5.5"));
    ASSERT_SETTLED(run);
    EXPECT_NEAR(run->settled()->multipliers.at(0).value.real(), -0.55 / 0.45, 1e-6);
    EXPECT_FALSE(run->settled()->stable);
    EXPECT_NE(run->settled()->multipliers[0].words.find("unstable: "), std::string::npos);
    EXPECT_NE(run->settled()->multipliers[0].words.find("every second period alike"), std::string::npos);
}

// Between two limits the current rises and falls by itself: the period is ln((V - R a)/(V - R b) b/a) L/R.
TEST(Settle, APeriodThatNothingSetsIsFound) {
    const auto file = readCircuitCase(std::filesystem::path(HEDGEROW_CIRCUITS) / "hysteresis.circuit");
    const auto run = settled(file.circuit);
    ASSERT_SETTLED(run);
    EXPECT_TRUE(run->settled()->found);
    const double high = measures(*run, "L1.i", 0, run->settled()->seconds()).max,
                 low = measures(*run, "L1.i", 0, run->settled()->seconds()).min;
    const double period = 100e-6 / 2 * std::log((20 - 2 * low) / (20 - 2 * high) * high / low);
    EXPECT_RELATIVE(run->settled()->seconds(), period, 1e-5);
    EXPECT_LE(run->settled()->residual, 1e-9);
}

TEST(Settle, RegulatedAtSamplesWithDelay) {
    const auto file = readCircuitCase(std::filesystem::path(HEDGEROW_CIRCUITS) / "regulated.circuit");
    const auto run = settled(file.circuit);
    ASSERT_SETTLED(run);
    EXPECT_LE(run->settled()->residual, 1e-9);
    expectComesAgain(*run, 1e-9);
    // The integral makes the sampled voltage the set point; its mean lies within the ripple.
    EXPECT_NEAR(measures(*run, "o.v", 0, 30e-6).mean, 12, 0.02);
}

TEST(Settle, LogicThatComesAgainAfterSeveralPeriods) {
    // A counter up to three takes away one load in three periods.
    Circuit c = chopper();
    c.add("counter", "CT1", {"g", "", "n"}, {{"modulus", "3"}})
        .add("constant", "K1", {"half"}, {{"value", "0.5"}})
        .add("comparator", "C1", {"half", "n", "q"})
        .add("switch", "S3", {"y", "z", "q"})
        .add("resistor", "R3", {"z", "0"}, {{"r", "5"}});
    const auto run = settled(c);
    ASSERT_SETTLED(run);
    EXPECT_EQ(run->settled()->multiple, 3);
    EXPECT_RELATIVE(run->settled()->seconds(), 3 / 150e3, 1e-12);
    expectComesAgain(*run, 1e-10);
}

TEST(Settle, PeriodsThatHaveOneInCommon) {
    Circuit c = chopper();
    c.add("sine-voltage", "V2", {"s", "0"}, {{"peak", "3"}, {"f", "45k"}})
        .add("resistor", "R2", {"s", "y"}, {{"r", "7"}});
    const auto run = settled(c);
    ASSERT_SETTLED(run);
    EXPECT_RELATIVE(run->settled()->seconds(), 1 / 15e3, 1e-12) << "ten periods of M1, three of V2";
    expectComesAgain(*run, 1e-10);
}

TEST(Settle, PeriodsThatHaveNoneInCommonAreNamed) {
    Circuit c = chopper();
    c.add("sine-voltage", "V2", {"s", "0"}, {{"peak", "3"}, {"f", "44999.1234567"}})
        .add("resistor", "R2", {"s", "y"}, {{"r", "7"}});
    const std::string why = refusal(c);
    EXPECT_NE(why.find("M1"), std::string::npos) << why;
    EXPECT_NE(why.find("V2"), std::string::npos) << why;
    EXPECT_NE(why.find("would fit with"), std::string::npos) << why;
}

TEST(Settle, AWindingThatNothingHoldsIsNamed) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "100k"}, {"duty", "0.3"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "h"})
        .add("inductor", "L1", {"x", "0"}, {{"l", "20u"}})
        .plan("1m");
    const std::string why = refusal(c);
    EXPECT_NE(why.find("the mean of L1.v cannot be zero"), std::string::npos) << why;
}

TEST(Settle, NothingThatRepeatsIsSaid) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("resistor", "R1", {"in", "y"}, {{"r", "2"}})
        .add("inductor", "L1", {"y", "0"}, {{"l", "20u"}})
        .plan("1m");
    EXPECT_NE(refusal(c).find("type the period"), std::string::npos);
    RunSettings typed;
    typed.period = "10u";
    const auto run = settled(c, typed);
    ASSERT_SETTLED(run);
    EXPECT_NEAR(state(run->settled()->start, "L1"), 5, 1e-9) << "at rest every period fits";
}

TEST(Settle, ARunStartsThere) {
    Circuit c = chopper();
    c.project().plans.front().start = "settled";
    c.project().plans.front().end = "200u";
    const auto run = test::run(c);
    ASSERT_SETTLED(run);
    const double period = 1 / 150e3;
    const Measures first = measures(*run, "L1.i", 0, period);
    for (const int k : {1, 7, 28}) {
        const Measures later = measures(*run, "L1.i", k * period, (k + 1) * period);
        EXPECT_NEAR(later.max, first.max, 1e-9);
        EXPECT_NEAR(later.min, first.min, 1e-9);
    }
    EXPECT_EQ(run->end(), toTicks(200e-6)) << "the plan's end";
}

// A temperature moves by a ten-millionth of its way in a period; in the end it is the mean loss times the resistance.
TEST(Settle, HeatSettlesWithItsMeanLoss) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "150k"}, {"duty", "0.3"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "h"})
        .add("resistor", "R1", {"x", "y"},
             {{"r", "2"}, {"rth", "20"}, {"cth", "3"}, {"tc", "0"}, {"ls", "none"}, {"cp", "none"}}, 4)
        .add("inductor", "L1", {"y", "0"}, {{"l", "20u"}})
        .plan("1m", "1e-5");
    const auto run = settled(c);
    ASSERT_SETTLED(run);
    const double rms = measures(*run, "L1.i", 0, 3 / 150e3).rms;
    EXPECT_RELATIVE(state(run->settled()->start, "R1"), 20 * 2 * rms * rms, 1e-3);
    EXPECT_NEAR(run->settled()->multipliers.at(0).value.real(), 1 - 1 / 150e3 / 60, 2e-8)
        << "its time constant is 60 s";
}

TEST(Settle, OnRung3AfterALongRun) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "48"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "100k"}, {"duty", "0.4"}, {"dead", "100n"}})
        .add("mosfet", "Q1", {"in", "x", "g"}, {}, 3)
        .add("mosfet", "Q2", {"x", "0", "h"}, {}, 3)
        .add("inductor", "L1", {"x", "o"}, {{"l", "47u"}})
        .add("capacitor", "C1", {"o", "0"}, {{"c", "10u"}, {"v0", "19"}})
        .add("resistor", "R1", {"o", "0"}, {{"r", "4"}})
        .plan("3m", "1e-4");
    const auto run = settled(c);
    ASSERT_SETTLED(run);
    EXPECT_EQ(run->engine().name(), "adaptive");
    EXPECT_LE(run->settled()->residual, 1e-5);
    const auto plain = test::run(c);
    ASSERT_TRUE(plain);
    EXPECT_RELATIVE(measures(*run, "o.v", 0, 30e-6).mean, measures(*plain, "o.v", 2.97e-3, 3e-3).mean, 2e-4);
    EXPECT_NEAR(measures(*run, "x.v", 0, 30e-6).max, measures(*plain, "x.v", 2.97e-3, 3e-3).max, 0.2);
    EXPECT_GT(run->settled()->plainEquivalent, 20);
}

TEST(Settle, StopsWhereItIsAsked) {
    const auto run = hedgerow::Run::prepare(std::make_shared<const Project>(chopper().project()), {.settle = true});
    ASSERT_TRUE(run);
    (*run)->cancel();
    (*run)->execute();
    EXPECT_EQ((*run)->summary().end, RunEnd::stopped);
    EXPECT_FALSE((*run)->summary().error);
}

TEST(Settle, FixedStepsAreRefused) {
    RunSettings settings;
    settings.engine = "fixed";
    EXPECT_NE(refusal(chopper(), settings).find("'exact' and 'adaptive'"), std::string::npos);
}

TEST(Settle, PeriodsAreRefusedOutOfRange) {
    for (const char* const bad : {"0", "-3", "2.5", "1e9", "many"}) {
        RunSettings settings;
        settings.settle = true, settings.periods = bad;
        EXPECT_FALSE(hedgerow::Run::prepare(std::make_shared<const Project>(chopper().project()), settings)) << bad;
    }
    for (const char* const bad : {"0", "-1u", "1e9", "2 periods of X9", "1p"}) {
        RunSettings settings;
        settings.settle = true, settings.period = bad;
        EXPECT_FALSE(hedgerow::Run::prepare(std::make_shared<const Project>(chopper().project()), settings)) << bad;
    }
}

namespace {

class RandomConverters : public testing::TestWithParam<unsigned> {
protected:
    std::string value(double low, double high) {
        const double v = std::exp(std::uniform_real_distribution<double>(std::log(low), std::log(high))(random));
        return std::to_string(v * 1e9) + "e-9";
    }
    /// Step-down, step-up or inverting, by a diode or a second switch, with losses, filters and loads at random.
    Circuit converter() {
        Circuit c;
        const std::string duty = value(0.15, 0.75);
        c.add("dc-voltage", "V1", {"s", "0"}, {{"level", value(5, 400)}})
            .add("inductor", "LF", {"s", "in"}, {{"l", value(1e-6, 50e-6)}})
            .add("resistor", "RF", {"s", "in"}, {{"r", value(1, 20)}})
            .add("capacitor", "CF", {"in", "0"}, {{"c", value(1e-6, 50e-6)}})
            .add("modulator", "M1", {"", "g", "h"}, {{"f", value(20e3, 500e3)}, {"duty", duty}});
        const unsigned sort = random() % 3;
        const bool diode = random() % 2 == 0;
        const std::string a = sort == 1 ? "0" : "in", sw = "x";
        if (sort == 0) {
            c.add("switch", "S1", {"in", "x", "g"}, {{"ron", "10m"}}, 2)
                .add("inductor", "L1", {"x", "out"}, {{"l", value(5e-6, 500e-6)}});
            if (diode)
                c.add("diode", "D1", {"0", "x"}, {}, 2);
            else
                c.add("switch", "S2", {"x", "0", "h"}, {{"ron", "10m"}}, 2);
        } else if (sort == 1) {
            c.add("switch", "S1", {"x", "0", "g"}, {{"ron", "10m"}}, 2)
                .add("inductor", "L1", {"in", "x"}, {{"l", value(5e-6, 500e-6)}});
            if (diode)
                c.add("diode", "D1", {"x", "out"}, {}, 2);
            else
                c.add("switch", "S2", {"x", "out", "h"}, {{"ron", "10m"}}, 2);
        } else {
            c.add("switch", "S1", {"in", "x", "g"}, {{"ron", "10m"}}, 2)
                .add("inductor", "L1", {"x", "0"}, {{"l", value(5e-6, 500e-6)}});
            if (diode)
                c.add("diode", "D1", {"out", "x"}, {}, 2);
            else
                c.add("switch", "S2", {"out", "x", "h"}, {{"ron", "10m"}}, 2);
        }
        c.add("capacitor", "C1", {"out", "0"}, {{"c", value(1e-6, 200e-6)}})
            .add("resistor", "R1", {"out", "0"}, {{"r", value(0.5, 500)}})
            .plan("1m", "1e-5");
        return c;
    }
    std::mt19937 random{GetParam()};
};

// Every part on its topmost rung, with temperatures that take minutes: the search begins where the losses lead.
TEST(Settle, TakesTheWholeSupplyOnRungFourWithItsTemperatures) {
    auto loaded = loadHedge(std::filesystem::path(HEDGEROW_EXAMPLES) / "med-aux-physical.hedge");
    ASSERT_TRUE(loaded);
    RunSettings settings;
    settings.settle = true, settings.periods = "1";
    auto run = hedgerow::Run::prepare(std::make_shared<const Project>(std::move(loaded->project)), settings);
    ASSERT_TRUE(run) << run.error().message;
    (*run)->execute();
    ASSERT_TRUE((*run)->settled()) << (*run)->summary().brief();
    EXPECT_LT((*run)->settled()->iterations, 20);
    EXPECT_LT((*run)->settled()->residual, 1e-5);
}

}  // namespace

TEST(Settle, AChokeInALeadIsSlowThoughItComesWithAHigherRung) {
    // The inductance of the lead and C1 ring for hundreds of periods, and no lower rung knows of them.
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "80"}, {"ri", "20m"}, {"l_n", "10m"}}, 3)
        .add("capacitor", "C1", {"in", "0"}, {{"c", "22u"}, {"esr", "3m"}, {"v0", "80"}}, 2)
        .add("modulator", "M1", {"", "g", ""}, {{"f", "150k"}, {"duty", "0.3"}})
        .add("switch", "S1", {"in", "sw", "g"}, {{"ron", "9m"}}, 2)
        .add("diode", "D1", {"0", "sw"}, {{"vf", "0.8"}, {"ron", "6m"}}, 2)
        .add("inductor", "L1", {"sw", "out"}, {{"l", "22u"}, {"dcr", "7m"}}, 3)
        .add("capacitor", "C2", {"out", "0"}, {{"c", "100u"}, {"esr", "2m"}}, 2)
        .add("resistor", "R1", {"out", "0"}, {{"r", "2"}}, 1)
        .plan("1m", "1e-4");
    const auto run = settled(c);
    ASSERT_SETTLED(run);
    expectComesAgain(*run, 1e-4);
    const auto in = run->trace("V1.i")->measure(0, run->reached()), out = run->trace("L1.i")->measure(0, run->reached());
    ASSERT_TRUE(in && out);
    // What goes in at 80 V less 20 mOhm is what comes out: the load, the winding, the switch and the diode.
    EXPECT_GT(std::abs(in->mean) * 80, 4 * out->mean);
    EXPECT_LT(in->peakToPeak(), 0.05) << "the choke lets no ripple through";
}

TEST(Settle, AResistanceThatWouldRunAwayUnderTheCurrentOfOneInstantHasItsTemperature) {
    // At the current of the inductor, held, the heat of R1 grows faster than it leaves. In the circuit it does not: the
    // current falls as R1 grows.
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "72"}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "2k"}, {"duty", "0.6"}})
        .add("switch", "S1", {"in", "sw", "g"}, {{"ron", "20m"}}, 1)
        .add("diode", "D1", {"0", "sw"}, {{"vf", "0.8"}, {"ron", "15m"}}, 2)
        .add("resistor", "R1", {"sw", "mid"}, {{"r", "1.6"}, {"rth", "50"}, {"ta", "25"}, {"cth", "10m"}}, 4)
        .add("inductor", "L1", {"mid", "0"}, {{"l", "2m"}}, 1)
        .plan("15m", "1e-4");
    const auto run = settled(c);
    ASSERT_SETTLED(run);
    const auto power = run->trace("R1.p"), rise = run->trace("R1.rise");
    ASSERT_TRUE(power);
    ASSERT_TRUE(rise);
    const auto p = power->measure(0, run->reached()), t = rise->measure(0, run->reached());
    ASSERT_TRUE(p && t);
    EXPECT_RELATIVE(t->mean, 50 * p->mean, 1e-3) << "all heat leaves through the thermal resistance";
    EXPECT_GT(t->mean, 1000);
}

TEST_P(RandomConverters, SettleAndComeAgain) {
    for (int trial = 0; trial < 10; ++trial) {
        SCOPED_TRACE(trial);
        const Circuit c = converter();
        const auto run = settled(c);
        ASSERT_SETTLED(run);
        EXPECT_LE(run->settled()->residual, 1e-9);
        expectComesAgain(*run, 1e-8);
        // Charge and flux come back: what the lines show of them within their tolerance, the states to rounding.
        const double lasts = toSeconds(run->end());
        for (const char* const mean : {"L1.v", "C1.i", "CF.i"}) {
            const Measures m = measures(*run, mean, 0, lasts);
            EXPECT_NEAR(m.mean, 0, 3e-4 * m.rms + 1e-9) << mean;
        }
        EXPECT_LE(std::abs(run->settled()->storedPower), 1e-6 * measures(*run, "V1.p", 0, lasts).rms);
        // A plain run that begins there stays there, where deviations die out.
        if (!run->settled()->stable) continue;
        Circuit on = c;
        on.project().plans.front().start = "settled";
        on.project().plans.front().end = "60 periods of M1";
        const auto plain = test::run(on);
        ASSERT_TRUE(plain);
        const double end = toSeconds(plain->end()), period = run->settled()->seconds();
        const Measures first = measures(*plain, "out.v", 0, period),
                       last = measures(*plain, "out.v", end - period, end);
        EXPECT_NEAR(first.mean, last.mean, 2e-5 * std::abs(last.mean));
    }
}

INSTANTIATE_TEST_SUITE_P(Seeds, RandomConverters, ::testing::Range(1u, 11u));

TEST(CommonPeriod, OfNothingIsNone) {
    const auto common = settle::commonPeriod(Network());
    ASSERT_TRUE(common);
    EXPECT_FALSE(common->period);
}

TEST(Repetition, ThreeTimesTheSame) {
    std::vector<settle::Scout::Event> events;
    for (int k = 0; k < 5; ++k)
        for (const std::uint64_t what : {1u, 2u, 1u})
            events.push_back({k * 1000 + static_cast<Tick>(what) * 100 + (events.size() % 3 == 2 ? 300 : 0), what});
    EXPECT_EQ(settle::repetitionOf(events, 1e-3), 1000);
    events.resize(7);
    EXPECT_EQ(settle::repetitionOf(events, 1e-3), 0);
}
