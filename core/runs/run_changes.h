#pragma once
// What differs between two runs, in numbers: peaks, means, rms values and what parts burn.

#include <string>
#include <vector>

#include "runs/run_record.h"

namespace hedgerow {

struct RunChange {
    std::string quantity, unit;
    struct Numbers {
        double peak, mean, rms;  ///< peak: the largest magnitude
    } now, other;
};

/// Over one window of both: the quantities of the lanes, then voltage, current and power of the parts that stand on
/// other rungs or have other values. Those that one of the runs lacks are left out.
/// @param from, to  of the window
std::vector<RunChange> changesBetween(const RunRecord& now, const RunRecord& other, Tick from, Tick to);

}  // namespace hedgerow
