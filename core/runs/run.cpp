#include "runs/run.h"

#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "base/file.h"
#include "base/machine.h"
#include "base/text.h"
#include "base/version.h"
#include "model/periods.h"
#include "model/values.h"
#include "model/span_text.h"
#include "network/clock.h"
#include "runs/readings.h"
#include "runs/registry.h"
#include "runs/settling.h"
#include "runs/state_file.h"
#include "traces/streaming_measures.h"

namespace hedgerow {

namespace {

Result<std::shared_ptr<const Project>> withParameters(std::shared_ptr<const Project> project,
                                                      const RunSettings& settings) {
    if (settings.parameters.empty()) return project;
    auto changed = std::make_shared<Project>(*project);
    for (const auto& [name, text] : settings.parameters) {
        Parameter* parameter = changed->findParameter(name);
        if (!parameter)
            return Error{ErrorCode::name, fmt::format("the project has no parameter '{}'", name), {}, {}, name};
        parameter->value = text;
    }
    return std::shared_ptr<const Project>(std::move(changed));
}

/// A plan with what was asked for with this run.
Result<Plan> withSettings(Plan plan, const RunSettings& settings) {
    const auto set = [](std::string& text, const std::string& asked) {
        if (!asked.empty()) text = asked;
    };
    if (!settings.spans.empty()) plan.spans.clear();
    for (const std::string& line : settings.spans) {
        auto span = readSpanText(line);
        if (!span) {
            Error error = span.error();
            error.message = fmt::format("span \"{}\": {}", line, error.message);
            return error;
        }
        plan.spans.push_back(std::move(*span));
    }
    set(plan.end, settings.end), set(plan.start, settings.start), set(plan.engine, settings.engine);
    set(plan.fixed.step, settings.step), set(plan.fixed.method, settings.method);
    set(plan.settledPeriods, settings.periods), set(plan.period, settings.period);
    plan.evenOut = plan.evenOut || settings.evenOut;
    plan.fixed.interpolate = plan.fixed.interpolate && !settings.roundEdges;
    if (!settings.engine.empty())
        for (Span& span : plan.spans) span.engine.clear();
    if (settings.settle && !plan.spans.empty()) {
        // The periods that are shown are solved as the plan ends.
        Span way = plan.spans.back();
        plan.spans = {Span{.rungs = way.rungs, .engine = way.engine, .tolerance = way.tolerance, .step = way.step, .extra = {}}};
    }
    return plan;
}

}  // namespace

std::size_t memoryBudget() { return memoryLeft() / 2; }

Result<std::shared_ptr<Run>> Run::prepare(std::shared_ptr<const Project> original, const RunSettings& settings) {
    auto project = withParameters(std::move(original), settings);
    if (!project) return project.error();
    const Plan* plan = settings.plan.empty() ? &(*project)->plans.front() : (*project)->findPlan(settings.plan);
    if (!plan)
        return Error{ErrorCode::name, fmt::format("the project has no plan '{}'", settings.plan), {}, {}, "plan"};
    const Scene* scene = settings.scene.empty() ? &(*project)->scenes.front() : (*project)->findScene(settings.scene);
    if (!scene)
        return Error{ErrorCode::name, fmt::format("the project has no scene '{}'", settings.scene), {}, {}, "scene"};
    auto planned = withSettings(*plan, settings);
    if (!planned) return planned.error();
    const Scene calm{.name = scene->name, .extra = {}};  // periods are shown as they are before the first event
    const PlanTexts texts{.project = **project, .plan = *planned, .scene = settings.settle ? calm : *scene};
    auto end = planTime(texts, {.field = "end", .unit = "s", .above = 0, .most = longestRunSeconds}, planned->end);
    if (!end) return end.error();
    RunRequest base;
    base.redistribute = planned->evenOut;
    auto runPlan = makeRunPlan(texts, toTicks(*end), base);
    if (!runPlan) return runPlan.error();

    std::shared_ptr<Run> run(new Run());
    run->project_ = *project;
    run->plan_ = plan->name;
    run->scene_ = scene->name;
    run->runPlan_ = std::move(*runPlan);
    run->frame_ = run->runPlan_.frame();
    run->request_ = run->runPlan_.first().request;
    run->request_.end = run->runPlan_.end;
    run->end_ = run->runPlan_.end;
    run->changes_ = run->runPlan_.intervals.front().changes;
    run->changes_.rungs = run->runPlan_.ways[run->runPlan_.spans.front().way].rungs;
    for (const SceneInterval& interval : run->runPlan_.intervals)
        if (!interval.what.empty()) run->events_.emplace_back(toSeconds(interval.from), interval.what);
    if (auto status = run->setStart(*planned, settings); !status) return status.error();
    if (auto status = run->setSettling(texts, settings); !status) return status.error();
    run->store_ = std::make_shared<TraceStore>(run->frame_.signalCount(), settings.memoryLimit);
    return run;
}

SettleCircuit Run::toSettle() const {
    return {.project = *project_,
            .changes = changes_,
            .engine = engine(),
            .network = elaboration().network,
            .request = request_,
            .period = period_};
}

/// What the periodic state is looked for with.
Status Run::setSettling(const PlanTexts& texts, const RunSettings& settings) {
    constexpr double mostPeriods = 1e6, shortest = 1e-9, longest = 100.0;
    settles_ = settles_ || settings.settle;
    const bool anySpan = std::any_of(runPlan_.spans.begin(), runPlan_.spans.end(),
                                     [](const ReadySpan& span) { return span.settle || span.untilSettled; });
    if (const std::string& typed = texts.plan.period; !typed.empty() && (settles_ || anySpan)) {
        auto period = planTime(texts, {.field = "period", .unit = "s", .above = shortest, .most = longest}, typed);
        if (!period) return period.error();
        period_ = *period;
    }
    if (!settles_) return {};
    const auto about = [&](const char* field, std::string message) {
        Error error{ErrorCode::name, fmt::format("plan {}: {}: {}", texts.plan.name, field, message)};
        error.field = field;
        return error;
    };
    if (settings.settle) {
        auto periods =
            planNumber(texts, {.field = "settled periods", .unit = "", .above = 0, .most = mostPeriods}, texts.plan.settledPeriods);
        if (!periods) return periods.error();
        if (*periods != std::floor(*periods)) return about("settled periods", "it is a whole number");
        settledPeriods_ = static_cast<int>(*periods);
    }
    if (engine().onGrid())
        return about("engine", "the periodic state is found by 'exact' and 'adaptive', not on a fixed grid");
    return {};
}

Status Run::setStart(const Plan& plan, const RunSettings& settings) {
    const std::string& start = plan.start;
    if (start == settledStart) settles_ = true;
    if (start == "given" || start == settledStart) return {};
    const auto about = [&](Error error) {
        error.message = fmt::format("plan {}: start: {}", plan.name, error.message);
        return error;
    };
    const Network& network = elaboration().network;
    if (start == "operating point") {
        auto states = engine().operatingPoint(network);
        if (!states) return about(states.error());
        request_.startStates = std::move(*states);
    } else {
        constexpr std::size_t mostBytes = std::size_t{64} << 20;
        // What is asked for with this run is the user's own word; what the project says it may read is not.
        auto text = settings.start.empty() ? project_->folder.read(start, mostBytes)
                                           : readFile(project_->folder.path() / start, mostBytes);
        auto end = text ? readStates(*text, std::filesystem::path(start).filename().string(), network) : text.error();
        if (!end) {
            Error error = end.error();
            error.field = "start";
            return about(error);
        }
        request_.startStates = std::move(end->states);
        request_.startMemories = std::move(end->memories);
    }
    RunRequest& first = runPlan_.ways[runPlan_.spans.front().way].circuits.front()->request;
    first.startStates = request_.startStates;
    first.startMemories = request_.startMemories;
    return {};
}

void Run::execute(const CancelToken& cancel) {
    solveInto({}, *store_, cancel);
    judgeJumps();
    summary_.priced = expected_;
    if (expectedSpans_.size() == summary_.spans.size())
        for (std::size_t i = 0; i < expectedSpans_.size(); ++i) summary_.spans[i].priced = expectedSpans_[i];
}

/// Jumps count by the swing that the quantity has in the run.
void Run::judgeJumps() {
    // What hardly moves, among what is measured in the same unit, has no swing to speak of.
    constexpr double quietPart = 1e-4, quiet = 1e-6;
    std::map<std::string, double> swings, largest;
    for (const SpanOutcome& span : summary_.spans)
        for (const Jump& jump : span.jumps) {
            if (swings.contains(jump.quantity)) continue;
            const auto seen = trace(jump.quantity);
            const auto all = seen ? seen->measure(0, summary_.reached) : std::nullopt;
            swings[jump.quantity] = all ? all->peakToPeak() : 0;
            double& size = largest[jump.unit];
            if (all) size = std::max({size, std::abs(all->max), std::abs(all->min)});
        }
    for (SpanOutcome& span : summary_.spans) {
        for (Jump& jump : span.jumps) {
            const double swing = std::max({swings[jump.quantity], quietPart * largest[jump.unit], quiet});
            jump.caution = std::abs(jump.after - jump.before) > runPlan_.largestJump * swing;
        }
        std::stable_partition(span.jumps.begin(), span.jumps.end(), [](const Jump& jump) { return jump.caution; });
        constexpr std::size_t told = 16;
        if (span.jumps.size() > told) span.jumps.resize(told);
    }
}

void Run::tell(const SettleProgress& progress) const {
    searchedPeriods_ = progress.periods, searchedIterations_ = progress.iterations;
    searchedResidual_ = progress.residual;
}

SettleProgress Run::searched() const {
    return {.periods = searchedPeriods_, .iterations = searchedIterations_, .residual = searchedResidual_};
}

/// Finds the periodic state, and sets the end of the run by its period.
std::optional<Error> Run::settle(const CancelToken& cancel) {
    auto found = settleCircuit(toSettle(), cancel, [this](const SettleProgress& progress) { tell(progress); });
    if (!found) return found.error();
    settled_ = std::move(*found);
    if (settledPeriods_ > 0) {
        const FineTime end = settled_->period * settledPeriods_;
        if (end > toFine(static_cast<long double>(longestRunSeconds)))
            return Error{ErrorCode::range,
                         fmt::format("{} periods of {} are longer than the longest run, {}", settledPeriods_,
                                     formatQuantity(settled_->seconds(), "s"), formatQuantity(longestRunSeconds, "s"))};
        request_.end = toTick(end);
        runPlan_.end = request_.end;
        runPlan_.spans.front().latest = request_.end;
        end_ = request_.end;
    }
    return {};
}

void Run::solveInto(const SolveOptions& options, RunSink& sink, const CancelToken& cancel) {
    const auto failed = [this](Error error) {
        summary_ = {};
        summary_.engine = std::string(engine().name());
        summary_.error = std::move(error);
        summary_.reached = store_->reached();
    };
    try {
        double searching = 0;
        if (settles_ && !settled_) {
            const Stopwatch watch;
            auto error = settle(cancel);
            searching = watch.seconds();
            if (error) {
                failed(*error);
                summary_.end = endOf(error, cancel.cancelled(), false);
                summary_.error = std::move(error);
                summary_.seconds = {{"search", searching}, {"total", searching}};
                return;
            }
        }
        summary_ = solve(options, sink, cancel);
        if (searching > 0) {
            for (auto& [name, seconds] : summary_.seconds)
                if (name == "total") seconds += searching;
            summary_.seconds.insert(summary_.seconds.begin(), {"search", searching});
        }
        if (settled_ && summary_.settled.empty()) summary_.settled = settled_->words();
        // A plan that waits for something may end before its time.
        if (summary_.end == RunEnd::finished) end_ = summary_.reached;
    } catch (const std::bad_alloc&) {
        keepMemoryReserve();
        failed({ErrorCode::resource, "there is no memory left for this run: store less, or end it earlier"});
    }
}

Result<std::vector<std::optional<Measures>>> Run::executeMeasured(const std::vector<std::string>& quantities, Tick from,
                                                                  Tick to, const CancelToken& cancel) {
    std::vector<QuantityInfo> infos;
    for (const std::string& name : quantities) {
        const QuantityInfo* info = findQuantity(name);
        if (!info) return Error{ErrorCode::name, fmt::format("the circuit has no quantity '{}'", name), {}, {}, name};
        infos.push_back(*info);
    }
    StreamingMeasures sink(layout(), std::move(infos), from, to);
    solveInto({.wanted = quantities}, sink, cancel);
    std::erase_if(summary_.counters, [](const auto& counter) { return counter.first == "stored bytes"; });
    for (auto& [name, count] : summary_.counters)
        if (name == "stored points") name = "measured points";
    std::vector<std::optional<Measures>> all;
    for (std::size_t i = 0; i < quantities.size(); ++i) all.push_back(sink.measures(i));
    return all;
}

RunSummary Run::solve(const SolveOptions& options, RunSink& sink, const CancelToken& cancel) const {
    const CourseSetting setting{.project = *project_,
                                .plan = runPlan_,
                                .frame = frame_,
                                .options = options,
                                .start = settled_ ? std::optional(settled_->start) : std::nullopt,
                                .period = period_,
                                .searching = [this](const SettleProgress& progress) { tell(progress); }};
    return Course(setting, sink, cancel).run();
}

std::int64_t Run::expectedEdges() const {
    if (engine().onGrid()) return static_cast<std::int64_t>(toSeconds(request_.end) / request_.fixed.step);
    constexpr int counted = 2000;
    // What the control would see is not known beforehand: it sees 0.
    const Clock::Sense nothing = [](int) { return 0.0; };
    Clock clock(elaboration().network);
    Tick t = 0;
    for (int n = 0; n < counted; ++n) {
        if (clock.next() >= request_.end) return n;
        t = clock.next();
        clock.advance(t, nothing);
    }
    return static_cast<std::int64_t>(counted * (static_cast<double>(request_.end) / static_cast<double>(t)));
}

std::unique_ptr<Trace> Run::trace(std::string_view quantity, std::size_t most) const {
    const QuantityInfo* info = findQuantity(quantity);
    if (!info) return nullptr;
    auto trace = std::make_unique<Trace>(store_, *info, layout());
    trace->update(most);
    return trace;
}

std::vector<std::pair<std::string, std::string>> Run::provenance() const {
    auto all = origin();
    for (const auto& [name, words] : summary_.settled) all.emplace_back("settled: " + name, words);
    for (std::size_t i = 0; i < summary_.spans.size(); ++i) {
        all.emplace_back(fmt::format("span {}", i + 1), summary_.spans[i].text);
        for (const std::string& line : summary_.spans[i].words())
            all.back().second += "; " + line;
    }
    all.emplace_back("ended", summary_.brief());
    return all;
}

std::vector<std::pair<std::string, std::string>> Run::origin() const {
    return {{"program", fmt::format("Hedgerow {}", version)},
            {"project", project_->title},
            {"scene", scene_},
            {"plan", plan_},
            {"engine", std::string(engine().name())},
            {"trace tolerance", fmt::format("{}", request_.traceTolerance)}};
}

Status exportRun(const RunRecord& run, std::string_view format, const std::filesystem::path& path,
                 const std::vector<std::string>& quantities, const CancelToken& cancel, const Extract& extract) {
    const TraceFormat* writer = findTraceFormat(format);
    if (!writer) return Error{ErrorCode::name, fmt::format("there is no format '{}'", format)};
    std::vector<std::shared_ptr<Trace>> traces;
    TraceTable table;
    table.cancel = cancel;
    for (const std::string& name : quantities.empty() ? run.quantityNames() : quantities) {
        if (auto stopped = table.stopped(); !stopped) return stopped;
        auto trace = readTrace(run, name);
        if (!trace) {
            Error error = trace.error();
            error.field = name;
            return error;
        }
        traces.push_back(std::move(*trace));
    }
    if (traces.empty()) return Error{ErrorCode::name, "the run has no quantities to write"};
    table.provenance = run.provenance();
    try {
        auto cut = extracted(traces, extract);
        if (!cut) return cut.error();
        for (const auto& trace : *cut) table.traces.push_back(trace.get());
        return writer->write(table, path);
    } catch (const std::bad_alloc&) {
        return Error{ErrorCode::resource, path.string() + " cannot be written: there is no memory left"};
    }
}

std::vector<std::filesystem::path> filesOfExport(const std::filesystem::path& path) {
    std::vector<std::filesystem::path> files{path};
    if (lowerCase(path.extension().string()) == ".cfg")
        files.push_back(std::filesystem::path(path).replace_extension(".dat"));
    return files;
}

}  // namespace hedgerow
