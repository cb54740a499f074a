#include "analysis/stress.h"

#include <algorithm>
#include <cmath>
#include <set>

#include "model/modules.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

/// The peak of a quantity; nothing when it was not recorded.
std::optional<StressRow> rowOf(const RunRecord& run, const std::string& part, const std::string& quantity) {
    const auto trace = run.trace(quantity);
    if (!trace || trace->size() == 0) return {};
    const auto largest = [&](std::size_t first, std::size_t last) {
        const Block all = trace->sum(first, last);
        return std::max(std::abs(all.min), std::abs(all.max));
    };
    // Halving towards the first point with the peak: few blocks of many points are looked at.
    std::size_t first = 0, last = trace->size();
    const double peak = largest(first, last);
    while (last - first > 1) {
        const std::size_t middle = first + (last - first) / 2;
        (largest(first, middle) >= peak ? last : first) = middle;
    }
    return StressRow{part, quantity, trace->unit(), peak, toSeconds(trace->time(first))};
}

}  // namespace

std::vector<StressRow> stressOf(const RunRecord& run) {
    std::vector<StressRow> rows;
    std::set<std::string> seen;
    for (const RatingInfo& rating : run.ratings()) {
        auto row = rowOf(run, rating.part, rating.quantity);
        if (!row) continue;
        row->limit = rating.limit;
        seen.insert(rating.quantity);
        rows.push_back(std::move(*row));
    }
    std::stable_sort(rows.begin(), rows.end(),
                     [](const StressRow& a, const StressRow& b) { return a.share() > b.share(); });
    const FlatProject flat = flattened(run.project(), partLibrary().catalogue());
    for (const Part& part : flat.project.sheet().parts) {
        const PartKind* kind = partLibrary().catalogue().find(part.kind);
        if (!kind || kind->group != "Switches") continue;
        for (const char* quantity : {".v", ".i", ".Tj"})
            if (const std::string name = part.name + quantity; run.findQuantity(name) && seen.insert(name).second)
                if (auto row = rowOf(run, part.name, name)) rows.push_back(std::move(*row));
    }
    return rows;
}

}  // namespace hedgerow
