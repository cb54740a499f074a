#pragma once
// What this process may use of the machine.

#include <cstddef>
#include <cstdint>
#include <string>

namespace hedgerow {

/// Bytes of memory that this process may still take: the least of what the machine has, what its container allows
/// (cgroup v2 and v1), and its own limits (RLIMIT_AS, RLIMIT_DATA), less what it has taken where they count that.
/// At least 64 MB, so that a little work is always tried.
std::size_t memoryLeft();

/// Bytes that the control groups named in `list` (as /proc/self/cgroup has them), and those above them, leave; the
/// largest number where none has a limit. What a group has taken to keep files at hand does not count: the system gives
/// that up when asked. `mounted`: the folder where the groups are.
std::uint64_t memoryLeftByGroups(const std::string& list, const std::string& mounted);

/// Keeps some memory back from now on. Where an allocation fails, it is given up once: what ends a job, destructors
/// above all, then still finds a little, and the job ends with std::bad_alloc at the next failure. Call again when such
/// a job has ended.
void keepMemoryReserve();

}  // namespace hedgerow
