#include "network/checks.h"

#include <algorithm>
#include <map>
#include <numeric>
#include <set>

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

namespace {

struct PlacedPart {
    const Part* part;
    const PartKind* kind;
    const PartType* type;
};

/// A two-terminal connection between nets.
struct Edge {
    int from, to;
    const PlacedPart* part;
};

class Checker {
public:
    Checker(const Project& project, const PartLibrary& library, const NetList& nets, const ParameterTable& parameters)
        : project_(project), library_(library), nets_(nets), parameters_(parameters) {}

    std::vector<Error> all() {
        for (Error& error : parameters_.errors()) errors_.push_back(std::move(error));
        checkParts();
        if (!errors_.empty()) return errors_;
        checkPins();
        checkSignals();
        checkReference();
        if (!errors_.empty()) return errors_;
        checkStiffness();
        return errors_;
    }

private:
    void report(ErrorCode code, std::string message, std::string part = {}, std::string net = {},
                std::string field = {}) {
        errors_.push_back({code, std::move(message), std::move(part), std::move(net), std::move(field)});
    }

    void checkParts() {
        std::set<std::string> names;
        for (const Part& part : project_.sheet().parts) {
            const PartType* type = library_.find(part.kind);
            if (!type) {
                report(ErrorCode::name,
                       fmt::format("{}: this version knows no part of kind '{}'", part.name, part.kind), part.name);
                continue;
            }
            if (!names.insert(part.name).second)
                report(ErrorCode::name, fmt::format("there are two parts called {}: rename one", part.name), part.name);
            placed_.push_back({&part, library_.catalogue().find(part.kind), type});
            checkValues(placed_.back());
        }
        if (placed_.empty() && errors_.empty()) report(ErrorCode::connection, "the sheet is empty: place parts first");
    }

    void checkValues(const PlacedPart& placed) {
        bool sound = true;
        for (const ParameterKind& parameter : placed.kind->parameters) {
            if (parameter.rung > placed.part->rung && !placed.part->values.find(parameter.key)) continue;
            if (parameter.rating && !placed.part->values.find(parameter.key)) continue;
            std::optional<Error> error;
            if (parameter.text) continue;
            if (parameter.choices.empty()) {
                auto value = partValue(*placed.part, *placed.kind, parameter.key, parameters_.lookup());
                if (!value) error = value.error();
            } else if (auto word = partChoice(*placed.part, *placed.kind, parameter.key); !word) {
                error = word.error();
            }
            if (error) errors_.push_back(*error), sound = false;
        }
        if (!sound) return;
        const auto textOf = [&](std::string_view key) { return textValue(*placed.part, *placed.kind, key); };
        auto status = placed.type->check(valueOf(placed));
        if (status) status = placed.type->checkTexts(textOf, project_.folder);
        if (!status) {
            Error error = status.error();
            error.part = placed.part->name;
            error.message = placed.part->name + ": " + error.message;
            errors_.push_back(std::move(error));
        }
    }

    std::function<double(std::string_view)> valueOf(const PlacedPart& placed) const {
        return [this, &placed](std::string_view key) {
            auto value = partValue(*placed.part, *placed.kind, key, parameters_.lookup());
            return value ? *value : 0.0;
        };
    }

    void checkPins() {
        for (const PlacedPart& placed : placed_) {
            for (std::size_t i = 0; i < placed.kind->pins.size(); ++i) {
                const PinKind& pin = placed.kind->pins[i];
                if (pin.optional || pin.sort == PinSort::signalOut) continue;
                const Net& net = nets_.of({placed.part->id, static_cast<int>(i)});
                // A name says that the end is meant: an output that nothing loads yet.
                const bool meant = pin.sort == PinSort::power && !net.labels.empty();
                if (net.pins.size() < 2 && !meant)
                    report(ErrorCode::connection,
                           fmt::format("pin {} of {} is not connected", pin.name, placed.part->name), placed.part->name,
                           net.name);
            }
        }
    }

    void checkSignals() {
        const std::map<int, const PlacedPart*> byId = partsById();
        for (const Net& net : nets_.nets) {
            std::vector<std::string> drivers, readers, powers;
            for (const PinRef& ref : net.pins) {
                const auto found = byId.find(ref.part);
                if (found == byId.end()) continue;
                const PinKind& pin = found->second->kind->pins[static_cast<std::size_t>(ref.pin)];
                const std::string name = found->second->part->name + "." + pin.name;
                (pin.sort == PinSort::power       ? powers
                 : pin.sort == PinSort::signalOut ? drivers
                                                  : readers)
                    .push_back(name);
            }
            const std::string about = drivers.empty() ? (readers.empty() ? "" : readers.front()) : drivers.front();
            const std::string part = about.substr(0, about.find('.'));
            if (!powers.empty() && (!drivers.empty() || !readers.empty()))
                report(
                    ErrorCode::connection,
                    fmt::format("net {} joins power pins ({}) with the signal pin {}", net.name, listed(powers), about),
                    part, net.name);
            else if (drivers.size() > 1)
                report(ErrorCode::connection,
                       fmt::format("net {} is driven by {}: one signal has one source", net.name, listed(drivers)),
                       part, net.name);
            else if (drivers.empty() && readers.size() > 1)
                report(ErrorCode::connection,
                       fmt::format("nothing drives {}: join them to a modulator or a constant", listed(readers)), part,
                       net.name);
        }
    }

    void checkReference() {
        std::vector<int> group(nets_.nets.size());
        std::iota(group.begin(), group.end(), 0);
        const auto root = [&](int i) {
            while (group[static_cast<std::size_t>(i)] != i)
                i = group[static_cast<std::size_t>(i)] =
                    group[static_cast<std::size_t>(group[static_cast<std::size_t>(i)])];
            return i;
        };
        std::set<int> references, powered;
        for (const PlacedPart& placed : placed_) {
            const std::vector<int> pins = powerNets(placed);
            for (const int net : pins) powered.insert(net);
            if (pins.size() == 1) references.insert(pins[0]);
            if (!placed.type->joinsNets()) continue;
            for (const int net : pins) group[static_cast<std::size_t>(root(net))] = root(pins.front());
        }
        if (references.empty()) {
            if (!powered.empty())
                report(ErrorCode::connection,
                       "there is no reference node: place one (type \"ref\") on the net that is 0 V");
            return;
        }
        for (const int net : references) group[static_cast<std::size_t>(root(net))] = root(*references.begin());
        std::set<int> reported;
        for (const int net : powered) {
            const int island = root(net);
            if (island == root(*references.begin()) || !reported.insert(island).second) continue;
            std::vector<std::string> names;
            for (const int other : powered)
                if (root(other) == island && names.size() < 6)
                    names.push_back(nets_.nets[static_cast<std::size_t>(other)].name);
            report(ErrorCode::connection,
                   fmt::format("net {} floats: nothing joins it to the reference node", listed(names)), partAt(net),
                   names.front());
        }
    }

    /// Loops of stiff voltages and cuts of stiff currents: unsolvable, whatever the switches do.
    void checkStiffness() {
        std::vector<Edge> voltages, others, currents;
        for (const PlacedPart& placed : placed_) {
            const std::vector<int> pins = powerNets(placed);
            // What a part with more pins does between them only the engine can tell: it counts as a path.
            for (std::size_t i = 1; pins.size() > 2 && i < pins.size(); ++i)
                others.push_back({node(pins[0]), node(pins[i]), &placed});
            if (pins.size() != 2) continue;
            const Edge edge{node(pins[0]), node(pins[1]), &placed};
            switch (placed.type->stiff(placed.kind->rungAtOrBelow(placed.part->rung).rung, valueOf(placed))) {
                case StiffSort::voltage:
                    voltages.push_back(edge);
                    break;
                case StiffSort::current:
                    currents.push_back(edge);
                    break;
                case StiffSort::neither:
                    others.push_back(edge);
                    break;
            }
        }
        Forest forest(nets_.nets.size());
        for (const Edge& edge : voltages) {
            if (!forest.joined(edge.from, edge.to)) {
                forest.join(edge);
                continue;
            }
            std::vector<std::string> names = forest.path(edge.from, edge.to);
            names.push_back(edge.part->part->name);
            std::sort(names.begin(), names.end());
            if (std::all_of(names.begin(), names.end(), [&](const std::string& n) { return isMeter(n); })) continue;
            report(ErrorCode::connection,
                   names.size() == 1
                       ? fmt::format("{} is shorted: both its pins are on one net", names[0])
                       : fmt::format("{} form a loop of fixed voltages: put a resistance into it", listed(names)),
                   edge.part->part->name);
        }
        Forest joined(nets_.nets.size());
        for (const Edge& edge : voltages)
            if (!joined.joined(edge.from, edge.to)) joined.join(edge);
        for (const Edge& edge : others)
            if (!joined.joined(edge.from, edge.to)) joined.join(edge);
        std::map<int, std::vector<std::string>> cuts;
        for (const Edge& edge : currents) {
            const int a = joined.root(edge.from), b = joined.root(edge.to);
            if (a == b) continue;
            cuts[a].push_back(edge.part->part->name);
            cuts[b].push_back(edge.part->part->name);
        }
        std::set<std::string> seen;
        for (const auto& [island, names] : cuts)
            if (seen.insert(joinedNames(names)).second)
                report(ErrorCode::connection,
                       fmt::format("{} force{} a current that has no other path: put a resistance across",
                                   listed(names), names.size() == 1 ? "s" : ""),
                       names.front());
    }

    static std::string joinedNames(std::vector<std::string> names) {
        std::sort(names.begin(), names.end());
        return joined(names, " ");
    }

    bool isMeter(const std::string& name) const {
        const Part* part = project_.findPart(name);
        return part && part->kind == "ammeter";
    }

    /// A spanning forest over nets that remembers which part made each join.
    class Forest {
    public:
        explicit Forest(std::size_t nets) : neighbours_(nets), parent_(nets) {
            std::iota(parent_.begin(), parent_.end(), 0);
        }
        int root(int i) const {
            while (parent_[static_cast<std::size_t>(i)] != i) i = parent_[static_cast<std::size_t>(i)];
            return i;
        }
        bool joined(int a, int b) const { return root(a) == root(b); }
        void join(const Edge& edge) {
            parent_[static_cast<std::size_t>(root(edge.from))] = root(edge.to);
            neighbours_[static_cast<std::size_t>(edge.from)].emplace_back(edge.to, edge.part->part->name);
            neighbours_[static_cast<std::size_t>(edge.to)].emplace_back(edge.from, edge.part->part->name);
        }
        std::vector<std::string> path(int from, int to) const {
            std::map<int, std::pair<int, std::string>> cameFrom{{from, {-1, ""}}};
            std::vector<int> queue{from};
            for (std::size_t i = 0; i < queue.size() && !cameFrom.contains(to); ++i)
                for (const auto& [next, name] : neighbours_[static_cast<std::size_t>(queue[i])])
                    if (cameFrom.emplace(next, std::pair{queue[i], name}).second) queue.push_back(next);
            std::vector<std::string> names;
            for (int at = to; at != from && cameFrom.contains(at); at = cameFrom[at].first)
                names.push_back(cameFrom[at].second);
            std::reverse(names.begin(), names.end());
            return names;
        }

    private:
        std::vector<std::vector<std::pair<int, std::string>>> neighbours_;
        std::vector<int> parent_;
    };

    std::vector<int> powerNets(const PlacedPart& placed) const {
        std::vector<int> found;
        for (std::size_t i = 0; i < placed.kind->pins.size(); ++i)
            if (placed.kind->pins[i].sort == PinSort::power)
                found.push_back(nets_.netOfPin.at({placed.part->id, static_cast<int>(i)}));
        return found;
    }
    /// Nets of all reference parts count as one.
    int node(int net) {
        if (referenceNet_ == -2) {
            referenceNet_ = -1;
            for (const PlacedPart& placed : placed_)
                if (const auto pins = powerNets(placed); pins.size() == 1) {
                    referenceNets_.insert(pins[0]);
                    if (referenceNet_ < 0) referenceNet_ = pins[0];
                }
        }
        return referenceNets_.contains(net) ? referenceNet_ : net;
    }
    std::map<int, const PlacedPart*> partsById() const {
        std::map<int, const PlacedPart*> byId;
        for (const PlacedPart& placed : placed_) byId[placed.part->id] = &placed;
        return byId;
    }
    std::string partAt(int net) const {
        const auto& pins = nets_.nets[static_cast<std::size_t>(net)].pins;
        const Part* part = pins.empty() ? nullptr : project_.findPart(pins.front().part);
        return part ? part->name : "";
    }

    const Project& project_;
    const PartLibrary& library_;
    const NetList& nets_;
    const ParameterTable& parameters_;
    std::vector<PlacedPart> placed_;
    std::vector<Error> errors_;
    int referenceNet_ = -2;
    std::set<int> referenceNets_;
};

}  // namespace

std::vector<Error> checkSheet(const Project& project, const PartLibrary& library, const NetList& nets,
                              const ParameterTable& parameters) {
    return Checker(project, library, nets, parameters).all();
}

bool isPowerNet(const Net& net, const Sheet& sheet, const Catalogue& catalogue) {
    for (const PinRef& ref : net.pins)
        for (const Part& part : sheet.parts)
            if (part.id == ref.part)
                if (const PartKind* kind = catalogue.find(part.kind))
                    return kind->pins[static_cast<std::size_t>(ref.pin)].sort == PinSort::power;
    return false;
}

}  // namespace hedgerow
