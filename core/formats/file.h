#pragma once
// Whole files: reading with a limit, writing so that a crash leaves the old or the new one, never half.

#include <filesystem>
#include <functional>
#include <string>
#include <string_view>

#include "base/result.h"

namespace hedgerow {

Result<std::string> readFile(const std::filesystem::path& path, std::size_t mostBytes = std::size_t{64} << 20);

/// Writes beside the target, flushes to the disk, renames over it.
Status writeFileAtomically(const std::filesystem::path& path, std::string_view content);

/// As writeFileAtomically, for writers that need a path: `write` fills the temporary file it is given.
Status replaceAtomically(const std::filesystem::path& path,
                         const std::function<Status(const std::filesystem::path&)>& write);

}  // namespace hedgerow
