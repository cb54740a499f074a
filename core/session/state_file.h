#pragma once
// The end of a run on disk, to start another run from.

#include <filesystem>
#include <vector>

#include "base/result.h"
#include "network/network.h"

namespace hedgerow {

/// Writes the states of a network as JSON: {"hedgerow-state": 1, "time": s, "states": [{"part": ..., "value": ...}]}.
Status writeStates(const std::filesystem::path& path, const Network& network, const std::vector<double>& states,
                   double time);
/// Reads them back in the order of the network. A part the file does not have keeps its given initial value; one the
/// network does not have is an error.
Result<std::vector<double>> readStates(const std::filesystem::path& path, const Network& network);

}  // namespace hedgerow
