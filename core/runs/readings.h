#pragma once
// What is read off a record: quantities and expressions of them, over a part of its time or on a grid.

#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "runs/run_record.h"

namespace hedgerow {

/// A quantity of a record, or an expression of several, with the parameters of its project: traces/expression.h. Errors
/// name what is unknown.
Result<std::shared_ptr<Trace>> readTrace(const RunRecord& record, const std::string& text);

/// A part of the time of a record. Instants of a grid are `from`, `from + every`, ... up to `to`.
struct Extract {
    Tick from = -neverTick, to = neverTick;  ///< cut to what is recorded
    double every = 0;                        ///< s; 0: the stored points, and the values at both ends

    bool whole() const { return from == -neverTick && to == neverTick && every == 0; }
};

/// Traces that share their instants, cut out or put on a grid; on it a jump has the value after it. Errors say what
/// cannot be: nothing recorded there, or more than 200 million instants.
Result<std::vector<std::shared_ptr<Trace>>> extracted(const std::vector<std::shared_ptr<Trace>>& traces,
                                                      const Extract& extract);

/// About how many bytes a table of text of so many instants and quantities takes: 17 digits where they are needed.
std::size_t bytesAsText(std::size_t instants, std::size_t quantities);

}  // namespace hedgerow
