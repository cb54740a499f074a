#include "model/vectors.h"

#include <algorithm>
#include <numeric>
#include <optional>

#include <fmt/format.h>

namespace hedgerow {

namespace {

/// How the parts of a sheet meet wires of three.
class Spread {
public:
    Spread(const Sheet& sheet, const NetList& nets, const Catalogue& catalogue)
        : sheet_(sheet), nets_(nets), catalogue_(catalogue), three_(nets.nets.size(), 0) {
        const bool any = std::any_of(sheet.parts.begin(), sheet.parts.end(),
                                     [](const Part& part) { return part.kind == gatherKind; });
        for (bool changed = any; changed;) {
            changed = false;
            for (const Part& part : sheet.parts) {
                if (part.kind != gatherKind && !standsForThree(part)) continue;
                const PartKind& kind = *catalogue.find(part.kind);
                for (std::size_t pin = 0; pin < kind.pins.size(); ++pin) {
                    char& three = three_[net(part, pin)];
                    changed = changed || (isOutput(kind, pin) && !three);
                    three = three || isOutput(kind, pin);
                }
            }
        }
    }

    const std::vector<char>& nets() const { return three_; }
    std::size_t net(const Part& part, std::size_t pin) const {
        return static_cast<std::size_t>(nets_.netOfPin.at({part.id, static_cast<int>(pin)}));
    }
    /// Whether a pin takes a wire of three together with the two pins after it.
    bool takesThree(const Part& part, const PartKind& kind, std::size_t pin) const {
        return kind.pins[pin].three && three_[net(part, pin)] && isOpen(part, kind, pin + 1) &&
               isOpen(part, kind, pin + 2);
    }
    /// The pin that feeds this one, too, with what it takes of three; nothing where it is fed by its own wire.
    std::optional<std::size_t> takenWith(const Part& part, const PartKind& kind, std::size_t pin) const {
        for (std::size_t back = 1; back <= 2 && back <= pin; ++back)
            if (takesThree(part, kind, pin - back)) return pin - back;
        return {};
    }
    /// A part of the control with an input from a wire of three that it does not take whole.
    bool standsForThree(const Part& part) const {
        const PartKind* const kind = catalogue_.find(part.kind);
        if (!kind || part.kind == gatherKind || part.kind == scatterKind || !ofControl(*kind)) return false;
        for (std::size_t pin = 0; pin < kind->pins.size(); ++pin)
            if (kind->pins[pin].sort == PinSort::signalIn && three_[net(part, pin)] && !takesThree(part, *kind, pin))
                return true;
        return false;
    }
    /// All of whose pins are signals.
    static bool ofControl(const PartKind& kind) {
        return std::none_of(kind.pins.begin(), kind.pins.end(),
                            [](const PinKind& pin) { return pin.sort == PinSort::power; });
    }

private:
    static bool isOutput(const PartKind& kind, std::size_t pin) { return kind.pins[pin].sort == PinSort::signalOut; }
    bool isOpen(const Part& part, const PartKind& kind, std::size_t pin) const {
        if (pin >= kind.pins.size() || kind.pins[pin].sort != PinSort::signalIn) return false;
        const Net& at = nets_.nets[net(part, pin)];
        return at.pins.size() <= 1 && at.wires.empty() && at.labels.empty();
    }

    const Sheet& sheet_;
    const NetList& nets_;
    const Catalogue& catalogue_;
    std::vector<char> three_;
};

/// Writes the sheet anew, net by net and part by part.
class Spreader {
public:
    Spreader(FlatProject& flat, const Catalogue& catalogue)
        : flat_(flat),
          catalogue_(catalogue),
          sheet_(flat.project.sheets.front()),
          spread_(sheet_, flat.nets, catalogue),
          joined_(3 * flat.nets.nets.size()) {
        std::iota(joined_.begin(), joined_.end(), std::size_t{0});
    }

    void run() {
        for (const Part& part : sheet_.parts)
            if (part.kind == gatherKind || part.kind == scatterKind) join(part);
        placeNets();
        std::vector<Part> parts;
        for (const Part& part : sheet_.parts) {
            if (part.kind == gatherKind || part.kind == scatterKind) continue;
            const PartKind* const kind = catalogue_.find(part.kind);
            const bool three = spread_.standsForThree(part);
            for (std::size_t i = 0; i < (three ? 3u : 1u); ++i) {
                Part laid = part;
                if (three) {
                    laid.name += ofThree[i];
                    const auto origin = flat_.origins.find(part.id);
                    const PartOrigin from = origin == flat_.origins.end() ? PartOrigin{{}, part.id} : origin->second;
                    if (i > 0) laid.id = flat_.project.newId();
                    flat_.origins[laid.id] = from;
                }
                for (std::size_t pin = 0; kind && pin < kind->pins.size(); ++pin) connect(laid, part, *kind, pin, i);
                parts.push_back(std::move(laid));
            }
        }
        for (auto& [wire, net] : flat_.nets.netOfWire) net = placeOf(slot(static_cast<std::size_t>(net), 0));
        sheet_.parts = std::move(parts);
        flat_.nets.nets = std::move(nets_);
        flat_.nets.netOfPin = std::move(netOfPin_);
    }

private:
    std::size_t slot(std::size_t net, std::size_t i) const { return 3 * net + (spread_.nets()[net] ? i : 0); }
    std::size_t root(std::size_t slot) const {
        while (joined_[slot] != slot) slot = joined_[slot];
        return slot;
    }

    /// The wire of three is its three signals.
    void join(const Part& part) {
        const PartKind& kind = *catalogue_.find(part.kind);
        const bool in = part.kind == gatherKind;
        const std::size_t whole = spread_.net(part, in ? 3 : 0);
        if (!spread_.nets()[whole]) {
            flat_.errors.push_back({ErrorCode::connection,
                                    fmt::format("{}.{}: the wire there carries one signal, not three", part.name,
                                                kind.pins[in ? 3 : 0].name),
                                    part.name});
            return;
        }
        for (std::size_t i = 0; i < 3; ++i) {
            const std::size_t pin = in ? i : i + 1, single = spread_.net(part, pin);
            if (spread_.nets()[single]) {
                flat_.errors.push_back({ErrorCode::connection,
                                        fmt::format("{}.{}: the wire there carries three signals, the pin takes one",
                                                    part.name, kind.pins[pin].name),
                                        part.name});
                return;
            }
            // The lower one stays, so that the order of nets does not depend on that of parts.
            const std::size_t a = root(slot(single, 0)), b = root(slot(whole, i));
            joined_[std::max(a, b)] = std::min(a, b);
        }
    }

    void placeNets() {
        places_.assign(joined_.size(), -1);
        const auto& nets = flat_.nets.nets;
        for (std::size_t s = 0; s < joined_.size(); ++s) {
            const std::size_t net = s / 3, i = s % 3;
            if (slot(net, i) != s) continue;
            Net named{nets[net].name,
                      nets[net].labelled,
                      {},
                      i == 0 ? nets[net].wires : std::vector<int>{},
                      i == 0 ? nets[net].labels : std::vector<int>{}};
            if (spread_.nets()[net]) named.name += ofThree[i];
            int& place = places_[root(s)];
            if (place < 0) {
                place = static_cast<int>(nets_.size());
                nets_.push_back(std::move(named));
                continue;
            }
            // Names of single wires go before those of one of three, names that were given before others.
            Net& known = nets_[static_cast<std::size_t>(place)];
            const bool better = !spread_.nets()[net] && named.labelled >= known.labelled;
            if (better) known.name = named.name, known.labelled = named.labelled;
            known.wires.insert(known.wires.end(), named.wires.begin(), named.wires.end());
            known.labels.insert(known.labels.end(), named.labels.begin(), named.labels.end());
        }
    }
    int placeOf(std::size_t slot) const { return places_[root(slot)]; }

    void connect(const Part& laid, const Part& part, const PartKind& kind, std::size_t pin, std::size_t i) {
        std::size_t net = spread_.net(part, pin);
        if (const auto first = spread_.takenWith(part, kind, pin)) {
            net = spread_.net(part, *first);
            i = pin - *first;
        } else if (spread_.takesThree(part, kind, pin)) {
            i = 0;
        } else if (spread_.nets()[net] && !Spread::ofControl(kind)) {
            flat_.errors.push_back({ErrorCode::connection,
                                    fmt::format("{}.{}: the wire there carries three signals, the pin takes one: take "
                                                "them apart before",
                                                part.name, kind.pins[pin].name),
                                    part.name});
        }
        const PinRef ref{laid.id, static_cast<int>(pin)};
        const int place = placeOf(slot(net, i));
        netOfPin_[ref] = place;
        nets_[static_cast<std::size_t>(place)].pins.push_back(ref);
    }

    FlatProject& flat_;
    const Catalogue& catalogue_;
    Sheet& sheet_;
    Spread spread_;
    std::vector<std::size_t> joined_;  ///< three slots a net; of a single one only the first is used
    std::vector<int> places_;          ///< of the roots among the new nets
    std::vector<Net> nets_;
    std::map<PinRef, int> netOfPin_;
};

}  // namespace

std::string_view withoutOfThree(std::string_view name) {
    for (const std::string_view end : ofThree)
        if (name.ends_with(end)) return name.substr(0, name.size() - end.size());
    return name;
}

WiresOfThree wiresOfThree(const Sheet& sheet, const NetList& nets, const Catalogue& catalogue) {
    const Spread spread(sheet, nets, catalogue);
    WiresOfThree found{spread.nets(), {}};
    if (std::find(found.nets.begin(), found.nets.end(), char{1}) == found.nets.end()) return found;
    for (const Part& part : sheet.parts) {
        const PartKind* const kind = catalogue.find(part.kind);
        for (std::size_t pin = 0; kind && pin < kind->pins.size(); ++pin)
            if (spread.takenWith(part, *kind, pin)) found.fed.insert({part.id, static_cast<int>(pin)});
    }
    return found;
}

void spreadVectors(FlatProject& flat, const Catalogue& parts) {
    const auto& all = flat.project.sheets.front().parts;
    const bool any = std::any_of(all.begin(), all.end(),
                                 [](const Part& part) { return part.kind == gatherKind || part.kind == scatterKind; });
    if (any) Spreader(flat, parts).run();
}

}  // namespace hedgerow
