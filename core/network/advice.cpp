#include "network/advice.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <set>
#include <tuple>

#include <fmt/format.h>

#include "base/formula.h"
#include "model/quantity.h"

namespace hedgerow {

namespace {

constexpr double noticeable = 0.02;  ///< of a resistance around it: an on-resistance above that changes results
constexpr double sameStart = 1e-9;   ///< relative difference of start values that counts as none

class Adviser {
public:
    Adviser(const Project& project, const PartLibrary& library, const NetList& nets, const ParameterTable& parameters)
        : sheet_(project.sheet()), library_(library), nets_(nets), parameters_(parameters) {}

    std::vector<Error> all() {
        startValues();
        onResistances();
        deadTimes();
        lateMeasurements();
        setPointsBelowTheirInput();
        tangents();
        units();
        return std::move(found_);
    }

private:
    std::optional<double> value(const Part& part, std::string_view key) const {
        const PartKind* kind = library_.catalogue().find(part.kind);
        const ParameterKind* parameter = kind ? kind->findParameter(key) : nullptr;
        if (!parameter || parameter->rung > part.rung) return {};
        const auto number = partValue(part, *kind, key, parameters_.lookup());
        return number ? std::optional(*number) : std::nullopt;
    }
    int net(const Part& part, int pin) const { return nets_.netOfPin.at({part.id, pin}); }
    bool given(const Part& part, std::string_view key) const { return part.values.find(key) != nullptr; }

    /// Two-pin parts of a kind, by the nets they lie between.
    std::map<std::pair<int, int>, std::vector<const Part*>> between(std::string_view kind) const {
        std::map<std::pair<int, int>, std::vector<const Part*>> found;
        for (const Part& part : sheet_.parts)
            if (part.kind == kind) found[std::minmax(net(part, 0), net(part, 1))].push_back(&part);
        return found;
    }

    /// Formulas that act as their tangent, which is another law where they are curved.
    void tangents() {
        for (const Part& part : sheet_.parts) {
            const PartKind* const kind = library_.catalogue().find(part.kind);
            if (!kind || kind->placedAt <= 1 || part.rung >= kind->placedAt || !kind->findParameter("formula")) continue;
            const std::string* const typed = part.values.find("formula");
            const auto names = [&](const std::string& name) -> std::optional<double> {
                const auto number = parameters_.value(name);
                return number ? std::optional(number->value) : std::nullopt;
            };
            const auto formula = Formula::read(
                typed ? *typed : kind->findParameter("formula")->standard,
                {.number = [&](std::string_view text) { return evaluateField(std::string(text), Unit{}, parameters_.lookup()); },
                 .constant = names,
                 .input = [](const std::string& name) -> std::optional<std::size_t> {
                     return name.size() == 1 && name[0] >= 'x' && name[0] <= 'z' ? std::optional<std::size_t>(name[0] - 'x')
                                                                               : std::nullopt;
                 }});
            if (!formula || straight(*formula)) continue;
            found_.push_back({ErrorCode::range,
                              fmt::format("{} follows the tangent of its formula on rung {}, not the formula: put it on "
                                          "rung {}",
                                          part.name, part.rung, kind->placedAt),
                              part.name,
                              {},
                              "formula"});
        }
    }
    /// Whether the slopes of a formula are the same everywhere it is looked at.
    static bool straight(const Formula& formula) {
        const auto first = formula.at({});
        for (const double at : {-3.7, -0.4, 0.011, 0.9, 5.3})
            for (std::size_t i = 0; i < std::tuple_size_v<Formula::Slopes>; ++i) {
                Formula::Slopes place{};
                place[i] = at;
                const auto there = formula.at(place);
                for (std::size_t j = 0; j < place.size(); ++j)
                    if (!(std::abs(there.slopes[j] - first.slopes[j]) <= 1e-9 * std::abs(first.slopes[j]))) return false;
            }
        return true;
    }

    /// Capacitors beside each other or beside a dc source, and inductors in one branch, that start at other values.
    void startValues() {
        const auto capacitors = between("capacitor"), sources = between("dc-voltage");
        for (const auto& [nets, parts] : capacitors) {
            const Part* first = nullptr;
            for (const Part* part : parts) {
                if (!given(*part, "v0")) continue;
                if (first) compare(*first, *part, "v0", "V", net(*first, 0) == net(*part, 0), "they lie side by side");
                if (!first) first = part;
            }
            const auto source = sources.find(nets);
            if (!first || source == sources.end()) continue;
            const Part& dc = *source->second.front();
            if (first->rung > 1 || dc.rung > 1) continue;  // a resistance lies between them
            const auto level = value(dc, "level"), start = value(*first, "v0");
            if (!level || !start) continue;
            const double forced = net(dc, 0) == net(*first, 0) ? *level : -*level;
            if (differ(forced, *start))
                caution(
                    *first, "v0",
                    fmt::format("{} starts at {}, but {} holds it at {}: give it that value, or a resistance between "
                                "them",
                                first->name, formatQuantity(*start, "V"), dc.name, formatQuantity(forced, "V")));
        }
        std::vector<std::vector<std::pair<const Part*, int>>> atNet(nets_.nets.size());
        for (const Part& part : sheet_.parts)
            if (part.kind == "inductor")
                for (const int pin : {0, 1}) atNet[static_cast<std::size_t>(net(part, pin))].emplace_back(&part, pin);
        for (std::size_t n = 0; n < atNet.size(); ++n) {
            if (nets_.nets[n].pins.size() != 2 || atNet[n].size() != 2) continue;
            const auto& [first, second] = std::pair(atNet[n][0], atNet[n][1]);
            if (first.first != second.first && given(*first.first, "i0") && given(*second.first, "i0"))
                compare(*first.first, *second.first, "i0", "A", first.second != second.second,
                        "they lie in one branch");
        }
    }
    static bool differ(double a, double b) {
        return std::abs(a - b) > sameStart * std::max({std::abs(a), std::abs(b), 1e-12});
    }
    void compare(const Part& a, const Part& b, const char* key, const char* unit, bool sameWay, const char* why) {
        const auto first = value(a, key), second = value(b, key);
        if (!first || !second || !differ(*first, sameWay ? *second : -*second)) return;
        caution(b, key,
                fmt::format("{} starts at {} and {} at {}, but {}: give both the same value", a.name,
                            formatQuantity(*first, unit), b.name, formatQuantity(*second, unit), why));
    }

    /// A switch beside resistors that its on-resistance is not small against.
    void onResistances() {
        std::vector<const Part*> smallest(nets_.nets.size(), nullptr);
        for (const Part& part : sheet_.parts)
            if (part.kind == "resistor")
                for (const int pin : {0, 1}) {
                    const Part*& known = smallest[static_cast<std::size_t>(net(part, pin))];
                    const auto now = value(part, "r"), before = known ? value(*known, "r") : std::nullopt;
                    if (now && (!before || *now < *before)) known = &part;
                }
        for (const Part& part : sheet_.parts) {
            const auto on = value(part, "ron");
            const PartKind* kind = library_.catalogue().find(part.kind);
            if (!on || !kind) continue;
            for (std::size_t pin = 0; pin < kind->pins.size(); ++pin) {
                if (kind->pins[pin].sort != PinSort::power) continue;
                const Part* resistor = smallest[static_cast<std::size_t>(net(part, static_cast<int>(pin)))];
                const auto around = resistor ? value(*resistor, "r") : std::nullopt;
                if (!around || *on <= noticeable * *around) continue;
                caution(part, "ron",
                        fmt::format("{} has {} when on, {:.0f} % of {} beside it: is that meant?", part.name,
                                    formatQuantity(*on, "Ω"), 100 * *on / *around, resistor->name));
                break;
            }
        }
    }
    const PartKind* kindOf(const Part& part) const { return library_.catalogue().find(part.kind); }
    /// The parts at a net, each with the name of its pin.
    std::vector<std::pair<const Part*, std::string>> at(int net) const {
        std::vector<std::pair<const Part*, std::string>> list;
        for (const PinRef& ref : nets_.nets[static_cast<std::size_t>(net)].pins)
            for (const Part& part : sheet_.parts)
                if (part.id == ref.part)
                    if (const PartKind* kind = kindOf(part))
                        list.emplace_back(&part, kind->pins[static_cast<std::size_t>(ref.pin)].name);
        return list;
    }
    int netAt(const Part& part, std::string_view pin) const {
        const PartKind* kind = kindOf(part);
        const int index = kind ? kind->findPin(pin) : -1;
        return index < 0 ? -1 : net(part, index);
    }
    /// The part that drives a signal pin, or nullptr.
    const Part* driverOf(const Part& part, std::string_view pin) const {
        const int net = netAt(part, pin);
        if (net < 0) return nullptr;
        for (const auto& [other, name] : at(net)) {
            const PartKind& kind = *kindOf(*other);
            if (kind.pins[static_cast<std::size_t>(kind.findPin(name))].sort == PinSort::signalOut) return other;
        }
        return nullptr;
    }

    /// Both gates of a modulator drive switches that lie in series, and it has no dead time.
    void deadTimes() {
        for (const Part& part : sheet_.parts) {
            if (part.kind != "modulator" || value(part, "dead").value_or(1) > 0) continue;
            std::vector<std::pair<int, int>> upper, lower;
            for (const auto& [pin, list] : {std::pair("g", &upper), std::pair("n", &lower)})
                for (const auto& [other, name] : at(netAt(part, pin)))
                    if (name == "g" && kindOf(*other)->group == "Switches")
                        list->emplace_back(net(*other, 0), net(*other, 1));
            for (const auto& a : upper)
                for (const auto& b : lower)
                    if (a.second == b.first || a.first == b.second)
                        return caution(part, "dead",
                                       fmt::format("{} switches both switches of a leg without a dead time: real ones "
                                                   "would short the supply at every edge. Give it one",
                                                   part.name));
        }
    }

    /// The unit of the signal at a pin, as far as it follows from what it comes from; nothing where it does not.
    std::optional<std::string> unitAt(const Part& part, std::string_view pin, int depth = 0) const {
        constexpr int deepest = 20;
        const Part* driver = driverOf(part, pin);
        if (!driver || depth > deepest) return {};
        const std::string& kind = driver->kind;
        if (kind == "probe") {
            const std::string of = textValue(*driver, *kindOf(*driver), "of");
            if (value(*driver, "gain").value_or(1) != 1) return {};
            return of.ends_with(".v")   ? std::optional<std::string>("V")
                   : of.ends_with(".i") ? std::optional<std::string>("A")
                                        : std::nullopt;
        }
        for (const auto& [source, key] : {std::pair("constant", "value"),
                                          {"signal-step", "after"},
                                          {"signal-ramp", "to"},
                                          {"signal-sine", "peak"},
                                          {"sampled-sine", "peak"}}) {
            const std::string* typed = kind == source ? driver->values.find(key) : nullptr;
            if (!typed) continue;
            const auto quantity = evaluate(*typed, parameters_.lookup());
            const std::string unit = quantity ? symbolOf(quantity->dimension) : "";
            return unit.empty() ? std::nullopt : std::optional(unit);
        }
        static const std::map<std::string, const char*, std::less<>> passing = {
            {"sum", "a"},          {"minimum", "a"},     {"maximum", "a"},
            {"selector", "a"},     {"limiter", "u"},     {"magnitude", "u"},
            {"dead-band", "u"},    {"unit-delay", "u"},  {"transport-delay", "u"},
            {"sample-hold", "u"},  {"low-pass", "u"},    {"notch", "u"},
            {"rate-limiter", "u"}, {"moving-mean", "u"}, {"moving-rms", "u"},
            {"quantiser", "u"}};
        const auto through = passing.find(kind);
        return through == passing.end() ? std::nullopt : unitAt(*driver, through->second, depth + 1);
    }

    /// Parts that add or compare signals of different units.
    void units() {
        for (const Part& part : sheet_.parts) {
            if (part.kind != "sum" && part.kind != "comparator" && part.kind != "minimum" && part.kind != "maximum" &&
                part.kind != "selector")
                continue;
            std::optional<std::string> first;
            const Part* from = nullptr;
            for (const char* pin : {"a", "b", "c"}) {
                if (kindOf(part)->findPin(pin) < 0) continue;
                const auto unit = unitAt(part, pin);
                if (!unit) continue;
                const Part* driver = driverOf(part, pin);
                if (!first) {
                    first = unit, from = driver;
                } else if (*first != *unit) {
                    caution(part, "",
                            fmt::format(
                                "{} takes {} from {} and {} from {}: is that meant? A gain changes what a signal is",
                                part.name, *first, from->name, *unit, driver->name));
                    break;
                }
            }
        }
    }

    /// A regulator that works from the start, on a value that is not right before a window has passed.
    void lateMeasurements() {
        for (const Part& part : sheet_.parts) {
            if ((part.kind != "pi" && part.kind != "pid") || driverOf(part, "on")) continue;
            std::vector<const Part*> before = {&part};
            for (std::size_t i = 0; i < before.size() && before.size() < 64; ++i)
                for (const PinKind& pin : kindOf(*before[i])->pins) {
                    if (pin.sort != PinSort::signalIn) continue;
                    const Part* driver = driverOf(*before[i], pin.name);
                    if (!driver || std::find(before.begin(), before.end(), driver) != before.end()) continue;
                    // What lies before another regulator is that one's matter.
                    if (driver->kind != "pi" && driver->kind != "pid") before.push_back(driver);
                }
            for (const Part* late : before) {
                const bool moving =
                    late->kind == "moving-mean" || late->kind == "moving-rms" || late->kind == "fundamental";
                if (!moving && late->kind != "pll" && late->kind != "pll3") continue;
                const double wait = late->kind == "fundamental" ? 1 / value(*late, "f").value_or(50)
                                    : moving                    ? value(*late, "window").value_or(0)
                                                                : 1 / value(*late, "fn").value_or(20);
                caution(part, "on",
                        fmt::format("{} regulates from the start, but what {} gives it is not right before {}: connect "
                                    "its input 'on' to a step at that time, so that it does not wind up",
                                    part.name, late->name, formatQuantity(wait, "s", 3)));
                break;
            }
        }
    }

    /// The potential that a net cannot fall below while all switches are off: that of a dc source from which windings,
    /// closed paths and diodes in their forward direction lead to it.
    std::map<int, std::pair<double, const Part*>> floors() const {
        std::map<int, std::pair<double, const Part*>> known;
        std::set<int> reference;
        for (const Part& part : sheet_.parts)
            if (part.kind == "reference") reference.insert(net(part, 0));
        for (const Part& part : sheet_.parts)
            if (part.kind == "dc-voltage" && reference.contains(net(part, 1)))
                if (const auto level = value(part, "level"); level && *level > 0) known[net(part, 0)] = {*level, &part};
        for (bool more = true; more;) {
            more = false;
            for (const Part& part : sheet_.parts) {
                const bool winding = part.kind == "inductor" || part.kind == "ammeter", diode = part.kind == "diode";
                // The body diode of a transistor conducts from its source to its drain.
                const bool body = part.kind == "mosfet";
                if (!winding && !diode && !body) continue;
                const int a = net(part, body ? 1 : 0), b = net(part, body ? 0 : 1);
                const double drop = winding ? 0.0 : value(part, "vf").value_or(0.0);
                for (const auto& [from, to] : {std::pair(a, b), std::pair(b, a)}) {
                    if (from == b && !winding) continue;
                    const auto source = known.find(from);
                    if (source == known.end() || reference.contains(to)) continue;
                    const double level = source->second.first - drop;
                    if (level <= 0 || (known.contains(to) && known[to].first >= level)) continue;
                    known[to] = {level, source->second.second};
                    more = true;
                }
            }
        }
        return known;
    }

    /// A step-up supply that is asked for less than its input: its diode passes the input on, whatever the regulator
    /// does.
    void setPointsBelowTheirInput() {
        const auto floors = this->floors();
        if (floors.empty()) return;
        for (const Part& part : sheet_.parts) {
            if (part.kind != "sum") continue;
            const Part *first = driverOf(part, "a"), *second = driverOf(part, "b");
            if (first && second && first->kind == "probe") std::swap(first, second);
            if (!first || !second || first->kind != "constant" || second->kind != "probe") continue;
            const std::string of = textValue(*second, *kindOf(*second), "of");
            if (!of.ends_with(".v") || value(*second, "gain").value_or(1) != 1) continue;
            const auto setPoint = value(*first, "value");
            for (const auto& [net, floor] : floors) {
                if (nets_.nets[static_cast<std::size_t>(net)].name + ".v" != of || !setPoint ||
                    *setPoint >= floor.first)
                    continue;
                caution(
                    *first, "value",
                    fmt::format("{} asks for {} at {}, but {} reaches it through windings and diodes and holds it at "
                                "{} or more: a step-up supply cannot go below its input",
                                first->name, formatQuantity(*setPoint, "V"), of.substr(0, of.size() - 2),
                                floor.second->name, formatQuantity(floor.first, "V")));
            }
        }
    }
    void caution(const Part& part, const char* field, std::string message) {
        found_.push_back({ErrorCode::range, std::move(message), part.name, {}, field});
    }

    const Sheet& sheet_;
    const PartLibrary& library_;
    const NetList& nets_;
    const ParameterTable& parameters_;
    std::vector<Error> found_;
};

}  // namespace

std::vector<Error> advise(const Project& project, const PartLibrary& library, const NetList& nets,
                          const ParameterTable& parameters) {
    return Adviser(project, library, nets, parameters).all();
}

}  // namespace hedgerow
