#pragma once
// Work that may bring its process down, tried in a process of its own.

#include <chrono>
#include <functional>
#include <optional>

namespace hedgerow {

/// Whether `work`, done in a copy of this process, comes to an end in `most` seconds of computing: without a crash and
/// without an exception. Nothing it does is seen here but what it writes to files. Only what the calling thread holds
/// is usable in the copy, so `work` should not wait for other threads. Nothing when there is no room for a process.
std::optional<bool> comesToAnEnd(const std::function<void()>& work, std::chrono::seconds most);

}  // namespace hedgerow
