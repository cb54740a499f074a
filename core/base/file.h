#pragma once
// Reading files that may come from anybody: regular files only, with a limit, never waiting for anything.

#include <filesystem>
#include <string>

#include "base/result.h"

namespace hedgerow {

/// Closes a file descriptor at the end of its scope.
class Descriptor {
public:
    explicit Descriptor(int fd = -1) : fd_(fd) {}
    ~Descriptor();
    Descriptor(Descriptor&& other) noexcept : fd_(std::exchange(other.fd_, -1)) {}
    Descriptor& operator=(Descriptor&& other) noexcept {
        std::swap(fd_, other.fd_);
        return *this;
    }
    int get() const { return fd_; }
    explicit operator bool() const { return fd_ >= 0; }

private:
    int fd_;
};

/// What the system said, as an error about a file: "x.csv cannot be opened: Permission denied".
Error fileError(const std::filesystem::path& path, std::string_view doing);

/// Opens a regular file for reading. A pipe, a device or a folder is an error at once.
/// @param at  the folder a relative path starts at, as an open descriptor; links are not followed then
Result<Descriptor> openRegular(const std::filesystem::path& path, int at = -1);
/// @pre `file` comes from openRegular()  @param path  for messages
Result<std::string> readAll(const Descriptor& file, const std::filesystem::path& path, std::size_t mostBytes);
Result<std::string> readFile(const std::filesystem::path& path, std::size_t mostBytes = std::size_t{64} << 20);

/// What tells one state of a file from another: where it lies on the disk, its size, when it was last changed. "" for
/// one that is not there.
std::string fileStamp(const std::filesystem::path& path);

}  // namespace hedgerow
