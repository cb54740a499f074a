#pragma once
// The direct-current operating point: every winding without voltage, every capacitor without current.

#include <vector>

#include "base/result.h"
#include "network/network.h"

namespace hedgerow::exact {

/// States at which nothing changes while the sources and gates stay as they are at t = 0. Where the circuit leaves a
/// state open (two capacitors in series), it is as close to its given initial value as can be.
/// @return one value per state; an error names a part that finds no rest, or says that the circuit is too large
Result<std::vector<double>> operatingPoint(const Network& network);

}  // namespace hedgerow::exact
