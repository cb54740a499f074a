#pragma once
// Blocks of a trace on several levels: envelopes and measures of any stretch at a cost that does not grow with it.
//
// A chunk has one block, sixteen of those make one of the level above, and so on. Inside a chunk there are blocks of 16
// and of 256 points, made when a stretch first ends within the chunk: only then are its points read. A chunk is
// complete when the point after its last one is known, since its lines need both ends.

#include <array>
#include <memory>
#include <unordered_map>
#include <vector>

#include "traces/block.h"
#include "traces/point_source.h"

namespace hedgerow {

class Pyramid {
public:
    static constexpr std::size_t fan = 16;

    /// Takes in what `points` have now.
    void extend(const PointSource& points);
    bool empty() const { return levels_.empty(); }

    /// Adds points [first, last) and the lines that start at them.
    void add(const PointSource& points, std::size_t first, std::size_t last, Block& sum);

    // ---- for drawing, without reading more than is wanted

    /// Whether blocks inside a chunk are at hand, or cannot be because the chunk is not complete.
    bool detailed(std::size_t chunk) const { return details_.contains(chunk) || chunk >= complete(); }
    void detail(const PointSource& points, std::size_t chunk) { (void)detailOf(points, chunk); }
    /// As add(), but chunks that are not detailed() count as a whole.
    void addNear(const PointSource& points, std::size_t first, std::size_t last, Block& sum);
    /// The first point at or after `t`, to within 16 points where chunks are detailed, else to within a chunk. Rises
    /// with t as long as nothing new becomes detailed.
    std::size_t near(const PointSource& points, Tick t) const;

private:
    static constexpr std::size_t chunk = PointSource::chunk, fineSize = fan, middleSize = fan * fan;
    static_assert(chunk % middleSize == 0);
    struct Detail {
        std::array<Block, chunk / fineSize> fine;
        std::array<Block, chunk / middleSize> middle;
        std::array<Tick, chunk / fineSize> starts;
    };
    std::size_t complete() const { return levels_.empty() ? 0 : levels_[0].size(); }
    Detail& detailOf(const PointSource& points, std::size_t chunk);
    void raise();
    void addChunks(std::size_t first, std::size_t last, Block& sum) const;
    void addInside(const PointSource& points, std::size_t first, std::size_t last, Block& sum);

    std::vector<std::vector<Block>> levels_;  ///< the first one a block a chunk
    std::unordered_map<std::size_t, std::unique_ptr<Detail>> details_;
};

/// The first chunk that starts at or after `t`. @param count  of chunks
std::size_t firstChunkFrom(const PointSource& points, std::size_t count, Tick t);

}  // namespace hedgerow
