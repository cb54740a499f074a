#include "studies/trade.h"

#include <ctime>
#include <algorithm>
#include <atomic>
#include <cmath>
#include <map>
#include <mutex>
#include <thread>

#include <fmt/format.h>

#include "base/text.h"
#include "model/periods.h"
#include "model/rung_rule.h"
#include "model/span_text.h"
#include "network/scene.h"
#include "periodic/settle/common_period.h"
#include "runs/registry.h"
#include "studies/search.h"

namespace hedgerow {

namespace {

constexpr std::string_view referenceWord = "reference:", finest = "all on 4";
constexpr double standsStill = 0.1;  ///< of the accuracy wanted
constexpr double refinement = 0.1;   ///< of the tolerance, each time
constexpr int refinements = 3;
constexpr int timings = 2;
constexpr double nearCheapest = 1.5, sameCost = 1.05;
constexpr std::size_t mostKept = std::size_t{256} << 20;  ///< bytes of waveforms

double threadSeconds() {
    timespec now{};
    clock_gettime(CLOCK_THREAD_CPUTIME_ID, &now);
    return static_cast<double>(now.tv_sec) + 1e-9 * static_cast<double>(now.tv_nsec);
}

const Plan* planOf(const Project& project, const TradeStudy& study) {
    return study.plan.empty() ? &project.plans.front() : project.findPlan(study.plan);
}

/// Words of a line that are the plan's and not a span's.
struct LineParts {
    std::string way;  ///< a span's
    bool onGrid = false;
    std::string heat = {}, control = {};
    std::string plan = {};
};

LineParts partsOf(const std::string& line) {
    LineParts parts;
    std::vector<std::string> rest;
    for (std::size_t from = 0; from <= line.size();) {
        const std::size_t comma = std::min(line.find(',', from), line.size());
        const std::string piece(trimmed(std::string_view(line).substr(from, comma - from)));
        if (piece == "edges on the grid")
            parts.onGrid = true;
        else if (piece.starts_with("heat every "))
            parts.heat = trimmed(std::string_view(piece).substr(11));
        else if (piece.starts_with("control every "))
            parts.control = trimmed(std::string_view(piece).substr(14));
        else if (piece.starts_with("plan "))
            parts.plan = trimmed(std::string_view(piece).substr(5));
        else if (!piece.empty())
            rest.push_back(piece);
        from = comma + 1;
    }
    parts.way = joined(rest, ", ");
    return parts;
}

}  // namespace

Result<Project> withLine(const Project& project, const TradeStudy& study, const std::string& line) {
    Project changed = project;
    const LineParts parts = partsOf(line);
    const std::string name = parts.plan.empty() ? study.plan : parts.plan;
    const auto about = [&](Error error) {
        error.message = fmt::format("alternative \"{}\": {}", line, error.message);
        return error;
    };
    Plan* plan = nullptr;
    for (Plan& one : changed.plans)
        if (name.empty() || one.name == name) {
            plan = &one;
            break;
        }
    if (!plan) return about({ErrorCode::name, fmt::format("the project has no plan '{}'", name)});
    const auto way = readSpanText("to the end: " + parts.way);
    if (!way) return about(way.error());
    if (plan->spans.empty()) plan->spans.emplace_back();
    std::size_t from = 0;
    for (std::size_t i = 0; i < plan->spans.size(); ++i)
        if (plan->spans[i].settle) from = i + 1;
    if (!way->rungs.empty())
        for (Span& span : plan->spans)
            if (span.settle) span.rungs = way->rungs + ", at most 2";
    for (std::size_t i = from; i < plan->spans.size(); ++i) {
        Span& span = plan->spans[i];
        if (!way->rungs.empty()) span.rungs = way->rungs;
        if (!way->engine.empty()) span.engine = way->engine;
        if (!way->step.empty()) span.step = way->step;
        if (!way->tolerance.empty()) span.tolerance = way->tolerance;
    }
    if (parts.onGrid) plan->fixed.interpolate = false;
    if (!parts.heat.empty()) plan->fixed.heat = parts.heat;
    if (!parts.control.empty()) plan->fixed.control = parts.control;
    return changed;
}

std::vector<std::string> stepLines(const Project& project, const TradeStudy& study) {
    RunSettings settings{.scene = study.scene, .plan = study.plan};
    settings.memoryLimit = 0;
    double shortest = 1e-5;
    const auto run = Run::prepare(std::make_shared<const Project>(project), settings);
    if (run) {
        const std::int64_t edges = (*run)->expectedEdges();
        if (edges > 0 && !(*run)->engine().onGrid())
            shortest = 2 * toSeconds((*run)->end()) / static_cast<double>(edges);
        if (const auto common = settle::commonPeriod((*run)->elaboration().network); common && common->period)
            shortest = std::min(shortest, toSeconds(toTick(*common->period)));
    }
    bool signals = false, heat = false;
    if (run)
        for (const StateInfo& state : (*run)->elaboration().network.states)
            (state.sort == StateSort::signal ? signals : heat) |= state.sort == StateSort::signal || state.heat;
    std::vector<std::string> lines;
    const double first = shortest / 10;
    const double decade = std::pow(10.0, std::floor(std::log10(first)));
    const double digit = first / decade >= 5 ? 5 : first / decade >= 2 ? 2 : 1;
    double step = digit * decade;
    for (int k = 0; k < 7; ++k) {
        std::string text = formatQuantity(step, "s", 3);
        std::erase(text, ' ');
        if (const auto space = text.find("\u00a0"); space != std::string::npos) text.erase(space, 2);
        if (const auto micro = text.find("µ"); micro != std::string::npos) text.replace(micro, 2, "u");
        if (text.ends_with('s')) text.pop_back();
        lines.push_back(fmt::format("fixed, step {}", text));
        lines.push_back(fmt::format("fixed, step {}, edges on the grid", text));
        if (signals) lines.push_back(fmt::format("fixed, step {}, control every 10", text));
        if (heat) lines.push_back(fmt::format("fixed, step {}, heat every 100", text));
        const double power = std::pow(10.0, std::floor(std::log10(step * 1.001)));
        const double lead = std::round(step / power);
        step = lead == 5 ? 2 * power : lead == 2 ? power : power / 2;
    }
    return lines;
}

const TradePoint* largestGoodStep(const TradeResult& result) {
    const TradePoint* found = nullptr;
    for (const TradePoint& point : result.points)
        if (!point.error && point.good && point.step > 0 &&
            (!found || point.step > found->step || (point.step == found->step && point.seconds < found->seconds)))
            found = &point;
    return found;
}

std::string standingText(const TradeResult& result) {
    double most = 0;
    for (const double moved : result.moved) most = std::max(most, moved);
    std::string words = result.converged
                            ? "converged: with a finer tolerance everything stands still ten times better than asked"
                            : fmt::format("not converged: with a finer tolerance features still move by {:.2g} of the accuracy", most);
    if (result.apart >= 0) words += fmt::format("; solved again in long double they move by {:.1g} of it", result.apart);
    return words;
}

std::string headroomText(const TradePoint& point) {
    if (point.error || point.step <= 0) return "";
    const auto times = [](double load) {
        return load < 1 ? fmt::format("{:.0f} % of its length", 100 * load) : fmt::format("{:.2g} times its length", load);
    };
    return fmt::format("a step takes {} to compute, the longest {}{}", times(point.load), times(point.longestLoad),
                       point.load < 1 ? fmt::format(": headroom {:.0f} %", 100 * (1 - point.load)) : "");
}

namespace {

/// A run that was solved once more, into traces of its own.
class SolvedAgain final : public RunRecord {
public:
    SolvedAgain(const Run& run, const CancelToken& cancel)
        : run_(run), store_(std::make_shared<TraceStore>(run.frame().signalCount(), memoryBudget())),
          summary_(run.solve({.reference = true}, *store_, cancel)) {}
    const Project& project() const override { return run_.project(); }
    const std::string& plan() const override { return run_.plan(); }
    const std::string& scene() const override { return run_.scene(); }
    Tick end() const override { return run_.end(); }
    Tick reached() const override { return store_->reached(); }
    const RunSummary& summary() const override { return summary_; }
    const std::vector<QuantityInfo>& quantities() const override { return run_.quantities(); }
    const std::vector<RatingInfo>& ratings() const override { return run_.ratings(); }
    std::size_t points() const override { return store_->count(); }
    std::size_t bytes() const override { return store_->bytes(); }
    std::unique_ptr<Trace> trace(std::string_view quantity, std::size_t) const override {
        const QuantityInfo* const info = findQuantity(quantity);
        if (!info) return nullptr;
        auto made = std::make_unique<Trace>(store_, *info, run_.layout());
        made->update();
        return made;
    }
    std::vector<std::pair<std::string, std::string>> provenance() const override { return run_.provenance(); }

private:
    const Run& run_;
    std::shared_ptr<TraceStore> store_;
    RunSummary summary_;
};

/// How far each feature is off, over the accuracy wanted; the largest. Infinite where one is missing.
double farthest(const std::vector<FeatureReader>& features, const std::vector<double>& reference, const std::vector<double>& values) {
    double most = values.size() == features.size() ? 0 : INFINITY;
    for (std::size_t i = 0; i < values.size() && i < features.size(); ++i) {
        const double allowed = features[i].allowed(reference[i]), off = std::abs(values[i] - reference[i]);
        most = std::max(most, off == 0 ? 0 : allowed > 0 ? off / allowed : INFINITY);
    }
    return most;
}

/// Whether the exact engine makes all of it.
bool allExact(const Run& run) {
    for (const Way& way : run.epochs().ways)
        for (const auto& circuit : way.circuits)
            if (circuit && !circuit->engine->exact()) return false;
    return true;
}

}  // namespace

/// Runs lines, as many at once as there are cores.
class TradeRunner {
public:
    TradeRunner(const TradeRequest& request, const std::vector<FeatureReader>& features, const CancelToken& cancel)
        : request_(request), features_(features), cancel_(cancel) {
        threads_ = request.threads > 0 ? request.threads : static_cast<int>(std::max(1u, std::thread::hardware_concurrency()));
    }

    /// @param tolerance  factor on that of the plan, for the reference
    TradePoint one(const std::string& line, double tolerance = 1) {
        tell(line);
        TradePoint point{.line = line};
        auto changed = withLine(*request_.project, request_.study, line);
        if (!changed) {
            point.error = changed.error();
            return point;
        }
        const LineParts parts = partsOf(line);
        if (tolerance != 1) refine(*changed, tolerance);
        RunSettings settings{.scene = request_.study.scene, .plan = parts.plan.empty() ? request_.study.plan : parts.plan};
        auto run = Run::prepare(std::make_shared<const Project>(std::move(*changed)), settings);
        if (!run) {
            point.error = run.error();
            ++done_;
            return point;
        }
        const double before = threadSeconds();
        (*run)->execute(cancel_);
        point.seconds = threadSeconds() - before;
        const RunSummary& summary = (*run)->summary();
        point.points = static_cast<std::int64_t>((*run)->points());
        point.events = summary.counter("events");
        point.engine = summary.engine;
        point.step = summary.second("step of the grid");
        if (const auto steps = static_cast<double>(summary.counter("steps")); point.step > 0 && steps > 0) {
            point.load = summary.second("total") / steps / point.step;
            point.longestLoad = summary.second("longest step") / point.step;
        }
        if (summary.end != RunEnd::finished)
            point.error = summary.error.value_or(Error{ErrorCode::stop, std::string(describe(summary.end))});
        for (std::size_t i = 0; i < features_.size() && !point.error; ++i) {
            const auto value = features_[i].valueIn(**run);
            if (value)
                point.values.push_back(*value);
            else
                point.error = value.error();
        }
        const std::size_t bytes = (*run)->bytes();
        if (kept_ + bytes <= mostKept) kept_ += bytes, point.run = *run;
        ++done_;
        return point;
    }

    std::vector<TradePoint> all(const std::vector<std::string>& lines) {
        std::vector<TradePoint> points(lines.size());
        std::atomic<std::size_t> next = 0;
        const auto work = [&] {
            for (std::size_t i = next++; i < lines.size() && !cancel_.cancelled(); i = next++) points[i] = one(lines[i]);
        };
        std::vector<std::thread> threads;
        for (int k = 1; k < std::min<int>(threads_, static_cast<int>(lines.size())); ++k) threads.emplace_back(work);
        work();
        for (std::thread& thread : threads) thread.join();
        for (std::size_t i = 0; i < points.size(); ++i)
            if (points[i].line.empty()) points[i].line = lines[i], points[i].error = Error{ErrorCode::stop, "stopped"};
        return points;
    }

    void expect(int runs) { about_ += runs; }
    int done() const { return done_; }

private:
    void tell(const std::string& line) {
        const std::lock_guard lock(mutex_);
        if (request_.progress) request_.progress({.done = done_, .about = std::max<int>(about_, done_ + 1), .now = line});
    }
    void refine(Project& project, double factor) const {
        for (Plan& plan : project.plans) {
            const ParameterTable parameters(project.parameters);
            const auto finer = [&](std::string& text) {
                if (const auto value = evaluateField(text, Unit{}, parameters.lookup()))
                    text = fmt::format("{}", std::max(1e-12, *value * factor));
            };
            finer(plan.tolerance);
            for (Span& span : plan.spans)
                if (!span.tolerance.empty()) finer(span.tolerance);
        }
    }

    const TradeRequest& request_;
    const std::vector<FeatureReader>& features_;
    const CancelToken& cancel_;
    int threads_ = 1;
    std::atomic<int> done_ = 0, about_ = 0;
    std::atomic<std::size_t> kept_ = 0;
    std::mutex mutex_;
};

namespace {

/// The present plan counts as a line too.
constexpr std::string_view presentLine = "as drawn";

void judge(TradePoint& point, const std::vector<FeatureReader>& features, const std::vector<double>& reference) {
    point.errors.clear();
    point.worst = 0;
    if (point.error) return;
    for (std::size_t i = 0; i < features.size(); ++i) {
        const double allowed = features[i].allowed(reference[i]), off = std::abs(point.values[i] - reference[i]);
        point.errors.push_back(off == 0 ? 0 : allowed > 0 ? off / allowed : INFINITY);
        point.worst = std::max(point.worst, point.errors.back());
    }
    point.good = point.worst <= 1;
}

void markFront(std::vector<TradePoint>& points) {
    for (TradePoint& point : points) {
        point.front = !point.error;
        for (const TradePoint& other : points)
            if (!other.error && &other != &point && other.seconds <= point.seconds && other.worst <= point.worst &&
                (other.seconds < point.seconds || other.worst < point.worst))
                point.front = false;
    }
}

}  // namespace

Result<TradeResult> runTrade(const TradeRequest& request, const CancelToken& cancel) {
    const Stopwatch watch;
    const TradeStudy& study = request.study;
    const Project& project = *request.project;
    const Plan* const plan = planOf(project, study);
    if (!plan) return Error{ErrorCode::name, fmt::format("the project has no plan '{}'", study.plan), {}, {}, "plan"};
    if (study.features.empty())
        return Error{ErrorCode::range, "say what matters: pp of L1.i within 1 %", {}, {}, "features"};
    std::vector<FeatureReader> features;
    TradeResult result{.study = study.name, .scene = study.scene, .plan = plan->name, .features = study.features};
    for (const std::string& line : study.features) {
        const auto read = readFeature(line);
        if (!read) {
            Error error = read.error();
            error.message = fmt::format("feature \"{}\": {}", line, error.message);
            error.field = "features";
            return error;
        }
        auto reader = FeatureReader::make(*read, project);
        if (!reader) return reader.error();
        features.push_back(std::move(*reader));
    }
    result.referenceLine = finest;
    std::vector<std::string> lines;
    for (const std::string& line : study.alternatives) {
        if (line.starts_with(referenceWord))
            result.referenceLine = trimmed(std::string_view(line).substr(referenceWord.size()));
        else if (std::find(lines.begin(), lines.end(), line) == lines.end())
            lines.push_back(line);
    }
    for (const std::string& line : lines)
        if (const auto sound = withLine(project, study, line); !sound) return sound.error();
    TradeRunner runner(request, features, cancel);
    runner.expect(2 + static_cast<int>(lines.size()) + 1);

    // The reference is refined until every feature stands still.
    std::optional<TradePoint> before;
    double factor = 1;
    for (int k = 0; k <= refinements && !result.converged; ++k, factor *= refinement) {
        TradePoint now = runner.one(result.referenceLine, factor);
        if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
        if (now.error) {
            if (!before) {
                Error error = *now.error;
                error.message = fmt::format("the reference, {}, does not run: {}", result.referenceLine, error.message);
                return error;
            }
            break;
        }
        if (before) {
            result.moved.clear();
            double most = 0;
            for (std::size_t i = 0; i < features.size(); ++i) {
                const double allowed = features[i].allowed(now.values[i]), off = std::abs(now.values[i] - before->values[i]);
                result.moved.push_back(off == 0 ? 0 : allowed > 0 ? off / allowed : INFINITY);
                most = std::max(most, result.moved.back());
            }
            result.converged = most <= standsStill;
        }
        result.referenceSeconds = now.seconds;
        before = std::move(now);
    }
    // Where every state is a closed form, rounding is what is left: once more, in long double.
    if (before->run && allExact(*before->run)) {
        if (request.progress) request.progress({.done = runner.done(), .about = runner.done() + 1, .now = "long double"});
        const SolvedAgain again(*before->run, cancel);
        if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
        std::vector<double> values;
        for (const FeatureReader& feature : features)
            if (const auto value = feature.valueIn(again)) values.push_back(*value);
        result.apart = farthest(features, before->values, values);
        result.converged = result.converged && result.apart <= standsStill;
    }
    result.reference = before->values;
    result.referenceRun = before->run;
    for (const FeatureReader& feature : features)
        result.units.push_back(before->run ? feature.unitIn(*before->run) : "");

    // The plan as it stands, then the alternatives.
    std::vector<std::string> all{std::string(presentLine)};
    for (const std::string& line : lines)
        if (line != presentLine) all.push_back(line);
    result.points = runner.all(all);
    if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
    result.points.front().present = true;
    for (TradePoint& point : result.points) judge(point, features, result.reference);

    if (request.search) {
        SearchSetting setting{.project = project,
                              .study = study,
                              .features = features,
                              .reference = result.reference,
                              .referenceLine = result.referenceLine,
                              .run = [&](const std::vector<std::string>& some) {
                                  runner.expect(static_cast<int>(some.size()));
                                  auto points = runner.all(some);
                                  for (TradePoint& point : points) judge(point, features, result.reference);
                                  return points;
                              }};
        SearchAnswer answer = searchCheapest(setting, result.points, cancel);
        if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
        result.answer = std::move(answer.line);
        result.verdicts = std::move(answer.verdicts);
    }
    result.runs = runner.done();
    // What is among the cheapest is timed again, one at a time: a machine has other things to do.
    double cheapest = INFINITY;
    for (const TradePoint& point : result.points)
        if (!point.error && point.good) cheapest = std::min(cheapest, point.seconds);
    for (TradePoint& point : result.points)
        for (int k = 0; k < timings && !point.error && point.good && point.seconds < nearCheapest * cheapest; ++k) {
            const TradePoint again = runner.one(point.line);
            if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
            if (!again.error) point.seconds = std::min(point.seconds, again.seconds);
        }
    const TradePoint *best = nullptr, *found = nullptr;
    for (const TradePoint& point : result.points) {
        if (point.error || !point.good) continue;
        if (!best || point.seconds < best->seconds) best = &point;
        if (point.line == result.answer) found = &point;
    }
    // The answer of the search stands unless something simpler costs clearly less.
    if (best && !(found && found->seconds < sameCost * best->seconds)) result.answer = best->line;
    markFront(result.points);
    result.seconds = watch.seconds();
    return result;
}

}  // namespace hedgerow
