#include "analysis/next_rung.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include <fmt/format.h>

#include "model/modules.h"
#include "model/nets.h"
#include "model/quantity.h"
#include "model/values.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr std::size_t mostPoints = 200'000;  ///< that are looked at
constexpr double fastVoltage = 1e9;          ///< V/s: faster than that a net without a capacitance does not move
constexpr double fastCurrent = 50e6;         ///< A/s, at which a junction is turned off hard
constexpr double share = 0.1;                ///< of its swing, from which on a step counts

/// What is looked for in a trace.
struct Shape {
    double low = 0, high = 0, rms = 0;
    double step = 0, stepAt = 0;  ///< the largest that is faster than asked for, and when
    double fall = 0, fallAt = 0;  ///< the steepest slope down through zero, per s; infinite for a jump
    double swing() const { return high - low; }
};

class Looker {
public:
    Looker(const RunRecord& run, const CancelToken& cancel)
        : run_(run),
          cancel_(cancel),
          flat_(flattened(run.project(), partLibrary().catalogue())),
          parameters_(flat_.project.parameters) {}

    std::vector<RungAdvice> all() {
        for (const Net& net : flat_.nets.nets) lookAt(net);
        for (const Part& part : flat_.project.sheet().parts)
            if (const PartKind* kind = partLibrary().catalogue().find(part.kind)) lookAt(part, *kind);
        std::vector<RungAdvice> list;
        for (auto& [part, advice] : best_) list.push_back(std::move(advice));
        std::stable_sort(list.begin(), list.end(),
                         [](const RungAdvice& a, const RungAdvice& b) { return a.weight > b.weight; });
        return list;
    }

private:
    std::optional<Shape> shapeOf(const std::string& name, double fast) const {
        if (cancel_.cancelled()) return {};
        const auto trace = run_.trace(name);
        if (!trace || trace->size() < 2) return {};
        const std::size_t first = trace->size() > mostPoints ? trace->size() - mostPoints : 0;
        const auto measures = trace->measure(trace->time(first), trace->time(trace->size() - 1));
        if (!measures) return {};
        Shape shape{measures->min, measures->max, measures->rms};
        for (std::size_t i = first; i + 1 < trace->size(); ++i) {
            const double a = trace->value(i), b = trace->value(i + 1), change = b - a;
            const double length = toSeconds(trace->time(i + 1) - trace->time(i)), at = toSeconds(trace->time(i));
            if (at > 0 && std::abs(change) > shape.step && std::abs(change) > fast * length)
                shape.step = std::abs(change), shape.stepAt = at;
            // Down to nothing or below counts: an ideal junction ends at zero.
            if (a > 0.02 * shape.high && b <= 0.02 * shape.high && shape.high > 0) {
                const double slope = length > 0 ? -change / length : INFINITY;
                if (slope > shape.fall) shape.fall = slope, shape.fallAt = at;
            }
        }
        return shape;
    }

    double value(const Part& part, const PartKind& kind, const char* key) const {
        const auto found =
            kind.findParameter(key) ? partValue(part, kind, key, parameters_.lookup()) : Result<double>(0.0);
        return found ? *found : 0.0;
    }

    void advise(const Part& part, const PartKind& kind, int rung, double at, double weight, std::string why) {
        const auto higher = std::find_if(kind.rungs.begin(), kind.rungs.end(),
                                         [&](const RungKind& one) { return one.rung >= rung && one.rung > part.rung; });
        if (higher == kind.rungs.end()) return;
        const auto known = best_.find(part.name);
        if (known != best_.end() && known->second.weight >= weight) return;
        best_[part.name] = {part.name, higher->rung, std::move(why), at, weight};
    }

    /// A net that moves faster than anything with a capacitance does, and has none.
    void lookAt(const Net& net) {
        const Part* mover = nullptr;
        const PartKind* itsKind = nullptr;
        for (const PinRef& pin : net.pins) {
            const Part* part = flat_.project.findPart(pin.part);
            const PartKind* kind = part ? partLibrary().catalogue().find(part->kind) : nullptr;
            if (!kind) continue;
            const bool stores = part->kind == "capacitor" || (kind->group == "Switches" && part->rung >= 3) ||
                                kind->group == "Sources" || part->kind == "reference";
            if (stores) return;
            const bool moves = kind->group == "Switches" && kind->hasRung(3) &&
                               kind->pins[static_cast<std::size_t>(pin.pin)].sort == PinSort::power;
            if (moves && (!mover || kind->findPin("g") >= 0)) mover = part, itsKind = kind;
        }
        if (!mover) return;
        const auto shape = shapeOf(net.name + ".v", fastVoltage);
        if (!shape || shape->step < std::max(1.0, share * shape->swing())) return;
        advise(*mover, *itsKind, 3, shape->stepAt, 3,
               fmt::format("net {} jumps by {} faster than 1 V/ns, and nothing there has a capacitance: a spike "
                           "there is the model's, not the circuit's",
                           net.name, formatQuantity(shape->step, "V", 3)));
    }

    void lookAt(const Part& part, const PartKind& kind) {
        if (part.rung >= 3) return;
        const auto current = shapeOf(part.name + ".i", fastCurrent);
        if (!current) return;
        const bool steps = current->step > std::max(1e-3, share * current->swing());
        const std::string amperes = formatQuantity(current->rms, "A", 3);
        if (part.kind == "diode" || part.kind == "zener") {
            if (current->fall > fastCurrent)
                advise(part, kind, 3, current->fallAt, 2.5,
                       std::isfinite(current->fall)
                           ? fmt::format("{} is turned off at {} per second: its stored charge would flow back",
                                         part.name, formatQuantity(current->fall, "A", 3))
                           : fmt::format("{} is turned off in no time: its stored charge would flow back", part.name));
        } else if (part.kind == "capacitor" && part.rung == 1) {
            const auto voltage = shapeOf(part.name + ".v", fastVoltage);
            const double drop = value(part, kind, "esr") * current->swing();
            if (voltage && drop > share * voltage->swing() && voltage->swing() > 0)
                advise(part, kind, 2, current->stepAt, 1 + std::min(1.0, drop / voltage->swing() / 4),
                       fmt::format("{} has a ripple of {}; its series resistance of {} would add {}", part.name,
                                   formatQuantity(voltage->swing(), "V", 3),
                                   formatQuantity(value(part, kind, "esr"), "Ω", 3), formatQuantity(drop, "V", 3)));
        } else if (part.kind == "capacitor" && steps) {
            advise(part, kind, 3, current->stepAt, 1.6,
                   fmt::format("the current of {} jumps by {}: its series inductance would answer", part.name,
                               formatQuantity(current->step, "A", 3)));
        } else if (part.kind == "inductor") {
            const double peak = std::max(std::abs(current->low), std::abs(current->high));
            const double saturation = value(part, kind, part.values.find("isat") ? "isat" : "imax");
            if (saturation > 0 && peak > 0.7 * saturation)
                advise(part, kind, 4, current->stepAt, 2,
                       fmt::format("{} comes to {}, near the {} at which it saturates", part.name,
                                   formatQuantity(peak, "A", 3), formatQuantity(saturation, "A", 3)));
            else if (part.rung == 1)
                advise(part, kind, 2, current->stepAt, 0.5, burns(part, kind, "dcr", "winding", *current));
        } else if (kind.group == "Switches" && part.rung == 1) {
            advise(part, kind, 2, current->stepAt, 0.6,
                   fmt::format("{} carries {} rms: on rung 2 it has a loss", part.name, amperes));
        } else if (kind.group == "Sources" && steps && kind.hasRung(2)) {
            advise(part, kind, 3, current->stepAt, 1.4,
                   fmt::format("the current of {} jumps by {}: through a cable it would not", part.name,
                               formatQuantity(current->step, "A", 3)));
        }
    }

    std::string burns(const Part& part, const PartKind& kind, const char* key, const char* what,
                      const Shape& current) const {
        const double resistance = value(part, kind, key);
        return fmt::format("{} carries {} rms: its {} of {} would burn {}", part.name,
                           formatQuantity(current.rms, "A", 3), what, formatQuantity(resistance, "Ω", 3),
                           formatQuantity(resistance * current.rms * current.rms, "W", 3));
    }

    const RunRecord& run_;
    CancelToken cancel_;
    FlatProject flat_;
    ParameterTable parameters_;
    std::map<std::string, RungAdvice> best_;
};

}  // namespace

std::vector<RungAdvice> nextRungs(const RunRecord& run, const CancelToken& cancel) {
    return Looker(run, cancel).all();
}

}  // namespace hedgerow
