#pragma once
// The end of a run on disk, to start another run from.

#include <filesystem>
#include <vector>

#include "base/result.h"
#include "network/engine.h"

namespace hedgerow {

/// What another run starts from.
struct StoredEnd {
    std::vector<double> states;                 ///< one per state of the network
    std::vector<std::vector<double>> memories;  ///< of sampled parts, one per signal block; empty where there is none
};

/// Writes the end of a run as JSON:
/// {"hedgerow-state": 1, "time": s, "states": [{"part": ..., "value": ...}], "control": [{"part": ..., "numbers":
/// [...]}]}. Under "control" stands what tasks, and parts that sample by themselves, remember.
Status writeStates(const std::filesystem::path& path, const Network& network, const Standing& standing);
/// Reads it back in the order of the network. A part the file does not have keeps its given initial value, or starts
/// without memory; states of one that the network does not have are an error.
Result<StoredEnd> readStates(const std::filesystem::path& path, const Network& network);

}  // namespace hedgerow
