#pragma once
// What this process may use of the machine.

#include <cstddef>

namespace hedgerow {

/// Bytes of memory that this process may still take: the least of what the machine has, what its container allows
/// (cgroup v2 and v1), and its own limits (RLIMIT_AS, RLIMIT_DATA), less what it has taken where they count that.
/// At least 64 MB, so that a little work is always tried.
std::size_t memoryLeft();

}  // namespace hedgerow
