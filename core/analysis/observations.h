#pragma once
// What a run shows of its control that is likely not what was meant.

#include <vector>

#include "runs/run_record.h"

namespace hedgerow {

struct Observation {
    double at = 0;  ///< s
    Error error;    ///< what it is, at which part, and what to try
};

/// Regulators that stay at a limit for longer than they are allowed to, or that drive away from their set point;
/// duties at the ends of their range; loops that swing from sample to sample. In the order of time.
std::vector<Observation> observe(const RunRecord& run);

}  // namespace hedgerow
