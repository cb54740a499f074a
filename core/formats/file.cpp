#include "formats/file.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <cerrno>
#include <cstring>

#include <fmt/format.h>

namespace hedgerow {

namespace {

Error fileError(const std::filesystem::path& path, std::string_view doing) {
    return {ErrorCode::file, fmt::format("{} cannot be {}: {}", path.string(), doing, std::strerror(errno))};
}

/// Closes the descriptor at the end of the scope.
class Descriptor {
public:
    explicit Descriptor(int fd) : fd_(fd) {}
    ~Descriptor() {
        if (fd_ >= 0) ::close(fd_);
    }
    Descriptor(const Descriptor&) = delete;
    Descriptor& operator=(const Descriptor&) = delete;
    int get() const { return fd_; }

private:
    int fd_;
};

/// Flushes a file, or the entry of a file in its folder, to the disk.
bool flush(const std::filesystem::path& path, int flags) {
    const Descriptor file(::open(path.c_str(), flags | O_CLOEXEC));
    return file.get() >= 0 && ::fsync(file.get()) == 0;
}

}  // namespace

Result<std::string> readFile(const std::filesystem::path& path, std::size_t mostBytes) {
    const Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
    if (file.get() < 0) return fileError(path, "opened");
    struct stat info {};
    if (::fstat(file.get(), &info) != 0) return fileError(path, "read");
    if (!S_ISREG(info.st_mode)) return Error{ErrorCode::file, path.string() + " is not a file"};
    std::string content;
    char buffer[1 << 16];
    for (;;) {
        const ssize_t got = ::read(file.get(), buffer, sizeof buffer);
        if (got < 0 && errno == EINTR) continue;
        if (got < 0) return fileError(path, "read");
        if (got == 0) return content;
        content.append(buffer, static_cast<std::size_t>(got));
        if (content.size() > mostBytes)
            return Error{ErrorCode::resource, fmt::format("{} is larger than {} MB", path.string(), mostBytes >> 20)};
    }
}

Status replaceAtomically(const std::filesystem::path& path,
                         const std::function<Status(const std::filesystem::path&)>& write) {
    std::error_code ignored;
    // A link stays a link: what it points to is replaced.
    const std::filesystem::path target =
        std::filesystem::is_symlink(path, ignored) ? std::filesystem::weakly_canonical(path, ignored) : path;
    const std::filesystem::path temporary = target.string() + fmt::format(".{}.part", ::getpid());
    if (auto status = write(temporary); !status) {
        std::filesystem::remove(temporary, ignored);
        return status;
    }
    struct stat old {};
    if (::stat(target.c_str(), &old) == 0) (void)::chmod(temporary.c_str(), old.st_mode & 07777);
    if (!flush(temporary, O_RDWR) || ::rename(temporary.c_str(), target.c_str()) != 0) {
        const Error error = fileError(target, "written");
        std::filesystem::remove(temporary, ignored);
        return error;
    }
    const std::filesystem::path folder = target.parent_path().empty() ? "." : target.parent_path();
    (void)flush(folder, O_RDONLY | O_DIRECTORY);  // the file is safe; some file systems refuse this for folders
    return {};
}

Status writeFileAtomically(const std::filesystem::path& path, std::string_view content) {
    return replaceAtomically(path, [&](const std::filesystem::path& temporary) -> Status {
        const Descriptor file(::open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666));
        if (file.get() < 0) return fileError(path, "written");
        while (!content.empty()) {
            const ssize_t put = ::write(file.get(), content.data(), content.size());
            if (put < 0 && errno == EINTR) continue;
            if (put < 0) return fileError(path, "written");
            content.remove_prefix(static_cast<std::size_t>(put));
        }
        return {};
    });
}

}  // namespace hedgerow
