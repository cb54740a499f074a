#include "network/scene.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <optional>

#include <fmt/format.h>

#include "model/event_text.h"
#include "model/periods.h"
#include "model/vectors.h"

namespace hedgerow {

namespace {

constexpr std::size_t mostStretches = 10'000;
constexpr int rampSteps = 64;  ///< of a ramp of what can only step
constexpr int mostRampSteps = 2000;

Error about(const SceneEvent& event, Error error, const char* field) {
    error.message = fmt::format("event \"{}\": {}", eventText(event), error.message);
    error.field = field;
    return error;
}

/// What an event acts on.
struct Target {
    std::string unit;
    std::string present;  ///< its value, as typed
    const PartKind* kind = nullptr;
    const ParameterKind* parameter = nullptr;  ///< of a part; null for a parameter of the project
    std::string part, key;
    bool steps = false;      ///< its ramp is a staircase
    int pieces = rampSteps;  ///< of it
};

class Planner {
public:
    Planner(const Scene& scene, const Project& project, const PartLibrary& library)
        : scene_(scene),
          project_(project),
          library_(library),
          flat_(flattened(project, library.catalogue())),
          parameters_(project.parameters) {}

    Result<std::vector<TimedEvent>> times() const {
        std::vector<TimedEvent> list;
        for (std::size_t i = 0; i < scene_.events.size(); ++i) {
            const SceneEvent& event = scene_.events[i];
            auto at = field(event, event.at, "s", "at");
            if (!at) return at.error();
            if (!event.wave.empty()) {
                at = onWave(event, *at);
                if (!at) return at.error();
            }
            auto length = event.duration.empty() ? Result<double>(0.0) : field(event, event.duration, "s", "over");
            if (!length) return length.error();
            if (*at < 0 || *at > longestRunSeconds)
                return about(event, {ErrorCode::range, "the time lies outside of any run"}, "at");
            if (*length < 0 || *at + *length > longestRunSeconds)
                return about(event, {ErrorCode::range, "the ramp ends outside of any run"}, "over");
            list.push_back({*at, *at + *length, i});
        }
        std::stable_sort(list.begin(), list.end(),
                         [](const TimedEvent& a, const TimedEvent& b) { return a.at < b.at; });
        return list;
    }

    Result<std::vector<SceneInterval>> intervals(Tick end) const {
        auto timed = times();
        if (!timed) return timed.error();
        std::vector<Target> targets(scene_.events.size());
        std::vector<std::string> ramped, stepped;
        std::vector<Tick> cuts = {0};
        for (const TimedEvent& event : *timed) {
            auto target = targetOf(scene_.events[event.index]);
            if (!target) return target.error();
            target->steps = event.until > event.at && onlySteps(scene_.events[event.index].target);
            targets[event.index] = *target;
            const std::string& name = scene_.events[event.index].target;
            if (event.until > event.at && !target->steps) ramped.push_back(name);
            if (event.until <= event.at || target->steps) stepped.push_back(name);
            if (target->steps) {
                target->pieces = piecesOf(*target, scene_.events[event.index], event.until - event.at);
                targets[event.index].pieces = target->pieces;
            }
            const int pieces = target->steps ? target->pieces : 1;
            for (int k = 0; k <= pieces; ++k)
                if (const Tick cut = toTicks(event.at + (event.until - event.at) * k / pieces); cut < end)
                    cuts.push_back(cut);
        }
        std::sort(cuts.begin(), cuts.end());
        cuts.erase(std::unique(cuts.begin(), cuts.end()), cuts.end());
        if (cuts.size() > mostStretches)
            return Error{ErrorCode::resource,
                         fmt::format("scene {} has more than {} events", scene_.name, mostStretches)};
        std::vector<SceneInterval> list;
        std::map<std::string, std::string> now;       // what each target is at the start of an interval
        std::map<std::string, const TimedEvent*> on;  // the ramps that are on their way
        std::map<std::string, double> before;         // values ramps started from
        Waves waves(*this, *timed);
        for (std::size_t k = 0; k < cuts.size(); ++k) {
            SceneInterval interval{cuts[k], k + 1 < cuts.size() ? cuts[k + 1] : end, {}, {}};
            const auto valueDuring = [&](const TimedEvent& event, Tick t) {
                double part = (toSeconds(t) - event.at) / (event.until - event.at);
                const Target& target = targets[event.index];
                // In steps: each interval has the value of its middle.
                if (target.steps && part < 1) part = (std::floor(part * target.pieces + 1e-6) + 0.5) / target.pieces;
                const double from = before[scene_.events[event.index].target],
                             to = *valueOf(target, scene_.events[event.index].value);
                return text(target, part >= 1 ? to : from + std::clamp(part, 0.0, 1.0) * (to - from));
            };
            for (auto& [name, event] : on) now[name] = valueDuring(*event, interval.from);
            for (const TimedEvent& event : *timed) {
                if (toTicks(event.at) != interval.from) continue;
                const SceneEvent& about = scene_.events[event.index];
                const Target& target = targets[event.index];
                interval.what += (interval.what.empty() ? "" : "; ") + eventText(about);
                const auto present = now.find(about.target);
                const std::string was = present == now.end() ? target.present : present->second;
                if (auto sound = valueOf(target, about.value); !sound)
                    return hedgerow::about(about, sound.error(), "to");
                on.erase(about.target);
                if (event.until > event.at) {
                    auto from = valueOf(target, was);
                    if (!from) return hedgerow::about(about, from.error(), "to");
                    before[about.target] = *from;
                    on[about.target] = &event;
                    now[about.target] = valueDuring(event, interval.from);
                } else {
                    now[about.target] = about.value;
                }
            }
            for (auto it = on.begin(); it != on.end();)
                it = toTicks(it->second->until) <= interval.from ? on.erase(it) : std::next(it);
            interval.changes.sets = {now.begin(), now.end()};
            if (auto sound = waves.goOn(interval.changes.sets, interval.from); !sound) return sound.error();
            interval.changes.ramped = ramped;
            interval.changes.stepped = stepped;
            interval.changes.from = interval.from;
            interval.changes.to = interval.to;
            for (const auto& [name, event] : on)
                if (!targets[event->index].steps)
                    interval.changes.ends.emplace_back(name, valueDuring(*event, interval.to));
            list.push_back(std::move(interval));
        }
        return list;
    }

private:
    Result<double> field(const SceneEvent& event, const std::string& typed, std::string_view unit,
                         const char* name) const {
        auto value = unit == "s" ? evaluateTime(typed, project_, library_.catalogue(), parameters_.lookup())
                                 : evaluateField(typed, *findUnit(unit), parameters_.lookup());
        if (!value) return about(event, value.error(), name);
        return value;
    }

    /// The first instant from `after` on at which the wave of a source passes the angle.
    Result<double> onWave(const SceneEvent& event, double after) const {
        const Part* source = flat_.project.findPart(event.wave);
        const PartKind* kind = source ? library_.catalogue().find(source->kind) : nullptr;
        if (!kind || !kind->findParameter("f") || !kind->findParameter("phase"))
            return about(event, {ErrorCode::name, fmt::format("there is no source with a wave called {}", event.wave)},
                         "wave");
        auto angle = field(event, event.angle, "deg", "angle");
        if (!angle) return angle;
        const auto f = partValue(*source, *kind, "f", parameters_.lookup());
        if (!f) return about(event, f.error(), "wave");
        const auto phase = partValue(*source, *kind, "phase", parameters_.lookup());
        if (!phase) return about(event, phase.error(), "wave");
        const double turns = (*angle - *phase) / (2 * std::numbers::pi), late = turns - *f * after;
        return after + (late - std::floor(late + 1e-12)) / *f;
    }

    Result<Target> targetOf(const SceneEvent& event) const {
        Target target;
        for (const Parameter& parameter : project_.parameters)
            if (parameter.name == event.target) {
                target.unit = parameter.unit;
                target.present = parameter.value;
                return target;
            }
        const std::size_t dot = event.target.rfind('.');
        target.part = event.target.substr(0, dot);
        target.key = dot == std::string::npos ? "" : event.target.substr(dot + 1);
        const Part* part = dot == std::string::npos ? nullptr : flat_.project.findPart(target.part);
        if (!part && dot != std::string::npos)
            part = flat_.project.findPart(target.part + std::string(ofThree[0]));  // one that stands for three
        if (!part)
            return about(
                event,
                {ErrorCode::name, fmt::format("there is no parameter and no part's value called {}", event.target)},
                "set");
        target.kind = library_.catalogue().find(part->kind);
        target.parameter = target.kind ? target.kind->findParameter(target.key) : nullptr;
        if (!target.parameter)
            return about(
                event,
                {ErrorCode::name, fmt::format("{} has no value called {}", target.part, target.key), target.part},
                "set");
        if (target.parameter->atStart)
            return about(
                event,
                {ErrorCode::range,
                 fmt::format("{} of {} matters at the start only", target.parameter->label, target.part), target.part},
                "set");
        target.unit = target.parameter->unit;
        const std::string* typed = part->values.find(target.key);
        target.present = typed ? *typed : target.parameter->standard;
        return target;
    }

    /// Whether a value, or what follows from a parameter, cannot change steadily.
    bool onlySteps(const std::string& name) const {
        const Moving moving = movingWith({name}, flat_.project.parameters);
        for (const Part& part : flat_.project.sheet().parts)
            for (const ParameterKind& parameter : library_.catalogue().find(part.kind)->parameters)
                if (!parameter.ramps && moves(part, parameter, moving)) return true;
        // A value that is not typed moves too.
        const std::size_t dot = name.rfind('.');
        if (dot == std::string::npos) return false;
        const Part* const part = flat_.project.findPart(name.substr(0, dot));
        const ParameterKind* const own =
            part ? library_.catalogue().find(part->kind)->findParameter(name.substr(dot + 1)) : nullptr;
        return own && !own->ramps;
    }

    /// Steps of a ramp: of a frequency so many that its phase is never off by more than 1e-5 of a turn.
    int piecesOf(const Target& target, const SceneEvent& event, double length) const {
        if (target.unit != "Hz") return rampSteps;
        const auto from = valueOf(target, target.present), to = valueOf(target, event.value);
        if (!from || !to) return rampSteps;
        const double pieces = std::sqrt(std::abs(*to - *from) * length / 8e-5);
        return std::clamp(static_cast<int>(std::min(pieces, 1e6)), rampSteps, mostRampSteps);
    }

    /// SI; a word counts as 0.
    Result<double> valueOf(const Target& target, const std::string& typed) const {
        if (target.parameter && (target.parameter->text || !target.parameter->choices.empty())) return 0.0;
        if (target.parameter) return evaluateValue(typed, *target.parameter, parameters_.lookup());
        const auto unit = findUnit(target.unit);
        return evaluateField(typed, unit ? *unit : Unit{}, parameters_.lookup());
    }
    /// A number in the unit of its field, with all its digits.
    static std::string text(const Target& target, double value) {
        const auto unit = findUnit(target.unit);
        return fmt::format("{}", value / (unit ? unit->scale : 1.0));
    }

    /// Waves whose frequency changes go on without a jump: their phase or delay is turned by what the old frequency
    /// would have made of the time until then. Changes of the phase itself add to that.
    class Waves {
    public:
        Waves(const Planner& planner, const std::vector<TimedEvent>& events)
            : planner_(planner), parameters_(planner.project_) {
            std::vector<std::string> targets;
            for (const TimedEvent& event : events) targets.push_back(planner.scene_.events[event.index].target);
            const Moving moving = movingWith(targets, planner.flat_.project.parameters);
            for (const Part& part : planner.flat_.project.sheet().parts) {
                const PartKind& kind = *planner.library_.catalogue().find(part.kind);
                const ParameterKind *const f = kind.findParameter("f"), *const phase = kind.findParameter("phase"),
                                           *const delay = kind.findParameter("delay");
                if (!f || f->unit != "Hz" || !(phase || delay)) continue;
                const bool named = std::any_of(targets.begin(), targets.end(), [&](const std::string& target) {
                    return target == part.name + ".f" || target == std::string(withoutOfThree(part.name)) + ".f";
                });
                if (!named && !moves(part, *f, moving)) continue;
                waves_.push_back({part, &kind, phase ? phase : delay});
            }
        }
        /// Adds what keeps the waves to the sets of the interval that begins at `from`.
        Status goOn(Changes::List& sets, Tick from) {
            if (waves_.empty()) return {};
            Project now = parameters_;
            setParameters(now, sets);
            const ParameterTable table(now.parameters);
            const double t = toSeconds(from);
            for (Wave& wave : waves_) {
                Part part = wave.part;
                for (const auto& [target, text] : sets)
                    for (const std::string_view name : {std::string_view(part.name), withoutOfThree(part.name)})
                        for (const std::string& key : {std::string("f"), wave.place->key})
                            if (target == fmt::format("{}.{}", name, key)) part.values.set(key, text);
                const auto f = partValue(part, *wave.kind, "f", table.lookup());
                const auto place = partValue(part, *wave.kind, wave.place->key, table.lookup());
                if (!f) return f.error();
                if (!place) return place.error();
                const bool pulses = wave.place->key == "delay", angle = wave.place->unit == "deg";
                if (wave.f && *wave.f != *f) {
                    if (!pulses) {
                        wave.turned += (*wave.f - *f) * t * (angle ? 1 : -1);  // in periods
                        wave.turned -= std::floor(wave.turned);
                    } else if (t >= *place + wave.turned) {
                        // The period that is on its way began so much earlier.
                        const double since = (t - *place - wave.turned) * *wave.f;
                        wave.turned = t - (since - std::floor(since)) / *f - *place;
                    }
                }
                wave.f = *f;
                if (wave.turned == 0) continue;
                const double shown = pulses  ? *place + wave.turned
                                     : angle ? (*place * 180 / std::numbers::pi) + 360 * wave.turned
                                             : *place + wave.turned;
                sets.emplace_back(part.name + "." + wave.place->key, fmt::format("{}", shown));
            }
            return {};
        }

    private:
        struct Wave {
            Part part;
            const PartKind* kind;
            const ParameterKind* place;  ///< phase or delay
            std::optional<double> f = {};
            double turned = 0;  ///< periods; of a delay s
        };
        const Planner& planner_;
        Project parameters_;
        std::vector<Wave> waves_;
    };

    const Scene& scene_;
    const Project& project_;
    const PartLibrary& library_;
    FlatProject flat_;
    ParameterTable parameters_;
};

}  // namespace

Result<std::vector<TimedEvent>> timesOf(const Scene& scene, const Project& project, const PartLibrary& library) {
    return Planner(scene, project, library).times();
}

Result<std::vector<SceneInterval>> sceneIntervals(const Scene& scene, const Project& project,
                                                  const PartLibrary& library, Tick end) {
    if (scene.events.empty()) {
        SceneInterval whole{0, end, {}, {}};
        whole.changes.to = end;
        return std::vector{whole};
    }
    return Planner(scene, project, library).intervals(end);
}

bool sameShape(const Network& before, const Network& after) {
    if (before.nodes != after.nodes || before.branchParts != after.branchParts ||
        before.branchSorts != after.branchSorts)
        return false;
    if (before.elements.size() != after.elements.size() || before.signalCount != after.signalCount ||
        before.signalBlocks.size() != after.signalBlocks.size() || before.states.size() != after.states.size())
        return false;
    for (std::size_t i = 0; i < before.elements.size(); ++i)
        if (before.elements[i]->part() != after.elements[i]->part() ||
            before.elements[i]->segmentCount() != after.elements[i]->segmentCount())
            return false;
    for (std::size_t i = 0; i < before.states.size(); ++i)
        if (before.states[i].part != after.states[i].part || before.states[i].name != after.states[i].name) return false;
    return true;
}

Status mayFollow(const Network& before, const Network& after) {
    // Of windings that share their flux, no single current carries it on.
    std::map<std::string_view, int> windings;
    std::map<std::pair<std::string_view, std::string_view>, double> storages;
    for (const StateInfo& state : before.states) {
        if (state.sort == StateSort::windingCurrent) ++windings[state.part];
        storages[{state.part, state.name}] = state.storage;
    }
    for (const StateInfo& state : after.states) {
        if (state.sort != StateSort::windingCurrent || windings[state.part] < 2) continue;
        const auto was = storages.find({state.part, state.name});
        if (was != storages.end() && was->second != state.storage)
            return Error{ErrorCode::range,
                         fmt::format("the storages of {} depend on each other and cannot change during a run", state.part),
                         state.part};
    }
    return {};
}

}  // namespace hedgerow
