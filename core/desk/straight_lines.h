#pragma once
// A curved device as straight lines: what rung 2 is to have of the curve that the device itself shows on a rung above.

#include <string>
#include <utility>
#include <vector>

#include "base/cancel.h"
#include "desk/jigs.h"

namespace hedgerow {

constexpr int mostLines = 8;

struct StraightLines {
    std::vector<std::pair<std::string, std::string>> values;  ///< keys of the part, as typed
    double residual = 0;  ///< V: the largest distance from the curve, between a tenth of the current and all of it
};

/// Lines in a row from the knee on, the largest distance from the simulated curve made as small as it gets. One line is
/// the knee beside the on-resistance that the device has; of more, the first field "curve" holds the ends.
/// @param device   a diode or Zener diode, whose curve on its topmost rung counts
/// @param count    1 to mostLines; a Zener diode has one
/// @param current  A: up to which they follow the curve
/// Errors: the count, or the device does not run.
Result<StraightLines> straightLines(const Project& project, const Part& device, int count, double current,
                                    const CancelToken& cancel);

}  // namespace hedgerow
