#pragma once
// The points of a kept run on disk: pieces of whole chunks, a file each, that are read chunk by chunk when they are
// looked at. docs/runs.md describes them.

#include <list>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <vector>

#include "base/folder.h"
#include "base/result.h"
#include "traces/block.h"
#include "traces/point_store.h"

namespace hedgerow {

/// Points [first, first + count) of a store and what goes with them.
struct PieceContent {
    const PointStore& store;
    std::size_t first, count;  ///< `first` begins a chunk
    int unknowns;
    std::size_t signalCount;
    std::span<const std::shared_ptr<const RowView>> views;  ///< those that came with these points
    std::span<const Block> blocks;                          ///< quantity by quantity, one a chunk
};

std::string pieceFile(std::size_t number);
Status writePiece(const PieceContent& content, const OpenFolder& folder, std::size_t number);

/// What a piece tells of itself; nothing when it is missing or damaged.
struct PieceHead {
    std::vector<Tick> starts;  ///< of its chunks
    std::size_t points;
    Tick last;
    PointStore::Views views;
    std::vector<Block> blocks;
};
std::optional<PieceHead> readPieceHead(const OpenFolder& folder, std::size_t number);
/// How many points a piece has, without reading them; nothing when it is missing or damaged.
std::optional<std::size_t> pointsOfPiece(const OpenFolder& folder, std::size_t number);

/// Views and blocks as plain numbers, and back.
std::vector<double> packed(std::span<const std::shared_ptr<const RowView>> views);
std::optional<PointStore::Views> unpackedViews(std::span<const double> numbers);
std::vector<double> packed(std::span<const Block> blocks);
std::vector<Block> unpackedBlocks(std::span<const double> numbers);
/// The time in which quantities have values, block by block, and back. Where it was not written there are no gaps.
/// @param starts  of the chunks  @param end  of the last one
std::vector<double> coveredOf(std::span<const Block> blocks);
void setCovered(std::span<Block> blocks, const std::optional<std::vector<double>>& seconds,
                std::span<const Tick> starts, Tick end);

/// Points that lie in pieces. The chunks looked at last stay in memory.
class PiecePoints final : public PointStore {
public:
    /// @param pieces  points of each, all but the last whole chunks
    PiecePoints(OpenFolder folder, std::vector<std::size_t> pieces, std::vector<Tick> starts, Views views,
                int unknowns, std::size_t signalCount);

    std::size_t count() const override { return count_; }
    bool inMemory() const override { return false; }
    std::shared_ptr<const PointChunk> chunk(std::size_t k) const override;
    void addStarts(std::vector<Tick>& starts) const override {
        starts.insert(starts.end(), starts_.begin() + static_cast<std::ptrdiff_t>(starts.size()), starts_.end());
    }
    Views views() const override { return views_; }
    std::size_t bytes() const;  ///< in memory

private:
    using ChunkPointer = std::shared_ptr<const PointChunk>;
    ChunkPointer read(std::size_t k) const;
    ChunkPointer unreadable(std::size_t k) const;

    OpenFolder folder_;
    std::vector<std::size_t> firstChunks_;  ///< of each piece
    std::size_t count_ = 0;
    std::vector<Tick> starts_;
    Views views_;
    int unknowns_;
    std::size_t signalCount_;
    mutable std::mutex mutex_;  ///< guards what follows
    mutable std::list<std::pair<std::size_t, ChunkPointer>> recent_;
    mutable std::map<std::size_t, decltype(recent_)::iterator> places_;
    mutable std::size_t bytes_ = 0;
};

}  // namespace hedgerow
