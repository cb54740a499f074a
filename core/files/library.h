#pragma once
// Library files: ordinary projects whose modules and kept parts others may use.

#include <filesystem>
#include <string>
#include <vector>

#include "base/result.h"
#include "model/project.h"

namespace hedgerow {

/// What all library files offer. Modules carry the name of their file as origin.
struct Library {
    std::vector<Sheet> modules;
    std::vector<Part> kept;
    std::vector<Error> errors;  ///< files that cannot be read; the others serve all the same
};

/// Reads all *.hedge files of some folders, in order of the folders and of their names. What comes later gives way to
/// what has the same name already; folders that do not exist hold nothing.
Library readLibrary(const std::vector<std::filesystem::path>& folders);

/// Adds modules and kept parts of a project to a library file, which is made when it is missing, with the modules they
/// need. What has the same name there is replaced.
Status shareInLibrary(const std::filesystem::path& file, const Project& project,
                      const std::vector<std::string>& modules, const std::vector<std::string>& kept);

/// $XDG_DATA_HOME/hedgerow/library, or below ~/.local/share.
std::filesystem::path ownLibraryFolder();

}  // namespace hedgerow
