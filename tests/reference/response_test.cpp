// Frequency responses: against closed forms of linear and of sampled circuits, against a tone that is put in and
// measured, and the map of a period against plain runs.

#include <gtest/gtest.h>

#include <cmath>
#include <complex>
#include <filesystem>
#include <numbers>

#include "analysis/tune.h"
#include "periodic/settle/scout.h"
#include "runs/responses.h"
#include "support/circuit.h"
#include "support/circuit_file.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

using Complex = std::complex<double>;
constexpr Complex j{0, 1};

std::shared_ptr<hedgerow::Run> prepared(const Circuit& c) {
    RunSettings settings;
    settings.settle = true;
    auto run = hedgerow::Run::prepare(std::make_shared<const Project>(c.project()), settings);
    EXPECT_TRUE(run) << run.error().message;
    return run ? *run : nullptr;
}

std::vector<FrequencyResponse> answers(const Circuit& c, const ResponseQuestion& question) {
    const auto run = prepared(c);
    if (!run) return {};
    const auto found = respondTo(*run, question, CancelToken());
    EXPECT_TRUE(found) << found.error().message;
    return found ? *found : std::vector<FrequencyResponse>();
}

void expectNear(Complex actual, Complex expected, double relative, double frequency) {
    EXPECT_NEAR(std::abs(actual - expected), 0, relative * std::abs(expected))
        << actual << " against " << expected << " at " << frequency << " Hz";
}

double omega(double frequency) { return 2 * std::numbers::pi * frequency; }

/// A filter behind a source: nothing switches but what lies beside it, so that there is a period.
Circuit filter() {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("inductor", "L1", {"in", "out"}, {{"l", "20u"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "10u"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "3"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "100k"}})
        .plan("1m");
    return c;
}

/// A step-down stage between ideal switches, whose duty a signal sets at the start of each period.
Circuit stage(const char* sampling) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "48"}})
        .add("constant", "K1", {"d"}, {{"value", "0.4"}})
        .add("modulator", "M1", {"d", "g", "h"}, {{"f", "100k"}, {"sampling", sampling}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "h"})
        .add("resistor", "RL", {"x", "y"}, {{"r", "50m"}})
        .add("inductor", "L1", {"y", "out"}, {{"l", "47u"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "22u"}})
        .add("resistor", "R1", {"out", "0"}, {{"r", "4"}})
        .plan("1m");
    return c;
}

Complex stageFilter(double frequency) {
    const Complex s = j * omega(frequency);
    const Complex load = 1.0 / (1.0 / 4 + s * 22e-6);
    return load / (load + 50e-3 + s * 47e-6);
}

}  // namespace

TEST(Response, OfALinearCircuitIsItsTransferFunction) {
    const auto line = answers(filter(), {.from = "V1", .to = {"out.v"}, .least = 10, .most = 3e5, .points = 12});
    const auto port = answers(
        filter(), {.sort = ResponseQuestion::Sort::impedance, .from = "out", .least = 10, .most = 3e5, .points = 12});
    ASSERT_EQ(line.size(), 1u);
    ASSERT_EQ(port.size(), 1u);
    EXPECT_EQ(port[0].unit, "Ω");
    for (std::size_t i = 0; i < line[0].values.size(); ++i) {
        const double f = line[0].frequencies[i];
        const Complex s = j * omega(f), load = 1.0 / (1.0 / 3 + s * 10e-6), winding = s * 20e-6;
        expectNear(line[0].values[i], load / (load + winding), 1e-7, f);
        expectNear(port[0].values[i], load * winding / (load + winding), 1e-7, f);
    }
}

// The line to output of a stage whose switches turn at fixed instants: below half the carrier, D times the filter is
// the mean model; the exact one is the Fourier sum of the pulses, whose w component is what is compared here by a tone.
TEST(Response, FromTheLineAgreesWithATone) {
    // Frequencies that have a period in common with the carrier: a tone is measured over whole ones of both.
    for (const double frequency : {500.0, 4500.0, 40e3}) {
        ResponseQuestion question{
            .from = "V1", .to = {"out.v", "L1.i"}, .least = frequency, .most = frequency, .points = 1};
        const auto computed = answers(stage("all the time"), question);
        question.tone = 0.05;
        const auto measured = answers(stage("all the time"), question);
        ASSERT_EQ(computed.size(), 2u);
        ASSERT_EQ(measured.size(), 2u);
        for (std::size_t k = 0; k < 2; ++k) expectNear(computed[k].values[0], measured[k].values[0], 1e-5, frequency);
        // Slow against the carrier it is D times the filter.
        if (frequency < 1e3) {
            expectNear(computed[0].values[0], 0.4 * stageFilter(frequency), 1e-4, frequency);
        }
    }
}

// A saw that is compared all the time moves one edge per period by the reference at the crossing: a train of impulses
// of V T at (k + D) T, so that the w component is V times that of the reference, without any delay (natural sampling).
TEST(Response, NaturalSamplingHasNoDelay) {
    const auto found =
        answers(stage("all the time"), {.from = "K1.value", .to = {"out.v"}, .least = 100, .most = 80e3, .points = 9});
    ASSERT_EQ(found.size(), 1u);
    for (std::size_t i = 0; i < found[0].values.size(); ++i) {
        const double f = found[0].frequencies[i];
        // The output holds no ripple of the switches in this component: the filter acts on the impulses as on a wave.
        expectNear(found[0].values[i], 48.0 * stageFilter(f), 1e-5, f);
    }
}

// Regular sampling at the start of a period: the same impulses, a time D T after the reference was read.
TEST(Response, RegularSamplingIsLateByTheDuty) {
    const auto found =
        answers(stage("once a period"), {.from = "K1.value", .to = {"out.v"}, .least = 100, .most = 80e3, .points = 9});
    ASSERT_EQ(found.size(), 1u);
    for (std::size_t i = 0; i < found[0].values.size(); ++i) {
        const double f = found[0].frequencies[i];
        expectNear(found[0].values[i], 48.0 * std::exp(-j * omega(f) * 0.4 * 10e-6) * stageFilter(f), 1e-5, f);
    }
}

TEST(Response, OfASampledLoopAgreesWithATone) {
    const auto file = readCircuitCase(std::filesystem::path(HEDGEROW_CIRCUITS) / "regulated.circuit");
    for (const double frequency : {500.0, 2000.0, 40e3}) {
        ResponseQuestion question{
            .sort = ResponseQuestion::Sort::loop, .from = "P1", .least = frequency, .most = frequency, .points = 1};
        const auto computed = answers(file.circuit, question);
        question.tone = 1e-2;
        const auto measured = answers(file.circuit, question);
        ASSERT_EQ(computed.size(), 1u);
        ASSERT_EQ(measured.size(), 1u);
        expectNear(computed[0].values[0], measured[0].values[0], 1e-4, frequency);
    }
}

// What is measured at any wire of a single loop is the same gain.
TEST(Response, ALoopHasOneGainWhereverItIsCut) {
    const auto file = readCircuitCase(std::filesystem::path(HEDGEROW_CIRCUITS) / "regulated.circuit");
    ResponseQuestion question{
        .sort = ResponseQuestion::Sort::loop, .from = "P1", .least = 100, .most = 5e3, .points = 5};
    const auto at = answers(file.circuit, question);
    question.from = "E1";
    const auto other = answers(file.circuit, question);
    ASSERT_EQ(at.size(), 1u);
    ASSERT_EQ(other.size(), 1u);
    for (std::size_t i = 0; i < 5; ++i) expectNear(at[0].values[i], other[0].values[i], 1e-5, at[0].frequencies[i]);
}

TEST(Response, ThePeriodsMapIsWhatPlainRunsDo) {
    const auto file = readCircuitCase(std::filesystem::path(HEDGEROW_CIRCUITS) / "regulated.circuit");
    const auto run = prepared(file.circuit);
    ASSERT_TRUE(run);
    run->execute();
    ASSERT_TRUE(run->settled()) << run->summary().brief();
    const Settled& settled = *run->settled();
    const std::size_t n = settled.coordinates.size();
    // The slowest deviation of all, along a state: after k periods it is the k-th power of the map.
    std::vector<double> deviation(n, 0.0);
    deviation[0] = 1e-4 * settled.sizes[0];
    const std::vector<double> first = deviation;
    constexpr int periods = 6;
    for (int k = 0; k < periods; ++k) {
        std::vector<double> next(n, 0.0);
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t m = 0; m < n; ++m) next[i] += settled.map[i * n + m] * deviation[m];
        deviation = next;
    }
    settle::NoPoints sink;
    RunRequest request = run->request();
    request.end = toTicks(longestRunSeconds);
    std::vector<std::vector<double>> ends;
    for (const double side : {1.0, -1.0}) {
        Snapshot from = settled.section;
        from.states[0].value += side * first[0];
        const auto simulation = run->engine().begin(run->elaboration().network, request, sink, CancelToken());
        ASSERT_TRUE(simulation->start(from));
        ASSERT_EQ(simulation->advance(from.t + toTick(settled.period * periods)), RunEnd::finished);
        ends.push_back(simulation->snapshot().values());
    }
    for (std::size_t i = 0; i < ends[0].size(); ++i)
        EXPECT_NEAR((ends[0][i] - ends[1][i]) / 2, deviation[i], 1e-4 * std::abs(first[0]))
            << settled.coordinates[i].name;
}

// The same circuit by the engine with steps: through its own periodic state, its own map, its own runs.
TEST(Response, TheAdaptiveEngineAgrees) {
    const ResponseQuestion question{
        .sort = ResponseQuestion::Sort::impedance, .from = "out", .least = 200, .most = 40e3, .points = 4};
    const auto exact = answers(stage("all the time"), question);
    RunSettings settings;
    settings.settle = true, settings.engine = "adaptive";
    const auto run = hedgerow::Run::prepare(std::make_shared<const Project>(stage("all the time").project()), settings);
    ASSERT_TRUE(run) << run.error().message;
    const auto adaptive = respondTo(**run, question, CancelToken());
    ASSERT_TRUE(adaptive) << adaptive.error().message;
    for (std::size_t i = 0; i < 4; ++i)
        expectNear(adaptive->front().values[i], exact[0].values[i], 5e-3, exact[0].frequencies[i]);
}

TEST(Response, MarginsOfAnIntegratorWithDelay) {
    // w_c / s e^{-s T}: crossover w_c, phase margin 90 - w_c T, gain margin pi / (2 w_c T).
    FrequencyResponse loop{"", "", {}, {}};
    const double crossover = 1e4, delay = 5e-6;
    for (int i = 0; i <= 400; ++i) {
        const double f = 100 * std::pow(10, i / 100.0);
        loop.frequencies.push_back(f);
        loop.values.push_back(omega(crossover) / (j * omega(f)) * std::exp(-j * omega(f) * delay));
    }
    const Margins margins = marginsOf(loop);
    ASSERT_TRUE(margins.crossover && margins.phaseMargin && margins.gainMargin);
    EXPECT_RELATIVE(*margins.crossover, crossover, 1e-6);
    EXPECT_NEAR(*margins.phaseMargin, 90 - 360 * crossover * delay, 1e-2);
    EXPECT_RELATIVE(*margins.gainMargin, 1 / (4 * crossover * delay), 1e-3);
}

TEST(Response, QuestionsThatHaveNoAnswerSayWhy) {
    const auto run = prepared(stage("all the time"));
    ASSERT_TRUE(run);
    const auto why = [&](const ResponseQuestion& question) {
        const auto found = respondTo(*run, question, CancelToken());
        EXPECT_FALSE(found);
        return found ? "" : found.error().message;
    };
    using Sort = ResponseQuestion::Sort;
    EXPECT_NE(why({.from = "K7", .to = {"out.v"}}).find("K7"), std::string::npos);
    EXPECT_NE(why({.from = "K1", .to = {"nowhere.v"}}).find("nowhere.v"), std::string::npos);
    EXPECT_NE(why({.from = "K1", .to = {"V1.p"}}).find("V1.p"), std::string::npos);
    EXPECT_NE(why({.from = "K1", .to = {}}).find("no quantity"), std::string::npos);
    EXPECT_NE(why({.sort = Sort::loop, .from = "V1"}).find("no signal"), std::string::npos);
    EXPECT_NE(why({.sort = Sort::loop, .from = "M1.g"}).find("edges"), std::string::npos);
    EXPECT_NE(why({.sort = Sort::impedance, .from = "q"}).find("no net q"), std::string::npos);
    EXPECT_NE(why({.sort = Sort::impedance, .from = "out from out"}).find("both nets are the same"), std::string::npos);
    EXPECT_NE(why({.from = "K1", .to = {"out.v"}, .least = 100, .most = 10}).find("span"), std::string::npos);
    EXPECT_NE(why({.from = "K1", .to = {"out.v"}, .points = 0}).find("points"), std::string::npos);
}

TEST(Response, AsTableHasARowForEachFrequency) {
    const auto found = answers(filter(), {.from = "V1", .to = {"out.v"}, .least = 10, .most = 1e4, .points = 4});
    const std::string csv = responsesAsCsv(found);
    EXPECT_EQ(std::count(csv.begin(), csv.end(), '\n'), 5);
    EXPECT_TRUE(csv.starts_with("frequency [Hz],\"out.v / V1, gain [dB V]\""));
}

namespace {

/// The loop gain of a circuit with other values of a part, at one frequency.
Complex loopWith(Circuit c, const std::string& part, const std::vector<std::pair<std::string, std::string>>& values,
                 double frequency) {
    for (const auto& [key, text] : values) c.set(part, key, text);
    const auto found = answers(
        c, {.sort = ResponseQuestion::Sort::loop, .from = part, .least = frequency, .most = frequency, .points = 1});
    return found.empty() ? Complex(NAN) : found.front().values.front();
}

std::shared_ptr<const Project> shared(const Circuit& c) { return std::make_shared<const Project>(c.project()); }

/// A step-down stage with a continuous regulator between the error and a natural modulator.
Circuit continuousLoop(const char* kind, std::initializer_list<std::pair<std::string, std::string>> values) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "48"}})
        .add("constant", "K1", {"ref"}, {{"value", "12"}})
        .add("probe", "P1", {"v"}, {{"of", "out.v"}})
        .add("sum", "E1", {"ref", "v", "", "e"})
        .add("modulator", "M1", {"d", "g", "h"}, {{"f", "200k"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "h"})
        .add("inductor", "L1", {"x", "out"}, {{"l", "47u"}, {"i0", "6"}})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "100u"}, {"esr", "20m"}, {"v0", "12"}}, 2)
        .add("resistor", "R1", {"out", "0"}, {{"r", "2"}})
        .plan("5m");
    const bool limits = std::string(kind) == "pi" || std::string(kind) == "pid";
    c.add(kind, "REG1", limits ? std::vector<std::string>{"e", "", "", "d"} : std::vector<std::string>{"e", "d"},
          values);
    return c;
}

}  // namespace

// The tuned values are put into the circuit, which is settled and looked at anew.
TEST(Tune, CrossoverAndMarginComeOut) {
    const auto regulated = readCircuitCase(std::filesystem::path(HEDGEROW_CIRCUITS) / "regulated.circuit").circuit;
    struct Case {
        Circuit circuit;
        std::string part;
        double crossover, margin;
    };
    for (const Case& one :
         {Case{regulated, "P1", 700, 120},
          Case{continuousLoop("pi", {{"kp", "5m"}, {"ki", "20"}, {"y0", "0.25"}}), "REG1", 800, 100},
          Case{continuousLoop("pid", {{"kp", "5m"}, {"ki", "20"}, {"kd", "1u"}, {"y0", "0.25"}}), "REG1", 8e3, 50},
          Case{continuousLoop("zeros-poles", {{"k", "300"}, {"zeros", "-6k"}, {"poles", "0, -400k"}, {"y0", "0"}}),
               "REG1", 6e3, 5}}) {
        // "P1" of the circuit file is its regulator.
        SCOPED_TRACE(one.part + " at " + std::to_string(one.crossover));
        const auto tuned = tuneRegulator(shared(one.circuit), {}, one.part, one.crossover, one.margin, CancelToken());
        ASSERT_TRUE(tuned) << tuned.error().message;
        expectNear(loopWith(one.circuit, one.part, tuned->values, one.crossover),
                   std::polar(1.0, (one.margin - 180) * std::numbers::pi / 180), 3e-4, one.crossover);
    }
}

TEST(Tune, WhatCannotBeHadIsSaid) {
    const Circuit c = continuousLoop("pi", {{"kp", "5m"}, {"ki", "20"}, {"y0", "0.25"}});
    const auto why = [&](const std::string& part, double crossover, double margin) {
        const auto tuned = tuneRegulator(shared(c), {}, part, crossover, margin, CancelToken());
        EXPECT_FALSE(tuned);
        return tuned ? "" : tuned.error().message;
    };
    EXPECT_NE(why("REG1", 10e3, 90).find("phase margin between"), std::string::npos);
    EXPECT_NE(why("REG1", -1, 60).find("above 0"), std::string::npos);
    EXPECT_NE(why("REG1", 1e3, 200).find("between 0 and 180"), std::string::npos);
    EXPECT_NE(why("R1", 1e3, 60).find("cannot be tuned"), std::string::npos);
    EXPECT_NE(why("X1", 1e3, 60).find("no part"), std::string::npos);
}
