#pragma once
// The recorded points of a run: written by one thread while others read.
//
// Invariants
//  1. A chunk, a row, a view and a set of signals, once stored, never move; points below count() never change.
//  2. count() is published after the points it covers, and all they refer to, are written.

#include <atomic>
#include <memory>
#include <mutex>
#include <span>
#include <vector>

#include "traces/point_store.h"

namespace hedgerow {

class TraceStore final : public RunSink, public PointStore {
public:
    using Chunks = std::vector<std::shared_ptr<const PointChunk>>;

    /// @param signalCount  width of a set of signals
    /// @param byteLimit    append() refuses what would need more memory than this
    TraceStore(std::size_t signalCount, std::size_t byteLimit);

    std::uint32_t addView(RowView view) override;
    std::uint32_t addSignals(std::span<const double> values) override;
    bool append(std::span<const PointRef> points, std::span<const double> numbers) override;
    void progress(Tick t) override { reached_.store(t, std::memory_order_relaxed); }

    std::size_t count() const override { return count_.load(std::memory_order_acquire); }
    Tick reached() const { return reached_.load(std::memory_order_relaxed); }
    std::size_t bytes() const { return bytes_.load(std::memory_order_relaxed); }
    /// The chunks that hold the points below count(), and the views they refer to.
    Chunks chunks() const;
    std::shared_ptr<const PointChunk> chunk(std::size_t k) const override;
    void addStarts(std::vector<Tick>& starts) const override;
    Views views() const override;
    std::size_t signalCount() const { return signalCount_; }

private:
    /// Room for numbers that stay where they are.
    class Arena {
    public:
        /// @param bytes  grows by what is asked of the system, which may not go beyond the limit
        /// @return nullptr when there is no memory
        double* take(std::size_t size, std::atomic<std::size_t>& bytes, std::size_t limit);

    private:
        std::vector<std::unique_ptr<double[]>> blocks_;
        double* free_ = nullptr;
        std::size_t left_ = 0, blockSize_ = std::size_t{1} << 12;
    };

    bool openChunk();

    std::size_t signalCount_, byteLimit_;
    mutable std::mutex mutex_;  ///< guards the lists
    std::vector<std::shared_ptr<PointChunk>> chunks_;
    Views views_;
    std::vector<const double*> signalSets_;  ///< of the writing thread, as are the arenas
    Arena rowArena_, signalArena_;
    PointChunk* open_ = nullptr;  ///< of the writing thread
    bool exhausted_ = false;
    std::atomic<std::size_t> count_{0}, bytes_{0};
    std::atomic<Tick> reached_{0};
};

}  // namespace hedgerow
