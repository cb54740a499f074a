#pragma once
// Writing whole files so that a crash leaves the old or the new one, never half.

#include <filesystem>
#include <functional>
#include <string>
#include <string_view>

#include "base/file.h"
#include "base/folder.h"
#include "base/result.h"

namespace hedgerow {

/// Writes beside the target, flushes to the disk, renames over it. A link stays a link: what it points to is replaced.
/// What an earlier process left half written beside the same target is removed when it is old.
Status writeFileAtomically(const std::filesystem::path& path, std::string_view content);

/// The same in an open folder; a link of this name is replaced, not followed.
Status writeFileAtomically(const OpenFolder& folder, const std::string& name, std::string_view content);

/// Fills the temporary file it is given.
using WriteFile = std::function<Status(const std::filesystem::path& temporary)>;
/// As writeFileAtomically, for writers that need a path.
Status replaceAtomically(const std::filesystem::path& path, const WriteFile& write);
/// The same in an open folder; a link of this name is replaced, not followed.
Status replaceAtomically(const OpenFolder& folder, const std::string& name, const WriteFile& write);

/// Whether a name is that of a file half written beside `target`.
bool isHalfWritten(std::string_view name, std::string_view target);

}  // namespace hedgerow
