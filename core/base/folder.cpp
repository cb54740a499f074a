#include "base/folder.h"

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <algorithm>
#include <cerrno>
#include <ctime>

#include <fmt/format.h>

namespace hedgerow {

namespace {

constexpr int folderFlags = O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW;

Error noName(std::string_view name) {
    return {ErrorCode::file, fmt::format("'{}' is no name of a file in a folder", name)};
}

Error folderError(const std::filesystem::path& path) {
    // What a link answers where none may be.
    if (errno == ELOOP || errno == ENOTDIR)
        return {ErrorCode::file, path.string() + " is a link or no folder: it is left alone"};
    return fileError(path, "opened");
}

}  // namespace

bool isPlainName(std::string_view name) {
    return !name.empty() && name != "." && name != ".." && name.find('/') == std::string_view::npos &&
           name.find('\0') == std::string_view::npos;
}

Result<OpenFolder> OpenFolder::open(const std::filesystem::path& path) {
    // A slash at the end would have a link followed.
    const std::filesystem::path plain = path.has_filename() ? path : path.parent_path();
    Descriptor descriptor(::open(plain.c_str(), folderFlags));
    if (!descriptor) return folderError(plain);
    return OpenFolder(plain, std::move(descriptor));
}

Result<OpenFolder> OpenFolder::make(const std::filesystem::path& path) {
    std::error_code failed;
    const std::filesystem::path plain = path.has_filename() ? path : path.parent_path();
    if (!std::filesystem::exists(std::filesystem::symlink_status(plain, failed)))
        std::filesystem::create_directories(plain, failed);
    return open(plain);
}

Result<OpenFolder> OpenFolder::folder(const std::string& name) const {
    if (!isPlainName(name)) return noName(name);
    Descriptor descriptor(::openat(this->descriptor(), name.c_str(), folderFlags));
    if (!descriptor) return folderError(path_ / name);
    return OpenFolder(path_ / name, std::move(descriptor));
}

Result<OpenFolder> OpenFolder::makeFolder(const std::string& name) const {
    if (!isPlainName(name)) return noName(name);
    if (::mkdirat(descriptor(), name.c_str(), 0777) != 0) return fileError(path_ / name, "made");
    return folder(name);
}

OpenFolder::Entry OpenFolder::entry(const std::string& name) const {
    struct stat info {};
    if (!isPlainName(name) || ::fstatat(descriptor(), name.c_str(), &info, AT_SYMLINK_NOFOLLOW) != 0)
        return Entry::none;
    return S_ISREG(info.st_mode) ? Entry::file : S_ISDIR(info.st_mode) ? Entry::folder : Entry::other;
}

std::vector<std::string> OpenFolder::names() const {
    std::vector<std::string> found;
    const int again = ::openat(descriptor(), ".", folderFlags);
    DIR* const list = again < 0 ? nullptr : ::fdopendir(again);
    if (!list) {
        if (again >= 0) ::close(again);
        return found;
    }
    while (const dirent* item = ::readdir(list))
        if (isPlainName(item->d_name)) found.emplace_back(item->d_name);
    ::closedir(list);
    std::sort(found.begin(), found.end());
    return found;
}

std::uintmax_t OpenFolder::sizeOf(const std::string& name) const {
    struct stat info {};
    const bool known = isPlainName(name) &&
                       ::fstatat(descriptor(), name.c_str(), &info, AT_SYMLINK_NOFOLLOW) == 0 && S_ISREG(info.st_mode);
    return known ? static_cast<std::uintmax_t>(info.st_size) : 0;
}

bool OpenFolder::writable() const { return ::faccessat(descriptor(), ".", W_OK, AT_EACCESS) == 0; }

double OpenFolder::age() const {
    struct stat info {};
    return ::fstat(descriptor(), &info) == 0 ? std::difftime(std::time(nullptr), info.st_mtim.tv_sec) : 0.0;
}

Status OpenFolder::removeFile(const std::string& name) const {
    if (!isPlainName(name)) return noName(name);
    if (::unlinkat(descriptor(), name.c_str(), 0) != 0) return fileError(path_ / name, "removed");
    return {};
}

Status OpenFolder::removeFolder(const std::string& name) const {
    if (!isPlainName(name)) return noName(name);
    if (::unlinkat(descriptor(), name.c_str(), AT_REMOVEDIR) != 0) return fileError(path_ / name, "removed");
    return {};
}

std::filesystem::path OpenFolder::way(std::string_view name) const {
    return fmt::format("/proc/self/fd/{}/{}", descriptor(), name);
}

}  // namespace hedgerow
