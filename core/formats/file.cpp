#include "formats/file.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <cerrno>
#include <ctime>
#include <random>

#include <fmt/format.h>

namespace hedgerow {

namespace {

constexpr std::string_view halfEnding = ".part";
constexpr std::size_t halfDigits = 16;
constexpr std::time_t halfAbandoned = 3600;  ///< s: no file is written for so long

std::string halfWrittenName(std::string_view target) {
    static thread_local std::mt19937_64 random{std::random_device{}()};
    return fmt::format("{}.{:016x}{}", target, random(), halfEnding);
}

/// What a process that was killed has left beside the target.
void removeAbandoned(const OpenFolder& folder, const std::string& target) {
    const std::time_t now = std::time(nullptr);
    for (const std::string& name : folder.names()) {
        struct stat info {};
        if (isHalfWritten(name, target) && folder.entry(name) == OpenFolder::Entry::file &&
            ::fstatat(folder.descriptor(), name.c_str(), &info, AT_SYMLINK_NOFOLLOW) == 0 &&
            now - info.st_mtime > halfAbandoned)
            (void)folder.removeFile(name);
    }
}

/// Flushes a file in a folder to the disk.
bool flush(const OpenFolder& folder, const std::string& name) {
    const Descriptor file(::openat(folder.descriptor(), name.c_str(), O_RDWR | O_CLOEXEC | O_NOFOLLOW));
    return file && ::fsync(file.get()) == 0;
}

/// @param pathOf  the path by which `write` reaches a name in the folder
Status replace(const OpenFolder& folder, const std::string& name, const WriteFile& write,
               const std::function<std::filesystem::path(const std::string&)>& pathOf) {
    const std::filesystem::path target = folder.path() / name;
    if (!isPlainName(name)) return Error{ErrorCode::file, target.string() + " is no name of a file"};
    const std::string temporary = halfWrittenName(name);
    /// What is half written goes whichever way this ends, also by want of memory.
    struct Tidy {
        const OpenFolder& folder;
        const std::string& name;
        bool wanted;
        ~Tidy() {
            if (wanted) ::unlinkat(folder.descriptor(), name.c_str(), 0);
        }
    } tidy{folder, temporary, false};
    {
        const Descriptor made(
            ::openat(folder.descriptor(), temporary.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666));
        if (!made) return fileError(target, "written");
        tidy.wanted = true;
    }
    if (auto status = write(pathOf(temporary)); !status) return status;
    struct stat old {};
    if (::fstatat(folder.descriptor(), name.c_str(), &old, AT_SYMLINK_NOFOLLOW) == 0) {
        if (S_ISDIR(old.st_mode)) return Error{ErrorCode::file, target.string() + " is a folder"};
        if (S_ISREG(old.st_mode)) (void)::fchmodat(folder.descriptor(), temporary.c_str(), old.st_mode & 07777, 0);
    }
    if (!flush(folder, temporary) ||
        ::renameat(folder.descriptor(), temporary.c_str(), folder.descriptor(), name.c_str()) != 0)
        return fileError(target, "written");
    tidy.wanted = false;
    (void)::fsync(folder.descriptor());  // the file is safe; some file systems refuse this for folders
    removeAbandoned(folder, name);
    return {};
}

}  // namespace

bool isHalfWritten(std::string_view name, std::string_view target) {
    if (name.size() != target.size() + 1 + halfDigits + halfEnding.size() || !name.starts_with(target) ||
        !name.ends_with(halfEnding) || name[target.size()] != '.')
        return false;
    return name.substr(target.size() + 1, halfDigits).find_first_not_of("0123456789abcdef") == std::string_view::npos;
}

Status replaceAtomically(const OpenFolder& folder, const std::string& name, const WriteFile& write) {
    return replace(folder, name, write, [&](const std::string& file) { return folder.way(file); });
}

Status replaceAtomically(const std::filesystem::path& path, const WriteFile& write) {
    std::error_code ignored;
    std::filesystem::path target =
        std::filesystem::is_symlink(path, ignored) ? std::filesystem::weakly_canonical(path, ignored) : path;
    const std::filesystem::path parent = target.parent_path().empty() ? "." : target.parent_path();
    // The user chose this folder: links that lead to it are followed.
    const std::filesystem::path real = std::filesystem::canonical(parent, ignored);
    auto folder = OpenFolder::open(ignored ? parent : real);
    if (!folder) return Error{ErrorCode::file, fmt::format("{} cannot be written: {}", target.string(),
                                                           folder.error().message)};
    return replace(*folder, target.filename().string(), write,
                   [&](const std::string& file) { return folder->path() / file; });
}

namespace {

/// Fills a file with a text. @param path  for messages
WriteFile writing(const std::filesystem::path& path, std::string_view content) {
    return [path, content](const std::filesystem::path& temporary) -> Status {
        const Descriptor file(::open(temporary.c_str(), O_WRONLY | O_TRUNC | O_CLOEXEC));
        if (!file) return fileError(path, "written");
        for (std::string_view rest = content; !rest.empty();) {
            const ssize_t put = ::write(file.get(), rest.data(), rest.size());
            if (put < 0 && errno == EINTR) continue;
            if (put < 0) return fileError(path, "written");
            rest.remove_prefix(static_cast<std::size_t>(put));
        }
        return {};
    };
}

}  // namespace

Status writeFileAtomically(const std::filesystem::path& path, std::string_view content) {
    return replaceAtomically(path, writing(path, content));
}

Status writeFileAtomically(const OpenFolder& folder, const std::string& name, std::string_view content) {
    return replaceAtomically(folder, name, writing(folder.path() / name, content));
}

}  // namespace hedgerow
