#pragma once

#include <vector>

#include "network/network.h"

namespace hedgerow::bench {

struct DaeOutcome {
    std::vector<double> states;  ///< at the end
    double seconds = 0;          ///< of wall-clock time
    long steps = 0;
    bool finished = false;
};

/// IDA (variable-order BDF on F(t, y, y') = 0) with KLU and an analytic Jacobian on the equations of a network.
/// @param end      s
/// @param outputs  instants, evenly apart, at which all values are stored, by the solver's own interpolation
DaeOutcome solveDae(const Network& network, double end, double tolerance, long outputs = 0);

}  // namespace hedgerow::bench
