#pragma once
// The files that a project names, and those of them that lie outside of its folder: which of these the user allowed is
// remembered with the user's own data, by project.

#include <filesystem>
#include <set>
#include <string>
#include <vector>

#include "base/result.h"
#include "model/project.h"

namespace hedgerow {

/// Tables, control code and start files that parts and plans name, on all sheets; each once.
std::vector<std::string> namedFiles(const Project& project);
/// Where those lie that are outside of the project's folder and were not allowed.
std::set<std::string> outsideFiles(const Project& project);

class AllowedFiles {
public:
    /// @param store  a JSON file, made when something is allowed
    explicit AllowedFiles(std::filesystem::path store) : store_(std::move(store)) {}
    /// $XDG_DATA_HOME/hedgerow/allowed.json, or below ~/.local/share.
    static AllowedFiles ofUser();

    /// What was allowed for the project at this path; nothing where the store cannot be read.
    std::set<std::string> of(const std::filesystem::path& project) const;
    Status allow(const std::filesystem::path& project, const std::set<std::string>& files) const;

private:
    std::filesystem::path store_;
};

}  // namespace hedgerow
