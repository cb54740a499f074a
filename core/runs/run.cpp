#include "runs/run.h"

#include <cmath>
#include <set>
#include <tuple>

#include <fmt/format.h>

#include "base/file.h"
#include "base/machine.h"
#include "base/text.h"
#include "base/version.h"
#include "model/periods.h"
#include "model/values.h"
#include "network/clock.h"
#include "runs/readings.h"
#include "runs/registry.h"
#include "runs/settling.h"
#include "runs/state_file.h"
#include "traces/streaming_measures.h"

namespace hedgerow {

namespace {

/// A field of a plan in SI; the error names the plan and the field.
/// What a field of a plan says. @param value  of the text, or why it is none
Result<double> planValue(const Plan& plan, std::string_view field, const Result<double>& value, std::string_view unit,
                         double above, double most) {
    std::optional<Error> error;
    if (!value)
        error = value.error();
    else if (!(*value > above) || *value > most)
        error = Error{ErrorCode::range, fmt::format("{} is out of range, it must be above {} and at most {}",
                                                    formatQuantity(*value, unit), formatQuantity(above, unit),
                                                    formatQuantity(most, unit))};
    if (!error) return value;
    error->field = std::string(field);
    error->message = fmt::format("plan {}: {}: {}", plan.name, field, error->message);
    return *error;
}
Result<double> planValue(const Plan& plan, std::string_view field, const std::string& text, std::string_view unit,
                         const ParameterTable& parameters, double above, double most) {
    return planValue(plan, field, evaluateField(text, *findUnit(unit), parameters.lookup()), unit, above, most);
}
Result<double> planEnd(const Plan& plan, const std::string& text, const Project& project,
                       const ParameterTable& parameters) {
    return planValue(plan, "end", evaluateTime(text, project, partLibrary().catalogue(), parameters.lookup()), "s", 0.0,
                     longestRunSeconds);
}

Result<FixedStepping> fixedStepping(const Plan& plan, const RunSettings& settings, const ParameterTable& parameters) {
    constexpr double shortest = 1e-12, longest = 1.0, mostSteps = 1e6;
    const std::string& method = settings.method.empty() ? plan.fixed.method : settings.method;
    if (method != "trapezoidal" && method != "backward Euler")
        return Error{
            ErrorCode::name,
            fmt::format("plan {}: method: it is 'trapezoidal' or 'backward Euler', not '{}'", plan.name, method),
            {},
            {},
            "method"};
    auto step = planValue(plan, "step", settings.step.empty() ? plan.fixed.step : settings.step, "s", parameters,
                          shortest, longest);
    if (!step) return step.error();
    FixedStepping stepping{*step, method == "trapezoidal", plan.fixed.interpolate && !settings.roundEdges};
    for (const auto& [field, text, every] : {std::tuple{"heat", &plan.fixed.heat, &stepping.heatEvery},
                                             std::tuple{"control", &plan.fixed.control, &stepping.controlEvery}}) {
        auto value = planValue(plan, field, *text, "", parameters, 0.0, mostSteps);
        if (!value) return value.error();
        if (*value != std::floor(*value))
            return Error{ErrorCode::range,
                         fmt::format("plan {}: {}: it is a whole number of steps", plan.name, field),
                         {},
                         {},
                         field};
        *every = static_cast<int>(*value);
    }
    return stepping;
}

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
    const std::string& wanted = settings.engine.empty() ? plan->engine : settings.engine;
    if (wanted != bestEngine && !findEngine(wanted))
        return Error{
            ErrorCode::name, fmt::format("plan {}: there is no engine '{}'", plan->name, wanted), {}, {}, "engine"};

    const ParameterTable parameters((*project)->parameters);
    auto end = planEnd(*plan, settings.end.empty() ? plan->end : settings.end, **project, parameters);
    if (!end) return end.error();
    auto tolerance = planValue(*plan, "tolerance", plan->tolerance, "", parameters, 0.0, 0.1);
    if (!tolerance) return tolerance.error();
    auto intervals = sceneIntervals(*scene, **project, partLibrary(), toTicks(*end));
    if (!intervals) return intervals.error();
    auto elaboration = elaborate(**project, partLibrary(), intervals->front().changes);
    if (!elaboration) return elaboration.error();
    const Engine* engine = wanted == bestEngine ? &bestEngineFor(elaboration->network) : findEngine(wanted);
    if (auto accepted = engine->accepts(elaboration->network); !accepted) return accepted.error();

    std::shared_ptr<Run> run(new Run(std::move(*elaboration)));
    run->project_ = *project;
    run->engine_ = engine;
    run->request_.end = toTicks(*end);
    run->request_.traceTolerance = *tolerance;
    if (engine->name() == "fixed") {
        auto stepping = fixedStepping(*plan, settings, parameters);
        if (!stepping) return stepping.error();
        run->request_.fixed = *stepping;
    }
    if (auto status = run->setScene(*scene, std::move(*intervals)); !status) return status.error();
    if (auto status = run->setTolerances(*plan); !status) return status.error();
    if (auto status = run->setStart(*plan, settings); !status) return status.error();
    if (auto status = run->setSettling(*plan, settings, parameters); !status) return status.error();
    run->plan_ = plan->name;
    run->scene_ = scene->name;
    run->store_ = std::make_shared<TraceStore>(static_cast<std::size_t>(run->elaboration_.network.signalCount),
                                               settings.memoryLimit);
    return run;
}

/// Those of single quantities go to the unknowns they are made of.
Status Run::setTolerances(const Plan& plan) {
    const Network& network = elaboration_.network;
    const ParameterTable parameters(project_->parameters);
    for (const auto& [name, text] : plan.tolerances) {
        const QuantityInfo* quantity = network.findQuantity(name);
        if (!quantity)
            return Error{
                ErrorCode::name,
                fmt::format("plan {}: a tolerance is given for '{}', which the circuit does not have", plan.name, name),
                {},
                {},
                "tolerances"};
        auto tolerance = planValue(plan, "tolerances", text, "", parameters, 0.0, 0.1);
        if (!tolerance) return tolerance.error();
        std::vector<double>& all = request_.tolerances;
        if (all.empty()) all.assign(static_cast<std::size_t>(layout_.unknowns), request_.traceTolerance);
        for (const Terms* terms : {&quantity->a, &quantity->b})
            for (const auto& [column, factor] : *terms) {
                double& now = all[static_cast<std::size_t>(column)];
                now = now == request_.traceTolerance ? *tolerance : std::min(now, *tolerance);
            }
    }
    return {};
}

/// What the periodic state is looked for with.
Status Run::setSettling(const Plan& plan, const RunSettings& settings, const ParameterTable& parameters) {
    constexpr double mostPeriods = 1e6, shortest = 1e-9, longest = 100.0;
    end_ = request_.end;
    settles_ = settles_ || settings.settle;
    if (!settles_) return {};
    if (settings.settle) {
        const std::string& typed = settings.periods.empty() ? plan.settledPeriods : settings.periods;
        auto periods = planValue(plan, "settled periods", typed, "", parameters, 0.0, mostPeriods);
        if (!periods) return periods.error();
        if (*periods != std::floor(*periods))
            return Error{ErrorCode::range,
                         fmt::format("plan {}: settled periods: it is a whole number", plan.name),
                         {},
                         {},
                         "settled periods"};
        settledPeriods_ = static_cast<int>(*periods);
        // They are periods before the first event.
        events_.clear(), later_.clear();
    }
    if (const std::string& typed = settings.period.empty() ? plan.period : settings.period; !typed.empty()) {
        auto period =
            planValue(plan, "period", evaluateTime(typed, *project_, partLibrary().catalogue(), parameters.lookup()),
                      "s", shortest, longest);
        if (!period) return period.error();
        period_ = *period;
    }
    if (engine_->name() == "fixed")
        return Error{
            ErrorCode::name,
            fmt::format("plan {}: engine: the periodic state is found by 'exact' and 'adaptive', not on a fixed grid",
                        plan.name),
            {},
            {},
            "engine"};
    return {};
}

Status Run::setStart(const Plan& plan, const RunSettings& settings) {
    const std::string& start = settings.start.empty() ? plan.start : settings.start;
    request_.redistribute = plan.evenOut || settings.evenOut;
    if (start == settledStart) settles_ = true;
    if (start == "given" || start == settledStart) return {};
    const auto about = [&](Error error) {
        error.message = fmt::format("plan {}: start: {}", plan.name, error.message);
        return error;
    };
    if (start == "operating point") {
        auto states = engine_->operatingPoint(elaboration_.network);
        if (!states) return about(states.error());
        request_.startStates = std::move(*states);
        return {};
    }
    constexpr std::size_t mostBytes = std::size_t{64} << 20;
    // What is asked for with this run is the user's own word; what the project says it may read is not.
    auto text = settings.start.empty() ? project_->folder.read(start, mostBytes)
                                       : readFile(project_->folder.path() / start, mostBytes);
    auto end =
        text ? readStates(*text, std::filesystem::path(start).filename().string(), elaboration_.network) : text.error();
    if (!end) {
        Error error = end.error();
        error.field = "start";
        return about(error);
    }
    request_.startStates = std::move(end->states);
    request_.startMemories = std::move(end->memories);
    return {};
}

void Run::execute(const CancelToken& cancel) { solveInto(request_, *store_, cancel); }

SettleProgress Run::searched() const {
    return {.periods = searchedPeriods_, .iterations = searchedIterations_, .residual = searchedResidual_};
}

/// Finds the periodic state, and sets the end of the run by its period.
std::optional<Error> Run::settle(const CancelToken& cancel) {
    auto found = settleRun(*this, period_, cancel, [this](const SettleProgress& progress) {
        searchedPeriods_ = progress.periods, searchedIterations_ = progress.iterations;
        searchedResidual_ = progress.residual;
    });
    if (!found) return found.error();
    settled_ = std::move(*found);
    if (settledPeriods_ > 0) {
        const FineTime end = settled_->period * settledPeriods_;
        if (end > toFine(static_cast<long double>(longestRunSeconds)))
            return Error{ErrorCode::range,
                         fmt::format("{} periods of {} are longer than the longest run, {}", settledPeriods_,
                                     formatQuantity(settled_->seconds(), "s"), formatQuantity(longestRunSeconds, "s"))};
        request_.end = toTick(end);
        end_ = request_.end;
    }
    return {};
}

void Run::solveInto(const RunRequest& request, RunSink& sink, const CancelToken& cancel) {
    try {
        if (settles_ && !settled_) {
            const Stopwatch watch;
            if (auto error = settle(cancel)) {
                summary_ = {};
                summary_.engine = std::string(engine_->name());
                summary_.end = endOf(error, cancel.cancelled(), false);
                summary_.error = std::move(error);
                summary_.seconds = {{"search", watch.seconds()}, {"total", watch.seconds()}};
                return;
            }
            const double searching = watch.seconds();
            RunRequest after = request;
            after.end = request_.end;
            summary_ = solve(after, sink, cancel);
            for (auto& [name, seconds] : summary_.seconds)
                if (name == "total") seconds += searching;
            summary_.seconds.insert(summary_.seconds.begin(), {"search", searching});
        } else {
            summary_ = solve(request, sink, cancel);
        }
        if (settled_) summary_.settled = settled_->words();
    } catch (const std::bad_alloc&) {
        keepMemoryReserve();
        summary_ = {};
        summary_.error =
            Error{ErrorCode::resource, "there is no memory left for this run: store less, or end it earlier"};
        summary_.engine = std::string(engine_->name());
        summary_.reached = store_->reached();
    }
}

Result<std::vector<std::optional<Measures>>> Run::executeMeasured(const std::vector<std::string>& quantities, Tick from,
                                                                  Tick to, const CancelToken& cancel) {
    std::vector<QuantityInfo> infos;
    RunRequest request = request_;
    request.tolerances.assign(static_cast<std::size_t>(layout_.unknowns), notWanted);
    for (const std::string& name : quantities) {
        const QuantityInfo* info = elaboration_.network.findQuantity(name);
        if (!info) return Error{ErrorCode::name, fmt::format("the circuit has no quantity '{}'", name), {}, {}, name};
        infos.push_back(*info);
        for (const Terms* terms : {&info->a, &info->b})
            for (const auto& [column, factor] : *terms) {
                const auto unknown = static_cast<std::size_t>(column);
                request.tolerances[unknown] =
                    request_.tolerances.empty() ? request_.traceTolerance : request_.tolerances[unknown];
            }
    }
    StreamingMeasures sink(elaboration_.network, std::move(infos), from, to);
    solveInto(request, sink, cancel);
    std::erase_if(summary_.counters, [](const auto& counter) { return counter.first == "stored bytes"; });
    for (auto& [name, count] : summary_.counters)
        if (name == "stored points") name = "measured points";
    std::vector<std::optional<Measures>> all;
    for (std::size_t i = 0; i < quantities.size(); ++i) all.push_back(sink.measures(i));
    return all;
}

/// Elaborates what comes after the first event.
Status Run::setScene(const Scene& scene, std::vector<SceneInterval> intervals) {
    std::set<std::string> changing;  // quantities that count by a value which this scene changes
    for (const SceneInterval& interval : intervals) {
        if (!interval.what.empty()) events_.emplace_back(toSeconds(interval.from), interval.what);
        if (interval.from == 0) continue;
        const auto about = [&](Error error) {
            error.message = fmt::format("scene {}, at {}: {}", scene.name,
                                        formatQuantity(toSeconds(interval.from), "s", 6), error.message);
            return error;
        };
        auto next = elaborate(*project_, partLibrary(), interval.changes);
        if (!next) return about(next.error());
        if (auto same = sameShape(elaboration_.network, next->network); !same) return about(same.error());
        if (auto accepted = engine_->accepts(next->network); !accepted) return about(accepted.error());
        for (std::size_t i = 0; i < next->network.quantities.size(); ++i)
            if (const QuantityInfo& quantity = elaboration_.network.quantities[i];
                quantity.a != next->network.quantities[i].a)
                changing.insert(quantity.name);
        later_.emplace_back(interval.from, std::move(next->network));
    }
    std::erase_if(elaboration_.network.quantities,
                  [&](const QuantityInfo& quantity) { return changing.contains(quantity.name); });
    return {};
}

RunSummary Run::solve(const RunRequest& request, RunSink& sink, const CancelToken& cancel) const {
    const std::unique_ptr<Simulation> simulation = engine_->begin(elaboration_.network, request, sink, cancel);
    bool goesOn = static_cast<bool>(settled_ ? simulation->start(settled_->start) : simulation->start());
    for (const auto& [from, network] : later_)
        goesOn = goesOn && simulation->advance(from) == RunEnd::finished && simulation->goOnIn(network);
    if (goesOn) simulation->advance(request.end);
    return simulation->summary();
}

std::int64_t Run::expectedEdges() const {
    if (request_.fixed.step > 0) return static_cast<std::int64_t>(toSeconds(request_.end) / request_.fixed.step);
    constexpr int counted = 2000;
    // What the control would see is not known beforehand: it sees 0.
    const Clock::Sense nothing = [](int) { return 0.0; };
    Clock clock(elaboration_.network);
    Tick t = 0;
    for (int n = 0; n < counted; ++n) {
        if (clock.next() >= request_.end) return n;
        t = clock.next();
        clock.advance(t, nothing);
    }
    return static_cast<std::int64_t>(counted * (static_cast<double>(request_.end) / static_cast<double>(t)));
}

std::unique_ptr<Trace> Run::trace(std::string_view quantity, std::size_t most) const {
    const QuantityInfo* info = elaboration_.network.findQuantity(quantity);
    if (!info) return nullptr;
    auto trace = std::make_unique<Trace>(store_, *info, layout_);
    trace->update(most);
    return trace;
}

std::vector<std::pair<std::string, std::string>> Run::provenance() const {
    auto all = origin();
    for (const auto& [name, words] : summary_.settled) all.emplace_back("settled: " + name, words);
    all.emplace_back("ended", summary_.brief());
    return all;
}

std::vector<std::pair<std::string, std::string>> Run::origin() const {
    return {{"program", fmt::format("Hedgerow {}", version)},
            {"project", project_->title},
            {"scene", scene_},
            {"plan", plan_},
            {"engine", std::string(engine_->name())},
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
