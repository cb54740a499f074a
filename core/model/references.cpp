#include "model/references.h"

#include <algorithm>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow {

namespace {

bool uses(const std::string& text, std::string_view parameter) {
    const auto names = parametersIn(text);
    return std::find(names.begin(), names.end(), parameter) != names.end();
}

/// The expressions of a plan.
std::vector<std::string*> expressionsOf(Plan& plan) {
    std::vector<std::string*> all{&plan.end, &plan.tolerance};
    for (auto& [quantity, tolerance] : plan.tolerances) all.push_back(&tolerance);
    return all;
}

}  // namespace

std::vector<ParameterUse> usesOf(const Project& project, const Catalogue& catalogue, std::string_view parameter) {
    std::vector<ParameterUse> found;
    for (const Sheet& sheet : project.sheets)
        for (const Part& part : sheet.parts)
            for (const auto& [key, text] : part.values.all()) {
                if (!uses(text, parameter)) continue;
                const PartKind* kind = catalogue.find(part.kind);
                const ParameterKind* value = kind ? kind->findParameter(key) : nullptr;
                found.push_back({part.name + " " + (value ? value->label : key), part.id, key});
            }
    for (const Parameter& other : project.parameters)
        for (const std::string* text : {&other.value, &other.least, &other.most})
            if (uses(*text, parameter)) found.push_back({"parameter " + other.name, 0, {}});
    for (Plan plan : project.plans)
        for (const std::string* text : expressionsOf(plan))
            if (uses(*text, parameter)) found.push_back({"plan " + plan.name, 0, {}});
    return found;
}

void forEachExpression(Project& project, const std::function<void(std::string&)>& visit) {
    for (Sheet& sheet : project.sheets)
        for (Part& part : sheet.parts)
            for (const auto& [key, text] : std::vector(part.values.all())) {
                std::string changed = text;
                visit(changed);
                if (changed != text) part.values.set(key, changed);
            }
    for (Parameter& parameter : project.parameters)
        for (std::string* text : {&parameter.value, &parameter.least, &parameter.most}) visit(*text);
    for (Plan& plan : project.plans)
        for (std::string* text : expressionsOf(plan)) visit(*text);
}

std::vector<std::string> undefinedParameters(const Project& project) {
    std::vector<std::string> missing;
    Project copy = project;
    forEachExpression(copy, [&](std::string& text) {
        for (const std::string& name : parametersIn(text)) {
            const auto defined = [&](const Parameter& p) { return p.name == name; };
            if (std::none_of(project.parameters.begin(), project.parameters.end(), defined) &&
                std::find(missing.begin(), missing.end(), name) == missing.end())
                missing.push_back(name);
        }
    });
    return missing;
}

std::set<int> wholeNets(const Sheet& sheet, const NetList& nets, const std::set<int>& items) {
    std::set<int> chosen, ids;
    for (const auto& [wire, net] : nets.netOfWire)
        if (items.contains(wire)) chosen.insert(net);
    for (std::size_t n = 0; n < nets.nets.size(); ++n)
        for (const int label : nets.nets[n].labels)
            if (items.contains(label)) chosen.insert(static_cast<int>(n));
    if (chosen.empty())
        for (const auto& [pin, net] : nets.netOfPin)
            if (items.contains(pin.part)) chosen.insert(net);
    for (const int n : chosen) {
        const Net& net = nets.nets[static_cast<std::size_t>(n)];
        ids.insert(net.wires.begin(), net.wires.end());
        ids.insert(net.labels.begin(), net.labels.end());
    }
    std::erase_if(ids, [&](int id) {
        const auto is = [id](const auto& item) { return item.id == id; };
        return std::none_of(sheet.wires.begin(), sheet.wires.end(), is) &&
               std::none_of(sheet.labels.begin(), sheet.labels.end(), is);
    });
    return ids;
}

std::optional<Point> placeNamed(const Project& project, const Catalogue& catalogue, std::string_view name) {
    const std::size_t dot = name.find('.');
    if (dot == std::string_view::npos) {
        for (const Label& label : project.sheet().labels)
            if (label.net == name) return label.at;
        return {};
    }
    const Part* part = project.findPart(name.substr(0, dot));
    const PartKind* kind = part ? catalogue.find(part->kind) : nullptr;
    const int pin = kind ? kind->findPin(name.substr(dot + 1)) : -1;
    if (pin < 0) return {};
    return part->toSheet(kind->pins[static_cast<std::size_t>(pin)].at);
}

std::set<int> similarParts(const Sheet& sheet, const std::set<int>& items) {
    std::set<std::string> kinds;
    std::set<int> ids;
    for (const Part& part : sheet.parts)
        if (items.contains(part.id)) kinds.insert(part.kind);
    for (const Part& part : sheet.parts)
        if (kinds.contains(part.kind)) ids.insert(part.id);
    return ids;
}

std::vector<Found> findOnSheet(const Project& project, const Catalogue& catalogue, const NetList& nets,
                               std::string_view typed) {
    const std::string wanted = lowerCase(trimmed(typed));
    std::vector<std::pair<int, Found>> ranked;
    const auto consider = [&](Found found, const std::vector<std::string>& texts) {
        int rank = -1;
        if (lowerCase(found.title).starts_with(wanted)) rank = lowerCase(found.title) == wanted ? 0 : 1;
        for (const std::string& text : texts)
            if (rank < 0 && lowerCase(text).find(wanted) != std::string::npos) rank = 2;
        if (rank >= 0) ranked.emplace_back(rank, std::move(found));
    };
    for (const Part& part : project.sheet().parts) {
        const PartKind* kind = catalogue.find(part.kind);
        std::string detail = kind ? kind->title : part.kind;
        std::vector<std::string> texts{part.name, detail};
        for (const auto& [key, text] : part.values.all()) {
            texts.push_back(text);
            const ParameterKind* value = kind ? kind->findParameter(key) : nullptr;
            if (value && value->shownOnSheet) detail += ", " + text;
        }
        if (kind) texts.insert(texts.end(), kind->synonyms.begin(), kind->synonyms.end());
        consider({Found::What::part, {part.id}, part.name, detail}, texts);
    }
    for (const Net& net : nets.nets) {
        if (!net.labelled) continue;
        std::set<int> ids(net.wires.begin(), net.wires.end());
        ids.insert(net.labels.begin(), net.labels.end());
        consider({Found::What::net, ids, net.name,
                  fmt::format("net, {} pin{}", net.pins.size(), net.pins.size() == 1 ? "" : "s")},
                 {net.name});
    }
    std::stable_sort(ranked.begin(), ranked.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<Found> found;
    for (auto& [rank, item] : ranked) found.push_back(std::move(item));
    return found;
}

}  // namespace hedgerow
