#pragma once
// A kept run: a folder with everything that made the run (run.h5) and its points in pieces (run_pieces.h).

#include <memory>
#include <vector>

#include "base/folder.h"
#include "base/result.h"
#include "runs/run_about.h"
#include "runs/run_record.h"
#include "traces/block.h"
#include "traces/point_store.h"

namespace hedgerow {

/// Where the points of a kept run are, and what is known of them before they are read.
struct RunPoints {
    std::vector<std::size_t> pieces;  ///< points of each; none while the run is being written
    std::vector<Tick> starts;         ///< of each chunk
    PointStore::Views views;
    std::vector<Block> blocks;  ///< quantity by quantity, one a chunk
};

/// Writes run.h5, atomically.
Status writeRunHead(const OpenFolder& folder, const RunAbout& about, const RunPoints& points);
/// Reads all of it but the blocks; an error says what is wrong with the folder.
Result<RunPoints> readRunHead(const OpenFolder& folder, RunAbout& about);

/// Opens a kept run. Points are read when they are looked at, and of whole chunks only what they come to. Where a piece
/// is missing or damaged, the run ends before it, and its summary says so; an error names the folder.
Result<std::shared_ptr<RunRecord>> openRunFolder(const OpenFolder& folder);

}  // namespace hedgerow
