#pragma once
// A folder held open: what is done in it goes by plain names, and no link is followed, whatever the folder holds.

#include <filesystem>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "base/file.h"
#include "base/result.h"

namespace hedgerow {

class OpenFolder {
public:
    /// Opens a folder; a link to one is an error. Its parents may be links.
    static Result<OpenFolder> open(const std::filesystem::path& path);
    /// As open(); it is made when it is missing, and its parents too.
    static Result<OpenFolder> make(const std::filesystem::path& path);

    /// A folder in it. An error when it is missing, a link, or no folder.
    Result<OpenFolder> folder(const std::string& name) const;
    /// A new folder in it. An error when the name is taken.
    Result<OpenFolder> makeFolder(const std::string& name) const;

    enum class Entry : std::uint8_t { none, file, folder, other };  ///< other: a link, a pipe, a device
    Entry entry(const std::string& name) const;
    std::vector<std::string> names() const;
    /// Bytes of a regular file; 0 for anything else.
    std::uintmax_t sizeOf(const std::string& name) const;
    bool writable() const;
    /// Seconds since something in it was made or removed.
    double age() const;

    Status removeFile(const std::string& name) const;
    /// Removes an empty folder.
    Status removeFolder(const std::string& name) const;

    /// A path that leads to the name in this very folder, for libraries that open files by paths. They follow links:
    /// look at entry() first. Good as long as the folder is open.
    std::filesystem::path way(std::string_view name) const;
    /// As the user knows it.
    const std::filesystem::path& path() const { return path_; }
    int descriptor() const { return descriptor_->get(); }

private:
    OpenFolder(std::filesystem::path path, Descriptor descriptor)
        : path_(std::move(path)), descriptor_(std::make_shared<Descriptor>(std::move(descriptor))) {}

    std::filesystem::path path_;
    std::shared_ptr<const Descriptor> descriptor_;
};

/// Whether a text is the name of something in a folder: not empty, no way out of it.
bool isPlainName(std::string_view name);

}  // namespace hedgerow
