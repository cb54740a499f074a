// From the figures of a data sheet to the values of a device.

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <set>

#include <fmt/format.h>
#include <Eigen/Dense>

#include "base/text.h"
#include "model/values.h"
#include "desk/jigs.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

/// Which value of a part a figure follows most.
struct Follows {
    const char *figure, *jig, *key;
};
constexpr Follows follows[] = {
    {"C", "capacitance", "coss"},   {"C", "capacitance", "cj"}, {"Qg", "gate charge", "ciss"},
    {"Qgd", "gate charge", "crss"}, {"Qrr", "recovery", "tau"}, {"Irm", "recovery", "tm"},
    {"trr", "recovery", "tm"},
};

/// Least squares of the logarithms of figures over those of values, by steps of Gauss and Newton.
class Fitting {
public:
    Fitting(const Project& project, const Part& device, const JigPoint& point, const CancelToken& cancel)
        : project_(project),
          device_(device),
          kind_(*partLibrary().catalogue().find(device.kind)),
          point_(point),
          cancel_(cancel),
          rung_(std::max(3, kind_.rungAtOrBelow(device.rung).rung)) {
        if (const std::string* marks = device.values.find("estimated")) {
            const std::vector<std::string> keys = words(*marks);
            marked_.insert(keys.begin(), keys.end());
        }
        for (const auto& [key, text] : device.values.all())
            if (!marked_.contains(key)) given_.insert(key);
    }

    Result<JigFit> fit() {
        const std::string* text = device_.values.find("sheet");
        auto given = sheetFigures(text ? *text : "");
        if (!given) return given.error();
        if (given->empty())
            return Error{
                ErrorCode::range,
                fmt::format("{} has no data-sheet figures yet: type them beside those of the rungs", device_.name),
                device_.name,
                {},
                "sheet"};
        for (const auto& [key, value] : *given) wanted_[key] = value;
        conduct();
        energies();
        // A jig after the other, each with its own values; what one changes the others see in a second pass.
        // What is estimated follows what is found, and moves it in turn.
        for (int pass = 0; pass < (estimated_.empty() ? 2 : 5); ++pass)
            for (const char* jig : {"capacitance", "gate charge", "recovery"}) {
                estimate();
                if (auto status = approach(jig); !status) return status.error();
            }
        JigFit fit;
        for (const auto& [key, value] : wanted_)
            if (!met_.contains(key)) fit.unmet.push_back(key);
        // Marks of before stay where nothing better was found.
        std::set<std::string> marks = marked_;
        for (const auto& [key, text] : changed_) marks.erase(key);
        marks.insert(estimated_.begin(), estimated_.end());
        if (marks != marked_) set("estimated", joined({marks.begin(), marks.end()}, " "));
        for (const auto& [key, text] : changed_) fit.values.emplace_back(key, text);
        return fit;
    }

private:
    void set(const std::string& key, double value) { set(key, fmt::format("{:.4g}", value)); }
    void set(const std::string& key, std::string text) {
        device_.values.set(key, text);
        changed_[key] = std::move(text);
    }
    std::optional<double> wanted(const std::string& key) const {
        const auto found = wanted_.find(key);
        return found == wanted_.end() ? std::optional<double>() : found->second;
    }

    /// What data sheets often leave out, and nobody typed, from what they give: a recovery half of whose life is its
    /// transit is a soft one; the reverse transfer capacitance of a transistor is about a tenth of that of its output.
    void estimate() {
        const auto follow = [&](const char* from, const char* to, double factor) {
            if (!kind_.findParameter(from) || !kind_.findParameter(to) || given_.contains(to)) return;
            auto value = partValue(device_, kind_, from, ParameterTable(project_.parameters).lookup());
            if (!value) return;
            set(to, factor * *value);
            estimated_.insert(to);
        };
        if (wanted("Qrr") && !wanted("Irm") && !wanted("trr")) follow("tau", "tm", 0.5);
        if (wanted("C") && !wanted("Qgd")) follow("coss", "crss", 0.1);
    }

    /// Straight lines through one or two points of the voltage over the current.
    void conduct() {
        const bool transistor = kind_.findPin("g") >= 0;
        const auto line = [&](const char* one, const char* half, const char* knee, const char* resistance) {
            const auto full = wanted(one), part = wanted(half);
            if (!full || !kind_.findParameter(resistance)) return;
            double slope = part ? 2 * (*full - *part) / point_.current : *full / point_.current, rest = 0;
            if (knee && part) rest = *full - slope * point_.current;
            if (slope < 0 || rest < 0) return;
            met_.insert(one);
            if (part) met_.insert(half);
            set(resistance, slope);
            if (knee && part) set(knee, rest);
        };
        if (kind_.id == "igbt")
            line("Von", "Von2", "vce", "ron");
        else
            line("Von", "Von2", transistor ? nullptr : "vf", "ron");
        if (transistor) line("Vrev", "Vrev2", "vf", "rd");
        if (const auto resistance = wanted("Ron"); resistance && *resistance > 0 && kind_.findParameter("ron")) {
            set("ron", *resistance);
            met_.insert("Ron");
        }
        warm();
    }

    /// R rises as the power k_T of the absolute temperature, from 25 °C on.
    void warm() {
        const auto hot = wanted("Rhot");
        const ParameterKind* const power = kind_.findParameter("kt");
        if (!hot || !power) return;
        const auto cold = partValue(device_, kind_, "ron", ParameterTable(project_.parameters).lookup());
        if (!cold || !(*cold > 0) || !(*hot > 0)) return;
        const double k = std::log(*hot / *cold) / std::log((point_.hot + 273.15) / 298.15);
        if (!std::isfinite(k)) return;
        set("kt", std::clamp(k, power->least, power->most));
        if (k >= power->least && k <= power->most) met_.insert("Rhot");
    }

    /// One point of a table: as many curves as the user has may be typed there.
    void energies() {
        for (const auto& [figure, key] : {std::pair{"Eon", "eon"}, std::pair{"Eoff", "eoff"}})
            if (const auto value = wanted(figure); value && kind_.findParameter(key)) {
                set(key, fmt::format("{:.4g} 25: {:.4g} {:.4g}", point_.voltage, point_.current, *value));
                met_.insert(figure);
            }
    }

    /// Logarithms of the figures of `targets` over what is wanted; far off where a figure is not there.
    Result<Eigen::VectorXd> residuals(const std::vector<Follows>& targets, const Part& device) const {
        std::map<std::string, JigResult> tried;
        Eigen::VectorXd result(static_cast<Eigen::Index>(targets.size()));
        for (std::size_t i = 0; i < targets.size(); ++i) {
            const Follows& one = targets[i];
            if (!tried.contains(one.jig)) {
                auto run = runJig(project_, device, Jig{one.jig, "", 3}, point_, cancel_, rung_);
                if (!run) return run.error();
                tried[one.jig] = std::move(*run);
            }
            constexpr double far = 10;
            result(static_cast<Eigen::Index>(i)) = far;
            for (const JigFigure& figure : tried[one.jig].figures)
                if (figure.key == one.figure && !figure.byRung.empty() && figure.byRung.back().second > 0)
                    result(static_cast<Eigen::Index>(i)) = std::log(figure.byRung.back().second / *wanted(one.figure));
        }
        return result;
    }

    Status approach(std::string_view jig) {
        std::vector<Follows> targets;
        std::vector<std::string> keys;
        for (const Follows& one : follows) {
            const auto value = wanted(one.figure);
            if (jig != one.jig || !value || *value <= 0 || !kind_.findParameter(one.key)) continue;
            targets.push_back(one);
            if (std::find(keys.begin(), keys.end(), one.key) == keys.end()) keys.emplace_back(one.key);
        }
        if (targets.empty()) return {};
        const auto n = static_cast<Eigen::Index>(keys.size());
        Eigen::VectorXd at(n);
        for (Eigen::Index k = 0; k < n; ++k) {
            auto now = partValue(device_, kind_, keys[static_cast<std::size_t>(k)],
                                 ParameterTable(project_.parameters).lookup());
            if (!now) return now.error();
            at(k) = std::log(*now);
        }
        const auto with = [&](const Eigen::VectorXd& logs) {
            Part device = device_;
            for (Eigen::Index k = 0; k < n; ++k)
                device.values.set(keys[static_cast<std::size_t>(k)], fmt::format("{:.6g}", std::exp(logs(k))));
            return device;
        };
        auto now = residuals(targets, with(at));
        if (!now) return now.error();
        constexpr int mostRounds = 10;
        constexpr double enough = 2e-3, nudge = 0.1, longest = 1.2;
        for (int round = 0; round < mostRounds && now->lpNorm<Eigen::Infinity>() > enough; ++round) {
            Eigen::MatrixXd slopes(now->size(), n);
            for (Eigen::Index k = 0; k < n; ++k) {
                Eigen::VectorXd moved = at;
                moved(k) += nudge;
                auto beside = residuals(targets, with(moved));
                if (!beside) return beside.error();
                slopes.col(k) = (*beside - *now) / nudge;
            }
            Eigen::VectorXd step = slopes.completeOrthogonalDecomposition().solve(-*now);
            if (!step.allFinite()) break;
            step *= std::min(1.0, longest / std::max(longest, step.lpNorm<Eigen::Infinity>()));
            bool better = false;
            for (int halving = 0; halving < 4 && !better; ++halving, step /= 2) {
                auto next = residuals(targets, with(at + step));
                if (cancel_.cancelled()) return Error{ErrorCode::resource, "stopped"};
                if (!next || !(next->norm() < now->norm())) continue;
                at += step;
                now = std::move(next);
                better = true;
            }
            if (!better) break;
        }
        for (Eigen::Index k = 0; k < n; ++k) set(keys[static_cast<std::size_t>(k)], std::exp(at(k)));
        for (std::size_t i = 0; i < targets.size(); ++i)
            if (std::abs((*now)(static_cast<Eigen::Index>(i))) < 0.05)
                met_.insert(targets[i].figure);
            else
                met_.erase(targets[i].figure);
        return {};
    }

    const Project& project_;
    Part device_;
    const PartKind& kind_;
    JigPoint point_;
    const CancelToken& cancel_;
    int rung_;
    std::map<std::string, double> wanted_;
    std::map<std::string, std::string> changed_;
    std::set<std::string> met_, estimated_;
    std::set<std::string> marked_, given_;  ///< keys of estimates, and of what somebody typed, before
};

}  // namespace

Result<JigFit> fitToFigures(const Project& project, const Part& device, const JigPoint& point,
                            const CancelToken& cancel) {
    return Fitting(project, device, point, cancel).fit();
}

}  // namespace hedgerow
