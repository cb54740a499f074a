#pragma once
// The direct-current operating point of networks with smooth elements.

#include <vector>

#include "base/result.h"
#include "network/network.h"

namespace hedgerow::adaptive {

/// States at which nothing changes while sources and gates stay as they are at t = 0: steps of backward Euler that grow
/// until nothing moves (pseudo-transient continuation: C. T. Kelley, D. E. Keyes, SIAM J. Numer. Anal. 35 (1998), 508),
/// from the given start values, or, where that finds nothing, with sources that rise from zero.
Result<std::vector<double>> operatingPoint(const Network& network);

}  // namespace hedgerow::adaptive
