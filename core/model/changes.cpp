#include "model/changes.h"

#include <algorithm>

#include <fmt/format.h>

namespace hedgerow {

namespace {

std::string shown(const TypedValues& values, const std::string& key, const PartKind* kind) {
    if (const std::string* typed = values.find(key)) return *typed;
    const ParameterKind* parameter = kind ? kind->findParameter(key) : nullptr;
    return parameter && !parameter->standard.empty() ? parameter->standard : "none";
}

void comparePart(const Part& a, const Part& b, const PartKind* kind, std::vector<std::string>& lines) {
    if (a.kind != b.kind) lines.push_back(fmt::format("{} is another part now", b.name));
    if (a.rung != b.rung) lines.push_back(fmt::format("{} rung {} → {}", b.name, a.rung, b.rung));
    std::vector<std::string> keys;
    for (const TypedValues* values : {&a.values, &b.values})
        for (const auto& [key, text] : values->all())
            if (std::find(keys.begin(), keys.end(), key) == keys.end()) keys.push_back(key);
    for (const std::string& key : keys) {
        const std::string before = shown(a.values, key, kind), after = shown(b.values, key, kind);
        const ParameterKind* parameter = kind ? kind->findParameter(key) : nullptr;
        if (before != after)
            lines.push_back(fmt::format("{} {} {} → {}", b.name, parameter ? parameter->label : key, before, after));
    }
}

}  // namespace

std::vector<std::string> changesBetween(const Project& before, const Project& after, const Catalogue& catalogue) {
    std::vector<std::string> lines;
    for (const Part& part : after.sheet().parts) {
        const Part* old = before.findPart(part.name);
        if (!old)
            lines.push_back("added " + part.name);
        else
            comparePart(*old, part, catalogue.find(part.kind), lines);
    }
    for (const Part& part : before.sheet().parts)
        if (!after.findPart(part.name)) lines.push_back("removed " + part.name);
    for (const Parameter& parameter : after.parameters) {
        const auto old = std::find_if(before.parameters.begin(), before.parameters.end(),
                                      [&](const Parameter& p) { return p.name == parameter.name; });
        if (old == before.parameters.end())
            lines.push_back(fmt::format("added {} = {}", parameter.name, parameter.value));
        else if (old->value != parameter.value)
            lines.push_back(fmt::format("{} {} → {}", parameter.name, old->value, parameter.value));
    }
    for (const Plan& plan : after.plans) {
        const Plan* old = before.findPlan(plan.name);
        if (!old) continue;
        if (old->end != plan.end) lines.push_back(fmt::format("plan {}: end {} → {}", plan.name, old->end, plan.end));
        if (old->tolerance != plan.tolerance)
            lines.push_back(fmt::format("plan {}: trace tolerance {} → {}", plan.name, old->tolerance, plan.tolerance));
    }
    const auto wires = [](const Sheet& sheet) {
        std::vector<std::vector<Point>> all;
        for (const Wire& wire : sheet.wires) all.push_back(wire.points);
        return all;
    };
    if (wires(before.sheet()) != wires(after.sheet())) lines.emplace_back("wires");
    return lines;
}

}  // namespace hedgerow
