#include "model/project_patch.h"

#include <algorithm>

namespace hedgerow {

namespace {

// Copied whole and emptied, so that no member added later can be forgotten; new vectors, so that no room is kept.

Sheet withoutItems(const Sheet& sheet) {
    Sheet rest = sheet;
    rest.parts = std::vector<Part>();
    rest.wires = std::vector<Wire>();
    rest.labels = std::vector<Label>();
    return rest;
}

Project withoutSheets(const Project& project) {
    Project rest = project;
    rest.sheets = std::vector<Sheet>();
    return rest;
}

}  // namespace

template <class Item>
Splice<Item> Splice<Item>::between(const std::vector<Item>& from, const std::vector<Item>& to) {
    Splice splice;
    const std::size_t most = std::min(from.size(), to.size());
    while (splice.front < most && from[splice.front] == to[splice.front]) ++splice.front;
    while (splice.front + splice.back < most && from[from.size() - 1 - splice.back] == to[to.size() - 1 - splice.back])
        ++splice.back;
    splice.middle.assign(to.begin() + static_cast<std::ptrdiff_t>(splice.front),
                         to.end() - static_cast<std::ptrdiff_t>(splice.back));
    return splice;
}

template <class Item>
std::vector<Item> Splice<Item>::appliedTo(const std::vector<Item>& from) const {
    std::vector<Item> made;
    made.reserve(front + middle.size() + back);
    made.insert(made.end(), from.begin(), from.begin() + static_cast<std::ptrdiff_t>(front));
    made.insert(made.end(), middle.begin(), middle.end());
    made.insert(made.end(), from.end() - static_cast<std::ptrdiff_t>(back), from.end());
    return made;
}

ProjectPatch::ProjectPatch(const Project& from, const Project& to) : rest_(withoutSheets(to)) {
    const Sheet nothing;
    for (const Sheet& sheet : to.sheets) {
        const auto same = std::find_if(from.sheets.begin(), from.sheets.end(),
                                       [&](const Sheet& other) { return other.name == sheet.name; });
        const Sheet& base = same == from.sheets.end() ? nothing : *same;
        sheets_.push_back({static_cast<std::size_t>(same - from.sheets.begin()), withoutItems(sheet),
                           Splice<Part>::between(base.parts, sheet.parts),
                           Splice<Wire>::between(base.wires, sheet.wires),
                           Splice<Label>::between(base.labels, sheet.labels)});
    }
}

Project ProjectPatch::appliedTo(const Project& from) const {
    const Sheet nothing;
    Project made = rest_;
    for (const SheetPatch& patch : sheets_) {
        const Sheet& base = patch.from < from.sheets.size() ? from.sheets[patch.from] : nothing;
        Sheet& sheet = made.sheets.emplace_back(patch.rest);
        sheet.parts = patch.parts.appliedTo(base.parts);
        sheet.wires = patch.wires.appliedTo(base.wires);
        sheet.labels = patch.labels.appliedTo(base.labels);
    }
    return made;
}

}  // namespace hedgerow
