#include "studies/optimise.h"

#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>
#include <nlopt.hpp>

#include "base/parallel.h"
#include "model/values.h"

namespace hedgerow {

namespace {

constexpr double missing = 1e12;       ///< what counts for a place without a value
constexpr double holds = 1e-9;         ///< a constraint up to this part above 0 holds
constexpr double stands = 1e-3;        ///< of a limit: nearer to it a measure stands at it
constexpr double nearby = 0.01;        ///< of the range, for flatness
constexpr double globalShare = 0.6;    ///< of the evaluations
constexpr double firstStep = 0.15, laterStep = 0.04;  ///< of the box
constexpr double improved = 1e-4;      ///< of the objective: less is no reason to begin anew
constexpr int mostBeginnings = 6;

using Place = std::vector<double>;

/// What NLopt calls back, by one pointer.
struct Called {
    const Objective& objective;
    const OptimiserSetting& setting;
    const CancelToken& cancel;
    Optimum& best;
    std::map<Place, Objective::At> known = {};
    int most = 0;

    const Objective::At& at(const Place& x) {
        const auto found = known.find(x);
        if (found != known.end()) return found->second;
        if (cancel.cancelled() || best.evaluations >= most) throw nlopt::forced_stop();
        ++best.evaluations;
        Objective::At at = objective.at(x);
        at.constraints.resize(objective.constraints, missing);
        const bool kept = std::all_of(at.constraints.begin(), at.constraints.end(), [](double c) { return c <= holds; });
        if (kept && std::isfinite(at.value) && !(best.value <= at.value)) best.at = x, best.value = at.value, best.constraints = at.constraints;
        return known.emplace(x, std::move(at)).first->second;
    }
    double value(const Place& x) {
        const double value = at(x).value;
        return std::isfinite(value) ? value : missing;
    }
    double constraint(const Place& x, std::size_t index) {
        const double value = at(x).constraints[index];
        return std::isfinite(value) ? value : missing;
    }
    /// The places to either side of one, along each axis; at an end of the box the place itself stands for the one beyond.
    std::vector<std::pair<Place, Place>> sides(const Place& x) const {
        std::vector<std::pair<Place, Place>> all(x.size(), {x, x});
        for (std::size_t i = 0; i < x.size(); ++i) {
            all[i].first[i] = std::max(0.0, x[i] - setting.difference);
            all[i].second[i] = std::min(1.0, x[i] + setting.difference);
        }
        return all;
    }
    void gradient(const Place& x, std::vector<double>& out, const std::function<double(const Place&)>& of) {
        if (out.empty()) return;
        const auto all = sides(x);
        std::vector<Place> wanted;
        for (const auto& [low, high] : all)
            for (const Place& place : {low, high})
                if (!known.contains(place)) wanted.push_back(place);
        if (objective.ahead && wanted.size() > 1 && static_cast<int>(wanted.size()) <= most - best.evaluations && !cancel.cancelled())
            objective.ahead(wanted);
        for (std::size_t i = 0; i < x.size(); ++i) {
            const double width = all[i].second[i] - all[i].first[i], low = of(all[i].first), high = of(all[i].second);
            // Beside a place without a value there is no slope.
            out[i] = low >= missing || high >= missing ? 0 : (high - low) / width;
        }
    }
};

double valueOf(const Place& x, std::vector<double>& gradient, void* data) {
    auto* const called = static_cast<Called*>(data);
    const double value = called->value(x);
    called->gradient(x, gradient, [&](const Place& at) { return called->value(at); });
    return value;
}

struct Constraint {
    Called* called;
    std::size_t index;
};
double constraintOf(const Place& x, std::vector<double>& gradient, void* data) {
    const auto* const constraint = static_cast<Constraint*>(data);
    const double value = constraint->called->constraint(x, constraint->index);
    constraint->called->gradient(x, gradient, [&](const Place& at) { return constraint->called->constraint(at, constraint->index); });
    return value;
}

void search(nlopt::algorithm algorithm, Called& called, Place from, int most, double step) {
    nlopt::opt opt(algorithm, static_cast<unsigned>(called.objective.variables));
    opt.set_lower_bounds(0.0), opt.set_upper_bounds(1.0);
    opt.set_min_objective(valueOf, &called);
    std::vector<Constraint> constraints(called.objective.constraints);
    for (std::size_t i = 0; i < constraints.size(); ++i) {
        constraints[i] = {&called, i};
        opt.add_inequality_constraint(constraintOf, &constraints[i], holds);
    }
    opt.set_xtol_abs(called.setting.tolerance);
    opt.set_maxeval(most);
    opt.set_initial_step(step);
    called.most = std::min(called.setting.most, called.best.evaluations + most);
    called.best.ended = false;
    try {
        double value = 0;
        const nlopt::result outcome = opt.optimize(from, value);
        called.best.ended = outcome == nlopt::XTOL_REACHED || outcome == nlopt::FTOL_REACHED || outcome == nlopt::SUCCESS;
    } catch (const nlopt::forced_stop&) {
    } catch (const nlopt::roundoff_limited&) {
        called.best.ended = true;
    } catch (const std::exception&) {
        // What it cannot do ends it: the best place so far counts.
    }
}

/// The best of the starts: one that keeps all constraints, else the first.
Place startOf(Called& called) {
    std::vector<Place> starts = called.setting.starts;
    if (starts.empty()) starts.emplace_back();
    for (Place& start : starts) {
        start.resize(called.objective.variables, 0.5);
        for (double& x : start) x = std::clamp(x, 0.0, 1.0);
    }
    if (starts.size() == 1) return starts.front();
    called.most = called.setting.most;
    if (called.objective.ahead) called.objective.ahead(starts);
    try {
        for (const Place& start : starts) (void)called.at(start);
    } catch (const nlopt::forced_stop&) {
    }
    return called.best.at.empty() ? starts.front() : called.best.at;
}

}  // namespace

Optimum minimise(const Objective& objective, const OptimiserSetting& setting, const CancelToken& cancel) {
    using Way = Sampling::Search::Way;
    Optimum best{.value = NAN};
    Called called{.objective = objective, .setting = setting, .cancel = cancel, .best = best};
    Place start = startOf(called);
    if (setting.way == Way::global) {
        nlopt::srand(1);
        search(nlopt::GN_ISRES, called, start, static_cast<int>(setting.most * globalShare), firstStep);
        if (!best.at.empty()) start = best.at;
    }
    const bool bowl = objective.constraints == 0 && objective.variables > 1;
    const nlopt::algorithm algorithm = setting.way == Way::gradient ? nlopt::LD_SLSQP : bowl ? nlopt::LN_BOBYQA : nlopt::LN_COBYLA;
    for (int k = 0; k < mostBeginnings && best.evaluations < setting.most && !cancel.cancelled(); ++k) {
        const double before = best.value;
        const bool from = !best.at.empty();
        search(algorithm, called, start, setting.most - best.evaluations, k == 0 ? firstStep : laterStep);
        if (best.at.empty() || (from && before - best.value <= improved * std::abs(before))) break;
        start = best.at;
    }
    return best;
}

namespace {

/// A study as a function of places in the box, each run once.
class Searched {
public:
    Searched(const StudySetup& setup, StudySink& sink, const StudyRunning& running, const CancelToken& cancel)
        : setup_(setup), varied_(setup.points.varied()), sink_(sink), running_(running), cancel_(cancel) {
        for (std::size_t m = 0; m < setup.measures.size(); ++m) {
            if (setup.measures[m].above) limits.emplace_back(m, false);
            if (setup.measures[m].below) limits.emplace_back(m, true);
        }
    }

    /// Measure, and whether the limit is the one below which it stays.
    std::vector<std::pair<std::size_t, bool>> limits;
    std::optional<Error> fault;
    std::string firstFailure;  ///< why the first run that failed did
    std::size_t failed() const { return failed_; }
    std::size_t made() const { return rows_.size(); }

    Status takeKnown() {
        auto rows = sink_.rows();
        if (!rows) return rows.error();
        for (StudyRow& row : *rows) {
            next_ = std::max(next_, row.index + 1);
            countFailure(row);
            rows_.emplace(row.point, std::move(row));
        }
        before_ = rows_.size();
        return {};
    }
    std::size_t known() const { return before_; }

    StudyPoint pointOf(const Place& x) const {
        StudyPoint point;
        for (std::size_t i = 0; i < varied_.size(); ++i) {
            // Preferred values and lists are taken as they stand; a range is continuous, its ends included.
            if (varied_[i].sort == Varied::Sort::range || varied_[i].texts.empty()) {
                point.push_back(varied_[i].at(std::clamp(x[i], 0.0, 1.0)));
                continue;
            }
            const auto last = static_cast<double>(varied_[i].texts.size() - 1);
            point.push_back(varied_[i].texts[static_cast<std::size_t>(std::lround(std::clamp(x[i], 0.0, 1.0) * last))]);
        }
        return point;
    }
    Place placeOf(const StudyPoint& point) const {
        Place x;
        for (std::size_t i = 0; i < varied_.size(); ++i) {
            const auto value = evaluate(point[i]);
            x.push_back(value ? varied_[i].placeOf(value->value) : 0.5);
        }
        return x;
    }

    /// Runs what is not known of these, on all cores.
    void run(const std::vector<Place>& places) {
        std::vector<StudyPoint> wanted;
        for (const Place& x : places)
            if (StudyPoint point = pointOf(x); !rows_.contains(point) && std::find(wanted.begin(), wanted.end(), point) == wanted.end())
                wanted.push_back(std::move(point));
        std::vector<std::pair<StudyRow, std::shared_ptr<Run>>> made(wanted.size());
        inParallel(running_.threads, wanted.size(), [&](std::size_t i) {
            made[i].first = runStudyPoint(setup_, next_ + i, wanted[i], cancel_, setup_.keep.empty() ? nullptr : &made[i].second);
            return !cancel_.cancelled();
        });
        if (cancel_.cancelled()) return;  // what was stopped in the middle is run again
        for (std::size_t i = 0; i < made.size(); ++i) take(std::move(made[i].first), made[i].second.get());
        next_ += made.size();
    }
    /// A row; nothing of one that was stopped.
    const StudyRow& row(const Place& x) {
        const StudyPoint point = pointOf(x);
        if (const auto found = rows_.find(point); found != rows_.end()) return found->second;
        run({x});
        return rows_[point];
    }
    /// As it is made small.
    double value(const StudyRow& row) const {
        if (row.values.empty()) return NAN;
        const double value = row.values[setup_.objective];
        return setup_.points.sampling().search.most ? -value : value;
    }
    Objective::At at(const Place& x) {
        if (fault) return {.value = NAN};
        const StudyRow& made = row(x);
        Objective::At at{.value = value(made)};
        for (const auto& [m, below] : limits) {
            const double limit = below ? *setup_.measures[m].below : *setup_.measures[m].above;
            const double off = made.values.empty() ? missing : below ? made.values[m] - limit : limit - made.values[m];
            at.constraints.push_back(off / std::max(std::abs(limit), 1e-12));
        }
        return at;
    }
    /// Where it begins.
    std::vector<Place> starts() const {
        const StudyRow* best = nullptr;
        for (const auto& [point, one] : rows_)
            if (one.good && (!best || value(one) < value(*best))) best = &one;
        if (best) return {placeOf(best->point)};
        Place present;
        for (const Varied& one : varied_) {
            const auto value = presentValue(*setup_.project, one.target);
            present.push_back(value ? one.placeOf(*value) : 0.5);
        }
        return {std::move(present), Place(varied_.size(), 0.5)};
    }

private:
    void countFailure(const StudyRow& row) {
        if (row.error.empty()) return;
        if (failed_++ == 0) firstFailure = row.error;
    }
    void take(StudyRow made, const Run* run) {
        if (run)
            if (auto written = writeStudyTrace(setup_, made, *run, running_.traces, cancel_); !written && !fault) fault = written.error();
        computed_ += made.seconds;
        countFailure(made);
        if (auto taken = sink_.take(made); !taken && !fault) fault = taken.error();
        rows_[made.point] = std::move(made);
        if (running_.progress)
            running_.progress({.done = rows_.size(), .of = std::max(setup_.points.size(), rows_.size()), .failed = failed_,
                               .seconds = watch_.seconds(), .speedup = computed_ / std::max(1e-9, watch_.seconds())});
    }

    const StudySetup& setup_;
    const std::vector<Varied>& varied_;
    StudySink& sink_;
    const StudyRunning& running_;
    const CancelToken& cancel_;
    std::map<StudyPoint, StudyRow> rows_;
    std::size_t next_ = 0, before_ = 0, failed_ = 0;
    double computed_ = 0;
    Stopwatch watch_;
};

}  // namespace

Result<OptimiseResult> searchStudy(const StudySetup& setup, StudySink& sink, const StudyRunning& running, const CancelToken& cancel) {
    const std::vector<Varied>& varied = setup.points.varied();
    const Sampling& sampling = setup.points.sampling();
    Searched searched(setup, sink, running, cancel);
    if (auto taken = searched.takeKnown(); !taken) return taken.error();
    const Objective objective{.variables = varied.size(), .constraints = searched.limits.size(),
                              .at = [&](const Place& x) { return searched.at(x); },
                              .ahead = [&](const std::vector<Place>& places) { searched.run(places); }};
    const auto most = static_cast<int>(std::max<std::size_t>(sampling.count > searched.known() ? sampling.count - searched.known() : 0, 1));
    const Optimum best = minimise(objective, {.way = sampling.search.way, .starts = searched.starts(), .most = most}, cancel);
    if (searched.fault) return *searched.fault;
    if (best.at.empty()) {
        if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
        if (!searched.firstFailure.empty() && searched.failed() == searched.made())
            return Error{ErrorCode::range, fmt::format("none of {} runs has a value; the first: {}", searched.made(), searched.firstFailure), {}, {}, "measured"};
        return Error{ErrorCode::range, fmt::format("none of {} runs keeps all limits", searched.made()), {}, {}, "measured"};
    }
    OptimiseResult result{.best = searched.row(best.at), .value = sampling.search.most ? -best.value : best.value,
                          .evaluations = best.evaluations, .ended = best.ended};
    for (std::size_t k = 0; k < searched.limits.size(); ++k)
        if (best.constraints[k] > -stands) result.binding.push_back(setup.measures[searched.limits[k].first].text);
    std::vector<Place> around;
    for (std::size_t i = 0; i < varied.size(); ++i)
        for (const double side : {-nearby, nearby}) {
            around.push_back(best.at);
            around.back()[i] = std::clamp(around.back()[i] + side, 0.0, 1.0);
        }
    searched.run(around);
    for (std::size_t i = 0; i < varied.size() && !cancel.cancelled(); ++i) {
        double most = 0;
        for (const Place& x : {around[2 * i], around[2 * i + 1]}) {
            const double value = searched.value(searched.row(x));
            if (std::isfinite(value)) most = std::max(most, std::abs(value - best.value) / std::max(std::abs(best.value), 1e-300));
        }
        result.flatness.push_back(most);
    }
    std::string place;
    for (std::size_t i = 0; i < varied.size(); ++i) {
        const auto value = evaluate(result.best.point[i]);
        place += fmt::format("{}{} = {}", i ? ", " : "", varied[i].target,
                             value ? formatQuantity(value->value, varied[i].unit, 5) : result.best.point[i]);
    }
    const StudyMeasure& made = setup.measures[setup.objective];
    result.words.push_back(fmt::format("best: {} with {} = {}", place, sampling.search.objective, formatQuantity(result.value, made.unit, 5)));
    for (std::size_t m = 0; m < setup.measures.size(); ++m)
        if (m != setup.objective)
            result.words.push_back(fmt::format("{}: {}", setup.measures[m].text, formatQuantity(result.best.values[m], setup.measures[m].unit, 5)));
    for (const std::string& text : result.binding) result.words.push_back("stands at its limit: " + text);
    for (std::size_t i = 0; i < result.flatness.size(); ++i)
        result.words.push_back(fmt::format("{} by a hundredth of its range to either side: the objective changes by up to {:.2g} %", varied[i].target,
                                           100 * result.flatness[i]));
    result.words.push_back(fmt::format("{} runs; {}", searched.known() + static_cast<std::size_t>(result.evaluations),
                                       cancel.cancelled() ? "it was stopped"
                                       : result.ended     ? "it ended by itself"
                                                          : "it was ended: more runs may lead further"));
    if (auto concluded = sink.conclude(result.words); !concluded) return concluded.error();
    return result;
}

}  // namespace hedgerow
