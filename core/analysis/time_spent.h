#pragma once
// Where the time of a run went: by span, by kind of work, by part, and the one thing to change first.

#include <string>
#include <vector>

#include "runs/run_record.h"

namespace hedgerow {

struct TimeRow {
    std::string what;   ///< a span as typed, a kind of work, a part
    double share = 0;   ///< of the whole, 0 to 1; of parts of all steps, or of all events
    double seconds = 0; ///< of computing; 0 for parts
    std::string cause = {};
};

struct TimeSpent {
    double seconds = 0;
    std::vector<TimeRow> spans, kinds, parts;  ///< the greatest first; spans in their order, of plans that have some
    bool bySteps = false;                      ///< whether parts are counted by steps that their states rule; else by events
    std::string first;                         ///< what to change first, in a sentence; "" where nothing stands out
};

/// Of a run that is over.
TimeSpent timeSpent(const RunRecord& run);

}  // namespace hedgerow
