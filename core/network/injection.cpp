#include "network/injection.h"

#include <algorithm>

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

namespace {

const Part* partCalled(const FlatProject& flat, std::string_view name) {
    for (const Part& part : flat.project.sheet().parts)
        if (part.name == name) return &part;
    return nullptr;
}

int netCalled(const FlatProject& flat, std::string_view name) {
    for (std::size_t i = 0; i < flat.nets.nets.size(); ++i)
        if (flat.nets.nets[i].name == name) return static_cast<int>(i);
    return -1;
}

/// The net of the reference, by a part with one power pin.
int referenceNet(const FlatProject& flat, const Catalogue& catalogue) {
    for (const Part& part : flat.project.sheet().parts) {
        const PartKind* const kind = catalogue.find(part.kind);
        const auto power = std::count_if(kind->pins.begin(), kind->pins.end(),
                                         [](const PinKind& pin) { return pin.sort == PinSort::power; });
        if (power == 1) return flat.nets.netOfPin.at({part.id, 0});
    }
    return -1;
}

/// Moves a pin to another net.
void move(NetList& nets, PinRef pin, int to) {
    std::vector<PinRef>& left = nets.nets[static_cast<std::size_t>(nets.netOfPin.at(pin))].pins;
    std::erase(left, pin);
    nets.nets[static_cast<std::size_t>(to)].pins.push_back(pin);
    nets.netOfPin[pin] = to;
}

int addNet(NetList& nets, std::string name) {
    nets.nets.push_back({std::move(name), false, {}, {}, {}});
    return static_cast<int>(nets.nets.size()) - 1;
}

struct Wired {
    std::string_view pin;
    int net;
};

/// Adds a part; pins that are not named get nets of their own.
Part& addPart(FlatProject& flat, const Catalogue& catalogue, const std::string& kind, const std::string& name,
              const std::vector<Wired>& wired) {
    Sheet& sheet = flat.project.sheet();
    Part part;
    part.id = 1;
    for (const Part& other : sheet.parts) part.id = std::max(part.id, other.id + 1);
    part.name = name, part.kind = kind;
    const PartKind& described = *catalogue.find(kind);
    for (std::size_t i = 0; i < described.pins.size(); ++i) {
        const PinRef pin{part.id, static_cast<int>(i)};
        int net = -1;
        for (const Wired& one : wired)
            if (one.pin == described.pins[i].name) net = one.net;
        if (net < 0) net = addNet(flat.nets, name + "." + described.pins[i].name);
        flat.nets.nets[static_cast<std::size_t>(net)].pins.push_back(pin);
        flat.nets.netOfPin[pin] = net;
    }
    sheet.parts.push_back(std::move(part));
    return sheet.parts.back();
}

/// The tone and what acts by it on two nets, as a source.
void addSource(FlatProject& flat, const Catalogue& catalogue, const std::string& kind, int first, int second) {
    const int tone = addNet(flat.nets, std::string(toneName) + ".y");
    addPart(flat, catalogue, "signal-sine", toneName, {{"y", tone}}).values.set("peak", "0");
    const PartKind& described = *catalogue.find(kind);
    std::vector<Wired> wired;
    int power = 0;
    for (const PinKind& pin : described.pins) {
        if (pin.sort == PinSort::power)
            wired.push_back({pin.name, power++ == 0 ? first : second});
        else
            wired.push_back({pin.name, tone});
    }
    addPart(flat, catalogue, kind, actingName, wired);
}

}  // namespace

Result<Injection> injectionOf(const std::string& text, const FlatProject& flat, const Catalogue& catalogue) {
    const auto unknown = [&](const std::string& what) {
        return Error{ErrorCode::name,
                     fmt::format("'{}': {}; a tone goes into a signal, as K1.y, a source, as V1, or a net, as into out",
                                 trimmed(text), what)};
    };
    std::vector<std::string> said;
    for (const std::string& word : words(std::string(trimmed(text)))) said.push_back(word);
    if (said.empty()) return unknown("nothing is named");
    if (said[0] == "into") {
        if (said.size() != 2 && !(said.size() == 4 && said[2] == "from"))
            return unknown("write 'into net' or 'into net from net'");
        Injection injection{Injection::Sort::current, said[1], said.size() == 4 ? said[3] : ""};
        for (const std::string& net : {injection.at, injection.from})
            if (!net.empty() && netCalled(flat, net) < 0) return unknown("there is no net " + net);
        if (injection.at == injection.from) return unknown("both nets are the same");
        return injection;
    }
    if (said.size() != 1) return unknown("one name was expected");
    std::string name = said[0], pin;
    const Part* part = partCalled(flat, name);
    if (const std::size_t dot = name.rfind('.'); !part && dot != std::string::npos) {
        pin = name.substr(dot + 1);
        name.resize(dot);
        part = partCalled(flat, name);
    }
    if (!part) return unknown("there is no part " + name);
    const PartKind& kind = *catalogue.find(part->kind);
    std::vector<std::string> outputs;
    int power = 0;
    for (const PinKind& one : kind.pins) {
        if (one.sort == PinSort::signalOut) outputs.push_back(one.name);
        if (one.sort == PinSort::power) ++power;
    }
    if (std::find(outputs.begin(), outputs.end(), pin) != outputs.end())
        return Injection{Injection::Sort::wire, name + "." + pin};
    const bool value = pin.empty() || kind.findParameter(pin);
    if (outputs.size() == 1 && value) return Injection{Injection::Sort::wire, name + "." + outputs.front()};
    if (power == 2 && value) {
        const bool current = kind.findParameter("level") && kind.findParameter("level")->unit == "A";
        if (current || part->kind == "sine-current" || part->kind == "signal-current")
            return unknown("a current source is stiff: push the current into a net");
        return Injection{Injection::Sort::voltage, name};
    }
    return unknown(outputs.empty() ? name + " has no signal output" : "which output of " + name + " is meant");
}

Status inject(FlatProject& flat, const Injection& injection, const Catalogue& catalogue) {
    if (injection.sort == Injection::Sort::current) {
        const int at = netCalled(flat, injection.at),
                  from = injection.from.empty() ? referenceNet(flat, catalogue) : netCalled(flat, injection.from);
        if (at < 0 || from < 0) return Error{ErrorCode::name, "there is no net " + injection.at};
        addSource(flat, catalogue, "signal-current", from, at);
        return {};
    }
    if (injection.sort == Injection::Sort::voltage) {
        const Part* const part = partCalled(flat, injection.at);
        if (!part) return Error{ErrorCode::name, "there is no part " + injection.at};
        const PartKind& kind = *catalogue.find(part->kind);
        const auto first = std::find_if(kind.pins.begin(), kind.pins.end(),
                                        [](const PinKind& pin) { return pin.sort == PinSort::power; });
        const PinRef pin{part->id, static_cast<int>(first - kind.pins.begin())};
        const int outside = flat.nets.netOfPin.at(pin), inside = addNet(flat.nets, std::string(actingName) + ".inside");
        move(flat.nets, pin, inside);
        addSource(flat, catalogue, "signal-voltage", outside, inside);
        return {};
    }
    const std::size_t dot = injection.at.rfind('.');
    const Part* const driver = partCalled(flat, injection.at.substr(0, dot));
    if (!driver) return Error{ErrorCode::name, "there is no part " + injection.at.substr(0, dot)};
    const PartKind& kind = *catalogue.find(driver->kind);
    const PinRef pin{driver->id, kind.findPin(injection.at.substr(dot + 1))};
    const int wire = flat.nets.netOfPin.at(pin), cut = addNet(flat.nets, injection.at);
    const std::string* const task = driver->values.find("task");
    const std::string taskName = task && kind.findParameter("task") ? *task : "";
    move(flat.nets, pin, cut);
    const int tone = addNet(flat.nets, std::string(toneName) + ".y");
    addPart(flat, catalogue, "signal-sine", toneName, {{"y", tone}}).values.set("peak", "0");
    // In the module of the driver, where a task is looked for.
    const std::size_t inside = driver->name.rfind('.');
    const std::string prefix = inside == std::string::npos ? "" : driver->name.substr(0, inside + 1);
    Part& sum = addPart(flat, catalogue, "sum", prefix + actingName, {{"a", cut}, {"b", tone}, {"y", wire}});
    sum.values.set("signs", "++");
    // In the task of what drives the wire, so that the loop has no more delay than before.
    if (!taskName.empty()) sum.values.set("task", taskName);
    return {};
}

}  // namespace hedgerow
