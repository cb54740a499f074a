#include "support/failing_disk.h"

#include <dlfcn.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <unistd.h>
#include <atomic>
#include <cerrno>
#include <cstdarg>
#include <cstdio>

namespace {

std::atomic<int> left{0};
std::atomic<bool> always{false}, failed{false};

bool failsNow() {
    if (left == 0) return false;
    const bool now = left > 1 ? --left == 1 : !failed || always;
    if (now) {
        failed = true;
        errno = ENOSPC;
    }
    return now;
}

template <class Function>
Function* systems(const char* name) {
    return reinterpret_cast<Function*>(dlsym(RTLD_NEXT, name));
}

}  // namespace

namespace hedgerow::test {

void failWrites(int n, bool forGood) {
    failed = false;
    always = forGood;
    left = n == 0 ? 0 : n + 1;
}

bool writesFailed() { return failed; }

}  // namespace hedgerow::test

extern "C" {

ssize_t write(int file, const void* data, size_t size) {
    static auto* const real = systems<ssize_t(int, const void*, size_t)>("write");
    return file > 2 && failsNow() ? -1 : real(file, data, size);
}

ssize_t pwrite(int file, const void* data, size_t size, off_t at) {
    static auto* const real = systems<ssize_t(int, const void*, size_t, off_t)>("pwrite");
    return failsNow() ? -1 : real(file, data, size, at);
}

ssize_t pwrite64(int file, const void* data, size_t size, off64_t at) {
    static auto* const real = systems<ssize_t(int, const void*, size_t, off64_t)>("pwrite64");
    return failsNow() ? -1 : real(file, data, size, at);
}

int openat(int folder, const char* path, int flags, ...) {
    static auto* const real = systems<int(int, const char*, int, mode_t)>("openat");
    va_list rest;
    va_start(rest, flags);
    const auto mode = static_cast<mode_t>(flags & O_CREAT ? va_arg(rest, unsigned) : 0u);
    va_end(rest);
    return (flags & (O_CREAT | O_WRONLY | O_RDWR)) && failsNow() ? -1 : real(folder, path, flags, mode);
}

int mkdirat(int folder, const char* path, mode_t mode) noexcept {
    static auto* const real = systems<int(int, const char*, mode_t)>("mkdirat");
    return failsNow() ? -1 : real(folder, path, mode);
}

int ftruncate64(int file, off64_t size) noexcept {
    static auto* const real = systems<int(int, off64_t)>("ftruncate64");
    return failsNow() ? -1 : real(file, size);
}

int renameat(int fromFolder, const char* from, int toFolder, const char* to) noexcept {
    static auto* const real = systems<int(int, const char*, int, const char*)>("renameat");
    return failsNow() ? -1 : real(fromFolder, from, toFolder, to);
}

int fsync(int file) {
    static auto* const real = systems<int(int)>("fsync");
    return failsNow() ? -1 : real(file);
}

int rename(const char* from, const char* to) noexcept {
    static auto* const real = systems<int(const char*, const char*)>("rename");
    return failsNow() ? -1 : real(from, to);
}
}
