#pragma once
// Smooth problems of the published test set for initial value problem solvers (F. Mazzia, C. Magherini, Test Set for
// Initial Value Problem Solvers, University of Bari), with the end values given there.

#include <vector>

#include "network/network.h"

namespace hedgerow::test {

struct TestSetProblem {
    Network network;
    double end;                  ///< s
    std::vector<double> wanted;  ///< states at the end
    std::vector<double> sizes;   ///< what errors of them count against
};

/// The states are the voltages of its five capacitances.
TestSetProblem transistorAmplifier();
/// Its fifteen unknowns: voltages up to 0.5 V, then currents up to 1 mA.
TestSetProblem ringModulator();

}  // namespace hedgerow::test
