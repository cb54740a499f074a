// Trade studies: what other ways of solving lose and save.

#include <unistd.h>
#include <algorithm>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "commands.h"
#include "ledger/ledger.h"
#include "model/quantity.h"
#include "shared.h"
#include "formats/hedge/hedge.h"
#include "studies/learn.h"
#include "studies/trade_file.h"

namespace hedgerow::cli {

namespace {

void report(const TradeResult& result) {
    fmt::print("reference: {}, {}\n", result.referenceLine, standingText(result));
    for (std::size_t f = 0; f < result.features.size(); ++f)
        fmt::print("  {:<48} {}{}\n", result.features[f], formatQuantity(result.reference[f], result.units[f], 5),
                   f < result.moved.size() && !result.converged
                       ? fmt::format(", moved by {:.2g} of the accuracy", result.moved[f])
                       : "");
    std::vector<const TradePoint*> points;
    for (const TradePoint& point : result.points) points.push_back(&point);
    std::stable_sort(points.begin(), points.end(),
                     [](const TradePoint* a, const TradePoint* b) { return a->seconds < b->seconds; });
    fmt::print("\n{:>10}  {:>9}  {}\n", "CPU time", "error", "solved by (error over the accuracy wanted; * on the front)");
    for (const TradePoint* point : points) {
        if (point->error)
            fmt::print("{:>10}  {:>9}  {}: {}\n", formatQuantity(point->seconds, "s", 2), "-", point->line, point->error->text());
        else
            fmt::print("{:>10}  {:>9.2g}{} {}{}{}\n", formatQuantity(point->seconds, "s", 2), point->worst,
                       point->front ? '*' : ' ', point->line, point->present ? " (the plan)" : "",
                       point->step > 0 ? "; " + headroomText(*point) : "");
    }
    if (!result.verdicts.empty()) fmt::print("\n");
    for (const PartVerdict& v : result.verdicts)
        fmt::print("  {:<12} rung {}{}{}\n", v.part, v.rung, v.needed ? ", needed" : "", v.why.empty() ? "" : ": " + v.why);
    bool steps = false;
    for (const TradePoint* point : points)
        steps = steps || point->step > 0;
    if (const TradePoint* const largest = largestGoodStep(result))
        fmt::print("\nlargest step that is good enough: {}\n", largest->line);
    else if (steps)
        fmt::print("\nno step tried is good enough\n");
    if (result.answer.empty())
        fmt::print("\nnothing tried is as accurate as wanted\n");
    else
        fmt::print("\ncheapest that is good enough: {}\n", result.answer);
    fmt::print("{} runs in {}\n", result.runs, formatQuantity(result.seconds, "s", 2));
}

}  // namespace

int trade(const TradeOptions& options) {
    const RunOptions& running = options.run;
    auto project = load(running.project, running.json, running.allowOutside);
    if (!project) return unreadable;
    project = withTolerance(project, running);
    const auto fail = [&](const Error& error, int code) {
        say(error, running.json);
        return code;
    };
    TradeRequest request{.project = project, .study = {.name = "from the command line"}, .search = options.search};
    if (!options.study.empty() || (options.features.empty() && !project->studies.empty())) {
        const auto found = std::find_if(project->studies.begin(), project->studies.end(), [&](const TradeStudy& study) {
            return options.study.empty() || study.name == options.study;
        });
        if (found == project->studies.end())
            return fail({ErrorCode::name, fmt::format("the project has no study '{}'", options.study)}, usage);
        request.study = *found;
    }
    if (!options.features.empty()) request.study.features = options.features;
    if (!options.alternatives.empty()) request.study.alternatives = options.alternatives;
    if (!running.scene.empty()) request.study.scene = running.scene;
    if (!running.plan.empty()) request.study.plan = running.plan;
    if (options.steps) request.study.alternatives = stepLines(*project, request.study);
    const bool terminal = isatty(STDERR_FILENO) && !running.quiet;
    request.progress = [terminal](const TradeProgress& at) {
        if (terminal) fmt::print(stderr, "\r{} of about {} runs: {:<60.60}", at.done, at.about, at.now);
    };
    listenForInterrupts();
    const CancelToken cancel;
    const auto result = [&] {
        const Watcher watcher(cancel);
        return runTrade(request, cancel);
    }();
    if (terminal) fmt::print(stderr, "\r{:90}\r", "");
    if (!result) return fail(result.error(), wasInterrupted() ? stopped : unsound);
    if (running.json)
        printJson(Json::parse(writeTrade(*result)));
    else
        report(*result);
    for (const std::string& path : options.outputs)
        if (auto written = exportTrade(*result, path); !written) return fail(written.error(), unwritable);
    if (options.keep) {
        const auto ledger = Ledger::open(Ledger::folderOf(running.project));
        if (!ledger) return fail(ledger.error(), unwritable);
        if (auto kept = (*ledger)->keepStudy(writeTrade(*result)); !kept) return fail(kept.error(), unwritable);
    }
    return success;
}

int learn(const LearnOptions& options) {
    const RunOptions& running = options.run;
    const auto project = load(running.project, running.json, running.allowOutside);
    if (!project) return unreadable;
    listenForInterrupts();
    const CancelToken cancel;
    LearnRequest request{.project = project, .scene = running.scene, .plan = running.plan, .parts = options.parts};
    if (!options.rungs.empty()) request.rungs = options.rungs;
    request.points = options.points;
    const bool terminal = isatty(STDERR_FILENO) && !running.quiet;
    request.progress = [terminal](const std::string& now) {
        if (terminal) fmt::print(stderr, "\r{:<60.60}", now);
    };
    const auto learned = [&] {
        const Watcher watcher(cancel);
        return learnLosses(request, cancel);
    }();
    if (terminal) fmt::print(stderr, "\r{:62}\r", "");
    const auto fail = [&](const Error& error, int code) {
        say(error, running.json);
        return code;
    };
    if (!learned) return fail(learned.error(), wasInterrupted() ? stopped : unsound);
    if (running.json) {
        Json json{{"points", Json::array()}, {"values", Json::array()}, {"left", learned->left}};
        for (const LearnedPoint& p : learned->points)
            json["points"].push_back({{"part", p.part}, {"event", p.event}, {"at", p.at}, {"current", p.current},
                                      {"voltage", p.voltage}, {"energy", p.energy}});
        for (const auto& value : learned->values)
            json["values"].push_back({{"part", value.part}, {"key", value.key}, {"text", value.text}});
        printJson(json);
    } else {
        for (const LearnedPoint& p : learned->points)
            fmt::print("{:<8} {:<9} {:>10} {:>10}  {}\n", p.part, p.event, formatQuantity(p.current, "A", 3),
                       formatQuantity(p.voltage, "V", 3), formatQuantity(p.energy, "J", 3));
        for (const auto& value : learned->values) fmt::print("{} {} = {}\n", value.part, value.key, value.text);
        for (const std::string& left : learned->left) fmt::print("left: {}\n", left);
    }
    if (!options.write) return success;
    if (auto written = saveHedge(withLearned(*project, *learned), running.project); !written)
        return fail(written.error(), unwritable);
    return success;
}

}  // namespace hedgerow::cli
