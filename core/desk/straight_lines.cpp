#include "desk/straight_lines.h"

#include <algorithm>
#include <cmath>
#include <functional>

#include <fmt/format.h>

#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr double leastShare = 0.1;  ///< of the current: below it the curve has no line's slope
constexpr int rounds = 60;          ///< of the search for the ends of lines

/// The voltage over the current, rising in both.
class Curve {
public:
    Curve(const JigCurve& curve) {
        for (std::size_t i = 0; i < curve.x.size(); ++i)
            if (i_.empty() || (curve.y[i] > i_.back() && curve.x[i] >= v_.back())) {
                v_.push_back(curve.x[i]);
                i_.push_back(curve.y[i]);
            }
    }
    bool usable() const { return i_.size() > 10; }
    double at(double current) const {
        const auto next = std::upper_bound(i_.begin(), i_.end(), current);
        const auto k = std::clamp<std::ptrdiff_t>(next - i_.begin(), 1, static_cast<std::ptrdiff_t>(i_.size()) - 1);
        const auto a = static_cast<std::size_t>(k - 1), b = static_cast<std::size_t>(k);
        return v_[a] + (v_[b] - v_[a]) * (current - i_[a]) / (i_[b] - i_[a]);
    }
    const std::vector<double>& currents() const { return i_; }

private:
    std::vector<double> v_, i_;
};

/// The knee, then points on the curve.
struct Lines {
    std::vector<double> v, i;
    double at(double current) const {
        std::size_t k = 1;
        while (k + 1 < i.size() && current > i[k]) ++k;
        return v[k - 1] + (v[k] - v[k - 1]) * (current - i[k - 1]) / (i[k] - i[k - 1]);
    }
};

double distance(const Curve& curve, const Lines& lines, double most) {
    double worst = 0;
    for (const double current : curve.currents())
        if (current >= leastShare * most && current <= most)
            worst = std::max(worst, std::abs(curve.at(current) - lines.at(current)));
    return worst;
}

/// Moves the knee and the ends between, each by itself, as long as that brings the lines nearer.
Lines fitted(const Curve& curve, int count, double most) {
    const auto made = [&](const std::vector<double>& shares, double knee) {
        Lines lines{{knee}, {0}};
        for (const double share : shares) {
            lines.i.push_back(share * most);
            lines.v.push_back(curve.at(share * most));
        }
        return lines;
    };
    std::vector<double> shares;
    for (int k = 1; k <= count; ++k) shares.push_back(std::pow(static_cast<double>(k) / count, 2));
    double knee = std::max(0.0, 2 * curve.at(shares.front() * most / 2) - curve.at(shares.front() * most));
    double best = distance(curve, made(shares, knee), most), stride = 0.3;
    for (int round = 0; round < rounds; ++round) {
        for (std::size_t k = 0; k < shares.size(); ++k)
            for (const double factor : {1 + stride, 1 / (1 + stride)}) {
                // The last end stays; it is the knee that moves in its turn.
                std::vector<double> moved = shares;
                double moveKnee = knee;
                if (k + 1 < shares.size())
                    moved[k] *= factor;
                else
                    moveKnee *= 1 + (factor > 1 ? 0.3 : -0.3) * stride;
                if (std::adjacent_find(moved.begin(), moved.end(), std::greater_equal<>()) != moved.end() ||
                    moveKnee >= curve.at(moved.front() * most))
                    continue;
                const double now = distance(curve, made(moved, moveKnee), most);
                if (now < best) best = now, shares = moved, knee = moveKnee;
            }
        stride *= 0.85;
    }
    return made(shares, knee);
}

std::string number(double value) { return fmt::format("{:.6g}", value); }

}  // namespace

Result<StraightLines> straightLines(const Project& project, const Part& device, int count, double current,
                                    const CancelToken& cancel) {
    const bool diode = device.kind == "diode", zener = device.kind == "zener";
    if (!diode && !zener) return Error{ErrorCode::range, "only diodes are made straight lines", device.name};
    if (count < 1 || count > (diode ? mostLines : 1))
        return Error{ErrorCode::range,
                     diode ? fmt::format("one to {} lines can be had", mostLines) : "a Zener diode has one line",
                     device.name};
    if (!(current > 0)) return Error{ErrorCode::range, "the current must be above 0", device.name};
    const PartKind& kind = *partLibrary().catalogue().find(device.kind);
    JigPoint point;
    point.current = current;
    auto run = runJig(project, device, jigsFor(kind).front(), point, cancel, kind.rungs.back().rung);
    if (!run) return run.error();
    if (run->curves.empty()) return Error{ErrorCode::numeric, "its curve could not be simulated", device.name};
    const Curve curve(run->curves.front());
    if (!curve.usable()) return Error{ErrorCode::numeric, "its curve does not rise", device.name};

    StraightLines result;
    if (count == 1) {
        const auto series = runJig(project, device, jigsFor(kind).front(), point, cancel, 2);
        if (!series || series->curves.empty())
            return Error{ErrorCode::numeric, "its rung 2 could not be simulated", device.name};
        // The resistance is one value on all rungs; the knee is put where the distances balance.
        const Curve line(series->curves.front());
        double low = std::numeric_limits<double>::infinity(), high = -low;
        const double slope = (line.at(current) - line.at(current / 2)) / (current / 2);
        for (const double i : curve.currents())
            if (i >= leastShare * current && i <= current) {
                low = std::min(low, curve.at(i) - slope * i);
                high = std::max(high, curve.at(i) - slope * i);
            }
        const double knee = std::max(0.0, (low + high) / 2);
        result.residual = std::max(high - knee, knee - low);
        result.values = {{"vf", number(knee)}};
        if (diode) result.values.emplace_back("curve", "");
        return result;
    }
    const Lines lines = fitted(curve, count, current);
    result.residual = distance(curve, lines, current);
    std::string points;
    for (std::size_t k = 0; k < lines.v.size(); ++k)
        points += fmt::format("{}{} {}", k > 0 ? ", " : "", number(lines.v[k]), number(lines.i[k]));
    result.values = {{"curve", points}};
    return result;
}

}  // namespace hedgerow
