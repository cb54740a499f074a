#include "model/modules.h"

#include <algorithm>
#include <functional>
#include <map>
#include <set>

#include <fmt/format.h>

#include "model/quantity.h"
#include "model/references.h"
#include "model/vectors.h"

namespace hedgerow {

namespace {

constexpr std::string_view prefix = "module:";
constexpr std::size_t deepest = 16;           ///< modules within modules
constexpr std::size_t mostFlatParts = 50000;   ///< of a project with all modules laid out
constexpr std::size_t mostFlatPlaces = 20000;  ///< of modules, all laid out
constexpr int pinPitch = 3 * gridStep, leadLength = 2 * gridStep, letterWidth = 6;

const char* const sides[] = {"left", "right", "top", "bottom"};

int sideOf(const Part& pin) {
    const std::string* typed = pin.values.find("side");
    const std::string word = typed ? *typed : pin.kind == signalOutKind ? "right" : "left";
    for (int side = 0; side < 4; ++side)
        if (word == sides[side]) return side;
    return 0;
}

/// The pins of a module, side by side in the order in which they stand on its sheet.
std::vector<std::vector<const Part*>> pinsBySide(const Sheet& sheet) {
    std::vector<std::vector<const Part*>> pins(4);
    for (const Part& part : sheet.parts)
        if (isModulePin(part)) pins[static_cast<std::size_t>(sideOf(part))].push_back(&part);
    for (std::size_t side = 0; side < 4; ++side)
        std::sort(pins[side].begin(), pins[side].end(), [side](const Part* a, const Part* b) {
            const auto key = [side](const Part* p) {
                return side < 2 ? std::tuple(p->at.y, p->at.x, p->name) : std::tuple(p->at.x, p->at.y, p->name);
            };
            return key(a) < key(b);
        });
    return pins;
}

PinSort sortOf(const Part& pin) {
    return pin.kind == signalInKind    ? PinSort::signalIn
           : pin.kind == signalOutKind ? PinSort::signalOut
                                       : PinSort::power;
}

/// The half of a side that holds so many pins beside each other, on twice the grid.
int halfOf(std::size_t pins, int least) {
    const int needed = std::max(least, (static_cast<int>(pins) + 1) * pinPitch / 2);
    return (needed + 2 * gridStep - 1) / (2 * gridStep) * (2 * gridStep);
}

int longest(const std::vector<const Part*>& pins) {
    std::size_t most = 0;
    for (const Part* pin : pins) most = std::max(most, pin->name.size());
    return static_cast<int>(most);
}

void addPinsAndBox(PartKind& kind, const Sheet& sheet) {
    const auto pins = pinsBySide(sheet);
    const int letters = longest(pins[0]) + longest(pins[1]) + 3;
    const int halfWidth =
        std::max(halfOf(std::max(pins[2].size(), pins[3].size()), 2 * gridStep), halfOf(0, letters * letterWidth / 2));
    const int halfHeight = halfOf(std::max(pins[0].size(), pins[1].size()), 2 * gridStep);
    kind.symbol.push_back(
        {fmt::format("M {0} {1} L {2} {1} L {2} {3} L {0} {3} Z", -halfWidth, -halfHeight, halfWidth, halfHeight)});
    for (std::size_t side = 0; side < 4; ++side)
        for (std::size_t i = 0; i < pins[side].size(); ++i) {
            const int first = -static_cast<int>(pins[side].size() - 1) * pinPitch / 2 / gridStep * gridStep;
            const int along = first + static_cast<int>(i) * pinPitch;
            const int across = (side < 2 ? halfWidth : halfHeight) * (side % 2 == 0 ? -1 : 1);
            const int end = across + (side % 2 == 0 ? -leadLength : leadLength);
            const Point at = side < 2 ? Point{end, along} : Point{along, end};
            const Point foot = side < 2 ? Point{across, along} : Point{along, across};
            kind.pins.push_back({pins[side][i]->name, at, sortOf(*pins[side][i])});
            kind.symbol.push_back({fmt::format("M {} {} L {} {}", at.x, at.y, foot.x, foot.y)});
        }
    kind.labelAt = pins[2].empty() ? Point{-halfWidth, -halfHeight - 36} : Point{halfWidth + gridStep, -halfHeight};
}

/// A bound of a module's parameter, as far as it is a plain number.
double boundOf(const std::string& typed, const Parameter& parameter, double open) {
    const auto unit = findUnit(parameter.unit);
    if (typed.empty() || !unit) return open;
    const auto value = evaluateField(typed, *unit);
    return value ? *value : open;
}

void addParameters(PartKind& kind, const Sheet& sheet) {
    for (const Parameter& p : sheet.parameters)
        kind.parameters.push_back({.key = p.name,
                                   .label = p.note.empty() ? p.name : p.note,
                                   .symbol = p.name,
                                   .unit = p.unit,
                                   .standard = p.value,
                                   .least = boundOf(p.least, p, -std::numeric_limits<double>::infinity()),
                                   .most = boundOf(p.most, p, std::numeric_limits<double>::infinity()),
                                   .shownOnSheet = kind.parameters.size() < 2});
    kind.parameters.push_back({.key = std::string(insideKey),
                               .label = "rungs inside",
                               .symbol = "",
                               .unit = "",
                               .standard = std::string(ownRungs),
                               .choices = {std::string(ownRungs), std::string(oneRung)}});
}

void addRungs(PartKind& kind, const Sheet& sheet, const Catalogue& catalogue) {
    std::map<int, double> prices;
    for (const Part& part : sheet.parts) {
        const PartKind* inner = catalogue.find(part.kind);
        if (!inner || isModulePin(part)) continue;
        for (const RungKind& rung : inner->rungs) prices[rung.rung] = std::max(prices[rung.rung], rung.price);
    }
    if (prices.empty()) prices[1] = 1.0;
    for (const auto& [rung, price] : prices)
        kind.rungs.push_back(
            {rung, "all parts inside on this rung", "those of the parts inside", "the parts inside", price});
}

/// Lays a project out, module by module.
class Flattener {
public:
    Flattener(const Project& project, const Catalogue& parts)
        : project_(project), catalogue_(withModules(parts, project)) {}

    FlatProject run() {
        flat_.project = project_;
        flat_.project.view = {};
        flat_.project.sheets.resize(1);
        flat_.nets = findNets(project_.sheets.front(), catalogue_);
        Sheet& main = flat_.project.sheets.front();
        const std::vector<Part> all = std::exchange(main.parts, {});
        const Scope top{&project_.sheets.front(), "", {}, {}, -1};
        for (const Part& part : all) {
            if (tooLarge_) break;
            if (isModulePin(part))
                fail(part.name, fmt::format("{} is a pin of a module: on the main sheet it joins nothing", part.name));
            else if (moduleOf(part.kind).empty())
                main.parts.push_back(part);
            else
                open(part, part, top, [&](int pin) { return flat_.nets.netOfPin.at({part.id, pin}); });
        }
        tidy(all);
        return std::move(flat_);
    }

private:
    /// The flat net at a pin of a part, by the index of the pin.
    using NetOfPin = std::function<int(int)>;

    /// What holds on one laid-out sheet.
    struct Scope {
        const Sheet* sheet;
        std::string prefix;
        std::vector<int> path;
        std::set<std::string> names;  ///< parameters of the module
        int rung;                     ///< for all parts, -1 for their own
    };

    void fail(const std::string& part, std::string message) {
        flat_.errors.push_back({ErrorCode::name, std::move(message), part});
    }

    std::string scoped(std::string text, const Scope& scope) const {
        for (const std::string& name : scope.names) text = withRenamed(text, name, scope.prefix + name);
        return text;
    }

    /// @param place  the part as it stands on its own sheet; `shown` has its name from outside
    void open(const Part& place, const Part& shown, const Scope& outer, const NetOfPin& netAt) {
        const Sheet* sheet = project_.findSheet(moduleOf(place.kind));
        if (!sheet || sheet == &project_.sheets.front())
            return fail(shown.name, fmt::format("{} is a place of the module '{}', which this project does not have",
                                                shown.name, moduleOf(place.kind)));
        if (std::find(open_.begin(), open_.end(), sheet) != open_.end())
            return fail(shown.name, fmt::format("{}: the module {} contains itself", shown.name, sheet->name));
        if (open_.size() >= deepest)
            return fail(shown.name, fmt::format("{}: modules are nested more than {} deep", shown.name, deepest));
        if (++places_ > mostFlatPlaces || flat_.project.sheets.front().parts.size() > mostFlatParts) {
            tooLarge_ = true;
            return fail(shown.name, fmt::format("{}: with all modules laid out there are more than {} parts, or {} "
                                                "places of modules: that is more than this program takes",
                                                shown.name, mostFlatParts, mostFlatPlaces));
        }
        open_.push_back(sheet);
        Scope scope{sheet, shown.name + ".", outer.path, {}, outer.rung};
        scope.path.push_back(place.id);
        const std::string* inside = place.values.find(insideKey);
        if (scope.rung < 0 && inside && *inside == oneRung) scope.rung = place.rung;
        for (const Parameter& p : sheet->parameters) scope.names.insert(p.name);
        setParameters(place, shown, scope, outer);
        layOut(scope, place, netAt);
        open_.pop_back();
    }

    void setParameters(const Part& place, const Part& shown, const Scope& scope, const Scope& outer) {
        for (const auto& [key, typed] : place.values.all())
            if (key != insideKey && !scope.names.contains(key))
                fail(shown.name,
                     fmt::format("{}: the module {} has no parameter {}", shown.name, scope.sheet->name, key));
        for (Parameter parameter : scope.sheet->parameters) {
            const std::string* typed = place.values.find(parameter.name);
            if (typed) parameter.value = scoped(*typed, outer);
            if (parameter.value.empty())
                flat_.errors.push_back({ErrorCode::range,
                                        fmt::format("{}: {} needs a value", shown.name, parameter.name),
                                        shown.name,
                                        {},
                                        parameter.name});
            parameter.name = scope.prefix + parameter.name;
            flat_.project.parameters.push_back(std::move(parameter));
        }
    }

    void layOut(const Scope& scope, const Part& place, const NetOfPin& netAt) {
        const PartKind& kind = *catalogue_.find(place.kind);
        const NetList& nets = netsOf(*scope.sheet);
        std::vector<int> flatNet(nets.nets.size(), -1);
        for (const Part& part : scope.sheet->parts) {
            const int pin = isModulePin(part) ? kind.findPin(part.name) : -1;
            if (pin < 0) continue;
            int& net = flatNet[static_cast<std::size_t>(nets.netOfPin.at({part.id, 0}))];
            const int outside = root(netAt(pin));
            if (net >= 0) merge(root(net), outside);
            net = root(outside);
        }
        for (std::size_t n = 0; n < nets.nets.size(); ++n)
            if (flatNet[n] < 0) {
                flatNet[n] = static_cast<int>(flat_.nets.nets.size());
                flat_.nets.nets.push_back({scope.prefix + nets.nets[n].name, nets.nets[n].labelled, {}, {}, {}});
            }
        for (const Part& part : scope.sheet->parts) {
            if (tooLarge_) return;
            if (isModulePin(part)) continue;
            const NetOfPin netOfPin = [&](int pin) {
                return flatNet[static_cast<std::size_t>(nets.netOfPin.at({part.id, pin}))];
            };
            Part laid = part;
            laid.name = scope.prefix + part.name;
            if (scope.rung >= 0) laid.rung = scope.rung;
            if (moduleOf(part.kind).empty())
                lay(std::move(laid), part, scope, netOfPin);
            else
                open(part, laid, scope, netOfPin);
        }
    }

    void lay(Part laid, const Part& part, const Scope& scope, const NetOfPin& netOfPin) {
        laid.id = flat_.project.newId();
        flat_.origins[laid.id] = {scope.path, part.id};
        const PartKind* kind = catalogue_.find(part.kind);
        for (const auto& [key, text] : part.values.all()) {
            const ParameterKind* value = kind ? kind->findParameter(key) : nullptr;
            if (!value || !value->choices.empty() || (value->text && !value->expressions)) continue;
            std::string all;
            for (const auto& [piece, end] : piecesOf(text, value->expressions)) all += scoped(piece, scope) + end;
            laid.values.set(key, all);
        }
        for (std::size_t pin = 0; kind && pin < kind->pins.size(); ++pin) {
            const PinRef ref{laid.id, static_cast<int>(pin)};
            flat_.nets.netOfPin[ref] = netOfPin(static_cast<int>(pin));
        }
        flat_.project.sheets.front().parts.push_back(std::move(laid));
    }

    /// The nets of a sheet, found once for all its places.
    const NetList& netsOf(const Sheet& sheet) {
        const auto known = netsOfSheets_.find(&sheet);
        return known != netsOfSheets_.end() ? known->second
                                            : netsOfSheets_.emplace(&sheet, findNets(sheet, catalogue_)).first->second;
    }

    /// The net that a net has become part of, where modules joined nets of the outside.
    int root(int net) {
        int last = net;
        for (auto joined = joined_.find(last); joined != joined_.end(); joined = joined_.find(last))
            last = joined->second;
        // What was walked leads there directly from now on.
        for (auto joined = joined_.find(net); joined != joined_.end() && joined->second != last;
             joined = joined_.find(net))
            net = std::exchange(joined->second, last);
        return last;
    }

    /// The lower one stays.
    void merge(int a, int b) {
        if (a == b) return;
        const int kept = std::min(a, b), gone = std::max(a, b);
        joined_[gone] = kept;
        Net& into = flat_.nets.nets[static_cast<std::size_t>(kept)];
        Net& from = flat_.nets.nets[static_cast<std::size_t>(gone)];
        if (from.labelled && !into.labelled) into.name = from.name, into.labelled = true;
        into.wires.insert(into.wires.end(), from.wires.begin(), from.wires.end());
        into.labels.insert(into.labels.end(), from.labels.begin(), from.labels.end());
        from = {};
    }

    /// What refers to nets now refers to those that stayed, and the pins of the places are gone.
    void tidy(const std::vector<Part>& all) {
        std::set<int> gone;
        for (const Part& part : all)
            if (isModulePin(part) || !moduleOf(part.kind).empty()) gone.insert(part.id);
        std::erase_if(flat_.nets.netOfPin, [&](const auto& entry) { return gone.contains(entry.first.part); });
        for (Net& net : flat_.nets.nets) net.pins.clear();
        for (auto& [wire, net] : flat_.nets.netOfWire) net = root(net);
        for (auto& [pin, net] : flat_.nets.netOfPin) {
            net = root(net);
            flat_.nets.nets[static_cast<std::size_t>(net)].pins.push_back(pin);
        }
    }

    const Project& project_;
    const Catalogue catalogue_;
    FlatProject flat_;
    std::vector<const Sheet*> open_;  ///< from the main sheet down to the one being laid out
    std::map<int, int> joined_;
    std::map<const Sheet*, NetList> netsOfSheets_;
    std::size_t places_ = 0;  ///< opened so far
    bool tooLarge_ = false;
};

}  // namespace

bool isModulePin(const Part& part) {
    return part.kind == powerPinKind || part.kind == signalInKind || part.kind == signalOutKind;
}

std::string moduleKindId(std::string_view module) { return std::string(prefix) + std::string(module); }

std::string_view moduleOf(std::string_view kind) {
    return kind.starts_with(prefix) ? kind.substr(prefix.size()) : std::string_view{};
}

PartKind moduleKind(const Sheet& sheet, const Catalogue& catalogue) {
    PartKind kind;
    kind.id = moduleKindId(sheet.name);
    kind.title = sheet.name;
    kind.prefix = "X";
    kind.synonyms = {"module"};
    kind.summary = sheet.note.empty() ? "A module of this project" : sheet.note;
    kind.help =
        kind.summary + ". " +
        (sheet.origin.empty() ? "Its sheet can be opened and changed; every place of it changes with it."
                              : "It belongs to the library " + sheet.origin +
                                    ": its sheet can be opened and looked at, and a copy made the project's own.");
    kind.group = "Modules";
    kind.module = true;
    addPinsAndBox(kind, sheet);
    addParameters(kind, sheet);
    addRungs(kind, sheet, catalogue);
    return kind;
}

Catalogue withModules(const Catalogue& parts, const Project& project, const std::vector<Sheet>& others) {
    Catalogue all = parts;
    std::map<std::string_view, const Sheet*> modules;
    std::vector<const Sheet*> ordered;
    const auto take = [&](const Sheet& sheet) {
        if (sheet.name != project.sheets.front().name && modules.emplace(sheet.name, &sheet).second)
            ordered.push_back(&sheet);
    };
    for (std::size_t i = 1; i < project.sheets.size(); ++i) take(project.sheets[i]);
    for (const Sheet& sheet : others) take(sheet);
    // Rungs come from what is inside, so that inner modules come first; in a circle, of which the checks tell, the
    // order does not matter.
    std::set<const Sheet*> met;
    std::vector<std::pair<const Sheet*, std::size_t>> way;  // sheets that are open, and the next part of each
    for (const Sheet* first : ordered) {
        if (met.insert(first).second) way.emplace_back(first, 0);
        while (!way.empty()) {
            auto& [sheet, next] = way.back();
            if (next == sheet->parts.size()) {
                all.set(moduleKind(*sheet, all));
                way.pop_back();
                continue;
            }
            const auto inner = modules.find(moduleOf(sheet->parts[next++].kind));
            if (inner != modules.end() && met.insert(inner->second).second) way.emplace_back(inner->second, 0);
        }
    }
    return all;
}

std::vector<const Sheet*> modulesUnder(const Sheet& sheet, const std::vector<Sheet>& sheets) {
    std::map<std::string_view, const Sheet*> named;
    for (const Sheet& other : sheets) named.emplace(other.name, &other);
    std::vector<const Sheet*> found{&sheet};
    std::set<const Sheet*> met{&sheet};
    for (std::size_t i = 0; i < found.size(); ++i)
        for (const Part& part : found[i]->parts)
            if (const auto inner = named.find(moduleOf(part.kind)); inner != named.end() && !moduleOf(part.kind).empty())
                if (met.insert(inner->second).second) found.push_back(inner->second);
    return found;
}

bool wouldContainItself(const Project& project, std::string_view sheet, std::string_view module) {
    const Sheet* inner = project.findSheet(module);
    if (!inner) return false;
    const auto under = modulesUnder(*inner, project.sheets);
    return std::any_of(under.begin(), under.end(), [&](const Sheet* s) { return s->name == sheet; });
}

View viewAlong(const Project& project, const std::vector<int>& path) {
    View view;
    for (const int id : path) {
        const Sheet& sheet = project.sheets[view.sheet];
        const auto place =
            std::find_if(sheet.parts.begin(), sheet.parts.end(), [id](const Part& p) { return p.id == id; });
        if (place == sheet.parts.end()) break;
        const Sheet* module = project.findSheet(moduleOf(place->kind));
        if (!module || module == &project.sheets.front() || view.path.size() >= deepest) break;
        view.sheet = static_cast<std::size_t>(module - project.sheets.data());
        view.path.push_back(id);
    }
    return view;
}

std::vector<const Part*> placesInView(const Project& project) {
    std::vector<const Part*> places;
    const Sheet* sheet = &project.sheets.front();
    for (const int id : project.view.path) {
        const auto place =
            std::find_if(sheet->parts.begin(), sheet->parts.end(), [id](const Part& p) { return p.id == id; });
        if (place == sheet->parts.end()) break;
        places.push_back(&*place);
        sheet = project.findSheet(moduleOf(place->kind));
        if (!sheet) break;
    }
    return places;
}

std::string prefixInView(const Project& project) {
    std::string names;
    for (const Part* place : placesInView(project)) names += place->name + ".";
    return names;
}

FlatProject flattened(const Project& project, const Catalogue& parts) {
    FlatProject flat = Flattener(project, parts).run();
    if (flat.errors.empty()) spreadVectors(flat, parts);
    return flat;
}

std::map<std::string, std::string> netNamesOutside(const Project& project, const NetList& nets,
                                                   const Catalogue& parts) {
    const FlatProject flat = flattened(project, parts);
    std::map<int, int> flatIds;  // of the parts of the sheet in view, by their id on it
    for (const auto& [id, origin] : flat.origins)
        if (origin.path == project.view.path) flatIds[origin.id] = id;
    const std::string prefix = prefixInView(project);
    std::map<std::string, std::string> names;
    for (const Net& net : nets.nets) {
        std::string& outside = names[net.name] = prefix + net.name;
        for (const PinRef& pin : net.pins)
            if (const auto id = flatIds.find(pin.part); id != flatIds.end())
                outside = flat.nets.of({id->second, pin.pin}).name;
    }
    return names;
}

}  // namespace hedgerow
