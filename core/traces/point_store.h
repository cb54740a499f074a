#pragma once
// The stored points of a run in chunks, whether they lie in memory or in a file.

#include <array>
#include <cstdint>
#include <memory>
#include <vector>

#include "base/time.h"
#include "network/engine.h"

namespace hedgerow {

/// Points that follow each other. A row, of the width of its view, makes up the unknowns (RowView).
struct PointChunk {
    static constexpr std::size_t size = 4096;
    std::array<Tick, size> times;
    std::array<std::uint32_t, size> views;
    std::array<const double*, size> rows, signalValues;
    std::vector<double> numbers = {};  ///< of a chunk that was read: what rows and signal values point to
};

/// Any thread may read. What lies below count() never changes.
class PointStore {
public:
    using Views = std::vector<std::shared_ptr<const RowView>>;
    virtual ~PointStore() = default;
    virtual std::size_t count() const = 0;
    /// Whether chunks lie in memory, so that looking into one takes microseconds and not milliseconds.
    virtual bool inMemory() const { return true; }
    /// Chunk k, brought to memory where it is not. What cannot be read is not a number. @pre k * size < count()
    virtual std::shared_ptr<const PointChunk> chunk(std::size_t k) const = 0;
    /// Appends the instants of the first points of the chunks after those that `starts` has.
    virtual void addStarts(std::vector<Tick>& starts) const = 0;
    virtual Views views() const = 0;
};

}  // namespace hedgerow
