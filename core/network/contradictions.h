#pragma once
// What engines refuse alike: start values that cannot be, and currents that are cut.

#include <string>

#include "base/result.h"
#include "network/network.h"

namespace hedgerow {

/// A state that is to start at `given` and would be at `becomes` at once, V or A: says what would flow.
Error contradictoryStart(const StateInfo& state, double given, double becomes);
/// A winding current, A, all of whose paths are open. @param when  "when S1 turns off at 5 ms"
Error cutCurrent(const StateInfo& state, double current, const std::string& when);

}  // namespace hedgerow
