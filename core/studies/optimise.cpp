#include "studies/optimise.h"

#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>
#include <nlopt.hpp>

#include "model/values.h"

namespace hedgerow {

namespace {

constexpr double missing = 1e12;       ///< what counts for a place without a value
constexpr double holds = 1e-9;         ///< a constraint up to this part above 0 holds
constexpr double stands = 1e-3;        ///< of a limit: nearer to it a measure stands at it
constexpr double nearby = 0.01;        ///< of the range, for flatness
constexpr double globalShare = 0.6;    ///< of the evaluations

/// What NLopt calls back, by one pointer.
struct Called {
    const Objective& objective;
    const CancelToken& cancel;
    Optimum& best;
    nlopt::opt* running = nullptr;
    std::map<std::vector<double>, Objective::At> known = {};
    int most = 0;

    const Objective::At& at(const std::vector<double>& x) {
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
};

double valueOf(const std::vector<double>& x, std::vector<double>&, void* data) {
    const double value = static_cast<Called*>(data)->at(x).value;
    return std::isfinite(value) ? value : missing;
}

struct Constraint {
    Called* called;
    std::size_t index;
};
double constraintOf(const std::vector<double>& x, std::vector<double>&, void* data) {
    const auto* const constraint = static_cast<Constraint*>(data);
    const double value = constraint->called->at(x).constraints[constraint->index];
    return std::isfinite(value) ? value : missing;
}

void search(nlopt::algorithm algorithm, Called& called, const OptimiserSetting& setting, std::vector<double> from, int most) {
    nlopt::opt opt(algorithm, static_cast<unsigned>(called.objective.variables));
    opt.set_lower_bounds(0.0), opt.set_upper_bounds(1.0);
    opt.set_min_objective(valueOf, &called);
    std::vector<Constraint> constraints(called.objective.constraints);
    for (std::size_t i = 0; i < constraints.size(); ++i) {
        constraints[i] = {&called, i};
        opt.add_inequality_constraint(constraintOf, &constraints[i], holds);
    }
    opt.set_xtol_abs(setting.tolerance);
    opt.set_maxeval(most);
    opt.set_initial_step(0.15);
    called.most = std::min(setting.most, called.best.evaluations + most);
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

}  // namespace

Optimum minimise(const Objective& objective, const OptimiserSetting& setting, const CancelToken& cancel) {
    Optimum best{.value = NAN};
    Called called{.objective = objective, .cancel = cancel, .best = best};
    std::vector<double> start = setting.start;
    start.resize(objective.variables, 0.5);
    for (double& x : start) x = std::clamp(x, 0.0, 1.0);
    if (setting.global) {
        nlopt::srand(1);
        search(nlopt::GN_ISRES, called, setting, start, static_cast<int>(setting.most * globalShare));
        if (!best.at.empty()) start = best.at;
    }
    const bool bowl = objective.constraints == 0 && objective.variables > 1;
    search(bowl ? nlopt::LN_BOBYQA : nlopt::LN_COBYLA, called, setting, start, setting.most - best.evaluations);
    return best;
}

Result<OptimiseResult> optimise(const OptimiseRequest& request, StudySink& sink, const CancelToken& cancel) {
    const StudySetup& setup = request.setup;
    const std::vector<Varied>& varied = setup.points.varied();
    for (const Varied& one : varied)
        if (!one.numeric() || (one.sort == Varied::Sort::normal && !std::isfinite(one.low)))
            return Error{ErrorCode::range, fmt::format("'{}' has no range to be searched: write 10u to 100u, or E12 from 10u to 100u", one.target),
                         {}, {}, "varied"};
    std::vector<std::pair<std::size_t, bool>> limits;  // measure, and whether it is the one below
    for (std::size_t m = 0; m < setup.measures.size(); ++m) {
        if (setup.measures[m].above) limits.emplace_back(m, false);
        if (setup.measures[m].below) limits.emplace_back(m, true);
    }
    const auto pointOf = [&](const std::vector<double>& x) {
        StudyPoint point;
        for (std::size_t i = 0; i < varied.size(); ++i) {
            // Preferred values and lists are taken as they stand; a range is continuous, its ends included.
            if (varied[i].sort == Varied::Sort::range || varied[i].texts.empty()) {
                point.push_back(varied[i].at(std::clamp(x[i], 0.0, 1.0)));
                continue;
            }
            const auto last = static_cast<double>(varied[i].texts.size() - 1);
            point.push_back(varied[i].texts[static_cast<std::size_t>(std::lround(std::clamp(x[i], 0.0, 1.0) * last))]);
        }
        return point;
    };
    std::optional<Error> fault;
    std::size_t count = 0;
    std::map<StudyPoint, std::pair<StudyRow, double>> rows;
    const auto evaluated = [&](const std::vector<double>& x) -> const std::pair<StudyRow, double>& {
        const StudyPoint point = pointOf(x);
        const auto found = rows.find(point);
        if (found != rows.end()) return found->second;
        StudyRow row = runStudyPoint(setup, count, point, cancel);
        double value = NAN;
        if (row.error.empty()) {
            const auto changed = withPoint(*setup.project, setup.study, varied, point);
            const ParameterTable parameters(changed ? changed->parameters : setup.project->parameters);
            const ParameterLookup lookup = [&](std::string_view name) -> Result<Quantity> {
                for (std::size_t m = 0; m < setup.measures.size(); ++m)
                    if (setup.measures[m].name == name) return Quantity{row.values[m], {}};
                const auto known = parameters.value(name);
                if (!known) return known.error();
                return Quantity{known->value, {}};
            };
            const auto made = evaluate(request.objective, lookup);
            if (made)
                value = request.most ? -made->value : made->value;
            else if (!fault)
                fault = made.error();
        }
        if (!cancel.cancelled()) {
            ++count;
            if (auto taken = sink.take(row); !taken && !fault) fault = taken.error();
        }
        return rows.emplace(point, std::pair(std::move(row), value)).first->second;
    };
    const Objective objective{.variables = varied.size(), .constraints = limits.size(), .at = [&](const std::vector<double>& x) {
                                  if (fault) return Objective::At{.value = NAN};
                                  const auto& [row, value] = evaluated(x);
                                  Objective::At at{.value = value};
                                  for (const auto& [m, below] : limits) {
                                      const double limit = below ? *setup.measures[m].below : *setup.measures[m].above;
                                      const double off = row.values.empty() ? missing : below ? row.values[m] - limit : limit - row.values[m];
                                      at.constraints.push_back(off / std::max(std::abs(limit), 1e-12));
                                  }
                                  return at;
                              }};
    // It begins in the middle of the ranges.
    const std::vector<double> start(varied.size(), 0.5);
    const Optimum best = minimise(objective, {.global = request.global, .start = start, .most = request.evaluations}, cancel);
    if (fault) {
        fault->message = fmt::format("\"{}\": {}", request.objective, fault->message);
        return *fault;
    }
    if (best.at.empty()) {
        if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped"};
        return Error{ErrorCode::range, fmt::format("none of {} runs keeps all limits", best.evaluations), {}, {}, "measured"};
    }
    OptimiseResult result{.best = evaluated(best.at).first, .value = request.most ? -best.value : best.value, .evaluations = best.evaluations,
                          .ended = best.ended};
    for (std::size_t k = 0; k < limits.size(); ++k)
        if (best.constraints[k] > -stands) result.binding.push_back(setup.measures[limits[k].first].text);
    for (std::size_t i = 0; i < varied.size() && !cancel.cancelled(); ++i) {
        double most = 0;
        for (const double side : {-nearby, nearby}) {
            std::vector<double> x = best.at;
            x[i] = std::clamp(x[i] + side, 0.0, 1.0);
            const double value = evaluated(x).second;
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
    result.words.push_back(fmt::format("best: {} with {} = {:.6g}", place, request.objective, result.value));
    for (std::size_t m = 0; m < setup.measures.size(); ++m)
        result.words.push_back(fmt::format("{}: {}", setup.measures[m].text, formatQuantity(result.best.values[m], setup.measures[m].unit, 5)));
    for (const std::string& text : result.binding) result.words.push_back("stands at its limit: " + text);
    for (std::size_t i = 0; i < result.flatness.size(); ++i)
        result.words.push_back(fmt::format("{} by a hundredth of its range to either side: the objective changes by up to {:.2g} %", varied[i].target,
                                           100 * result.flatness[i]));
    result.words.push_back(fmt::format("{} runs; {}", result.evaluations, result.ended ? "it ended by itself" : "it was ended: more runs may lead further"));
    return result;
}

}  // namespace hedgerow
