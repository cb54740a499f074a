#include "traces/trace_store.h"

#include <algorithm>
#include <new>

namespace hedgerow {

namespace {
constexpr std::size_t largestBlock = std::size_t{1} << 17;  ///< numbers in a block of an arena: 1 MB
}

TraceStore::TraceStore(std::size_t signalCount, std::size_t byteLimit)
    : signalCount_(signalCount), byteLimit_(byteLimit) {}

double* TraceStore::Arena::take(std::size_t size, std::atomic<std::size_t>& bytes, std::size_t limit) {
    if (size > left_ || !free_) {
        const std::size_t wanted = std::max(size, blockSize_);
        if (bytes.load(std::memory_order_relaxed) + wanted * sizeof(double) > limit) return nullptr;
        std::unique_ptr<double[]> block(new (std::nothrow) double[wanted]);
        if (!block) return nullptr;
        blocks_.push_back(std::move(block));
        free_ = blocks_.back().get();
        left_ = wanted;
        bytes.fetch_add(wanted * sizeof(double), std::memory_order_relaxed);
        blockSize_ = std::min(2 * blockSize_, largestBlock);
    }
    double* const place = free_;
    free_ += size;
    left_ -= size;
    return place;
}

std::uint32_t TraceStore::addView(RowView view) {
    bytes_ += view.matrix.size() * sizeof(double) + view.conducting.size() + sizeof(RowView);
    auto shared = std::make_shared<const RowView>(std::move(view));
    const std::lock_guard lock(mutex_);
    views_.push_back(std::move(shared));
    return static_cast<std::uint32_t>(views_.size() - 1);
}

std::uint32_t TraceStore::addSignals(std::span<const double> values) {
    double* const place = signalArena_.take(signalCount_, bytes_, byteLimit_);
    if (!place) {
        exhausted_ = true;
        return 0;
    }
    std::copy(values.begin(), values.end(), place);
    signalSets_.push_back(place);
    return static_cast<std::uint32_t>(signalSets_.size() - 1);
}

bool TraceStore::openChunk() {
    if (exhausted_ || bytes_ + sizeof(PointChunk) > byteLimit_) return false;
    try {
        auto chunk = std::make_shared_for_overwrite<PointChunk>();
        const std::lock_guard lock(mutex_);
        chunks_.push_back(chunk);
        open_ = chunk.get();
    } catch (const std::bad_alloc&) {
        return false;
    }
    bytes_ += sizeof(PointChunk);
    return true;
}

bool TraceStore::append(std::span<const PointRef> points, std::span<const double> numbers) {
    double* const place = rowArena_.take(numbers.size(), bytes_, byteLimit_);
    if (!place || exhausted_) return false;
    std::copy(numbers.begin(), numbers.end(), place);
    while (!points.empty()) {
        const std::size_t at = count_.load(std::memory_order_relaxed), slot = at % PointChunk::size;
        if (slot == 0 && !openChunk()) return false;
        const std::size_t some = std::min(points.size(), PointChunk::size - slot);
        PointChunk& chunk = *open_;
        for (std::size_t i = 0; i < some; ++i) {
            chunk.times[slot + i] = points[i].t;
            chunk.views[slot + i] = points[i].view;
        }
        const double* const* const signals = signalSets_.data();
        for (std::size_t i = 0; i < some; ++i) {
            chunk.signalValues[slot + i] = signals[points[i].signalSet];
            chunk.rows[slot + i] = place + points[i].offset;
        }
        count_.store(at + some, std::memory_order_release);
        points = points.subspan(some);
    }
    return true;
}

TraceStore::Chunks TraceStore::chunks() const {
    const std::lock_guard lock(mutex_);
    return {chunks_.begin(), chunks_.end()};
}

std::shared_ptr<const PointChunk> TraceStore::chunk(std::size_t k) const {
    const std::lock_guard lock(mutex_);
    return chunks_[k];
}

void TraceStore::addStarts(std::vector<Tick>& starts) const {
    const std::size_t chunks = (count() + PointChunk::size - 1) / PointChunk::size;
    const std::lock_guard lock(mutex_);
    for (std::size_t k = starts.size(); k < chunks; ++k) starts.push_back(chunks_[k]->times[0]);
}

PointStore::Views TraceStore::views() const {
    const std::lock_guard lock(mutex_);
    return views_;
}

}  // namespace hedgerow
