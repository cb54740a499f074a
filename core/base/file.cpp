#include "base/file.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <cerrno>
#include <cstring>

#include <fmt/format.h>

namespace hedgerow {

Descriptor::~Descriptor() {
    if (fd_ >= 0) ::close(fd_);
}

Error fileError(const std::filesystem::path& path, std::string_view doing) {
    return {ErrorCode::file, fmt::format("{} cannot be {}: {}", path.string(), doing, std::strerror(errno))};
}

Result<Descriptor> openRegular(const std::filesystem::path& path, int at) {
    // Without waiting: a pipe that nobody writes to would keep the one who opens it.
    const int flags = O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY;
    Descriptor file(at < 0 ? ::open(path.c_str(), flags) : ::openat(at, path.c_str(), flags | O_NOFOLLOW));
    if (!file) return fileError(path, "opened");
    struct stat info {};
    if (::fstat(file.get(), &info) != 0) return fileError(path, "read");
    if (!S_ISREG(info.st_mode)) return Error{ErrorCode::file, path.string() + " is not a file"};
    return file;
}

Result<std::string> readAll(const Descriptor& file, const std::filesystem::path& path, std::size_t mostBytes) {
    const auto tooLarge = [&] {
        return Error{ErrorCode::resource, mostBytes >> 20
                                              ? fmt::format("{} is larger than {} MB", path.string(), mostBytes >> 20)
                                              : fmt::format("{} is larger than {} kB", path.string(), mostBytes >> 10)};
    };
    struct stat info {};
    if (::fstat(file.get(), &info) != 0) return fileError(path, "read");
    if (static_cast<std::uintmax_t>(info.st_size) > mostBytes) return tooLarge();
    std::string content;
    content.reserve(static_cast<std::size_t>(info.st_size));
    char buffer[1 << 16];
    for (;;) {
        const ssize_t got = ::read(file.get(), buffer, sizeof buffer);
        if (got < 0 && errno == EINTR) continue;
        if (got < 0) return fileError(path, "read");
        if (got == 0) return content;
        content.append(buffer, static_cast<std::size_t>(got));
        if (content.size() > mostBytes) return tooLarge();
    }
}

Result<std::string> readFile(const std::filesystem::path& path, std::size_t mostBytes) {
    auto file = openRegular(path);
    if (!file) return file.error();
    return readAll(*file, path, mostBytes);
}

std::string fileStamp(const std::filesystem::path& path) {
    struct stat info {};
    if (::stat(path.c_str(), &info) != 0) return "";
    return fmt::format("{}-{}-{}-{}.{:09}", info.st_dev, info.st_ino, info.st_size, info.st_mtim.tv_sec,
                       info.st_mtim.tv_nsec);
}

}  // namespace hedgerow
