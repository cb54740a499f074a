#include "studies/study.h"

#include <algorithm>
#include <cmath>
#include <ctime>
#include <map>
#include <mutex>
#include <numbers>
#include <new>
#include <span>

#include <fmt/format.h>

#include "base/parallel.h"
#include "base/text.h"
#include "model/modules.h"
#include "model/values.h"
#include "network/same_equations.h"
#include "runs/readings.h"
#include "periodic/settle/common_period.h"
#include "runs/registry.h"
#include "runs/responses.h"
#include "studies/optimise.h"

namespace hedgerow {

namespace {

double threadSeconds() {
    timespec now{};
    clock_gettime(CLOCK_THREAD_CPUTIME_ID, &now);
    return static_cast<double>(now.tv_sec) + 1e-9 * static_cast<double>(now.tv_nsec);
}

Result<std::shared_ptr<Run>> prepared(const StudySetup& setup, const StudyPoint& point) {
    auto changed = withPoint(*setup.project, setup.study, setup.points.varied(), point);
    if (!changed) return changed.error();
    return Run::prepare(std::make_shared<const Project>(std::move(*changed)), {.settle = setup.study.settle});
}

/// A point in which one thing has another value than in the first one; nothing where it has only one.
std::optional<StudyPoint> otherPoint(const StudySetup& setup, std::size_t axis) {
    StudyPoint point = setup.points.at(0);
    const Varied& varied = setup.points.varied()[axis];
    if (!varied.texts.empty()) {
        for (const std::string& text : varied.texts)
            if (text != point[axis]) return point[axis] = text, point;
        return std::nullopt;
    }
    for (const double u : {0.9, 0.1})
        if (const std::string text = varied.at(u); text != point[axis]) return point[axis] = text, point;
    return std::nullopt;
}

/// A number in SI, whatever its unit.
Result<double> plainOf(const std::string& text, const ParameterLookup& lookup) {
    const auto value = evaluate(text, lookup);
    if (!value) return value.error();
    return value->value;
}

/// Every value in force, part by part: numbers where they are some, else texts; those of rungs above that of the part are left out. Two
/// circuits with the same ones are the same, whatever their control hides.
std::map<std::string, std::string> valuesInForce(const Project& project) {
    const FlatProject flat = flattened(project, partLibrary().catalogue());
    const ParameterTable parameters(flat.project.parameters);
    std::map<std::string, std::string> all;
    for (const Part& part : flat.project.sheet().parts) {
        const PartKind* const kind = partLibrary().catalogue().find(part.kind);
        if (!kind) continue;
        all[part.name] = fmt::format("{} {}", part.kind, part.rung);
        for (const auto& [key, text] : part.values.all()) {
            const ParameterKind* const known = kind->findParameter(key);
            if (!known || known->rung > part.rung || known->rating) continue;
            const auto value = evaluate(text, parameters.lookup());
            all[part.name + "." + key] = value ? fmt::format("{}", value->value) : text;
            // What is no number may name parameters all the same: control code, formulas, tables.
            if (!value)
                for (const Parameter& parameter : flat.project.parameters)
                    if (text.find(parameter.name) != std::string::npos) {
                        const auto of = parameters.value(parameter.name);
                        all[part.name + "." + key] += fmt::format(" {} {}", parameter.name, of ? of->value : 0);
                    }
        }
    }
    return all;
}

bool sameStarts(const Network& a, const Network& b) {
    if (a.states.size() != b.states.size() || a.sources.size() != b.sources.size()) return false;
    for (std::size_t i = 0; i < a.states.size(); ++i)
        if (a.states[i].initial != b.states[i].initial) return false;
    // Sources and what gates do are waves: they are compared over the instants at which both have something to say.
    for (std::size_t i = 0; i < a.sources.size(); ++i) {
        if (a.sources[i]->size() != b.sources[i]->size()) return false;
        std::vector<double> va(static_cast<std::size_t>(a.sources[i]->size())), vb = va;
        for (const double t : {0.0, 1.7e-9, 3.1e-6, 1.3e-3, 0.11, 1.9}) {
            a.sources[i]->valueAt(toTicks(t), va), b.sources[i]->valueAt(toTicks(t), vb);
            if (va != vb) return false;
        }
    }
    return true;
}

}  // namespace

Result<StudyMeasure> readStudyMeasure(const std::string& line, const Project& project) {
    StudyMeasure measure{.text = std::string(trimmed(line)), .reader = {}};
    std::string rest = measure.text, above, below;
    // "ripple = pp of out.v": a name for expressions.
    if (const std::size_t equals = rest.find('='); equals != std::string::npos) {
        measure.name = trimmed(rest.substr(0, equals));
        const bool sound = !measure.name.empty() && !std::isdigit(static_cast<unsigned char>(measure.name.front())) &&
                           std::all_of(measure.name.begin(), measure.name.end(),
                                       [](unsigned char ch) { return std::isalnum(ch) || ch == '_'; });
        if (!sound)
            return Error{ErrorCode::name, fmt::format("\"{}\": '{}' is no name", measure.text, measure.name), {}, {}, "measured"};
        rest = trimmed(rest.substr(equals + 1));
    }
    for (int k = 0; k < 2; ++k)
        for (const auto& [word, into] : {std::pair{std::string(" above "), &above}, std::pair{std::string(" below "), &below}}) {
            const std::size_t at = rest.rfind(word);
            if (at == std::string::npos || !into->empty()) continue;
            if (rest.find(" above ", at + 1) != std::string::npos || rest.find(" below ", at + 1) != std::string::npos) continue;
            *into = trimmed(rest.substr(at + word.size()));
            rest = rest.substr(0, at);
        }
    const auto about = [&](Error error) {
        error.message = fmt::format("\"{}\": {}", measure.text, error.message);
        error.field = "measured";
        return error;
    };
    const ParameterTable parameters(project.parameters);
    const auto takeLimits = [&]() -> Status {
        for (const auto& [text, into] : {std::pair{&above, &measure.above}, std::pair{&below, &measure.below}}) {
            if (text->empty()) continue;
            const auto value = measure.unit == "deg" ? evaluateField(*text, *findUnit("deg"), parameters.lookup())
                                                     : plainOf(*text, parameters.lookup());
            if (!value) return about(value.error());
            *into = *value;
        }
        if (measure.above && measure.below && *measure.above > *measure.below)
            return about({ErrorCode::range, "nothing lies between these limits"});
        return {};
    };
    if (rest.starts_with("expression ")) {
        measure.sort = StudyMeasure::Sort::expression;
        measure.expression = trimmed(rest.substr(11));
        if (auto limits = takeLimits(); !limits) return limits.error();
        return measure;
    }
    for (const auto& [word, sort, unit] :
         {std::tuple{std::string("crossover of "), StudyMeasure::Sort::crossover, "Hz"},
          std::tuple{std::string("phase margin of "), StudyMeasure::Sort::phaseMargin, "deg"},
          std::tuple{std::string("gain margin of "), StudyMeasure::Sort::gainMargin, ""}}) {
        if (!rest.starts_with(word)) continue;
        measure.sort = sort, measure.unit = unit;
        measure.signal = trimmed(rest.substr(word.size()));
        if (measure.signal.empty()) return about({ErrorCode::syntax, "name the signal: phase margin of REG1.y"});
        if (auto limits = takeLimits(); !limits) return limits.error();
        return measure;
    }
    const bool accurate = rest.rfind(" within ") != std::string::npos;
    const auto feature = readFeature(accurate ? rest : rest + " within 1 %");
    if (!feature) return about(feature.error());
    auto reader = FeatureReader::make(*feature, project);
    if (!reader) return about(reader.error());
    measure.reader = std::move(*reader);
    if (auto limits = takeLimits(); !limits) return limits.error();
    return measure;
}

namespace {

/// The value of an expression, where `known` are those of the measures above it. Parameters and values of parts are those of the project.
Result<double> expressionValue(const StudySetup& setup, const std::string& expression, std::span<const double> known, const Project& project) {
    const ParameterTable parameters(project.parameters);
    const ParameterLookup lookup = [&](std::string_view name) -> Result<Quantity> {
        for (std::size_t m = 0; m < known.size(); ++m)
            if (setup.measures[m].name == name) return Quantity{known[m], {}};
        if (const auto value = parameters.value(name)) return Quantity{value->value, {}};
        if (const auto value = presentValue(project, std::string(name))) return Quantity{*value, {}};
        return Error{ErrorCode::name, fmt::format("'{}' is no measure above this one, no parameter and no value of a part", name)};
    };
    const auto value = evaluate(expression, lookup);
    if (!value) return value.error();
    return value->value;
}

/// What is measured first, and of a search its objective.
Status prepareMeasures(StudySetup& setup, const Project& project) {
    if (setup.searched()) {
        const std::string& objective = setup.points.sampling().search.objective;
        std::size_t m = 0;
        while (m < setup.measures.size() && setup.measures[m].name != objective) ++m;
        setup.objective = m;
        if (m == setup.measures.size())
            setup.measures.push_back({.text = "expression " + objective, .reader = {}, .sort = StudyMeasure::Sort::expression, .expression = objective});
    }
    std::vector<double> known;
    for (const StudyMeasure& measure : setup.measures) {
        if (measure.sort == StudyMeasure::Sort::expression) {
            // Measures have no values yet; names and the form of the expression can be checked.
            const auto value = expressionValue(setup, measure.expression, known, project);
            if (!value && value.error().code != ErrorCode::range)
                return Error{value.error().code, fmt::format("\"{}\": {}", measure.text, value.error().message), {}, {}, "measured"};
        }
        known.push_back(1);
    }
    return {};
}

}  // namespace

Result<StudySetup> prepareStudy(std::shared_ptr<const Project> project, const ParameterStudy& study) {
    auto set = readVaried(study.varied, *project);
    if (!set) return set.error();
    const auto sampling = readSampling(study.runs);
    if (!sampling) return sampling.error();
    const ParameterTable parameters(project->parameters);
    const auto seed = evaluateField(study.seed.empty() ? "1" : study.seed, Unit{}, parameters.lookup());
    if (!seed || !(*seed >= 0) || *seed > 1e15 || *seed != std::floor(*seed))
        return Error{ErrorCode::range, fmt::format("the seed '{}' is no whole number", study.seed), {}, {}, "seed"};
    auto points = StudyPoints::make(std::move(*set), *sampling, static_cast<std::uint64_t>(*seed));
    if (!points) return points.error();
    StudySetup setup{.project = project, .study = study, .points = std::move(*points), .measures = {}, .keep = {}};
    for (const std::string& line : study.measured) {
        if (trimmed(line).empty()) continue;
        auto measure = readStudyMeasure(line, *project);
        if (!measure) return measure.error();
        setup.measures.push_back(std::move(*measure));
    }
    if (setup.measures.empty())
        return Error{ErrorCode::range, "say what is measured: mean of out.v, pp of L1.i over last 20u below 2", {}, {}, "measured"};
    if (auto sound = prepareMeasures(setup, *project); !sound) return sound.error();
    const auto first = prepared(setup, setup.points.at(0));
    if (!first) {
        Error error = first.error();
        error.message = "the first run: " + error.message;
        return error;
    }
    for (StudyMeasure& measure : setup.measures) {
        if (measure.sort != StudyMeasure::Sort::trace) continue;
        const Feature& feature = measure.reader.feature();
        const std::string quantity = feature.measure == "loss" ? feature.quantity + ".p" : feature.quantity;
        if (const auto trace = readTrace(**first, quantity); !trace)
            return Error{ErrorCode::name, fmt::format("\"{}\": {}", measure.text, trace.error().message), {}, {}, "measured"};
        measure.unit = measure.reader.unitIn(**first);
    }
    std::string_view keep = study.keep;
    while (!trimmed(keep).empty()) {
        const std::size_t plus = keep.find('+');
        const std::string name(trimmed(keep.substr(0, plus)));
        if (!(*first)->findQuantity(name))
            return Error{ErrorCode::name, fmt::format("keep: the circuit has no quantity '{}'", name), {}, {}, "keep"};
        setup.keep.push_back(name);
        keep = plus == std::string_view::npos ? std::string_view() : keep.substr(plus + 1);
    }
    // A target that is not there is known before the first run.
    for (std::size_t axis = 0; axis < setup.points.varied().size(); ++axis) {
        const auto other = otherPoint(setup, axis);
        if (!other) continue;
        const auto changed = withPoint(*project, study, setup.points.varied(), *other);
        if (!changed) return changed.error();
        const std::string& target = setup.points.varied()[axis].target;
        if (target.find('.') == std::string::npos) continue;
        const auto run = Run::prepare(std::make_shared<const Project>(*changed), {.settle = study.settle});
        // A value that is not taken is a row with its reason; a name that is not there is a mistake of the question.
        if (!run && run.error().code == ErrorCode::name) {
            Error error = run.error();
            error.message = fmt::format("\"{}\": {}", target, error.message);
            error.field = "varied";
            return error;
        }
    }
    return setup;
}

std::vector<Arrival> arrivals(const StudySetup& setup) {
    std::vector<Arrival> all;
    const auto first = prepared(setup, setup.points.at(0));
    for (std::size_t axis = 0; axis < setup.points.varied().size(); ++axis) {
        Arrival arrival{.target = setup.points.varied()[axis].target};
        const auto other = otherPoint(setup, axis);
        if (!other) {  // one value alone is not compared with anything
            arrival.values = true;
            all.push_back(std::move(arrival));
            continue;
        }
        const auto second = prepared(setup, *other);
        if (!first || !second || arrival.target == "plan" || arrival.target == "scene") {
            arrival.values = true;  // what does not run differs
        } else {
            const RunPlan &a = (*first)->epochs(), &b = (*second)->epochs();
            arrival.values = a.ways.size() != b.ways.size() || a.spans.size() != b.spans.size() || a.end != b.end ||
                             (*first)->events() != (*second)->events();
            for (std::size_t w = 0; w < a.ways.size() && w < b.ways.size(); ++w)
                for (std::size_t c = 0; c < a.ways[w].circuits.size() && c < b.ways[w].circuits.size(); ++c) {
                    const auto &ca = a.ways[w].circuits[c], &cb = b.ways[w].circuits[c];
                    if (ca.has_value() != cb.has_value()) arrival.equations = true;
                    if (!ca || !cb) continue;
                    arrival.equations = arrival.equations || !sameEquations(ca->network(), cb->network());
                    arrival.values = arrival.values || !sameStarts(ca->network(), cb->network()) ||
                                     ca->request.traceTolerance != cb->request.traceTolerance ||
                                     ca->request.fixed.step != cb->request.fixed.step ||
                                     // Blocks of the control say nothing of what they compute with.
                                     (!ca->network().signalBlocks.empty() &&
                                      valuesInForce((*first)->project()) != valuesInForce((*second)->project()));
                }
        }
        all.push_back(std::move(arrival));
    }
    return all;
}

namespace {

/// Crossover and margins are read off as many frequencies as a decade needs for four digits.
constexpr int loopPoints = 120;

Result<Margins> loopMargins(const StudySetup& setup, const StudyPoint& point, const std::string& signal, const CancelToken& cancel) {
    auto changed = withPoint(*setup.project, setup.study, setup.points.varied(), point);
    if (!changed) return changed.error();
    const auto run = Run::prepare(std::make_shared<const Project>(std::move(*changed)), {.settle = true});
    if (!run) return run.error();
    // The carrier ends what a loop can follow: half of it is the last frequency.
    double most = 1e6;
    if (const auto common = settle::commonPeriod((*run)->elaboration().network); common && common->period)
        most = std::min(most, 0.5 / toSeconds(toTick(*common->period)));
    const auto curves = respondTo(**run, {.sort = ResponseQuestion::Sort::loop, .from = signal, .least = std::min(10.0, most / 1e4),
                                          .most = most, .points = loopPoints},
                                  cancel);
    if (!curves) return curves.error();
    return marginsOf(curves->front());
}

}  // namespace

StudyRow runStudyRow(const StudySetup& setup, std::size_t index, const CancelToken& cancel, std::shared_ptr<Run>* kept) {
    return runStudyPoint(setup, index, setup.points.at(index), cancel, kept);
}

namespace {

StudyRow rowOf(const StudySetup& setup, std::size_t index, const StudyPoint& point, const CancelToken& cancel, std::shared_ptr<Run>* kept) {
    StudyRow row{.index = index, .point = point};
    const double start = threadSeconds();
    auto run = prepared(setup, row.point);
    row.building = threadSeconds() - start;
    if (!run) {
        row.error = run.error().text();
        row.seconds = row.building;
        return row;
    }
    const bool traces = kept || std::any_of(setup.measures.begin(), setup.measures.end(),
                                            [](const StudyMeasure& m) { return !m.ofLoop(); });
    if (traces) (*run)->execute(cancel);
    const RunSummary& summary = (*run)->summary();
    if (traces && summary.end != RunEnd::finished)
        row.error = summary.error ? summary.error->text() : std::string(describe(summary.end));
    std::map<std::string, Result<Margins>> loops;
    for (std::size_t i = 0; i < setup.measures.size() && row.error.empty(); ++i) {
        const StudyMeasure& measure = setup.measures[i];
        if (measure.sort == StudyMeasure::Sort::expression) {
            const auto value = expressionValue(setup, measure.expression, row.values, (*run)->project());
            if (value && std::isfinite(*value))
                row.values.push_back(*value);
            else
                row.error = fmt::format("\"{}\": {}", measure.text, value ? "it is no number there" : value.error().message);
            continue;
        }
        if (measure.ofLoop()) {
            // Several measures of one loop come of one response.
            auto known = loops.find(measure.signal);
            if (known == loops.end())
                known = loops.emplace(measure.signal, loopMargins(setup, row.point, measure.signal, cancel)).first;
            const auto& margins = known->second;
            if (!margins) {
                row.error = margins.error().text();
                continue;
            }
            std::optional<double> value = measure.sort == StudyMeasure::Sort::crossover     ? margins->crossover
                                          : measure.sort == StudyMeasure::Sort::phaseMargin ? margins->phaseMargin
                                                                                            : margins->gainMargin;
            if (value && measure.unit == "deg") *value *= std::numbers::pi / 180;
            if (value)
                row.values.push_back(*value);
            else
                row.error = fmt::format("{}: the loop gain has none", measure.text);
            continue;
        }
        const auto value = measure.reader.valueIn(**run);
        if (value)
            row.values.push_back(*value);
        else
            row.error = value.error().message;
    }
    if (!row.error.empty()) row.values.clear();
    row.good = row.error.empty();
    for (std::size_t i = 0; i < row.values.size(); ++i) row.good = row.good && setup.measures[i].keeps(row.values[i]);
    row.seconds = threadSeconds() - start;
    if (kept) *kept = std::move(*run);
    return row;
}

}  // namespace

StudyRow runStudyPoint(const StudySetup& setup, std::size_t index, const StudyPoint& point, const CancelToken& cancel,
                       std::shared_ptr<Run>* kept) {
    try {
        return rowOf(setup, index, point, cancel, kept);
    } catch (const std::bad_alloc&) {
        return {.index = index, .point = point, .error = "there is no memory left for this run"};
    }
}

bool StudyRows::has(std::size_t index) const {
    return std::any_of(made.begin(), made.end(), [&](const StudyRow& row) { return row.index == index; });
}
Status StudyRows::take(StudyRow row) {
    made.push_back(std::move(row));
    return {};
}
Status StudyRows::conclude(const std::vector<std::string>& words) {
    conclusion = words;
    return {};
}

StudyPrice priceStudy(const StudySetup& setup, const CancelToken& cancel) {
    constexpr std::size_t rowBytes = 160, valueBytes = 20, pointBytes = 16;  // as SQLite and HDF5 keep them, about
    StudyPrice price{.runs = setup.points.size(), .arrivals = arrivals(setup)};
    std::shared_ptr<Run> run;
    price.first = runStudyRow(setup, 0, cancel, &run);
    const auto runs = static_cast<double>(price.runs);
    price.all = runs * price.first.seconds;
    price.memory = run ? run->bytes() : 0;
    const std::size_t each = rowBytes + valueBytes * (setup.points.varied().size() + setup.measures.size()) +
                             (run ? pointBytes * run->points() * setup.keep.size() : 0);
    price.disk = static_cast<std::size_t>(runs * static_cast<double>(each));
    return price;
}

std::string studyTraceName(std::size_t index) { return fmt::format("run-{:07}.h5", index + 1); }

Status writeStudyTrace(const StudySetup& setup, const StudyRow& row, const Run& run, const std::filesystem::path& folder, const CancelToken& cancel) {
    if (!row.error.empty() || folder.empty()) return {};
    const std::filesystem::path file = folder / studyTraceName(row.index);
    std::error_code failed;
    for (const auto& path : {folder, file})
        if (std::filesystem::is_symlink(path, failed)) return Error{ErrorCode::file, path.string() + " is a link: traces are not written through it"};
    return exportRun(run, "hdf5", file, setup.keep, cancel);
}

Status runStudy(const StudySetup& setup, StudySink& sink, const StudyRunning& running, const CancelToken& cancel) {
    if (setup.searched()) {
        const auto found = searchStudy(setup, sink, running, cancel);
        if (!found) return found.error();
        return cancel.cancelled() ? Status(Error{ErrorCode::stop, "stopped"}) : Status();
    }
    const Stopwatch watch;
    const std::size_t to = std::min(running.to, setup.points.size());
    std::vector<std::size_t> waiting;
    for (std::size_t i = running.from; i < to; ++i)
        if (!sink.has(i)) waiting.push_back(i);
    StudyProgress progress{.done = (to > running.from ? to - running.from : 0) - waiting.size(),
                           .of = to > running.from ? to - running.from : 0};
    const std::size_t before = progress.done;
    std::mutex mutex;
    Status fault;
    double computed = 0;
    inParallel(running.threads, waiting.size(), [&](std::size_t i) {
        std::shared_ptr<Run> run;
        StudyRow row = runStudyRow(setup, waiting[i], cancel, setup.keep.empty() ? nullptr : &run);
        if (cancel.cancelled()) return false;  // what was stopped in the middle is run again
        const Status written = run ? writeStudyTrace(setup, row, *run, running.traces, cancel) : Status();
        const std::lock_guard lock(mutex);
        ++progress.done;
        progress.failed += row.error.empty() ? 0 : 1;
        computed += row.seconds;
        if (!written && fault) fault = written;
        if (auto taken = sink.take(std::move(row)); !taken && fault) fault = taken;
        if (!fault) return false;
        progress.seconds = watch.seconds();
        progress.speedup = progress.seconds > 0 ? computed / progress.seconds : 1;
        const auto fresh = static_cast<double>(progress.done - before);
        progress.left = progress.seconds / fresh * static_cast<double>(progress.of - progress.done);
        if (running.progress) running.progress(progress);
        return true;
    });
    if (!fault) return fault;
    if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
    return {};
}

}  // namespace hedgerow
