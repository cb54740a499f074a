// The n-th allocation fails, and the n-th call that writes: save, autosave, ledger, export and recovery end with an error
// or an exception for want of memory, and what was there before is there afterwards. n = 1, 2, ... until nothing fails.

#include <gtest/gtest.h>

#include <atomic>
#include <cstdlib>
#include <filesystem>
#include <functional>
#include <new>

#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "ledger/ledger.h"
#include "files/recovery.h"
#include "support/circuit.h"
#include "support/failing_disk.h"
#include "support/folder.h"

/// For the leak check: HDF5 does not free all it took for a file it could not write.
extern "C" const char* __lsan_default_suppressions() { return "leak:libhdf5\n"; }

namespace {

/// Allocations of this thread until one fails; below 0 for none. Small ones do not fail: they come out of the reserve
/// that the programs keep for the end of a job (base/machine.h), which library destructors that allocate live on.
std::size_t small = 1024;  ///< bytes
thread_local long allocationsLeft = -1;
thread_local bool allocationFailed = false;

void* allocated(std::size_t size) {
    if (size > small && allocationsLeft >= 0 && allocationsLeft-- == 0) {
        allocationFailed = true;
        throw std::bad_alloc();
    }
    if (void* memory = std::malloc(size ? size : 1)) return memory;
    throw std::bad_alloc();
}

}  // namespace

void* operator new(std::size_t size) { return allocated(size); }
void* operator new[](std::size_t size) { return allocated(size); }
void* operator new(std::size_t size, const std::nothrow_t&) noexcept { return std::malloc(size ? size : 1); }
void* operator new[](std::size_t size, const std::nothrow_t&) noexcept { return std::malloc(size ? size : 1); }
void operator delete(void* memory, const std::nothrow_t&) noexcept { std::free(memory); }
void operator delete[](void* memory, const std::nothrow_t&) noexcept { std::free(memory); }
void operator delete(void* memory) noexcept { std::free(memory); }
void operator delete[](void* memory) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t) noexcept { std::free(memory); }
void operator delete[](void* memory, std::size_t) noexcept { std::free(memory); }

using namespace hedgerow;
using test::TemporaryFolder;
namespace fs = std::filesystem;

namespace {

enum class Outcome { well, refused, noMemory };

/// Does something with the n-th allocation or the n-th writing call failing.
struct Fault {
    bool memory;
    int n;
    bool met = false;
    Outcome during(const std::function<bool()>& work) {
        Outcome outcome = Outcome::refused;
        allocationFailed = false;
        memory ? void(allocationsLeft = n - 1) : test::failWrites(n, false);
        try {
            outcome = work() ? Outcome::well : Outcome::refused;
        } catch (const std::bad_alloc&) {
            outcome = Outcome::noMemory;
        }
        allocationsLeft = -1;
        met = memory ? allocationFailed : test::writesFailed();
        test::failWrites(0, false);
        return outcome;
    }
};

/// Each fault once; of many allocations those at growing distances, so that it takes seconds.
void withEachFault(const std::function<void(Fault&)>& trial, int least = 1) {
    for (const bool memory : {true, false}) {
        int tries = 0, met = 0;
        for (int n = 1; n < 3'000'000; n = memory && n > 150 ? n + n / 12 : n + 1) {
            SCOPED_TRACE((memory ? "allocation " : "writing call ") + std::to_string(n));
            Fault fault{memory, n};
            trial(fault);
            ++tries;
            if (!fault.met || ::testing::Test::HasFatalFailure()) break;
            ++met;
        }
        EXPECT_GE(met, memory ? 0 : least);
        EXPECT_EQ(tries, met + 1) << "it came through in the end";
    }
}

Project example() { return loadHedge(fs::path(HEDGEROW_EXAMPLES) / "med-aux.hedge")->project; }

std::shared_ptr<hedgerow::Run> shortRun() {
    Project project = example();
    project.plans.front().end = "20u";
    return test::run(project);
}

}  // namespace

TEST(Countdown, Save) {
    const TemporaryFolder folder;
    const fs::path file = folder.path() / "a.hedge";
    Project before = example(), after = before;
    before.title = "before", after.title = "after";
    const std::string old = writeHedge(before), fresh = writeHedge(after);
    withEachFault([&](Fault& fault) {
        ASSERT_TRUE(saveHedge(before, file));
        const Outcome outcome = fault.during([&] { return static_cast<bool>(saveHedge(after, file)); });
        const std::string now = *readFile(file);
        ASSERT_TRUE(now == old || now == fresh) << "half a file";
        if (outcome == Outcome::well) {
            EXPECT_EQ(now, fresh);
        }
        for (const auto& entry : fs::directory_iterator(folder.path()))
            if (entry.path() != file) fs::remove(entry.path());  // of a process that met its end: tidied later
    });
}

TEST(Countdown, Autosave) {
    const TemporaryFolder folder;
    Project before = example(), after = before;
    before.title = "before", after.title = "after";
    withEachFault([&](Fault& fault) {
        const fs::path place = folder.path() / "slots";
        fs::remove_all(place);
        auto* slot = new RecoverySlot(place);  // left as by a process that dies
        ASSERT_TRUE(slot->keep(before, "/a.hedge"));
        const Outcome outcome = fault.during([&] { return static_cast<bool>(slot->keep(after, "/a.hedge")); });
        fs::path copy;
        for (const auto& entry : fs::directory_iterator(place))
            if (entry.path().extension() == ".json") copy = entry.path();
        const auto text = readFile(copy);
        ASSERT_TRUE(text);
        EXPECT_NE(text->find(outcome == Outcome::well ? "after" : "before"), std::string::npos);
        delete slot;
    });
}

TEST(Countdown, Recovery) {
    const TemporaryFolder folder;
    const fs::path place = folder.path() / "slots";
    std::string text;
    {
        RecoverySlot slot(place);
        Project project = example();
        ASSERT_TRUE(slot.keep(project, "/a.hedge"));
        for (const auto& entry : fs::directory_iterator(place))
            if (entry.path().extension() == ".json") text = *readFile(entry.path());
    }
    withEachFault([&](Fault& fault) {
        ASSERT_TRUE(writeFileAtomically(place / "7-0.json", text));
        (void)fault.during([&] { return RecoverySlot::pending(place).size() == 1; });
        EXPECT_EQ(*readFile(place / "7-0.json"), text) << "looking at it costs nothing";
        EXPECT_EQ(RecoverySlot::pending(place).size(), 1u);
    }, 0);
}

TEST(Countdown, Export) {
    const TemporaryFolder folder;
    const auto run = shortRun();
    ASSERT_TRUE(run);
    for (const auto& [format, name] : {std::pair("csv", "a.csv"), std::pair("hdf5", "a.h5"), std::pair("vcd", "a.vcd")}) {
        SCOPED_TRACE(name);
        const fs::path file = folder.path() / name;
        withEachFault([&](Fault& fault) {
            ASSERT_TRUE(writeFileAtomically(file, "old"));
            const Outcome outcome = fault.during([&] {
                return static_cast<bool>(exportRun(*run, format, file, {"out.v", "M1.g"}));
            });
            const std::string now = *readFile(file);
            if (outcome == Outcome::well)
                EXPECT_NE(now, "old");
            else
                EXPECT_EQ(now, "old") << "half an export";
            for (const auto& entry : fs::directory_iterator(folder.path()))
                if (entry.path().extension() == ".part") fs::remove(entry.path());
        });
    }
}

TEST(Countdown, Ledger) {
    small = 8192;  // lists of all quantities are taken apart
    const TemporaryFolder folder;
    const auto run = shortRun();
    ASSERT_TRUE(run);
    const fs::path place = folder.path() / "a.hedge-runs";
    {
        const auto ledger = Ledger::open(place);
        const KeptRun kept = *(*ledger)->keep(*run);
        ASSERT_TRUE((*ledger)->setName(kept.number, "the first"));
    }
    withEachFault([&](Fault& fault) {
        (void)fault.during([&] {
            const auto ledger = Ledger::open(place);
            return ledger && (*ledger)->keep(*run) && (*ledger)->setNote(1, "noted");
        });
        const auto again = Ledger::open(place);
        ASSERT_TRUE(again) << again.error().message;
        const auto runs = (*again)->runs();
        ASSERT_TRUE(runs);
        ASSERT_FALSE(runs->empty());
        EXPECT_EQ(runs->back().name, "the first") << (*again)->notice();
        for (const KeptRun& kept : *runs) {
            const auto loaded = (*again)->load(kept);
            ASSERT_TRUE(loaded) << loaded.error().message;
            EXPECT_EQ((*loaded)->points(), run->points());
            if (kept.number != runs->back().number) {
                ASSERT_TRUE((*again)->remove(kept.number));
            }
        }
        EXPECT_FALSE(fs::exists(place / "ledger.damaged")) << "a full disk is no damage";
    });
}
