#pragma once
// Many like pieces of work on several cores.

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <functional>
#include <thread>
#include <vector>

namespace hedgerow {

/// Does the pieces 0 to `count` - 1, each once, in no order, and returns when all are over; the calling thread works too.
/// @param threads  0 for all cores  @param work  of one piece; throws nothing; false when no further piece is to be begun
inline void inParallel(int threads, std::size_t count, const std::function<bool(std::size_t)>& work) {
    std::atomic<std::size_t> next = 0;
    const auto share = [&] {
        for (std::size_t i = next++; i < count; i = next++)
            if (!work(i)) next = count;
    };
    const std::size_t cores = threads > 0 ? static_cast<std::size_t>(threads) : std::max(1u, std::thread::hardware_concurrency());
    std::vector<std::thread> helpers;
    for (std::size_t k = 1; k < std::min(cores, count); ++k) helpers.emplace_back(share);
    share();
    for (std::thread& helper : helpers) helper.join();
}

}  // namespace hedgerow
