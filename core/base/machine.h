#pragma once
// What this process may use of the machine.

#include <cstddef>

namespace hedgerow {

/// Bytes of memory that this process may still take: the least of what the machine has, what its container allows
/// (cgroup v2 and v1), and its own limits (RLIMIT_AS, RLIMIT_DATA), less what it has taken where they count that.
/// At least 64 MB, so that a little work is always tried.
std::size_t memoryLeft();

/// Keeps some memory back from now on. Where an allocation fails, it is given up once: what ends a job, destructors
/// above all, then still finds a little, and the job ends with std::bad_alloc at the next failure. Call again when such
/// a job has ended.
void keepMemoryReserve();

}  // namespace hedgerow
