#include "runs/run_changes.h"

#include <algorithm>
#include <cmath>
#include <set>

#include "model/modules.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

std::optional<RunChange::Numbers> numbersOf(const RunRecord& run, const std::string& quantity, Tick from, Tick to) {
    const auto trace = run.trace(quantity);
    const auto measures = trace ? trace->measure(from, to) : std::nullopt;
    if (!measures) return {};
    return RunChange::Numbers{std::max(std::abs(measures->min), std::abs(measures->max)), measures->mean,
                              measures->rms};
}

}  // namespace

std::vector<RunChange> changesBetween(const RunRecord& now, const RunRecord& other, Tick from, Tick to) {
    std::vector<std::string> names;
    for (const Lane& lane : now.project().lanes)
        if (lane.kind == LaneKind::time) names.insert(names.end(), lane.quantities.begin(), lane.quantities.end());
    const Catalogue& catalogue = partLibrary().catalogue();
    const FlatProject here = flattened(now.project(), catalogue), there = flattened(other.project(), catalogue);
    for (const Part& part : here.project.sheet().parts) {
        const Part* before = there.project.findPart(part.name);
        if (!before || (before->rung == part.rung && before->values == part.values)) continue;
        for (const char* quantity : {".v", ".i", ".p"}) names.push_back(part.name + quantity);
    }
    std::vector<RunChange> changes;
    std::set<std::string> seen;
    for (const std::string& name : names) {
        const QuantityInfo* info = now.findQuantity(name);
        if (!info || info->unit.empty() || !seen.insert(name).second) continue;
        const auto a = numbersOf(now, name, from, to), b = numbersOf(other, name, from, to);
        if (a && b) changes.push_back({name, info->unit, *a, *b});
    }
    return changes;
}

}  // namespace hedgerow
