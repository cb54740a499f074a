#pragma once
// What each rung of a part costs in the circuit it is in, on the machine at hand.

#include <memory>
#include <vector>

#include "base/cancel.h"
#include "runs/run.h"

namespace hedgerow {

struct RungPrice {
    int rung;
    double relative;  ///< computing time of the run over that on the lowest rung that ran
};

/// Prices the plan with the part on each of its rungs, one after the other, everything else as it is (runs/price.h).
/// Rungs on which it does not run are left out.
/// @param settings  scene and plan
/// @param part      its id
/// Errors: the part is not there, or the project runs on none of its rungs; stopped by `cancel`.
Result<std::vector<RungPrice>> measurePrices(const Project& project, const RunSettings& settings, int part,
                                             const CancelToken& cancel);

}  // namespace hedgerow
