#pragma once
// One change at a time: which part of a run to put on a higher rung next, and what in the waveforms says so.

#include <string>
#include <vector>

#include "base/cancel.h"
#include "runs/run_record.h"

namespace hedgerow {

struct RungAdvice {
    std::string part;
    int rung;         ///< to climb to
    std::string why;  ///< one sentence
    double at;        ///< s: where it shows
    double weight;    ///< how much it is likely to change, to sort by
};

/// At most one for each part on rung 1 or 2, the one that changes most first. Of long runs the end is looked at. What is
/// cancelled has found some of it.
std::vector<RungAdvice> nextRungs(const RunRecord& run, const CancelToken& cancel = {});

}  // namespace hedgerow
