#pragma once
// Where the relative file names of a project start, and what it may read.
//
// Invariants
//  1. A project reads regular files that lie in its own folder or below, links followed. Any other file is read only
//     where the user allowed just that one.
//  2. What counts is where the opened file is, not what its name says.

#include <filesystem>
#include <set>
#include <string>

#include "base/result.h"

namespace hedgerow {

class ProjectFolder {
public:
    ProjectFolder() = default;
    explicit ProjectFolder(std::filesystem::path path) : path_(std::move(path)) {}

    /// Empty for a project that was never saved.
    const std::filesystem::path& path() const { return path_; }
    void moveTo(std::filesystem::path path) { path_ = std::move(path); }

    /// Everything may be read, wherever it is.
    void allowAll() { all_ = true; }
    /// @param files  where they are, without links: as outside() gives them
    void allow(std::set<std::string> files) { allowed_.insert(files.begin(), files.end()); }
    const std::set<std::string>& allowed() const { return allowed_; }
    /// Where a named file is when it lies outside of the folder and was not allowed, or does not exist; else "".
    std::string outside(const std::string& name) const;
    /// The content of a named file. Errors say what is wrong with it, or that it was not allowed.
    Result<std::string> read(const std::string& name, std::size_t mostBytes) const;

    /// Not part of what a project is.
    friend bool operator==(const ProjectFolder&, const ProjectFolder&) { return true; }

private:
    std::filesystem::path placeOf(const std::string& name) const { return path_ / name; }
    bool mayRead(const std::filesystem::path& real) const;

    std::filesystem::path path_;
    std::set<std::string> allowed_;
    bool all_ = false;
};

}  // namespace hedgerow
