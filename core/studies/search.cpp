#include "studies/search.h"

#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "base/text.h"
#include "model/modules.h"
#include "model/rung_rule.h"
#include "model/span_text.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr double matters = 0.1;    ///< of the accuracy wanted, by which a part must move a feature to count
constexpr double coarser = 10;     ///< of the tolerance, that is tried last
constexpr double same = 0.02;      ///< of CPU time, within which two plans cost the same

/// A part with more than one rung, up to that of the reference.
struct Rungs {
    std::string part;
    std::vector<int> all;  ///< rising
    int lowest() const { return all.front(); }
    int highest() const { return all.back(); }
};

class Search {
public:
    Search(const SearchSetting& setting, std::vector<TradePoint>& points, const CancelToken& cancel)
        : setting_(setting), points_(points), cancel_(cancel) {
        // What the reference stands on is as far as parts may climb.
        FlatProject flat = flattened(setting.project, partLibrary().catalogue());
        (void)applyReference(flat.project);
        for (const Part& part : flat.project.sheet().parts) {
            const PartKind* const kind = partLibrary().catalogue().find(part.kind);
            if (!kind) continue;
            Rungs rungs{.part = part.name, .all = {}};
            for (const RungKind& rung : kind->rungs)
                if (rung.rung >= 1 && rung.rung <= part.rung) rungs.all.push_back(rung.rung);
            std::sort(rungs.all.begin(), rungs.all.end());
            if (rungs.all.size() > 1) parts_.push_back(std::move(rungs));
        }
    }

    SearchAnswer find() {
        SearchAnswer answer;
        const std::size_t n = parts_.size();
        std::vector<int> low(n), high(n);
        for (std::size_t i = 0; i < n; ++i) low[i] = parts_[i].lowest(), high[i] = parts_[i].highest();
        // From below: all as low as they go, and each one up alone.
        std::vector<std::vector<int>> ask{low};
        for (std::size_t i = 0; i < n; ++i) {
            ask.push_back(low);
            ask.back()[i] = high[i];
        }
        run(ask);
        if (cancel_.cancelled()) return answer;
        const TradePoint& bottom = known(low);
        std::vector<double> weight(n, INFINITY);  // what a part moves, over the accuracies
        for (std::size_t i = 0; i < n; ++i) weight[i] = moved(bottom, known(ask[i + 1]));
        std::vector<int> now = low;
        for (std::size_t i = 0; i < n; ++i)
            if (weight[i] > matters) now[i] = high[i];
        if (!good(now)) {
            // What shows only in company: from above, each of the others down alone.
            std::vector<std::vector<int>> down;
            std::vector<std::size_t> which;
            for (std::size_t i = 0; i < n; ++i)
                if (now[i] != high[i]) {
                    down.push_back(high);
                    down.back()[i] = low[i];
                    which.push_back(i);
                }
            down.push_back(high);
            run(down);
            if (cancel_.cancelled()) return answer;
            const TradePoint& top = known(high);
            for (std::size_t k = 0; k < which.size(); ++k) {
                weight[which[k]] = std::max(weight[which[k]], moved(top, known(down[k])));
                if (moved(top, known(down[k])) > matters) now[which[k]] = high[which[k]];
            }
            // The rest one by one, that which moves most first.
            std::vector<std::size_t> rest;
            for (std::size_t i = 0; i < n; ++i)
                if (now[i] != high[i]) rest.push_back(i);
            std::sort(rest.begin(), rest.end(), [&](std::size_t a, std::size_t b) { return weight[a] > weight[b]; });
            for (std::size_t k = 0; k < rest.size() && !good(now) && !cancel_.cancelled(); ++k) now[rest[k]] = high[rest[k]];
            if (!good(now)) now = high;
        }
        if (cancel_.cancelled()) return answer;
        const bool enough = good(now);
        // Down again, that which moves least first: it gives most for least.
        std::vector<std::size_t> order;
        for (std::size_t i = 0; i < n; ++i)
            if (now[i] > low[i]) order.push_back(i);
        std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return weight[a] < weight[b]; });
        std::map<std::size_t, std::string> needs;
        for (const std::size_t i : order) {
            if (!enough || cancel_.cancelled()) break;
            // From its lowest rung upwards; what is next below the one it stands on tells why it needs that.
            for (const int rung : parts_[i].all) {
                if (rung >= now[i]) break;
                std::vector<int> lower = now;
                lower[i] = rung;
                if (good(lower)) {
                    now = lower;
                    break;
                }
                needs[i] = spoils(known(lower), rung);
            }
        }
        if (cancel_.cancelled()) return answer;
        for (std::size_t i = 0; i < n; ++i) {
            PartVerdict verdict{.part = parts_[i].part, .rung = now[i], .highest = high[i], .why = {}};
            verdict.needed = now[i] > low[i];
            if (!enough)
                verdict.why = "nothing was good enough";
            else if (verdict.needed)
                verdict.why = needs.contains(i) ? needs[i] : "";
            else
                verdict.why = costs(i, bottom, known(alone(low, i, high[i])));
            answer.verdicts.push_back(std::move(verdict));
        }
        if (!enough) return answer;
        answer.line = lineOf(now);
        // A coarser tolerance, where that is enough too.
        const std::string tolerance = coarserTolerance();
        if (!tolerance.empty()) {
            const std::string line = answer.line + ", tolerance " + tolerance;
            points_.push_back(setting_.run({line}).front());
            const TradePoint& tried = points_.back();
            if (!tried.error && tried.good && tried.seconds < (1 - same) * known(now).seconds) answer.line = line;
        }
        return answer;
    }

private:
    Status applyReference(Project& flat) const {
        const auto way = readSpanText("to the end: " + setting_.referenceLine);
        return way ? applyRungRule(way->rungs, flat, partLibrary().catalogue()) : Status(way.error());
    }

    static std::vector<int> alone(std::vector<int> low, std::size_t i, int rung) {
        low[i] = rung;
        return low;
    }

    /// Rungs as a rule: the lowest ones are "all on 1", those apart by name.
    std::string lineOf(const std::vector<int>& rungs) const {
        std::vector<std::string> terms{"all on 1"};
        for (std::size_t i = 0; i < rungs.size(); ++i)
            if (rungs[i] != parts_[i].lowest()) terms.push_back(fmt::format("{} on {}", parts_[i].part, rungs[i]));
        return joined(terms, ", ");
    }

    void run(const std::vector<std::vector<int>>& some) {
        std::vector<std::string> lines;
        for (const std::vector<int>& rungs : some)
            if (const std::string line = lineOf(rungs);
                !places_.contains(line) && std::find(lines.begin(), lines.end(), line) == lines.end())
                lines.push_back(line);
        for (TradePoint& point : setting_.run(lines)) {
            places_[point.line] = points_.size();
            points_.push_back(std::move(point));
        }
    }
    const TradePoint& known(const std::vector<int>& rungs) {
        run({rungs});
        return points_[places_.at(lineOf(rungs))];
    }
    bool good(const std::vector<int>& rungs) {
        if (cancel_.cancelled()) return false;
        const TradePoint& point = known(rungs);
        return !point.error && point.good;
    }

    /// The largest change of a feature, over the accuracy wanted.
    double moved(const TradePoint& a, const TradePoint& b) const {
        if (a.error || b.error) return INFINITY;
        double most = 0;
        for (std::size_t f = 0; f < a.values.size(); ++f) {
            const double allowed = setting_.features[f].allowed(setting_.reference[f]),
                         off = std::abs(a.values[f] - b.values[f]);
            most = std::max(most, off == 0 ? 0 : allowed > 0 ? off / allowed : INFINITY);
        }
        return most;
    }

    std::string nameOf(std::size_t feature) const {
        const Feature& of = setting_.features[feature].feature();
        return (of.measure == "harmonic" ? fmt::format("harmonic {}", of.order) : of.measure) + " of " + of.quantity;
    }
    std::string sizeOf(std::size_t feature, double off) const {
        const double reference = std::abs(setting_.reference[feature]);
        if (!(reference > 0)) return formatQuantity(off, "", 2);
        const double percent = 100 * off / reference;
        return percent < 1000 ? fmt::format("{:.{}f} %", percent, percent >= 10 ? 0 : percent >= 0.1 ? 1 : 3)
                              : std::string("many times its size");
    }

    /// Why a rung is not enough.
    std::string spoils(const TradePoint& point, int rung) const {
        if (point.error) return fmt::format("on rung {} the circuit does not run: {}", rung, point.error->message);
        std::size_t worst = 0;
        for (std::size_t f = 1; f < point.errors.size(); ++f)
            if (point.errors[f] > point.errors[worst]) worst = f;
        return fmt::format("on rung {} the {} is {} off", rung, nameOf(worst),
                           sizeOf(worst, std::abs(point.values[worst] - setting_.reference[worst])));
    }

    /// What a part that stays low costs.
    std::string costs(std::size_t part, const TradePoint& bottom, const TradePoint& up) const {
        if (bottom.error || up.error) return "it makes no difference that counts";
        std::vector<std::string> some;
        for (std::size_t f = 0; f < bottom.values.size(); ++f) {
            const double off = std::abs(bottom.values[f] - up.values[f]),
                         allowed = setting_.features[f].allowed(setting_.reference[f]);
            if (off > 0.01 * allowed) some.push_back(fmt::format("{} of the {}", sizeOf(f, off), nameOf(f)));
        }
        const int rung = parts_[part].lowest();
        if (some.empty()) return fmt::format("on rung {} it costs nothing that can be seen", rung);
        return fmt::format("on rung {} it costs {} and nothing else", rung, listed(some));
    }

    std::string coarserTolerance() const {
        const Plan* const plan = setting_.study.plan.empty() ? &setting_.project.plans.front()
                                                             : setting_.project.findPlan(setting_.study.plan);
        const ParameterTable parameters(setting_.project.parameters);
        const auto value = evaluateField(plan->tolerance, Unit{}, parameters.lookup());
        return value && *value * coarser <= 0.1 ? fmt::format("{:g}", *value * coarser) : "";
    }

    const SearchSetting& setting_;
    std::vector<TradePoint>& points_;
    const CancelToken& cancel_;
    std::vector<Rungs> parts_;
    std::map<std::string, std::size_t> places_;
};

}  // namespace

SearchAnswer searchCheapest(const SearchSetting& setting, std::vector<TradePoint>& points, const CancelToken& cancel) {
    return Search(setting, points, cancel).find();
}

}  // namespace hedgerow
