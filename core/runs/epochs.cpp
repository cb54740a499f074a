#include "runs/epochs.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <tuple>

#include <fmt/format.h>

#include "base/text.h"
#include "model/periods.h"
#include "model/rung_rule.h"
#include "model/values.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr double mostTolerance = 0.1;
constexpr std::int64_t mostReturns = 1'000'000;

Result<double> inRange(const PlanTexts& texts, const PlanRange& range, const Result<double>& value) {
    std::optional<Error> error;
    if (!value)
        error = value.error();
    else if (!(*value > range.above) || *value > range.most)
        error = Error{ErrorCode::range, fmt::format("{} is out of range, it must be above {} and at most {}",
                                                    formatQuantity(*value, range.unit),
                                                    formatQuantity(range.above, range.unit),
                                                    formatQuantity(range.most, range.unit))};
    if (!error) return value;
    error->field = range.field;
    error->message = fmt::format("plan {}: {}: {}", texts.plan.name, range.field, error->message);
    return *error;
}

Result<FixedStepping> fixedStepping(const PlanTexts& texts, const std::string& typedStep) {
    constexpr double shortest = 1e-12, longest = 1.0, mostSteps = 1e6;
    const FixedStep& fixed = texts.plan.fixed;
    const auto about = [&](const char* field, std::string message) {
        Error error{ErrorCode::name, fmt::format("plan {}: {}: {}", texts.plan.name, field, message)};
        error.field = field;
        return error;
    };
    if (fixed.method != "trapezoidal" && fixed.method != "backward Euler")
        return about("method",
                     fmt::format("it is 'trapezoidal' or 'backward Euler', not '{}'", fixed.method));
    auto step = planNumber(texts, {.field = "step", .unit = "s", .above = shortest, .most = longest},
                           typedStep.empty() ? fixed.step : typedStep);
    if (!step) return step.error();
    FixedStepping stepping{.step = *step,
                           .trapezoidal = fixed.method == "trapezoidal",
                           .interpolate = fixed.interpolate};
    for (const auto& [field, text, every] : {std::tuple{"heat", &fixed.heat, &stepping.heatEvery},
                                             std::tuple{"control", &fixed.control, &stepping.controlEvery}}) {
        auto value = planNumber(texts, {.field = field, .unit = "", .above = 0, .most = mostSteps}, *text);
        if (!value) return value.error();
        if (*value != std::floor(*value)) return about(field, "it is a whole number of steps");
        *every = static_cast<int>(*value);
    }
    return stepping;
}

/// Makes the networks and checks the spans of one plan.
class Maker {
public:
    Maker(const PlanTexts& texts, Tick end, const RunRequest& base)
        : texts_(texts), base_(base), parameters_(texts.project.parameters) {
        plan_.end = end;
    }

    Result<RunPlan> make() {
        auto intervals = sceneIntervals(texts_.scene, texts_.project, partLibrary(), plan_.end);
        if (!intervals) return intervals.error();
        plan_.intervals = std::move(*intervals);
        auto jump = planNumber(texts_, {.field = "largest jump", .unit = "", .above = 0, .most = 1e6},
                               texts_.plan.largestJump);
        if (!jump) return jump.error();
        plan_.largestJump = *jump;
        plan_.typedSpans = !texts_.plan.spans.empty();
        const std::vector<Span> spans = plan_.typedSpans ? texts_.plan.spans : std::vector<Span>(1);
        Tick earliest = 0, latest = 0;
        std::optional<std::size_t> before;
        for (std::size_t i = 0; i < spans.size(); ++i) {
            const auto about = [&](Error error) {
                if (plan_.typedSpans)
                    error.message = fmt::format("plan {}: span {}, \"{}\": {}", texts_.plan.name, i + 1,
                                                spanEndText(spans[i]), error.message);
                if (error.field.empty()) error.field = fmt::format("span {}", i + 1);
                return error;
            };
            auto ready = spanOf(spans[i], i + 1 == spans.size(), earliest, latest);
            if (!ready) return about(ready.error());
            auto way = wayOf(spans[i]);
            if (!way) return about(way.error());
            ready->way = *way;
            if (ready->every > 0) {
                if (!before) {
                    auto plain = wayOf(Span());
                    if (!plain) return about(plain.error());
                    before = *plain;
                }
                ready->between = *before;
                if (auto made = fill(*before, ready->from, ready->latest); !made) return about(made.error());
            }
            if (auto made = fill(*way, ready->from, ready->settle ? latest : ready->latest); !made)
                return plan_.typedSpans ? about(made.error()) : made.error();
            if (auto sound = checkOn(*ready); !sound) return about(sound.error());
            if (!ready->settle) before = *way;
            plan_.spans.push_back(std::move(*ready));
        }
        plan_.end = latest;
        return std::move(plan_);
    }

private:
    Result<Tick> time(const std::string& typed, const char* field, double above) const {
        auto seconds = evaluateTime(typed, texts_.project, partLibrary().catalogue(), parameters_.lookup());
        if (!seconds) {
            Error error = seconds.error();
            error.field = field;
            return error;
        }
        if (!(*seconds > above) && !(above == 0 && *seconds == 0 && std::string_view(field) == "until after"))
            return Error{ErrorCode::range, fmt::format("{} is no time after {}", formatQuantity(*seconds, "s"),
                                                       formatQuantity(above, "s")),
                         {},
                         {},
                         field};
        if (*seconds > longestRunSeconds)
            return Error{ErrorCode::range, fmt::format("{} is longer than the longest run, {}",
                                                       formatQuantity(*seconds, "s"),
                                                       formatQuantity(longestRunSeconds, "s")),
                         {},
                         {},
                         field};
        return std::max<Tick>(toTicks(*seconds), *seconds > 0 ? 1 : 0);
    }

    /// @param earliest, latest  when it begins; become when it ends
    Result<ReadySpan> spanOf(const Span& span, bool last, Tick& earliest, Tick& latest) const {
        ReadySpan ready{.text = spanText(span), .settle = span.settle, .from = earliest};
        if (span.settle) {
            if (last) return Error{ErrorCode::range, "a span must come after it: it takes no time of its own"};
            ready.latest = latest;
            return ready;
        }
        if (!span.until.empty()) {
            if (span.since == "start") {
                auto length = time(span.until, "until", 0);
                if (!length) return length.error();
                ready.length = *length;
            } else if (span.since.empty()) {
                auto instant = time(span.until, "until", 0);
                if (!instant) return instant.error();
                ready.until = *instant;
            } else {
                auto instant = afterEvent(span);
                if (!instant) return instant.error();
                ready.until = *instant;
            }
        } else if (span.since.starts_with("event")) {
            auto instant = afterEvent(span);
            if (!instant) return instant.error();
            ready.until = *instant;
        } else if (!last && span.when.empty()) {
            return Error{ErrorCode::range, "only the last span may go to the end of the plan"};
        }
        if (ready.until) {
            if (*ready.until <= earliest)
                return Error{ErrorCode::range, fmt::format("it ends at {}, and does not begin before {}",
                                                           formatQuantity(toSeconds(*ready.until), "s", 6),
                                                           formatQuantity(toSeconds(earliest), "s", 6))};
            if (*ready.until > plan_.end)
                return Error{ErrorCode::range, fmt::format("it ends at {}, after the plan, which ends at {}",
                                                           formatQuantity(toSeconds(*ready.until), "s", 6),
                                                           formatQuantity(toSeconds(plan_.end), "s", 6))};
        }
        if (ready.length && later(earliest, *ready.length) > plan_.end)
            return Error{ErrorCode::range,
                         fmt::format("it begins at {} at the earliest and would end after the plan, which ends at {}",
                                     formatQuantity(toSeconds(earliest), "s", 6),
                                     formatQuantity(toSeconds(plan_.end), "s", 6))};
        if (auto sound = ends(span, ready); !sound) return sound.error();
        ready.latest = ready.until    ? *ready.until
                       : ready.length ? std::min(plan_.end, later(latest, *ready.length))
                                      : plan_.end;
        const bool waits = ready.untilSettled || ready.condition;
        if (!waits) earliest = ready.until ? *ready.until : ready.length ? later(earliest, *ready.length) : plan_.end;
        latest = ready.latest;
        if (earliest >= plan_.end && !last && !waits)
            return Error{ErrorCode::range, "nothing is left of the plan for the spans after it"};
        if (!span.every.empty() || !span.lasting.empty()) {
            if (span.every.empty() || span.lasting.empty())
                return Error{ErrorCode::range, "a span that comes again says after how long, and for how long"};
            auto every = time(span.every, "every", 0), lasting = time(span.lasting, "for", 0);
            if (!every) return every.error();
            if (!lasting) return lasting.error();
            if (*lasting >= *every)
                return Error{ErrorCode::range, "it must last less than the time after which it comes again"};
            ready.every = *every, ready.lasting = *lasting;
            if ((ready.latest - ready.from) / *every > mostReturns)
                return Error{ErrorCode::range, fmt::format("it would come again more than {} times", mostReturns)};
        }
        return ready;
    }

    Result<Tick> afterEvent(const Span& span) const {
        const auto times = timesOf(texts_.scene, texts_.project, partLibrary());
        if (!times) return times.error();
        const auto number = numberIn(trimmed(std::string_view(span.since).substr(std::min<std::size_t>(5, span.since.size()))));
        if (!number || *number < 1 || *number > static_cast<double>(times->size()))
            return Error{ErrorCode::name, fmt::format("scene {} has {} events, not the {}", texts_.scene.name,
                                                      times->size(), span.since)};
        auto extra = span.until.empty() ? Result<Tick>(Tick{0}) : time(span.until, "until after", 0);
        if (!extra) return extra.error();
        for (const TimedEvent& event : *times)
            if (event.index == static_cast<std::size_t>(*number) - 1) return later(toTicks(event.until), *extra);
        return Error{ErrorCode::name, "there is no such event"};
    }

    Status ends(const Span& span, ReadySpan& ready) const {
        if (span.when.empty()) return {};
        if (!span.every.empty())
            return Error{ErrorCode::range, "a span that comes again ends at a time, not when something holds"};
        if (span.when == untilSettled) {
            ready.untilSettled = true;
            return {};
        }
        auto condition = readSpanCondition(span.when);
        if (!condition) return condition.error();
        ready.condition = std::move(*condition);
        return {};
    }

    Result<std::size_t> wayOf(const Span& span) {
        const std::string engine = span.engine.empty() ? texts_.plan.engine : span.engine;
        if (engine != bestEngine && !findEngine(engine))
            return Error{ErrorCode::name,
                         fmt::format("{}there is no engine '{}'",
                                     plan_.typedSpans ? "" : fmt::format("plan {}: ", texts_.plan.name), engine),
                         {},
                         {},
                         "engine"};
        auto tolerance = planNumber(texts_, {.field = "tolerance", .unit = "", .above = 0, .most = mostTolerance},
                                    span.tolerance.empty() ? texts_.plan.tolerance : span.tolerance);
        if (!tolerance) return tolerance.error();
        Setting setting{.engine = engine, .step = span.step, .tolerance = *tolerance};
        Way way{.rungs = span.rungs == asDrawn ? "" : span.rungs, .keep = {}, .circuits = {}};
        if (span.keep == keepNothing) {
            way.keep.points = false;
        } else {
            for (std::size_t from = 0; from < span.keep.size();) {
                const std::size_t plus = std::min(span.keep.find('+', from), span.keep.size());
                if (const auto name = trimmed(std::string_view(span.keep).substr(from, plus - from)); !name.empty())
                    way.keep.only.emplace(name);
                from = plus + 1;
            }
        }
        for (std::size_t i = 0; i < plan_.ways.size(); ++i)
            if (plan_.ways[i].rungs == way.rungs && plan_.ways[i].keep.points == way.keep.points &&
                plan_.ways[i].keep.only == way.keep.only && settings_[i] == setting)
                return i;
        way.circuits.resize(plan_.intervals.size());
        plan_.ways.push_back(std::move(way));
        settings_.push_back(std::move(setting));
        return plan_.ways.size() - 1;
    }

    /// Makes the networks of a way for all intervals between two instants.
    Status fill(std::size_t way, Tick from, Tick to) {
        for (std::size_t k = 0; k < plan_.intervals.size(); ++k) {
            const SceneInterval& interval = plan_.intervals[k];
            std::optional<EpochCircuit>& circuit = plan_.ways[way].circuits[k];
            const bool touches = interval.from < std::max(to, from + 1) && interval.to > from;
            if (circuit || !(touches || (from >= plan_.end && k + 1 == plan_.intervals.size()))) continue;
            auto made = circuitOf(way, k);
            if (!made) {
                Error error = made.error();
                if (interval.from > 0)
                    error.message = fmt::format("scene {}, at {}: {}", texts_.scene.name,
                                                formatQuantity(toSeconds(interval.from), "s", 6), error.message);
                return error;
            }
            circuit = std::move(*made);
        }
        return {};
    }

    Result<EpochCircuit> circuitOf(std::size_t way, std::size_t k) {
        const std::string& rungs = plan_.ways[way].rungs;
        std::shared_ptr<const Elaboration>& known = elaborations_[{rungs, k}];
        if (!known) {
            Changes changes = plan_.intervals[k].changes;
            changes.rungs = rungs;
            auto made = elaborate(texts_.project, partLibrary(), changes);
            if (!made) return made.error();
            known = std::make_shared<const Elaboration>(std::move(*made));
        }
        const Setting& setting = settings_[way];
        EpochCircuit circuit{.elaboration = known, .request = base_};
        circuit.engine = setting.engine == bestEngine ? &bestEngineFor(known->network) : findEngine(setting.engine);
        // Within a way the engine stays the same while it takes the circuit.
        for (const std::optional<EpochCircuit>& other : plan_.ways[way].circuits)
            if (other && setting.engine == bestEngine && other->engine->accepts(known->network)) {
                circuit.engine = other->engine;
                break;
            }
        if (auto accepted = circuit.engine->accepts(known->network); !accepted) return accepted.error();
        circuit.request.traceTolerance = setting.tolerance;
        if (circuit.engine->onGrid()) {
            auto stepping = fixedStepping(texts_, setting.step);
            if (!stepping) return stepping.error();
            circuit.request.fixed = *stepping;
        }
        if (auto set = setTolerances(plan_.ways[way].keep, circuit); !set) return set.error();
        for (const Way& other : plan_.ways)
            for (const std::optional<EpochCircuit>& from : other.circuits)
                if (from && from->elaboration != known)
                    if (auto follows = mayFollow(from->network(), known->network); !follows) return follows.error();
        return circuit;
    }

    /// Those of single quantities go to the unknowns they are made of; what is not kept has none.
    Status setTolerances(const Keep& keep, EpochCircuit& circuit) const {
        const Network& network = circuit.network();
        RunRequest& request = circuit.request;
        std::vector<double>& all = request.tolerances;
        const auto unknowns = static_cast<std::size_t>(network.unknownCount());
        for (const auto& [name, text] : texts_.plan.tolerances) {
            const QuantityInfo* quantity = network.findQuantity(name);
            if (!quantity && plan_.typedSpans) continue;  // on another rung, perhaps; the first circuit is checked
            if (!quantity)
                return Error{ErrorCode::name,
                             fmt::format("plan {}: a tolerance is given for '{}', which the circuit does not have",
                                         texts_.plan.name, name),
                             {},
                             {},
                             "tolerances"};
            auto tolerance =
                planNumber(texts_, {.field = "tolerances", .unit = "", .above = 0, .most = mostTolerance}, text);
            if (!tolerance) return tolerance.error();
            if (all.empty()) all.assign(unknowns, request.traceTolerance);
            for (const Terms* terms : {&quantity->a, &quantity->b})
                for (const auto& [column, factor] : *terms) {
                    double& now = all[static_cast<std::size_t>(column)];
                    now = now == request.traceTolerance ? *tolerance : std::min(now, *tolerance);
                }
        }
        if (keep.all()) return {};
        std::vector<char> wanted(unknowns);
        for (const std::string& name : keep.only) {
            const QuantityInfo* quantity = network.findQuantity(name);
            if (!quantity)
                return Error{ErrorCode::name, fmt::format("keep: the circuit has no quantity '{}'", name),
                             {},
                             {},
                             "keep"};
            for (const Terms* terms : {&quantity->a, &quantity->b})
                for (const auto& [column, factor] : *terms) wanted[static_cast<std::size_t>(column)] = 1;
        }
        if (all.empty()) all.assign(unknowns, request.traceTolerance);
        for (std::size_t i = 0; i < unknowns; ++i)
            if (!wanted[i]) all[i] = notWanted;
        return {};
    }

    /// What only the circuits of a span can tell.
    Status checkOn(ReadySpan& ready) const {
        const bool settles = ready.settle || ready.untilSettled;
        for (const std::optional<EpochCircuit>& circuit : plan_.ways[ready.way].circuits) {
            if (!circuit) continue;
            if (settles && circuit->engine->onGrid())
                return Error{ErrorCode::name,
                             "the periodic state is found by engines without a fixed grid, not by '" +
                                 std::string(circuit->engine->name()) + "'",
                             {},
                             {},
                             "engine"};
            if (!ready.condition) continue;
            const QuantityInfo* const quantity = circuit->network().findQuantity(ready.condition->quantity);
            if (!quantity)
                return Error{ErrorCode::name,
                             fmt::format("the circuit has no quantity '{}'", ready.condition->quantity)};
            const auto unit = findUnit(quantity->unit);
            auto value = evaluateField(ready.condition->value, unit ? *unit : Unit{}, parameters_.lookup());
            if (!value) return value.error();
            ready.value = *value;
        }
        return {};
    }

    struct Setting {
        std::string engine, step;
        double tolerance = 0;
        friend bool operator==(const Setting&, const Setting&) = default;
    };
    const PlanTexts texts_;
    const RunRequest base_;
    const ParameterTable parameters_;
    RunPlan plan_;
    std::vector<Setting> settings_;  ///< one a way
    std::map<std::pair<std::string, std::size_t>, std::shared_ptr<const Elaboration>> elaborations_;
};

}  // namespace

Result<double> planNumber(const PlanTexts& texts, const PlanRange& range, const std::string& typed) {
    const ParameterTable parameters(texts.project.parameters);
    return inRange(texts, range, evaluateField(typed, *findUnit(range.unit), parameters.lookup()));
}

Result<double> planTime(const PlanTexts& texts, const PlanRange& range, const std::string& typed) {
    const ParameterTable parameters(texts.project.parameters);
    return inRange(texts, range,
                   evaluateTime(typed, texts.project, partLibrary().catalogue(), parameters.lookup()));
}

const EpochCircuit& RunPlan::first() const {
    return *ways[spans.front().way].circuits.front();
}

std::size_t RunPlan::intervalAt(Tick t) const {
    std::size_t k = 0;
    while (k + 1 < intervals.size() && intervals[k + 1].from <= t) ++k;
    return k;
}

RunFrame RunPlan::frame() const {
    std::vector<RunFrame::Circuit> circuits;
    for (const Way& way : ways)
        for (const std::optional<EpochCircuit>& circuit : way.circuits)
            if (circuit) circuits.push_back({.network = &circuit->network(), .keep = way.keep});
    return RunFrame(circuits);
}

Result<RunPlan> makeRunPlan(const PlanTexts& texts, Tick end, const RunRequest& base) {
    return Maker(texts, end, base).make();
}

}  // namespace hedgerow
