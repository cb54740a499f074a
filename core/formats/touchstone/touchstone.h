#pragma once
// Touchstone files (version 1.1 of the EIA/IBIS Open Forum, 2002, and version 2.0 of 2009): network parameters over
// frequency, as impedance analysers write them.

#include <string_view>
#include <vector>

#include "base/result.h"
#include "traces/frequency_response.h"

namespace hedgerow {

/// Impedances of all ports, "Z11" first and in rows; S and Y parameters are turned into them.
/// @param ports  by the name of the file (.s2p has 2); a file of version 2.0 says so itself, and 0 leaves it to that
/// Errors name the line. Noise parameters, which may follow in a file of version 1.1, are left out.
Result<std::vector<FrequencyResponse>> readTouchstone(std::string_view text, int ports);
/// The ports that the name of a file says: 2 for "x.s2p"; 0 where it says none.
int portsOfName(std::string_view name);

}  // namespace hedgerow
