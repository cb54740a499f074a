#pragma once
// The recorded points of a run, in chunks: written by one thread while others read.
//
// Invariants
//  1. A chunk, once it is in the list, never moves; points below count() never change.
//  2. count() is published after the points it covers are written.

#include <array>
#include <atomic>
#include <memory>
#include <mutex>
#include <vector>

#include "network/engine.h"

namespace hedgerow {

class TraceStore final : public RunSink {
public:
    static constexpr std::size_t chunkPoints = 2048;
    struct Chunk {
        explicit Chunk(std::size_t columns) : values(columns * chunkPoints) {}
        std::array<Tick, chunkPoints> times{};
        std::vector<double> values;  ///< column by column, chunkPoints each
    };
    using Chunks = std::vector<std::shared_ptr<const Chunk>>;

    /// @param columns     width of a row
    /// @param byteLimit   append() refuses what would need more memory than this
    TraceStore(std::size_t columns, std::size_t byteLimit);

    bool append(Tick t, std::span<const double> row) override;
    void progress(Tick t) override { reached_.store(t, std::memory_order_relaxed); }

    std::size_t columns() const { return columns_; }
    std::size_t count() const { return count_.load(std::memory_order_acquire); }
    Tick reached() const { return reached_.load(std::memory_order_relaxed); }
    std::size_t bytes() const { return bytes_.load(std::memory_order_relaxed); }
    /// The chunks that hold the points below count().
    Chunks chunks() const;

private:
    std::size_t columns_, byteLimit_;
    mutable std::mutex mutex_;  ///< guards list_
    std::vector<std::shared_ptr<Chunk>> list_;
    Chunk* open_ = nullptr;  ///< of the writing thread
    std::atomic<std::size_t> count_{0}, bytes_{0};
    std::atomic<Tick> reached_{0};
};

}  // namespace hedgerow
