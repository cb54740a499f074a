// Saved work survives whatever happens while it is saved.

#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>
#include <csignal>
#include <random>

#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "files/recovery.h"
#include "runs/registry.h"
#include "support/circuit.h"
#include "support/folder.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

Project project(int parts) {
    Circuit c;
    for (int i = 0; i < parts; ++i) c.add("resistor", "R" + std::to_string(i), {"a", "0"}, {{"r", "4k7"}});
    return c.project();
}

/// Runs `work` in a child process. Returns its exit code, or minus the signal that ended it.
template <class Work>
int inChild(Work work, int killAfterMicroseconds = -1) {
    const pid_t child = fork();
    if (child == 0) {
        work();
        _exit(0);
    }
    if (killAfterMicroseconds >= 0) {
        usleep(static_cast<useconds_t>(killAfterMicroseconds));
        kill(child, SIGKILL);
    }
    int status = 0;
    waitpid(child, &status, 0);
    return WIFSIGNALED(status) ? -WTERMSIG(status) : WEXITSTATUS(status);
}

}  // namespace

// Killed at any moment of a save, the file is the old or the new one, never half.
TEST(Save, AKillLeavesTheOldOrTheNewFile) {
    TemporaryFolder folder;
    const auto path = folder.path() / "a.hedge";
    const std::string small = writeHedge(project(3)), large = writeHedge(project(400));
    ASSERT_TRUE(writeFileAtomically(path, small));
    std::mt19937 random(4);
    int smallSeen = 0, largeSeen = 0;
    for (int trial = 0; trial < 60; ++trial) {
        const int code = inChild(
            [&] {
                for (;;) {
                    (void)writeFileAtomically(path, large);
                    (void)writeFileAtomically(path, small);
                }
            },
            static_cast<int>(random() % 8000));
        ASSERT_EQ(code, -SIGKILL);
        const auto content = readFile(path);
        ASSERT_TRUE(content);
        ASSERT_TRUE(*content == small || *content == large) << "half a file after trial " << trial;
        (*content == small ? smallSeen : largeSeen) += 1;
    }
    EXPECT_GT(smallSeen, 0);
    EXPECT_GT(largeSeen, 0);
}

// A full disk (here: a limit on the size of files, at every size up to the whole) is an error, and the old file stays.
TEST(Save, AFullDiskLeavesTheOldFile) {
    TemporaryFolder folder;
    const auto path = folder.path() / "a.hedge";
    ASSERT_TRUE(saveHedge(project(1), path));
    const std::string old = *readFile(path);
    const Project larger = project(50);
    const std::string whole = writeHedge(larger);
    for (std::size_t room = 0; room < whole.size(); room += whole.size() / 23 + 1) {
        const int code = inChild([&] {
            std::signal(SIGXFSZ, SIG_IGN);
            const rlimit limit{room, room};
            setrlimit(RLIMIT_FSIZE, &limit);
            const auto status = saveHedge(larger, path);
            _exit(status ? 1 : status.error().message.empty() ? 2 : 0);
        });
        ASSERT_EQ(code, 0) << "with room for " << room << " bytes";
        ASSERT_EQ(*readFile(path), old);
        ASSERT_EQ(std::distance(std::filesystem::directory_iterator(folder.path()), {}), 1) << "no litter";
    }
    ASSERT_TRUE(saveHedge(larger, path));
    EXPECT_EQ(*readFile(path), whole);
}

TEST(Save, TracesOnAFullDiskAreAnErrorToo) {
    TemporaryFolder folder;
    Circuit c;
    c.add("sine-voltage", "V1", {"in", "0"})
        .add("resistor", "R1", {"in", "0"})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "10k"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("resistor", "R2", {"x", "0"})
        .plan("100m", "1e-5");
    const auto r = run(c);
    ASSERT_TRUE(r);
    for (const auto& format : traceFormats()) {
        const auto path = folder.path() / ("a" + std::string(format->extension()));
        const int code = inChild([&] {
            std::signal(SIGXFSZ, SIG_IGN);
            const rlimit limit{4096, 4096};
            setrlimit(RLIMIT_FSIZE, &limit);
            _exit(exportRun(*r, format->name(), path) ? 1 : 0);
        });
        EXPECT_EQ(code, 0) << format->name();
        EXPECT_FALSE(std::filesystem::exists(path)) << format->name();
        EXPECT_TRUE(exportRun(*r, format->name(), path)) << format->name();
        std::uintmax_t largest = 0;  // of what was written: some formats are two files
        for (const auto& entry : std::filesystem::directory_iterator(folder.path()))
            if (entry.path().stem() == "a") largest = std::max(largest, entry.file_size());
        EXPECT_GT(largest, 4096u) << format->name();
        for (const auto& entry : std::filesystem::directory_iterator(folder.path()))
            std::filesystem::remove(entry.path());
    }
}

// The permissions of a file outlive a save.
TEST(Save, PermissionsStay) {
    TemporaryFolder folder;
    const auto path = folder.path() / "a.hedge";
    ASSERT_TRUE(saveHedge(project(1), path));
    std::filesystem::permissions(path, std::filesystem::perms::owner_read | std::filesystem::perms::owner_write);
    ASSERT_TRUE(saveHedge(project(2), path));
    EXPECT_EQ(std::filesystem::status(path).permissions(),
              std::filesystem::perms::owner_read | std::filesystem::perms::owner_write);
}

// A process that dies with unsaved work leaves it; one that is alive keeps it to itself.
TEST(Save, WorkOfADeadProcessIsOffered) {
    TemporaryFolder folder;
    const Project work = project(7);
    const int code = inChild([&] {
        RecoverySlot slot(folder.path());
        if (!slot.keep(work, "/somewhere/a.hedge")) _exit(1);
        kill(getpid(), SIGKILL);
    });
    ASSERT_EQ(code, -SIGKILL);
    auto pending = RecoverySlot::pending(folder.path());
    ASSERT_EQ(pending.size(), 1u);
    EXPECT_EQ(pending[0].originalPath, "/somewhere/a.hedge");
    EXPECT_EQ(writeHedge(pending[0].project), writeHedge(work));
    RecoverySlot::discard(pending[0].slot);
    EXPECT_TRUE(std::filesystem::is_empty(folder.path()));
}
