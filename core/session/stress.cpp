#include "session/stress.h"

#include <algorithm>
#include <cmath>
#include <set>

#include "model/modules.h"
#include "session/registry.h"

namespace hedgerow {

namespace {

/// The peak of a quantity; nothing when it was not recorded.
std::optional<StressRow> rowOf(const RunRecord& run, const std::string& part, const std::string& quantity) {
    const auto trace = run.trace(quantity);
    if (!trace || trace->size() == 0) return {};
    StressRow row{part, quantity, trace->unit()};
    for (std::size_t i = 0; i < trace->size(); ++i)
        if (const double size = std::abs(trace->value(i)); size > row.peak)
            row.peak = size, row.at = toSeconds(trace->time(i));
    return row;
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
