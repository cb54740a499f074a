#pragma once
// The end of a run on disk, to start another run from.

#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "network/snapshot.h"

namespace hedgerow {

/// What another run starts from.
struct StoredEnd {
    std::vector<double> states;          ///< one per state of the network
    std::vector<MemoryRecord> memories;  ///< of sampled parts, one per signal block; empty where there is none
};

/// Writes the end of a run as JSON:
/// {"hedgerow-state": 3, "time": s, "states": [{"part": ..., "name": ..., "value": ...}],
///  "control": {part: {name: [type, value...]}}}. Under "control" stands what tasks, and parts that sample by
/// themselves, remember, entry by entry.
Status writeStates(const std::filesystem::path& path, const Snapshot& snapshot);
/// Reads it back in the order of the network. A state the file does not have keeps its given initial value, and a part
/// without memory there starts without; states or memory of one that the network does not have are an error. An entry of
/// a memory whose name, type, length or range is not that of the part now is not taken. In files of earlier versions
/// states have no names: those of a part come in its order.
/// @param name  of the file, for messages
Result<StoredEnd> readStates(std::string_view text, const std::string& name, const Network& network);

}  // namespace hedgerow
