#include "base/machine.h"

#include <sys/resource.h>
#include <unistd.h>
#include <algorithm>
#include <atomic>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <limits>
#include <new>
#include <string>

namespace hedgerow {

namespace {

constexpr std::uint64_t unlimited = std::numeric_limits<std::uint64_t>::max();

/// A number in a file of the system; `unlimited` where there is none, as "max" says.
std::uint64_t numberIn(const std::string& file) {
    std::ifstream in(file);
    std::uint64_t number = 0;
    return in >> number ? number : unlimited;
}

std::uint64_t below(std::uint64_t limit, std::uint64_t taken) {
    return limit == unlimited ? unlimited : limit > taken ? limit - taken : 0;
}

/// Bytes of files among what a group has taken: the system gives those up when somebody asks for memory.
std::uint64_t filesIn(const std::string& folder, bool newer) {
    std::ifstream in(folder + "memory.stat");
    const std::string prefix = newer ? "" : "total_";
    std::uint64_t files = 0, number = 0;
    for (std::string name; in >> name >> number;)
        if (name == prefix + "inactive_file" || name == prefix + "active_file") files += number;
    return files;
}

/// What the group of a folder leaves.
std::uint64_t leftByGroup(const std::string& folder, bool newer) {
    const std::uint64_t limit = numberIn(folder + (newer ? "memory.max" : "memory.limit_in_bytes"));
    if (limit == unlimited) return unlimited;
    const std::uint64_t taken = numberIn(folder + (newer ? "memory.current" : "memory.usage_in_bytes"));
    if (taken == unlimited) return limit;
    return below(limit, below(taken, filesIn(folder, newer)));
}

}  // namespace

std::uint64_t memoryLeftByGroups(const std::string& list, const std::string& mounted) {
    std::uint64_t left = unlimited;
    std::ifstream groups(list);
    for (std::string line; std::getline(groups, line);) {
        // "0::/user.slice/x" or "4:memory:/x"
        const std::size_t first = line.find(':'), second = line.find(':', first + 1);
        if (first == std::string::npos || second == std::string::npos) continue;
        const std::string kinds = line.substr(first + 1, second - first - 1);
        const bool newer = kinds.empty();
        if (!newer && kinds.find("memory") == std::string::npos) continue;
        std::string path = line.substr(second + 1);
        const std::string root = newer ? mounted : mounted + "/memory";
        for (;;) {
            const std::string folder = root + (path == "/" ? "" : path) + "/";
            left = std::min(left, leftByGroup(folder, newer));
            if (path.size() <= 1) break;
            path.resize(std::max<std::size_t>(1, path.rfind('/')));
        }
    }
    return left;
}

namespace {

/// Bytes of address space and of data this process has taken.
std::pair<std::uint64_t, std::uint64_t> taken() {
    std::ifstream in("/proc/self/statm");
    std::uint64_t size = 0, resident = 0, shared = 0, text = 0, library = 0, data = 0;
    in >> size >> resident >> shared >> text >> library >> data;
    const auto page = static_cast<std::uint64_t>(std::max(1L, ::sysconf(_SC_PAGESIZE)));
    return {size * page, data * page};
}

std::atomic<void*> reserve{nullptr};

void giveReserve() {
    void* const kept = reserve.exchange(nullptr);
    if (!kept) throw std::bad_alloc();
    std::free(kept);
}

}  // namespace

void keepMemoryReserve() {
    constexpr std::size_t size = std::size_t{8} << 20;
    std::set_new_handler(giveReserve);
    if (reserve.load()) return;
    void* const fresh = std::malloc(size);
    if (!fresh) return;
    std::memset(fresh, 1, size);  // so that it is there, and not only promised
    void* none = nullptr;
    if (!reserve.compare_exchange_strong(none, fresh)) std::free(fresh);
}

std::size_t memoryLeft() {
    constexpr std::uint64_t least = std::uint64_t{64} << 20;
    const long pages = ::sysconf(_SC_PHYS_PAGES), page = ::sysconf(_SC_PAGESIZE);
    std::uint64_t left = pages > 0 && page > 0 ? static_cast<std::uint64_t>(pages) * static_cast<std::uint64_t>(page)
                                               : std::uint64_t{4} << 30;
    left = std::min(left, memoryLeftByGroups("/proc/self/cgroup", "/sys/fs/cgroup"));
    const auto [space, data] = taken();
    for (const auto& [kind, used] : {std::pair(RLIMIT_AS, space), std::pair(RLIMIT_DATA, data)}) {
        rlimit limit{};
        if (::getrlimit(kind, &limit) == 0 && limit.rlim_cur != RLIM_INFINITY)
            left = std::min(left, below(limit.rlim_cur, used));
    }
    return static_cast<std::size_t>(std::max(left, least));
}

}  // namespace hedgerow
