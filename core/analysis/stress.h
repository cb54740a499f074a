#pragma once
// What a run asked of its parts, against what they are rated for.

#include <string>
#include <vector>

#include "runs/run_record.h"

namespace hedgerow {

/// The largest magnitude of one quantity of a part.
struct StressRow {
    std::string part, quantity, unit;
    double peak = 0;
    double at = 0;     ///< s: when it was first reached
    double limit = 0;  ///< the rating, 0 where none is given
    double share() const { return limit > 0 ? peak / limit : 0.0; }
};

/// Everything that has a rating, the worst first; behind it voltages, currents and temperatures of switching parts
/// without one, in the order of the sheet.
std::vector<StressRow> stressOf(const RunRecord& run);

}  // namespace hedgerow
