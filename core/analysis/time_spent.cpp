#include "analysis/time_spent.h"

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "model/quantity.h"
#include "model/rung_rule.h"
#include "model/span_text.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr double greatShare = 0.4, rulingShare = 0.25;
constexpr double worthIt = 0.02;  ///< s: what takes less needs no advice
constexpr std::size_t mostParts = 8;

/// On which rung a part stood in a span.
int rungIn(const RunRecord& run, const std::string& part, const std::string& rungs) {
    FlatProject flat = flattened(run.project(), partLibrary().catalogue());
    (void)applyRungRule(rungs, flat.project, partLibrary().catalogue());
    const Part* const found = flat.project.findPart(std::string_view(part));
    return found ? found->rung : 0;
}

}  // namespace

TimeSpent timeSpent(const RunRecord& run) {
    const RunSummary& summary = run.summary();
    TimeSpent all{.seconds = summary.second("total"), .spans = {}, .kinds = {}, .parts = {}, .first = {}};
    const double whole = std::max(all.seconds, 1e-12);
    for (const SpanOutcome& span : summary.spans)
        all.spans.push_back({.what = span.text, .share = span.seconds / whole, .seconds = span.seconds, .cause = span.ruled});
    for (const auto& [name, seconds] : summary.seconds)
        if (name != "total" && !name.starts_with("step of") && !name.starts_with("longest"))
            all.kinds.push_back({.what = name, .share = seconds / whole, .seconds = seconds});
    all.bySteps = !summary.stepsByPart.empty();
    const auto& counted = all.bySteps ? summary.stepsByPart : summary.eventsByPart;
    double sum = 0;
    for (const auto& [part, count] : counted) sum += static_cast<double>(count);
    for (const auto& [part, count] : counted)
        all.parts.push_back({.what = part, .share = static_cast<double>(count) / std::max(1.0, sum)});
    const auto greater = [](const TimeRow& a, const TimeRow& b) { return a.share > b.share; };
    std::stable_sort(all.kinds.begin(), all.kinds.end(), greater);
    std::stable_sort(all.parts.begin(), all.parts.end(), greater);
    if (all.parts.size() > mostParts) all.parts.resize(mostParts);
    if (all.seconds < worthIt) return all;

    const Plan* const plan = run.project().findPlan(run.plan());
    std::size_t dearest = 0;
    for (std::size_t i = 0; i < all.spans.size(); ++i)
        if (all.spans[i].seconds > all.spans[dearest].seconds) dearest = i;
    const bool one = !all.spans.empty() && all.spans[dearest].share > greatShare;
    const std::string where = one ? fmt::format(" of \"{}\", which took {:.0f} % of the time", all.spans[dearest].what,
                                                100 * all.spans[dearest].share)
                                  : "";
    if (all.bySteps && !all.parts.empty() && all.parts.front().share > rulingShare) {
        std::string part = all.parts.front().what, rungs;
        if (one && !all.spans[dearest].cause.empty()) {
            part = all.spans[dearest].cause.substr(0, all.spans[dearest].cause.find(','));
            if (plan && dearest < plan->spans.size()) rungs = plan->spans[dearest].rungs;
        }
        const int rung = rungIn(run, part, rungs);
        all.first = fmt::format("{} rules most steps{}: ", part, where);
        all.first += rung > 1 ? fmt::format("put it on rung {} there", rung - 1) : "make what is fast there slower";
        if (one) all.first += ", or make the span shorter";
        return all;
    }
    if (!all.kinds.empty() && all.kinds.front().what == "storing" && all.kinds.front().share > greatShare) {
        all.first = "storing takes most of the time: keep fewer quantities, or let the lines be coarser (trace tolerance)";
        return all;
    }
    if (!all.kinds.empty() && all.kinds.front().what == "search" && all.kinds.front().share > greatShare) {
        all.first = "the search for the periodic state takes most of the time: let the circuit come nearer before it settles";
        return all;
    }
    if (one) all.first = fmt::format("\"{}\" takes {:.0f} % of the time: make it shorter, or keep less of it",
                                     all.spans[dearest].what, 100 * all.spans[dearest].share);
    return all;
}

}  // namespace hedgerow
