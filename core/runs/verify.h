#pragma once
// Checks a run against itself: the same circuit solved again in long double, by finer steps and without shortcuts.

#include "runs/run.h"

namespace hedgerow {

struct Verification {
    struct Difference {
        std::string quantity, unit;
        double largest;      ///< difference at any stored point or event
        double relative;     ///< to the largest magnitude of the quantity, or to a millionth of the largest of its unit
        double between = 0;  ///< difference in the middle of a stored line, relative to the swing of the quantity
    };
    std::vector<Difference> differences;  ///< the largest relative ones first
    bool sameEvents = false;              ///< the same parts change in the same order
    std::int64_t events = 0, referenceEvents = 0;
    double largestShift = 0.0;  ///< of the instant of an event, in s
    RunSummary reference;

    double worst() const { return differences.empty() ? 0.0 : differences.front().relative; }
};

/// @pre the run is finished. Errors: the second run failed or was stopped.
Result<Verification> verify(const Run& run, const CancelToken& cancel);

}  // namespace hedgerow
