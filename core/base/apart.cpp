#include "base/apart.h"

#include <cerrno>
#include <csignal>

#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

namespace hedgerow {

namespace {

/// A crash is told by the end of the process alone: no file of its memory, no handler of this program.
void expectTheWorst(std::chrono::seconds most) {
    for (const int signal : {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT, SIGTERM, SIGXCPU}) std::signal(signal, SIG_DFL);
    const rlimit none{0, 0}, seconds{static_cast<rlim_t>(most.count()), static_cast<rlim_t>(most.count())};
    setrlimit(RLIMIT_CORE, &none);
    setrlimit(RLIMIT_CPU, &seconds);
}

}  // namespace

std::optional<bool> comesToAnEnd(const std::function<void()>& work, std::chrono::seconds most) {
    const pid_t copy = fork();
    if (copy < 0) return {};
    if (copy == 0) {
        expectTheWorst(most);
        try {
            work();
        } catch (...) {
            _exit(1);
        }
        _exit(0);
    }
    int status = 0;
    pid_t ended = 0;
    do ended = waitpid(copy, &status, 0);
    while (ended < 0 && errno == EINTR);
    return ended == copy && WIFEXITED(status) && WEXITSTATUS(status) == 0;
}

}  // namespace hedgerow
