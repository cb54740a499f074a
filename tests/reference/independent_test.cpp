// Circuits that were solved a second time, apart from the product: tests/independent has the equations, the script and
// what came of them. Here the product solves them: by every engine that takes them, with spans that hand over from one to the
// other in the middle, streamed without points, and settled.

#include <gtest/gtest.h>

#include <cmath>
#include <complex>
#include <fstream>

#include <nlohmann/json.hpp>

#include "model/text_form.h"
#include "runs/registry.h"
#include "runs/responses.h"
#include "runs/run.h"
#include "traces/spectrum.h"

using namespace hedgerow;
using Json = nlohmann::json;

namespace {

struct Value {
    std::string what, quantity;
    double from = 0, to = 0, at = 0, base = 0, value = 0;
    int order = 1;
};

struct Case {
    std::string name, text;
    double end = 0, tolerance = 1e-6, settled = 0;
    std::vector<Value> values = {}, periodic = {};
};

std::vector<Value> valuesOf(const Json& json) {
    std::vector<Value> all;
    for (const Json& one : json) {
        Value value{.what = one.at("what"), .quantity = one.at("quantity")};
        value.value = one.at("value");
        value.from = one.value("from", 0.0), value.to = one.value("to", 0.0), value.at = one.value("at", 0.0);
        value.base = one.value("base", 0.0), value.order = one.value("order", 1);
        all.push_back(std::move(value));
    }
    return all;
}

const std::vector<Case>& cases() {
    static const std::vector<Case> all = [] {
        std::vector<Case> read;
        for (const Json& one : Json::parse(std::ifstream(HEDGEROW_INDEPENDENT "/circuits.json"))) {
            Case c{.name = one.at("name"), .text = one.at("text")};
            c.end = one.at("end"), c.tolerance = one.at("tolerance"), c.settled = one.at("settled");
            c.values = valuesOf(one.at("values")), c.periodic = valuesOf(one.at("periodic"));
            read.push_back(std::move(c));
        }
        return read;
    }();
    return all;
}

Project projectOf(const Case& c) {
    Project project;
    const Catalogue& catalogue = partLibrary().catalogue();
    TextCircuit circuit = readText(c.text + "\nREF1 reference 0\n", catalogue);
    EXPECT_TRUE(circuit.errors.empty()) << c.name << ": " << circuit.errors.front().text();
    const Status made = edits::becomeText(std::move(circuit), catalogue).apply(project);
    EXPECT_TRUE(made) << c.name;
    project.plans.front().end = std::to_string(static_cast<long long>(std::llround(c.end * 1e12))) + "p";
    project.plans.front().tolerance = "1e-6";
    return project;
}

/// The size by which differences of a quantity count: its largest magnitude in the run.
double sizeOf(const Trace& trace, Tick end) {
    const auto all = trace.measure(0, end);
    return all ? std::max(std::abs(all->max), std::abs(all->min)) : NAN;
}

double found(const Value& v, const Trace& trace) {
    if (v.what == "at") return trace.at(toTicks(v.at)).value_or(NAN);
    const Tick from = toTicks(v.from), to = toTicks(v.to);
    if (v.what == "harmonic") {
        const auto all = harmonics(trace, from, to, v.base, std::max(40, v.order));
        return all ? all->peak(v.order) : NAN;
    }
    const auto basic = trace.measure(from, to);
    if (!basic) return NAN;
    return v.what == "mean" ? basic->mean
           : v.what == "rms" ? basic->rms
           : v.what == "max" ? basic->max
           : v.what == "min" ? basic->min
                             : basic->peakToPeak();
}

struct Way {
    std::string name, engine;
    double tolerance;                ///< relative to the size of a quantity
    std::vector<std::string> spans;  ///< "" for none
    std::string step = {};
};

void expectSame(const Case& c, const hedgerow::Run& run, const std::vector<Value>& values, double tolerance, const std::string& way) {
    for (const Value& v : values) {
        const auto trace = run.trace(v.quantity);
        ASSERT_TRUE(trace) << c.name << ": " << v.quantity;
        Value one = v;
        if (one.what != "at" && one.to == 0) one.to = toSeconds(run.reached());
        const double got = found(one, *trace), size = sizeOf(*trace, run.reached());
        // Differences of large numbers, powers, and what is read off a steep line are known less well.
        EXPECT_LE(std::abs(got - v.value), tolerance * std::max(size, std::abs(v.value)))
            << c.name << ", " << way << ": " << v.what << " of " << v.quantity << " is " << got << ", by the other formulation "
            << v.value;
    }
}

class Independent : public testing::TestWithParam<std::size_t> {
protected:
    const Case& c() const { return cases()[GetParam()]; }
    void solve(const Way& way) {
        Project project = projectOf(c());
        RunSettings settings{.engine = way.engine};
        settings.spans = way.spans;
        if (!way.step.empty()) settings.step = way.step;
        const auto run = hedgerow::Run::prepare(std::make_shared<const Project>(std::move(project)), settings);
        ASSERT_TRUE(run) << c().name << ", " << way.name << ": " << run.error().text();
        (*run)->execute();
        ASSERT_EQ((*run)->summary().end, RunEnd::finished) << c().name << ", " << way.name << ": " << (*run)->summary().brief();
        expectSame(c(), **run, c().values, std::max(way.tolerance, c().tolerance), way.name);
    }
    std::string at(double part) const { return "until " + std::to_string(static_cast<long long>(c().end * part * 1e12)) + "p"; }
};

/// Those that the exact engine takes: all parts stand on rung 2 at most.
class IndependentExact : public Independent {};
/// Those whose periodic state is known.
class IndependentSettled : public Independent {};

/// Numbers of the cases that are of a sort.
std::vector<std::size_t> those(bool (*of)(const Case&)) {
    std::vector<std::size_t> all;
    for (std::size_t i = 0; i < cases().size(); ++i)
        if (of(cases()[i])) all.push_back(i);
    return all;
}

TEST_P(Independent, ByTheBestEngine) { solve({.name = "best", .engine = "best", .tolerance = 3e-6, .spans = {}}); }

TEST_P(Independent, ByStepsThatFollowAnErrorEstimate) {
    solve({.name = "adaptive", .engine = "adaptive", .tolerance = 1e-4, .spans = {}});
}

TEST_P(Independent, BySteps) {
    // Means and effective values; a grid does not know extremes.
    constexpr double steps = 40'000;
    std::vector<Value> values;
    for (const Value& v : c().values)
        if (v.what == "mean" || v.what == "rms") values.push_back(v);
    Project project = projectOf(c());
    RunSettings settings{.engine = "fixed"};
    settings.step = std::to_string(static_cast<long long>(c().end / steps * 1e12)) + "p";
    const auto run = hedgerow::Run::prepare(std::make_shared<const Project>(std::move(project)), settings);
    ASSERT_TRUE(run) << c().name << ": " << run.error().text();
    (*run)->execute();
    ASSERT_EQ((*run)->summary().end, RunEnd::finished) << c().name << ": " << (*run)->summary().brief();
    expectSame(c(), **run, values, 2e-3, "fixed");
}

TEST_P(IndependentExact, HandedOverInTheMiddle) {
    solve({.name = "handed over", .engine = "", .tolerance = 1e-4,
           .spans = {at(0.31) + ": exact", at(0.52) + ": adaptive", "to the end: exact"}});
}

TEST_P(IndependentExact, StreamedWithoutPoints) {
    Project project = projectOf(c());
    std::map<std::pair<double, double>, std::vector<const Value*>> windows;
    for (const Value& v : c().values)
        if (v.what != "at" && v.what != "harmonic") windows[{v.from, v.to}].push_back(&v);
    const auto shared = std::make_shared<const Project>(std::move(project));
    for (const auto& [window, values] : windows) {
        const auto run = hedgerow::Run::prepare(shared);
        ASSERT_TRUE(run) << run.error().text();
        std::vector<std::string> names;
        for (const Value* v : values) names.push_back(v->quantity);
        const auto measured = (*run)->executeMeasured(names, toTicks(window.first), toTicks(window.second), CancelToken());
        ASSERT_TRUE(measured) << measured.error().text();
        for (std::size_t i = 0; i < values.size(); ++i) {
            ASSERT_TRUE((*measured)[i]) << names[i];
            const Measures& m = *(*measured)[i];
            const Value& v = *values[i];
            const double got = v.what == "mean" ? m.mean : v.what == "rms" ? m.rms : v.what == "max" ? m.max
                               : v.what == "min" ? m.min : m.peakToPeak();
            const double size = std::max({std::abs(m.max), std::abs(m.min), std::abs(v.value)});
            EXPECT_LE(std::abs(got - v.value), 3e-6 * size) << c().name << ": " << v.what << " of " << v.quantity;
        }
    }
}

TEST_P(IndependentSettled, Comes) {
    Project project = projectOf(c());
    RunSettings settings;
    settings.settle = true, settings.periods = "1";
    const auto run = hedgerow::Run::prepare(std::make_shared<const Project>(std::move(project)), settings);
    ASSERT_TRUE(run) << run.error().text();
    (*run)->execute();
    ASSERT_EQ((*run)->summary().end, RunEnd::finished) << c().name << ": " << (*run)->summary().brief();
    EXPECT_NEAR(toSeconds((*run)->end()), c().settled, 1e-12);
    expectSame(c(), **run, c().periodic.empty() ? c().values : c().periodic, 1e-5, "settled");
}

std::string nameOf(const testing::TestParamInfo<std::size_t>& info) {
    std::string name;
    for (const char ch : cases()[info.param].name) name += std::isalnum(static_cast<unsigned char>(ch)) ? ch : '_';
    return name;
}

INSTANTIATE_TEST_SUITE_P(Circuits, Independent, testing::ValuesIn(those([](const Case&) { return true; })), nameOf);
INSTANTIATE_TEST_SUITE_P(Circuits, IndependentExact,
                         testing::ValuesIn(those([](const Case& c) { return c.text.find("rung 4") == std::string::npos; })), nameOf);
INSTANTIATE_TEST_SUITE_P(Circuits, IndependentSettled, testing::ValuesIn(those([](const Case& c) { return c.settled > 0; })), nameOf);

/// Responses by tones that the other formulation added, ran until they had settled, and read off (tests/independent/response.py).
TEST(IndependentResponses, AreThoseOfTones) {
    const Json all = Json::parse(std::ifstream(HEDGEROW_INDEPENDENT "/response.json"));
    ASSERT_EQ(all.size(), 3u);
    for (const Json& one : all) {
        const Case c{.name = one.at("name"), .text = one.at("text"), .end = 1e-3};
        const auto project = std::make_shared<const Project>(projectOf(c));
        for (const Json& told : one.at("responses")) {
            const double f = told.at("f");
            const std::complex<double> wanted(told.at("re"), told.at("im"));
            const auto run = hedgerow::Run::prepare(project, {.settle = true});
            ASSERT_TRUE(run) << c.name << ": " << run.error().text();
            const auto curves = respondTo(**run, {.from = one.at("from"), .to = {told.at("to")}, .least = f, .most = 1.1 * f, .points = 2}, CancelToken());
            ASSERT_TRUE(curves) << c.name << ": " << curves.error().text();
            ASSERT_EQ(curves->size(), 1u);
            EXPECT_NEAR(curves->front().frequencies.front(), f, 1e-9 * f);
            EXPECT_LE(std::abs(curves->front().values.front() - wanted), 2e-4 * std::abs(wanted))
                << c.name << ", " << told.at("to") << " at " << f << " Hz: " << curves->front().values.front() << " instead of " << wanted;
        }
    }
}

TEST(IndependentCircuits, AreAllThere) { EXPECT_EQ(cases().size(), 33u); }

}  // namespace
