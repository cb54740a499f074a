#pragma once
// The period after which everything that drives a network comes again.

#include <optional>
#include <string>
#include <vector>

#include "base/result.h"
#include "network/network.h"

namespace hedgerow::settle {

struct CommonPeriod {
    /// Empty where nothing has a period of its own, or one has a period that a signal sets: it is then to be found.
    std::optional<FineTime> period = {};
    /// From there on what happens once is over.
    Tick from = 0;
    /// What it consists of, in words: "200 periods of M1, 1 period of V1"; "" where there is none.
    std::string made = {};
};

/// Periods count as multiples of each other where they are to 1e-9, in numbers so small that this is no accident.
/// Errors: two periods have no common multiple; it names both parts and what would fit.
Result<CommonPeriod> commonPeriod(const Network& network);

}  // namespace hedgerow::settle
