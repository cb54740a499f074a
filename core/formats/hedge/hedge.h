#pragma once
// Project files, *.hedge: JSON with our own schema (docs/hedge.schema.json), one part a line, values as typed.

#include <filesystem>
#include <string>
#include <string_view>

#include "base/result.h"
#include "model/project.h"

namespace hedgerow {

inline constexpr int hedgeVersion = 1;

struct LoadedProject {
    Project project;
    bool readOnly = false;  ///< written by a newer version: members may be missing here, so it must not be saved over
    std::string notice;     ///< for the user, "" when all is well
};

/// Reads a project from text. Errors carry line and column. Members it does not know are kept and written again.
Result<LoadedProject> readHedge(std::string_view text);
Result<LoadedProject> loadHedge(const std::filesystem::path& path);
std::string writeHedge(const Project& project);
Status saveHedge(const Project& project, const std::filesystem::path& path);

/// Parts, wires and labels alone, for the clipboard.
/// @param modules  those that places in the clip may need
std::string writeClip(const Sheet& clip, const std::vector<Sheet>& modules = {});
/// The clip first, then the modules it needs.
Result<std::vector<Sheet>> readClip(std::string_view text);

}  // namespace hedgerow
