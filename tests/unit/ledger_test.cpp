// Kept runs: what was stored is what is read, and nothing that happens to the files loses more than it must.

#include <gtest/gtest.h>

#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <random>
#include <set>
#include <thread>

#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "ledger/ledger.h"
#include "ledger/run_file.h"
#include "ledger/run_pieces.h"
#include "ledger/run_writer.h"
#include "support/circuit.h"
#include "support/failing_disk.h"

using namespace hedgerow;
namespace fs = std::filesystem;

namespace {

class KeptRuns : public ::testing::Test {
protected:
    KeptRuns() { fs::remove_all(folder); }
    ~KeptRuns() override { fs::remove_all(folder); }
    static std::shared_ptr<hedgerow::Run> madeRun(const char* end = "200u") {
        auto loaded = loadHedge(fs::path(HEDGEROW_EXAMPLES) / "med-aux.hedge");
        loaded->project.plans.front().end = end;
        return test::run(loaded->project);
    }
    std::shared_ptr<Ledger> open() {
        auto ledger = Ledger::open(folder);
        EXPECT_TRUE(ledger) << ledger.error().message;
        return ledger ? *ledger : nullptr;
    }
    fs::path folder = fs::temp_directory_path() / ("hedgerow_ledger_" + std::to_string(::getpid()));
};

OpenFolder made(const fs::path& path) { return *OpenFolder::make(path); }
Result<std::shared_ptr<RunRecord>> openRun(const fs::path& path) {
    const auto folder = OpenFolder::open(path);
    if (!folder) return folder.error();
    return openRunFolder(*folder);
}

void expectSame(const RunRecord& a, const RunRecord& b) {
    ASSERT_EQ(a.quantityNames(), b.quantityNames());
    for (const std::string& name : a.quantityNames()) {
        const auto x = a.trace(name), y = b.trace(name);
        ASSERT_TRUE(x && y) << name;
        ASSERT_EQ(x->size(), y->size());
        EXPECT_EQ(x->unit(), y->unit());
        EXPECT_EQ(x->logic(), y->logic());
        for (std::size_t i = 0; i < x->size(); i += 7) {
            ASSERT_EQ(x->time(i), y->time(i));
            // Sums of columns may be rounded in another order.
            ASSERT_NEAR(x->value(i), y->value(i), 1e-9 * (1 + std::abs(x->value(i)))) << name << " " << i;
        }
        const auto m = x->measure(0, a.end()), n = y->measure(0, a.end());
        ASSERT_TRUE(m && n);
        EXPECT_NEAR(m->rms, n->rms, 1e-9 * (1 + m->rms)) << name << ": also between the points";
    }
}

}  // namespace

TEST_F(KeptRuns, PricesOfRungsAreKept) {
    {
        const auto ledger = open();
        EXPECT_TRUE(ledger->prices("inductor").empty());
        ASSERT_TRUE(ledger->setPrices("inductor", {{1, 1}, {2, 1.75}, {4, 312.5}}));
        ASSERT_TRUE(ledger->setPrices("inductor", {{1, 1}, {2, 1.5}, {4, 300}}));
        ASSERT_TRUE(ledger->setPrices("diode", {{1, 1}}));
    }
    const auto again = open();
    EXPECT_EQ(again->prices("inductor"), (std::map<int, double>{{1, 1}, {2, 1.5}, {4, 300}}));
    EXPECT_EQ(again->prices("diode"), (std::map<int, double>{{1, 1}}));
    EXPECT_TRUE(again->prices("resistor").empty());
    EXPECT_EQ(again->bound(), 50) << "other settings stay";
}

TEST_F(KeptRuns, AreReadAsTheyWereStored) {
    const auto run = madeRun();
    ASSERT_TRUE(run);
    const auto ledger = open();
    const auto kept = ledger->keep(*run);
    ASSERT_TRUE(kept) << kept.error().message;
    EXPECT_EQ(kept->points, static_cast<std::int64_t>(run->points()));
    EXPECT_GT(kept->bytes, 1000);
    const auto again = ledger->load(*kept);
    ASSERT_TRUE(again) << again.error().message;
    EXPECT_EQ((*again)->project(), run->project());
    EXPECT_EQ((*again)->plan(), run->plan());
    EXPECT_EQ((*again)->summary().brief(), run->summary().brief());
    EXPECT_EQ((*again)->summary().eventsByPart, run->summary().eventsByPart);
    EXPECT_EQ((*again)->ratings().size(), run->ratings().size());
    expectSame(*run, **again);
}

TEST_F(KeptRuns, ASettledOneStaysMarked) {
    auto loaded = loadHedge(fs::path(HEDGEROW_EXAMPLES) / "med-aux.hedge");
    const auto run = hedgerow::Run::prepare(std::make_shared<const Project>(loaded->project), {.settle = true});
    ASSERT_TRUE(run);
    (*run)->execute();
    ASSERT_FALSE((*run)->summary().settled.empty()) << (*run)->summary().brief();
    const auto kept = open()->keep(**run);
    ASSERT_TRUE(kept) << kept.error().message;
    EXPECT_TRUE(kept->outcome.starts_with("settled, finished")) << kept->outcome;
    const auto again = open()->load(*kept);
    ASSERT_TRUE(again) << again.error().message;
    EXPECT_EQ((*again)->summary().settled, (*run)->summary().settled);
    EXPECT_EQ((*again)->end(), (*run)->end());
    const auto provenance = (*again)->provenance();
    EXPECT_TRUE(std::any_of(provenance.begin(), provenance.end(),
                            [](const auto& line) { return line.first == "settled: residual"; }));
}

TEST_F(KeptRuns, NamesStarsAndTheBound) {
    auto ledger = open();
    const auto run = madeRun("20u");
    ASSERT_TRUE(ledger->setBound(2));
    for (int k = 0; k < 3; ++k) ASSERT_TRUE(ledger->keep(*run));
    EXPECT_EQ(ledger->runs()->size(), 2u) << "the oldest went";
    ASSERT_TRUE(ledger->setStar(2, true));
    ASSERT_TRUE(ledger->setName(3, "with 'quotes' and \"more\""));
    ASSERT_TRUE(ledger->setNote(3, "ripple too high"));
    for (int k = 0; k < 4; ++k) ASSERT_TRUE(ledger->keep(*run));
    ledger.reset();
    ledger = open();
    EXPECT_EQ(ledger->bound(), 2);
    const auto runs = *ledger->runs();
    ASSERT_EQ(runs.size(), 4u);
    EXPECT_EQ(runs[0].number, 7);
    EXPECT_EQ(runs[2].name, "with 'quotes' and \"more\"");
    EXPECT_EQ(runs[2].note, "ripple too high");
    EXPECT_TRUE(runs[3].star);
    EXPECT_EQ(static_cast<std::size_t>(std::count_if(fs::directory_iterator(folder), fs::directory_iterator(),
                                                     [](const auto& e) { return e.is_directory(); })),
              4u)
        << "runs go with their rows";
    ASSERT_TRUE(ledger->remove(7));
    EXPECT_EQ(ledger->runs()->size(), 3u);
    EXPECT_GT(ledger->bytes(), 0);
}

TEST_F(KeptRuns, ADamagedListIsMadeAnewFromTheRuns) {
    ASSERT_TRUE(open()->keep(*madeRun("20u")));
    std::ofstream(folder / "ledger.sqlite", std::ios::binary) << std::string(5000, 'x');
    fs::remove(folder / "ledger.sqlite-wal");
    const auto ledger = open();
    EXPECT_NE(ledger->notice().find("made anew"), std::string::npos);
    const auto runs = *ledger->runs();
    ASSERT_EQ(runs.size(), 1u);
    EXPECT_TRUE(ledger->load(runs[0]));
}

TEST_F(KeptRuns, RunsWithoutARowAreTakenUpAndLostOnesForgotten) {
    const auto run = madeRun("20u");
    ASSERT_TRUE(open()->keep(*run));
    ASSERT_TRUE(RunWriter(*run, made(folder / "run-2026-11-23T18:00:00Z-1-1")).finish());  // as if killed before the row
    auto ledger = open();
    ASSERT_EQ(ledger->runs()->size(), 2u);
    EXPECT_EQ(ledger->runs()->front().started, "2026-11-23T18:00:00Z");
    fs::remove_all(folder / ledger->runs()->front().file);
    ledger.reset();
    EXPECT_EQ(open()->runs()->size(), 1u);
}

// Killed while a run is on its way: what was written up to then is a run.
TEST_F(KeptRuns, ARunThatBrokeOffIsReadUpToItsLastPiece) {
    const auto run = madeRun("3m");
    ASSERT_GT(run->points(), 4 * PointChunk::size);
    open();
    const fs::path place = folder / "run-2026-11-28T10:00:00Z-1-1";
    const pid_t child = fork();
    if (child == 0) {
        RunWriter writer(*run, made(place), 0.0);
        if (writer.follow()) ::kill(::getpid(), SIGKILL);
        _exit(0);
    }
    int status = 0;
    waitpid(child, &status, 0);
    ASSERT_TRUE(WIFSIGNALED(status)) << "it could not write";
    EXPECT_FALSE(openRun(place)) << "not before it is mended";
    const auto ledger = open();
    ASSERT_EQ(ledger->runs()->size(), 1u) << ledger->notice();
    const KeptRun kept = ledger->runs()->front();
    EXPECT_NE(kept.outcome.find("the program ended while"), std::string::npos) << kept.outcome;
    const auto part = ledger->load(kept);
    ASSERT_TRUE(part) << part.error().message;
    EXPECT_EQ((*part)->points(), (run->points() - 1) / PointChunk::size * PointChunk::size);
    EXPECT_EQ((*part)->project(), run->project());
    for (const std::string& name : run->quantityNames()) {
        const auto x = run->trace(name), y = (*part)->trace(name);
        ASSERT_TRUE(y) << name;
        for (std::size_t i = 0; i < y->size(); i += 11) ASSERT_EQ(x->value(i), y->value(i)) << name << " " << i;
    }
}

TEST_F(KeptRuns, ARunThatBrokeOffAtItsBeginningIsForgotten) {
    open();
    const fs::path place = folder / "run-2026-11-28T10:00:00Z-1-1";
    ASSERT_TRUE(writeRunHead(made(place), aboutOf(*madeRun("20u"), false), {}));
    const auto ledger = open();
    EXPECT_EQ(ledger->runs()->size(), 0u);
    EXPECT_EQ(ledger->notice(), "");
    EXPECT_FALSE(fs::exists(place));
}

TEST_F(KeptRuns, WhatAnotherProcessIsWritingIsLeftAlone) {
    const auto run = madeRun("3m");
    open();
    {
        RunWriter writer(*run, made(folder / "run-2026-11-28T10:00:00Z-1-1"), 0.0);
        ASSERT_TRUE(writer.follow());
        EXPECT_EQ(writer.pieces(), 1u);
        EXPECT_EQ(open()->runs()->size(), 0u);
        ASSERT_TRUE(writer.finish());
        EXPECT_EQ(writer.pieces(), 2u);
    }
    const auto ledger = open();
    ASSERT_EQ(ledger->runs()->size(), 1u);
    const auto again = ledger->load(ledger->runs()->front());
    ASSERT_TRUE(again);
    expectSame(*run, **again);
}

TEST_F(KeptRuns, ARunIsWrittenWhileItGoesOn) {
    auto loaded = loadHedge(fs::path(HEDGEROW_EXAMPLES) / "med-aux.hedge");
    loaded->project.plans.front().end = "20m";
    const auto run = Run::prepare(std::make_shared<Project>(loaded->project));
    ASSERT_TRUE(run);
    std::atomic<bool> over{false};
    std::thread engine([&] {
        (*run)->execute();
        over = true;
    });
    open();
    RunWriter writer(**run, made(folder / "run-2026-11-28T10:00:00Z-1-1"), 0.0);
    while (!over) EXPECT_TRUE(writer.follow());
    engine.join();
    ASSERT_TRUE(writer.finish());
    const auto again = openRun(folder / "run-2026-11-28T10:00:00Z-1-1");
    ASSERT_TRUE(again) << again.error().message;
    expectSame(**run, **again);
}

TEST_F(KeptRuns, TruncatedAndDamagedFilesAreRefusedAndOthersStay) {
    const auto run = madeRun("20u");
    auto ledger = open();
    const KeptRun first = *ledger->keep(*run), second = *ledger->keep(*run);
    std::mt19937 random(3);
    for (const fs::path& file : {folder / first.file / "run.h5", folder / first.file / pieceFile(0)}) {
        const std::string whole = *readFile(file);
        for (int k = 0; k < 60; ++k) {
            std::string bytes = whole;
            if (k % 2 == 0)
                bytes.resize(random() % bytes.size());
            else
                for (int n = 0; n < 20; ++n) bytes[random() % bytes.size()] = static_cast<char>(random());
            std::ofstream(file, std::ios::binary | std::ios::trunc) << bytes;
            const auto loaded = ledger->load(first);
            if (!loaded) {
                EXPECT_NE(loaded.error().message.find(first.file), std::string::npos) << loaded.error().message;
                continue;
            }
            for (const std::string& name : (*loaded)->quantityNames()) {  // must not crash
                const auto trace = (*loaded)->trace(name);
                if (!trace || trace->size() == 0) continue;
                (void)trace->value(trace->size() / 2);
                (void)trace->measure(0, run->end() / 2);
            }
        }
        std::ofstream(file, std::ios::binary | std::ios::trunc) << whole;
    }
    expectSame(*run, **ledger->load(first));
    EXPECT_TRUE(ledger->load(second));
    EXPECT_FALSE(openRun(folder / "missing"));
    fs::create_directories(folder / "no");
    std::ofstream(folder / "no" / "run.h5") << "hello";
    EXPECT_FALSE(openRun(folder / "no"));
}

// The pieces before a damaged one are read, and it is said where the run ends now.
TEST_F(KeptRuns, ADamagedPieceEndsTheRunBeforeIt) {
    const auto run = madeRun("3m");
    const fs::path place = folder / "run-x";
    open();
    RunWriter writer(*run, made(place), 0.0);
    ASSERT_TRUE(writer.follow());
    ASSERT_TRUE(writer.finish());
    fs::resize_file(place / pieceFile(1), 100);
    const auto part = openRun(place);
    ASSERT_TRUE(part) << part.error().message;
    EXPECT_NE((*part)->summary().brief().find("points-00001.h5 is missing or damaged"), std::string::npos)
        << (*part)->summary().brief();
    EXPECT_EQ((*part)->points(), (run->points() - 1) / PointChunk::size * PointChunk::size);
    EXPECT_LT((*part)->reached(), run->reached());
    const auto x = run->trace("out.v"), y = (*part)->trace("out.v");
    EXPECT_EQ(x->value(y->size() - 1), y->value(y->size() - 1));
    fs::remove(place / pieceFile(0));
    EXPECT_FALSE(openRun(place)) << "nothing is left of it";
}

TEST_F(KeptRuns, TwoWindowsKeepRunsAtOnce) {
    const auto run = madeRun("20u");
    const auto a = open(), b = open();
    std::thread other([&] {
        for (int k = 0; k < 5; ++k) EXPECT_TRUE(b->keep(*run));
    });
    for (int k = 0; k < 5; ++k) EXPECT_TRUE(a->keep(*run));
    other.join();
    const auto runs = *a->runs();
    ASSERT_EQ(runs.size(), 10u);
    std::set<std::int64_t> numbers;
    for (const KeptRun& kept : runs) {
        numbers.insert(kept.number);
        EXPECT_TRUE(a->load(kept));
    }
    EXPECT_EQ(numbers.size(), 10u);
}

// A full disk, or a folder that cannot be written, is said; the runs that are there stay.
TEST_F(KeptRuns, WhatCannotBeWrittenIsSaid) {
    const auto run = madeRun("20u");
    const auto ledger = open();
    ASSERT_TRUE(ledger->keep(*run));
    for (const rlim_t size : {rlim_t{200}, rlim_t{4096}, rlim_t{12'000}}) {
        const pid_t child = fork();
        if (child == 0) {
            std::signal(SIGXFSZ, SIG_IGN);
            const rlimit limit{size, size};
            setrlimit(RLIMIT_FSIZE, &limit);
            auto mine = Ledger::open(folder);
            _exit(mine && (*mine)->keep(*run) ? 1 : 0);
        }
        int status = 0;
        waitpid(child, &status, 0);
        EXPECT_TRUE(WIFEXITED(status) && WEXITSTATUS(status) == 0) << size;
        const auto again = Ledger::open(folder);
        ASSERT_TRUE(again);
        ASSERT_EQ((*again)->runs()->size(), 1u) << size;
        EXPECT_TRUE((*again)->load((*again)->runs()->front()));
    }
    const auto nowhere = Ledger::open("/proc/hedgerow");
    EXPECT_FALSE(nowhere);
}

// The disk fails at the first write, at the second, and so on until a run comes through: what is there stays readable,
// and what cannot be kept is said. Once it fails for good from then on, once for a moment.
TEST_F(KeptRuns, AnyWriteMayFail) {
    const auto run = madeRun("20u");
    const auto ledger = open();
    const KeptRun first = *ledger->keep(*run);
    for (const bool forGood : {true, false}) {
        bool clean = false;
        int tries = 0, refused = 0;
        while (!clean && ++tries < 2000) {
            auto mine = open();
            test::failWrites(tries, forGood);
            const auto kept = mine->keep(*run);
            clean = !test::writesFailed();
            test::failWrites(0, false);
            if (!kept) {
                ++refused;
                EXPECT_FALSE(kept.error().message.empty());
            }
            EXPECT_TRUE(!clean || kept) << "nothing failed: " << kept.error().message;
            mine.reset();
            mine = open();
            const auto runs = *mine->runs();
            for (const KeptRun& other : runs) {
                const auto loaded = mine->load(other);
                ASSERT_TRUE(loaded) << tries << ": " << loaded.error().message;
                ASSERT_EQ((*loaded)->points(), run->points()) << tries;
                if (other.number != first.number) {
                    ASSERT_TRUE(mine->remove(other.number));
                }
            }
            ASSERT_EQ(runs.back().number, first.number);
        }
        EXPECT_TRUE(clean);
        EXPECT_GT(refused, 10);
    }
}
