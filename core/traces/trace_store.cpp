#include "traces/trace_store.h"

#include <algorithm>
#include <new>

namespace hedgerow {

TraceStore::TraceStore(std::size_t columns, std::size_t byteLimit) : columns_(columns), byteLimit_(byteLimit) {}

bool TraceStore::append(Tick t, std::span<const double> row) {
    const std::size_t at = count_.load(std::memory_order_relaxed), slot = at % chunkPoints;
    if (slot == 0) {
        const std::size_t size = (columns_ + 1) * chunkPoints * sizeof(double);
        if (bytes_ + size > byteLimit_) return false;
        std::shared_ptr<Chunk> chunk;
        try {
            chunk = std::make_shared<Chunk>(columns_);
            const std::lock_guard lock(mutex_);
            list_.push_back(chunk);
        } catch (const std::bad_alloc&) {
            return false;
        }
        open_ = chunk.get();
        bytes_ += size;
    }
    open_->times[slot] = t;
    for (std::size_t column = 0; column < columns_; ++column) open_->values[column * chunkPoints + slot] = row[column];
    count_.store(at + 1, std::memory_order_release);
    return true;
}

TraceStore::Chunks TraceStore::chunks() const {
    const std::lock_guard lock(mutex_);
    return {list_.begin(), list_.end()};
}

}  // namespace hedgerow
