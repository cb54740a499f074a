#include "model/changes.h"

#include <algorithm>

#include <fmt/format.h>

#include "model/event_text.h"

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
        if (before == after) continue;
        const std::string label = parameter ? parameter->label : key;
        // Of code, that it changed is enough.
        if ((before + after).find('\n') != std::string::npos)
            lines.push_back(fmt::format("{} {} changed", b.name, label));
        else
            lines.push_back(fmt::format("{} {} {} → {}", b.name, label, before, after));
    }
}

template <class Item>
const Item* named(const std::vector<Item>& list, const std::string& name) {
    const auto found = std::find_if(list.begin(), list.end(), [&](const Item& item) { return item.name == name; });
    return found == list.end() ? nullptr : &*found;
}

void compareParameters(const std::vector<Parameter>& before, const std::vector<Parameter>& after, const std::string& in,
                       std::vector<std::string>& lines) {
    for (const Parameter& parameter : after) {
        const Parameter* old = named(before, parameter.name);
        if (!old)
            lines.push_back(fmt::format("{}added {} = {}", in, parameter.name, parameter.value));
        else if (old->value != parameter.value)
            lines.push_back(fmt::format("{}{} {} → {}", in, parameter.name, old->value, parameter.value));
    }
    for (const Parameter& parameter : before)
        if (!named(after, parameter.name)) lines.push_back(fmt::format("{}removed {}", in, parameter.name));
}

/// @param in  what stands before each line: the module's name
void compareSheet(const Sheet& before, const Sheet& after, const std::string& in, const Catalogue& catalogue,
                  std::vector<std::string>& lines) {
    for (const Part& part : after.parts) {
        std::vector<std::string> own;
        const Part* old = named(before.parts, part.name);
        if (!old)
            own.push_back("added " + part.name);
        else
            comparePart(*old, part, catalogue.find(part.kind), own);
        for (const std::string& line : own) lines.push_back(in + line);
    }
    for (const Part& part : before.parts)
        if (!named(after.parts, part.name)) lines.push_back(in + "removed " + part.name);
    compareParameters(before.parameters, after.parameters, in, lines);
    const auto wires = [](const Sheet& sheet) {
        std::vector<std::vector<Point>> all;
        for (const Wire& wire : sheet.wires) all.push_back(wire.points);
        return all;
    };
    if (wires(before) != wires(after)) lines.push_back(in + "wires");
}

}  // namespace

std::vector<std::string> changesBetween(const Project& before, const Project& after, const Catalogue& catalogue) {
    std::vector<std::string> lines;
    for (const Sheet& sheet : after.sheets) {
        const bool main = &sheet == &after.sheets.front();
        const Sheet* old = main ? &before.sheets.front() : before.findSheet(sheet.name);
        if (!old)
            lines.push_back("added module " + sheet.name);
        else
            compareSheet(*old, sheet, main ? "" : sheet.name + ": ", catalogue, lines);
    }
    for (std::size_t i = 1; i < before.sheets.size(); ++i)
        if (!after.findSheet(before.sheets[i].name)) lines.push_back("removed module " + before.sheets[i].name);
    compareParameters(before.parameters, after.parameters, "", lines);
    for (const Scene& scene : after.scenes) {
        const Scene* old = before.findScene(scene.name);
        for (const SceneEvent& event : scene.events)
            if (!old || std::find(old->events.begin(), old->events.end(), event) == old->events.end())
                lines.push_back(fmt::format("scene {}: added {}", scene.name, eventText(event)));
        for (const SceneEvent& event : old ? old->events : std::vector<SceneEvent>())
            if (std::find(scene.events.begin(), scene.events.end(), event) == scene.events.end())
                lines.push_back(fmt::format("scene {}: removed {}", scene.name, eventText(event)));
    }
    for (const Plan& plan : after.plans) {
        const Plan* old = before.findPlan(plan.name);
        if (!old) continue;
        if (old->end != plan.end) lines.push_back(fmt::format("plan {}: end {} → {}", plan.name, old->end, plan.end));
        if (old->engine != plan.engine)
            lines.push_back(fmt::format("plan {}: engine {} → {}", plan.name, old->engine, plan.engine));
        if (old->tolerance != plan.tolerance)
            lines.push_back(fmt::format("plan {}: trace tolerance {} → {}", plan.name, old->tolerance, plan.tolerance));
        const auto tell = [&](std::string_view what, const std::string& was, const std::string& is) {
            if (was != is) lines.push_back(fmt::format("plan {}: {} {} → {}", plan.name, what, was, is));
        };
        tell("step", old->fixed.step, plan.fixed.step);
        tell("method", old->fixed.method, plan.fixed.method);
        tell("what switches within a step", old->fixed.interpolate ? "interpolated" : "rounded",
             plan.fixed.interpolate ? "interpolated" : "rounded");
        tell("steps for temperatures", old->fixed.heat, plan.fixed.heat);
        tell("steps for the control", old->fixed.control, plan.fixed.control);
    }
    return lines;
}

}  // namespace hedgerow
