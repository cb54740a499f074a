#include "base/process.h"

#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstdlib>
#include <cstring>

#include <fmt/format.h>

#include "base/file.h"
#include "base/time.h"

extern char** environ;

namespace hedgerow {

namespace {

constexpr std::size_t mostOutput = std::size_t{64} << 20;
constexpr int lookEvery = 50;  // ms

/// What a child needs to be started with, given back at the end.
class Spawn {
public:
    Spawn() { posix_spawn_file_actions_init(&actions_), posix_spawnattr_init(&attributes_); }
    ~Spawn() { posix_spawn_file_actions_destroy(&actions_), posix_spawnattr_destroy(&attributes_); }
    Spawn(const Spawn&) = delete;
    Spawn& operator=(const Spawn&) = delete;

    int run(const std::vector<std::string>& command, int out, int err, pid_t& child) {
        posix_spawn_file_actions_addopen(&actions_, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
        posix_spawn_file_actions_adddup2(&actions_, out, STDOUT_FILENO);
        posix_spawn_file_actions_adddup2(&actions_, err, STDERR_FILENO);
        // A group of its own: what it starts ends with it.
        posix_spawnattr_setflags(&attributes_, POSIX_SPAWN_SETPGROUP);
        posix_spawnattr_setpgroup(&attributes_, 0);
        std::vector<char*> arguments;
        for (const std::string& argument : command) arguments.push_back(const_cast<char*>(argument.c_str()));
        arguments.push_back(nullptr);
        return posix_spawnp(&child, arguments.front(), &actions_, &attributes_, arguments.data(), environ);
    }

private:
    posix_spawn_file_actions_t actions_{};
    posix_spawnattr_t attributes_{};
};

}  // namespace

Result<ProcessOutcome> runProcess(const std::vector<std::string>& command, double seconds, const CancelToken& cancel) {
    const auto failed = [&](const std::string& what) { return Error{ErrorCode::resource, fmt::format("{} {}", command.front(), what)}; };
    std::array<int, 2> out{}, err{};
    if (pipe2(out.data(), O_CLOEXEC) != 0) return failed("cannot be started: there are no pipes left");
    const Descriptor outRead(out[0]);
    Descriptor outWrite(out[1]);
    if (pipe2(err.data(), O_CLOEXEC) != 0) return failed("cannot be started: there are no pipes left");
    const Descriptor errRead(err[0]);
    Descriptor errWrite(err[1]);
    pid_t child = 0;
    if (const int code = Spawn().run(command, outWrite.get(), errWrite.get(), child); code != 0)
        return failed(code == ENOENT ? "is not installed here" : fmt::format("cannot be started: {}", std::strerror(code)));
    outWrite = Descriptor(), errWrite = Descriptor();

    ProcessOutcome outcome;
    const Stopwatch watch;
    std::string trouble;
    std::array<pollfd, 2> waiting{{{outRead.get(), POLLIN, 0}, {errRead.get(), POLLIN, 0}}};
    std::array<std::string*, 2> into{&outcome.out, &outcome.err};
    int status = 0;
    // It may have closed what it says and go on all the same.
    bool over = false;
    while (!over && trouble.empty()) {
        if (cancel.cancelled()) trouble = "was stopped";
        if (watch.seconds() > seconds) trouble = fmt::format("does not answer within {:g} s", seconds);
        poll(waiting.data(), waiting.size(), waiting[0].fd < 0 && waiting[1].fd < 0 ? 1 : lookEvery);
        if (waiting[0].fd < 0 && waiting[1].fd < 0) over = waitpid(child, &status, WNOHANG) == child;
        for (std::size_t i = 0; i < waiting.size(); ++i) {
            if (waiting[i].fd < 0 || waiting[i].revents == 0) continue;
            std::array<char, 65536> buffer;
            const ssize_t count = read(waiting[i].fd, buffer.data(), buffer.size());
            if (count > 0)
                into[i]->append(buffer.data(), static_cast<std::size_t>(count));
            else if (count == 0 || errno != EINTR)
                waiting[i].fd = -1;
            if (into[i]->size() > mostOutput) trouble = "says too much";
        }
    }
    if (!trouble.empty()) kill(-child, SIGKILL);
    while (!over && waitpid(child, &status, 0) < 0 && errno == EINTR) {
    }
    if (!trouble.empty()) return cancel.cancelled() ? Error{ErrorCode::stop, "stopped"} : failed(trouble);
    outcome.code = WIFEXITED(status) ? WEXITSTATUS(status) : -1;
    return outcome;
}

std::string programOnPath(const std::string& name) {
    const char* const path = std::getenv("PATH");
    std::string_view rest = path ? path : "";
    while (!rest.empty()) {
        const std::size_t colon = rest.find(':');
        const std::string file = std::string(rest.substr(0, colon)) + "/" + name;
        struct stat info {};
        if (stat(file.c_str(), &info) == 0 && S_ISREG(info.st_mode) && access(file.c_str(), X_OK) == 0) return file;
        rest = colon == std::string_view::npos ? std::string_view() : rest.substr(colon + 1);
    }
    return "";
}

}  // namespace hedgerow
