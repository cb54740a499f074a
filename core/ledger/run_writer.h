#pragma once
// Keeps a run on disk while it is on its way, piece by piece, so that a crash costs no more than the last seconds.

#include <memory>
#include <vector>

#include "base/folder.h"
#include "runs/run.h"
#include "traces/block.h"

namespace hedgerow {

/// Holds a folder for one process as long as it lives: others then leave it alone.
class FolderHold {
public:
    explicit FolderHold(OpenFolder folder);
    ~FolderHold();
    FolderHold(const FolderHold&) = delete;
    FolderHold& operator=(const FolderHold&) = delete;
    bool good() const { return static_cast<bool>(file_); }

private:
    OpenFolder folder_;
    Descriptor file_;
};

class RunWriter {
public:
    /// @param run     lives longer than the writer
    /// @param folder  an empty one
    /// @param every   seconds after which what has come is worth a piece, however little it is
    RunWriter(const Run& run, OpenFolder folder, double every = 5.0);

    /// Writes what has come, when it is enough or old enough to be worth a piece. Any thread, beside that of the run.
    Status follow();
    /// Writes the rest; an error when there is nothing to keep. @pre the run is over
    Status finish();
    /// How many pieces are written.
    std::size_t pieces() const { return pieces_.size(); }

private:
    Status begin();
    std::size_t pieceSize() const;
    Status write(std::size_t count, bool last);

    const Run& run_;
    OpenFolder folder_;
    std::unique_ptr<FolderHold> hold_;  ///< from the beginning: nobody takes the folder for one that was left
    bool begun_ = false;                ///< what is known of the run is written
    std::vector<std::unique_ptr<Trace>> traces_;  ///< of all quantities
    std::vector<std::vector<Block>> blocks_;      ///< of each of them, one a chunk
    std::vector<std::size_t> pieces_;             ///< points of each
    std::size_t written_ = 0, views_ = 0;
    Stopwatch sinceStart_;
    double every_, due_;  ///< s, and s after the start
};

/// A run whose program ended while it was written: makes of its pieces what can be read. Nothing happens to one that is
/// complete, or that another process is writing. @return whether it can be opened now: not while another process is
/// writing it, nor when it has no points
Result<bool> mendRunFolder(const OpenFolder& folder);
/// Whether another process is writing it.
bool isHeld(const OpenFolder& folder);

/// Whether a name is one that a ledger gives the folder of a run: "run-2026-11-23T18:00:00Z-" and what tells runs of one
/// second apart, or "run-" with letters, digits and hyphens.
bool isRunName(std::string_view name);
/// Removes what Hedgerow wrote into the folder of a run, file by file, and the folder if nothing else is in it.
Status removeRunFolder(const OpenFolder& ledger, const std::string& name);

}  // namespace hedgerow
