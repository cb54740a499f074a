#include "model/project.h"

#include <algorithm>
#include <cmath>

namespace hedgerow {

namespace {
/// Items mostly stand in the order in which they were made, so that their ids rise.
template <class List>
auto* byId(List& list, int id) {
    const auto likely =
        std::lower_bound(list.begin(), list.end(), id, [](const auto& item, int wanted) { return item.id < wanted; });
    if (likely != list.end() && likely->id == id) return &*likely;
    const auto found = std::find_if(list.begin(), list.end(), [id](const auto& item) { return item.id == id; });
    return found == list.end() ? nullptr : &*found;
}
template <class List>
auto* byName(List& list, std::string_view name) {
    const auto found = std::find_if(list.begin(), list.end(), [name](const auto& item) { return item.name == name; });
    return found == list.end() ? nullptr : &*found;
}
}  // namespace

Point snapped(double x, double y) {
    const auto snap = [](double v) { return static_cast<int>(std::lround(v / gridStep)) * gridStep; };
    return {snap(x), snap(y)};
}

const std::string* TypedValues::find(std::string_view key) const {
    for (const auto& [name, text] : all_)
        if (name == key) return &text;
    return nullptr;
}

void TypedValues::set(std::string_view key, std::string text) {
    const auto found = std::find_if(all_.begin(), all_.end(), [key](const auto& entry) { return entry.first == key; });
    if (text.empty()) {
        if (found != all_.end()) all_.erase(found);
    } else if (found != all_.end()) {
        found->second = std::move(text);
    } else {
        all_.emplace_back(key, std::move(text));
    }
}

Point Part::toSheet(Point local) const {
    if (flip) local.x = -local.x;
    for (int i = 0; i < turn; ++i) local = {-local.y, local.x};
    return at + local;
}

const Part* Project::findPart(int id) const { return byId(sheet().parts, id); }
Part* Project::findPart(int id) { return byId(sheet().parts, id); }
const Part* Project::findPart(std::string_view name) const { return byName(sheet().parts, name); }
const Wire* Project::findWire(int id) const { return byId(sheet().wires, id); }
Wire* Project::findWire(int id) { return byId(sheet().wires, id); }
Label* Project::findLabel(int id) { return byId(sheet().labels, id); }
const Label* Project::findLabel(int id) const { return byId(sheet().labels, id); }
const Sheet* Project::findSheet(std::string_view name) const { return byName(sheets, name); }
Sheet* Project::findSheet(std::string_view name) { return byName(sheets, name); }
const Scene* Project::findScene(std::string_view name) const { return byName(scenes, name); }
const Plan* Project::findPlan(std::string_view name) const { return byName(plans, name); }
Parameter* Project::findParameter(std::string_view name) { return byName(parameters, name); }

std::vector<Parameter> Project::parametersInView() const {
    if (!showsModule()) return parameters;
    std::vector<Parameter> all = sheet().parameters;
    for (const Parameter& parameter : parameters)
        if (!byName(sheet().parameters, parameter.name)) all.push_back(parameter);
    return all;
}

}  // namespace hedgerow
