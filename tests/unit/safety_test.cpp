// What docs/safety.md promises of files, memory and stops, as far as it needs no window.

#include <gtest/gtest.h>

#include <fcntl.h>
#include <sqlite3.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <limits>
#include <thread>

#include "base/machine.h"
#include "base/project_folder.h"
#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "model/modules.h"
#include "model/values.h"
#include "ledger/ledger.h"
#include "files/outside_files.h"
#include "files/recovery.h"
#include "runs/registry.h"
#include "ledger/run_writer.h"
#include "runs/state_file.h"
#include "support/circuit.h"
#include "support/folder.h"

using namespace hedgerow;
using test::TemporaryFolder;
namespace fs = std::filesystem;

namespace {

void put(const fs::path& file, const std::string& text) {
    fs::create_directories(file.parent_path());
    std::ofstream(file, std::ios::binary | std::ios::trunc) << text;
}

/// A statement in a database of our own making.
void tell(const fs::path& file, const std::string& sql) {
    sqlite3* database = nullptr;
    ASSERT_EQ(sqlite3_open(file.c_str(), &database), SQLITE_OK);
    char* message = nullptr;
    EXPECT_EQ(sqlite3_exec(database, sql.c_str(), nullptr, nullptr, &message), SQLITE_OK) << (message ? message : "");
    sqlite3_free(message);
    sqlite3_close(database);
}

std::shared_ptr<hedgerow::Run> shortRun() {
    auto loaded = loadHedge(fs::path(HEDGEROW_EXAMPLES) / "med-aux.hedge");
    loaded->project.plans.front().end = "20u";
    return test::run(loaded->project);
}

/// What a child process with other limits or another user makes of `work`: its exit code.
int apart(const std::function<int()>& work) {
    const pid_t child = ::fork();
    if (child == 0) ::_exit(work());
    int status = 0;
    ::waitpid(child, &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

KeptRun runIn(const std::string& folder) {
    KeptRun run;
    run.file = folder;
    return run;
}

Parameter parameter(const std::string& name, const std::string& value) {
    Parameter made;
    made.name = name, made.value = value;
    return made;
}

std::string valueOf(const RunRecord& run, const std::string& quantity) {
    const auto trace = run.trace(quantity);
    return trace && trace->size() ? std::to_string(trace->value(trace->size() - 1)) : "none";
}

}  // namespace

// ---- the run folder

// Rows that lead out of the folder, absolutely or by "..", are dropped; what they point to stays.
TEST(RunFolder, RowsThatLeadElsewhereRemoveNothing) {
    const TemporaryFolder folder;
    const fs::path ledger = folder.path() / "a.hedge-runs", foreign = folder.path() / "foreign";
    put(foreign / "letters.txt", "mine");
    ASSERT_TRUE(Ledger::open(ledger));
    int number = 0;
    for (const std::string& file : {foreign.string(), std::string("../foreign"), std::string(".."), std::string("."),
                                    std::string("run-x/../../foreign"), std::string("")})
        tell(ledger / "ledger.sqlite",
             "INSERT INTO runs VALUES (" + std::to_string(++number) + ", '', '', 0, '', 'p', 's', 1, 1, 10, 1, '', 100, '" +
                 file + "')");
    const auto opened = Ledger::open(ledger);
    ASSERT_TRUE(opened) << opened.error().message;
    EXPECT_TRUE((*opened)->runs()->empty());
    // Also where the rows come while it is open.
    tell(ledger / "ledger.sqlite", "INSERT INTO runs VALUES (90, '', '', 0, '', 'p', 's', 1, 1, 10, 1, '', 100, '" +
                                       foreign.string() + "')");
    EXPECT_TRUE((*opened)->setBound(1));
    EXPECT_TRUE((*opened)->keep(*shortRun()));
    EXPECT_TRUE((*opened)->keep(*shortRun()));
    (void)(*opened)->remove(90);
    EXPECT_FALSE((*opened)->load(runIn("../foreign")));
    EXPECT_EQ(*readFile(foreign / "letters.txt"), "mine");
}

TEST(RunFolder, LinksAreNotFollowed) {
    const TemporaryFolder folder;
    const fs::path foreign = folder.path() / "foreign";
    put(foreign / "run.h5", "mine");
    put(foreign / "points-00000.h5", "mine");
    // The whole folder.
    fs::create_directory_symlink(foreign, folder.path() / "a.hedge-runs");
    EXPECT_FALSE(Ledger::open(folder.path() / "a.hedge-runs"));
    // The database, and what lies beside it.
    for (const char* name : {"ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm"}) {
        const fs::path place = folder.path() / "b.hedge-runs";
        fs::remove_all(place);
        fs::create_directories(place);
        put(foreign / "other.sqlite", "");
        fs::create_symlink(foreign / "other.sqlite", place / name);
        EXPECT_FALSE(Ledger::open(place)) << name;
        EXPECT_EQ(fs::file_size(foreign / "other.sqlite"), 0u) << name;
    }
    // A run.
    const fs::path place = folder.path() / "c.hedge-runs";
    fs::create_directories(place);
    fs::create_directory_symlink(foreign, place / "run-linked");
    const auto ledger = Ledger::open(place);
    ASSERT_TRUE(ledger) << ledger.error().message;
    EXPECT_TRUE((*ledger)->runs()->empty());
    EXPECT_FALSE((*ledger)->load(runIn("run-linked")));
    EXPECT_FALSE(removeRunFolder(*OpenFolder::open(place), "run-linked"));
    EXPECT_EQ(*readFile(foreign / "run.h5"), "mine");
    EXPECT_EQ(*readFile(foreign / "points-00000.h5"), "mine");
    EXPECT_EQ(std::distance(fs::directory_iterator(foreign), {}), 3) << "nothing was made there";
}

TEST(RunFolder, OnlyWhatWasWrittenHereIsRemoved) {
    const TemporaryFolder folder;
    const auto ledger = Ledger::open(folder.path() / "a.hedge-runs");
    ASSERT_TRUE(ledger);
    const auto run = shortRun();
    const KeptRun kept = *(*ledger)->keep(*run);
    const fs::path place = folder.path() / "a.hedge-runs" / kept.file;
    put(place / "my notes.txt", "mine");
    put(place / "points-00000.h5.bak", "mine");
    EXPECT_FALSE((*ledger)->remove(kept.number)) << "the folder is not empty";
    EXPECT_EQ(*readFile(place / "my notes.txt"), "mine");
    EXPECT_EQ(*readFile(place / "points-00000.h5.bak"), "mine");
    EXPECT_FALSE(fs::exists(place / "run.h5"));
}

// The database of a stranger: triggers, views without end, texts without end.
TEST(RunFolder, NothingInADatabaseActs) {
    const TemporaryFolder folder;
    const fs::path ledger = folder.path() / "a.hedge-runs";
    ASSERT_TRUE(Ledger::open(ledger));
    tell(ledger / "ledger.sqlite",
         "CREATE TRIGGER t AFTER INSERT ON settings BEGIN INSERT INTO runs VALUES (7, 'by trigger', '', 0, '', 'p', 's', "
         "1, 1, 1, 1, '', 1, 'run-7'); END; INSERT INTO runs VALUES (1, zeroblob(900000), '', 1, '', 'p', 's', 1, 1, 1, 1, "
         "'', 1, 'run-1')");
    fs::create_directories(ledger / "run-1");
    const auto opened = Ledger::open(ledger);
    ASSERT_TRUE(opened) << opened.error().message;
    EXPECT_TRUE((*opened)->setPrices("diode", {{1, 1}}));
    const auto listed = (*opened)->runs();
    ASSERT_TRUE(listed);
    for (const KeptRun& run : *listed) {
        EXPECT_NE(run.name, "by trigger");
        EXPECT_LT(run.name.size(), 2000u);
    }
    const fs::path endless = folder.path() / "b.hedge-runs";
    fs::create_directories(endless);
    tell(endless / "ledger.sqlite",
         "CREATE VIEW runs AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i AS number FROM n");
    EXPECT_FALSE(Ledger::open(endless)) << "refused, in a moment";
    EXPECT_TRUE(fs::exists(endless / "ledger.sqlite")) << "and left as it was";
}

// A lock, a foreign table: no damage, nothing is set aside.
TEST(RunFolder, OnlyDamageCountsAsDamage) {
    const TemporaryFolder folder;
    const fs::path place = folder.path() / "a.hedge-runs";
    {
        const auto ledger = Ledger::open(place);
        const KeptRun kept = *(*ledger)->keep(*shortRun());
        ASSERT_TRUE((*ledger)->setName(kept.number, "the good one"));
        ASSERT_TRUE((*ledger)->setNote(kept.number, "ripple"));
        ASSERT_TRUE((*ledger)->setStar(kept.number, true));
    }
    sqlite3* other = nullptr;
    ASSERT_EQ(sqlite3_open((place / "ledger.sqlite").c_str(), &other), SQLITE_OK);
    ASSERT_EQ(sqlite3_exec(other, "PRAGMA locking_mode = EXCLUSIVE; BEGIN EXCLUSIVE; UPDATE runs SET note = note", nullptr,
                           nullptr, nullptr),
              SQLITE_OK);
    const auto locked = Ledger::open(place);
    EXPECT_FALSE(locked);
    if (!locked) {
        EXPECT_NE(locked.error().message.find("now"), std::string::npos) << locked.error().message;
    }
    sqlite3_exec(other, "ROLLBACK", nullptr, nullptr, nullptr);
    sqlite3_close(other);
    EXPECT_FALSE(fs::exists(place / "ledger.damaged"));
    const auto again = Ledger::open(place);
    ASSERT_TRUE(again) << again.error().message;
    ASSERT_EQ((*again)->runs()->size(), 1u);
    EXPECT_EQ((*again)->runs()->front().name, "the good one");
}

// Real damage: what can still be read of names, notes and stars is saved, and it is said.
TEST(RunFolder, NamesNotesAndStarsAreSavedFromDamage) {
    const TemporaryFolder folder;
    const fs::path place = folder.path() / "a.hedge-runs";
    {
        const auto ledger = Ledger::open(place);
        const auto run = shortRun();
        for (int k = 0; k < 3; ++k) {
            const KeptRun kept = *(*ledger)->keep(*run);
            ASSERT_TRUE((*ledger)->setName(kept.number, "run number " + std::to_string(k)));
        }
        ASSERT_TRUE((*ledger)->setBound(7));
    }
    // The index of the files is torn, the rows are not.
    std::string bytes = *readFile(place / "ledger.sqlite");
    constexpr std::size_t page = 4096;
    ASSERT_GT(bytes.size(), 4 * page);
    for (std::size_t start = 2 * page; start + page <= bytes.size(); start += page)
        if (bytes[start] == 10 && bytes.find("run-", start) < start + page)  // a leaf of an index
            std::fill(bytes.begin() + static_cast<std::ptrdiff_t>(start),
                      bytes.begin() + static_cast<std::ptrdiff_t>(start + page), '\x7f');
    put(place / "ledger.sqlite", bytes);
    const auto ledger = Ledger::open(place);
    ASSERT_TRUE(ledger) << ledger.error().message;
    ASSERT_EQ((*ledger)->runs()->size(), 3u) << (*ledger)->notice();
    std::set<std::string> names;
    const auto listed = (*ledger)->runs();
    for (const KeptRun& run : *listed) names.insert(run.name);
    EXPECT_EQ(names.size(), 3u) << "all names are there: " << (*ledger)->notice();
    EXPECT_EQ(names.count(""), 0u) << (*ledger)->notice();
}

TEST(RunFolder, AReadOnlyFolderListsItsRuns) {
    const TemporaryFolder folder;
    const fs::path place = folder.path() / "a.hedge-runs";
    {
        const auto ledger = Ledger::open(place);
        const KeptRun kept = *(*ledger)->keep(*shortRun());
        ASSERT_TRUE((*ledger)->setName(kept.number, "kept"));
    }
    fs::permissions(folder.path(), fs::perms(0755));
    const auto look = [&] {
        return apart([&] {
            constexpr uid_t nobody = 65534;
            if (::geteuid() == 0 && (::setegid(nobody) != 0 || ::seteuid(nobody) != 0)) return 9;
            const auto ledger = Ledger::open(place);
            if (!ledger) return 2;
            if (!(*ledger)->readOnly()) return 3;
            const auto runs = (*ledger)->runs();
            if (!runs || runs->size() != 1) return 4;
            if (!(*ledger)->load(runs->front())) return 5;
            if ((*ledger)->setName(runs->front().number, "other")) return 6;
            if ((*ledger)->keep(*shortRun())) return 7;
            return runs->front().name == "kept" ? 0 : 8;
        });
    };
    fs::permissions(place, fs::perms(0555));
    EXPECT_EQ(look(), 0);
    // Without its list the runs themselves are there.
    fs::permissions(place, fs::perms(0755));
    for (const char* file : {"ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm"}) fs::remove(place / file);
    fs::permissions(place, fs::perms(0555));
    EXPECT_EQ(look(), 8) << "listed, without its name";
    fs::permissions(place, fs::perms(0755));
}

// Two windows in one second, even of the same process number, on two machines.
TEST(RunFolder, RunsNeverShareAFolder) {
    const TemporaryFolder folder;
    const auto ledger = Ledger::open(folder.path() / "a.hedge-runs");
    ASSERT_TRUE(ledger);
    const auto run = shortRun();
    std::set<std::string> files;
    for (int k = 0; k < 12; ++k) files.insert((*ledger)->keep(*run)->file);
    for (int k = 0; k < 4; ++k)
        EXPECT_EQ(apart([&] {
                      const auto mine = Ledger::open(folder.path() / "a.hedge-runs");
                      return mine && (*mine)->keep(*run) ? 0 : 1;
                  }),
                  0);
    EXPECT_EQ(files.size(), 12u);
    EXPECT_EQ((*ledger)->runs()->size(), 16u);
}

TEST(RunFolder, PipesAndLeftOversAreNoRuns) {
    const TemporaryFolder folder;
    const fs::path place = folder.path() / "a.hedge-runs";
    fs::create_directories(place / "run-pipe");
    ASSERT_EQ(::mkfifo((place / "run-pipe" / "run.h5").c_str(), 0600), 0);
    fs::create_directories(place / "run-half");
    put(place / "run-half" / "run.h5.0123456789abcdef.part", "half");
    const auto ledger = Ledger::open(place);  // must not wait
    ASSERT_TRUE(ledger) << ledger.error().message;
    EXPECT_TRUE((*ledger)->runs()->empty());
    EXPECT_NE((*ledger)->notice(), "") << "what cannot be read is said";
}

// ---- files that a project names

TEST(NamedFiles, OnlyRegularFilesOfTheFolderAreRead) {
    const TemporaryFolder folder;
    const fs::path home = folder.path() / "project", outside = folder.path() / "outside.csv";
    put(home / "in.csv", "0,1\n");
    put(home / "sub" / "in.csv", "0,2\n");
    put(outside, "0,3\n");
    fs::create_symlink(outside, home / "link.csv");
    fs::create_symlink(home / "in.csv", home / "own-link.csv");
    ASSERT_EQ(::mkfifo((home / "pipe.csv").c_str(), 0600), 0);
    ProjectFolder project(home);
    EXPECT_TRUE(project.read("in.csv", 100));
    EXPECT_TRUE(project.read("sub/in.csv", 100));
    EXPECT_TRUE(project.read("own-link.csv", 100));
    EXPECT_TRUE(project.read((home / "in.csv").string(), 100));
    for (const std::string& name : {std::string("../outside.csv"), outside.string(), std::string("link.csv"),
                                    std::string("sub/../../outside.csv"), std::string("/etc/passwd")}) {
        const auto read = project.read(name, 1'000'000);
        ASSERT_FALSE(read) << name;
        EXPECT_NE(read.error().message.find("outside of the project's folder"), std::string::npos)
            << read.error().message;
        EXPECT_NE(project.outside(name), "") << name;
    }
    for (const char* name : {"pipe.csv", "sub", "missing.csv", "/dev/zero"}) EXPECT_FALSE(project.read(name, 100)) << name;
    // A file of any size is not read first and judged later.
    ASSERT_EQ(::truncate((home / "in.csv").c_str(), off_t{1} << 40), 0);
    const auto sparse = project.read("in.csv", std::size_t{64} << 20);
    ASSERT_FALSE(sparse);
    EXPECT_NE(sparse.error().message.find("larger than 64 MB"), std::string::npos) << sparse.error().message;
    // What the user allows is read, and no other.
    put(folder.path() / "other.csv", "0,4\n");
    project.allow({project.outside("link.csv")});
    EXPECT_TRUE(project.read("link.csv", 100));
    EXPECT_TRUE(project.read("../outside.csv", 100));
    EXPECT_FALSE(project.read("../other.csv", 100));
    EXPECT_FALSE(ProjectFolder().read("in.csv", 100)) << "of a project that was never saved";
}

TEST(NamedFiles, AreFoundInPartsModulesAndPlans) {
    const TemporaryFolder folder;
    Project project;
    project.folder.moveTo(folder.path() / "home");
    fs::create_directories(folder.path() / "home");
    project.sheets.resize(2);
    project.sheets[0].parts.emplace_back().values.set("points", "../a.csv");
    project.sheets[1].parts.emplace_back().values.set("code", "/x/b.st");
    project.sheets[1].parts.emplace_back().values.set("code", "y := 1.0;\nz.st");
    project.plans.front().start = "../end.json";
    EXPECT_EQ(namedFiles(project), (std::vector<std::string>{"../a.csv", "../end.json", "/x/b.st"}));
    EXPECT_EQ(outsideFiles(project).size(), 3u);
    const AllowedFiles store(folder.path() / "store" / "allowed.json");
    ASSERT_TRUE(store.allow(folder.path() / "home" / "p.hedge", outsideFiles(project)));
    EXPECT_TRUE(store.of(folder.path() / "home" / "other.hedge").empty());
    project.folder.allow(store.of(folder.path() / "home" / "p.hedge"));
    EXPECT_TRUE(outsideFiles(project).empty()) << "asked about once";
}

// ---- saving

TEST(Saving, LeavesNoHalfFilesAndTidiesThoseOfTheDead) {
    const TemporaryFolder folder;
    const fs::path file = folder.path() / "a.hedge";
    ASSERT_TRUE(writeFileAtomically(file, "one"));
    const fs::path old = folder.path() / "a.hedge.0123456789abcdef.part", fresh = folder.path() / "a.hedge.00000000000000ff.part",
                   foreign = folder.path() / "a.hedge.backup.part";
    for (const fs::path& half : {old, fresh, foreign}) put(half, "half");
    fs::last_write_time(old, fs::file_time_type::clock::now() - std::chrono::hours(3));
    fs::last_write_time(foreign, fs::file_time_type::clock::now() - std::chrono::hours(3));
    ASSERT_TRUE(writeFileAtomically(file, "two"));
    EXPECT_FALSE(fs::exists(old));
    EXPECT_TRUE(fs::exists(fresh)) << "another window may be writing it";
    EXPECT_TRUE(fs::exists(foreign)) << "not ours";
    EXPECT_EQ(*readFile(file), "two");
}

TEST(Saving, RecoveryTidiesLocksThatGuardNothing) {
    const TemporaryFolder folder;
    put(folder.path() / "77-0.json.lock", "");
    put(folder.path() / "78-0.json.0123456789abcdef.part", "half");
    put(folder.path() / "mine.txt", "mine");
    {
        RecoverySlot living(folder.path());
        EXPECT_TRUE(RecoverySlot::pending(folder.path()).empty());
        EXPECT_FALSE(fs::exists(folder.path() / "77-0.json.lock"));
        EXPECT_FALSE(fs::exists(folder.path() / "78-0.json.0123456789abcdef.part"));
        EXPECT_TRUE(fs::exists(folder.path() / "mine.txt"));
        Project project;
        project.title = "at work";
        project.folder.moveTo("/somewhere");
        ASSERT_TRUE(living.keep(project, "/somewhere/a.hedge", "stamp"));
        EXPECT_TRUE(RecoverySlot::pending(folder.path()).empty()) << "its owner lives";
    }
    EXPECT_EQ(apart([&] {
                  auto* left = new RecoverySlot(folder.path());  // not destroyed: as if killed
                  Project project;
                  project.title = "lost";
                  project.folder.moveTo("/somewhere");
                  return left->keep(project, "/somewhere/a.hedge", "stamp") ? 0 : 1;
              }),
              0);
    const auto pending = RecoverySlot::pending(folder.path());
    ASSERT_EQ(pending.size(), 1u);
    EXPECT_EQ(pending[0].project.title, "lost");
    EXPECT_EQ(pending[0].project.folder.path(), "/somewhere") << "relative names are still found";
    EXPECT_EQ(pending[0].stamp, "stamp");
}

// ---- memory of the control

namespace {

/// A task with a delay line, a regulator and code.
test::Circuit controlled(const std::string& code, const std::string& values) {
    test::Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("resistor", "R1", {"in", "0"}, {{"r", "5"}})
        .add("constant", "K1", {"k"}, {{"value", "1"}})
        .add("task", "T1", {}, {{"period", "10u"}})
        .add("unit-delay", "Z1", {"k", "z"}, {{"n", "5"}, {"task", "T1"}})
        .add("code", "CODE1", {"k", "", "", "", "y", "", "", ""}, {{"code", code}, {"values", values}, {"task", "T1"}})
        .plan("100u");
    return c;
}
const std::string counting =
    "VAR_INPUT u : LREAL; END_VAR VAR_OUTPUT y : LREAL; END_VAR VAR n : INT; on : BOOL; hist : ARRAY[1..4] OF LREAL; END_VAR "
    "VAR CONSTANT step : INT := 3; END_VAR n := n - step; on := TRUE; hist[2] := GAIN; y := INT_TO_LREAL(n) * GAIN;";

}  // namespace

TEST(ControlMemory, IsTakenUpByNameAndType) {
    const TemporaryFolder folder;
    const fs::path end = folder.path() / "end.json";
    const auto first = test::run(controlled(counting, "GAIN = 2"));
    ASSERT_TRUE(first);
    EXPECT_EQ(valueOf(*first, "CODE1.n"), "-30.000000");
    ASSERT_TRUE(writeStates(end, first->summary().snapshot));
    const std::string text = *readFile(end);
    EXPECT_EQ(text.find("null"), std::string::npos) << "a negative INT is a number: " << text;
    const auto goOn = [&](const std::string& code, const std::string& values) {
        auto project = std::make_shared<Project>(controlled(code, values).project());
        project->folder.moveTo(folder.path());
        project->plans.front().start = "end.json";
        auto run = hedgerow::Run::prepare(project);
        EXPECT_TRUE(run) << run.error().message;
        (*run)->execute();
        return *run;
    };
    EXPECT_EQ(valueOf(*goOn(counting, "GAIN = 2"), "CODE1.n"), "-60.000000");
    // Constants are those of the code and the values now, never those of the file.
    const auto changed = goOn(counting, "GAIN = 10");
    EXPECT_EQ(valueOf(*changed, "CODE1.n"), "-60.000000");
    EXPECT_EQ(valueOf(*changed, "CODE1.y1"), "-600.000000");
    std::string faster = counting;
    faster.replace(faster.find(":= 3"), 4, ":= 5");
    EXPECT_EQ(valueOf(*goOn(faster, "GAIN = 2"), "CODE1.n"), "-80.000000");
    // A variable of another type starts anew.
    std::string other = counting;
    other.replace(other.find("n : INT"), 7, "n : LREAL"), other.replace(other.find("INT_TO_LREAL(n)"), 15, "n");
    other.replace(other.find("n - step"), 8, "n - 3.0");
    EXPECT_EQ(valueOf(*goOn(other, "GAIN = 2"), "CODE1.n"), "-30.000000");
}

// Whatever a stored end says: no place outside of what a part has is read or written.
TEST(ControlMemory, RangesAndLengthsAreChecked) {
    const TemporaryFolder folder;
    const auto first = test::run(controlled(counting, "GAIN = 2"));
    ASSERT_TRUE(first);
    const fs::path end = folder.path() / "end.json";
    ASSERT_TRUE(writeStates(end, first->summary().snapshot));
    const std::string text = *readFile(end);
    const auto entry = [&](const std::string& name) {
        const std::size_t at = text.find('"' + name + '"'), begin = text.find('[', at), close = text.find(']', begin);
        EXPECT_NE(at, std::string::npos) << name << " in " << text;
        return std::pair(begin, close + 1 - begin);
    };
    for (const auto& [name, value] : std::vector<std::pair<std::string, std::string>>{
             {"Z1.place", R"(["whole", 5])"},
             {"Z1.place", R"(["whole", -1])"},
             {"Z1.place", R"(["whole", 9223372036854775807])"},
             {"Z1.place", R"(["number", 2])"},
             {"Z1.samples", R"(["number", 1, 2])"},
             {"Z1.samples", R"(["number", "nan", 1, 1, 1, 1])"},
             {"Z1.samples", R"(["number"])"},
             {"CODE1.N", R"(["whole", 40000])"},
             {"CODE1.HIST", R"(["number", 1, 2, 3, 4, 5, 6, 7, 8])"},
             {"CODE1.ON", R"(["whole", 7])"},
             {"outputs", R"(["number"])"}}) {
        SCOPED_TRACE(name + " " + value);
        std::string changed = text;
        const auto [at, length] = entry(name);
        changed.replace(at, length, value);
        put(end, changed);
        auto project = std::make_shared<Project>(controlled(counting, "GAIN = 2").project());
        project->folder.moveTo(folder.path());
        project->plans.front().start = "end.json";
        auto run = hedgerow::Run::prepare(project);
        ASSERT_TRUE(run) << run.error().message;
        (*run)->execute();
        EXPECT_EQ((*run)->summary().end, RunEnd::finished);
        if (name == "CODE1.N") {
            EXPECT_EQ(valueOf(**run, "CODE1.n"), "-30.000000") << "it starts anew";
        }
    }
    // The form of older versions, whose numbers had no names, is refused.
    put(end, R"({"hedgerow-state": 1, "time": 0, "states": [], "control": [{"part": "T1", "numbers": [5, 0, 1e300]}]})");
    auto project = std::make_shared<Project>(controlled(counting, "GAIN = 2").project());
    project->folder.moveTo(folder.path());
    project->plans.front().start = "end.json";
    EXPECT_FALSE(hedgerow::Run::prepare(project));
}

// ---- sizes

TEST(Sizes, LongChainsOfParametersAreEvaluated) {
    constexpr int count = 100'000;
    std::vector<Parameter> list;
    for (int i = 0; i < count; ++i)
        list.push_back(
            parameter("a" + std::to_string(i), i + 1 < count ? "((a" + std::to_string(i + 1) + ")) + 1" : "1"));
    const ParameterTable table(list);
    EXPECT_TRUE(table.errors().empty());
    EXPECT_EQ(table.value("a0")->value, count);
    list.back().value = "a0";
    const auto errors = ParameterTable(list).errors();
    EXPECT_EQ(errors.size(), static_cast<std::size_t>(count));
    EXPECT_NE(errors.front().message.find("in a circle"), std::string::npos);
    EXPECT_LT(errors.front().message.size(), 500u);
}

TEST(Sizes, TreesOfModulesAreBounded) {
    Project project;
    for (int level = 0; level < 15; ++level) {
        Sheet& sheet = level == 0 ? project.sheets.front() : project.sheets.emplace_back();
        sheet.name = level == 0 ? "main" : "m" + std::to_string(level);
        for (int k = 0; level < 14 && k < 2; ++k) {
            Part part;
            part.id = project.newId();
            part.name = "X" + std::to_string(k);
            part.kind = moduleKindId("m" + std::to_string(level + 1));
            sheet.parts.push_back(part);
        }
    }
    const auto errors = checkProject(project, partLibrary());
    ASSERT_FALSE(errors.empty());
    EXPECT_LT(errors.size(), 10u) << "said once";
    EXPECT_NE(errors.front().message.find("more than"), std::string::npos) << errors.front().message;
}

TEST(Sizes, ManyMembersAreRefusedAtOnce) {
    std::string text = R"({"hedgerow": 1, "sheets": [{"name": "main", "parts": [{"name": "R1", "kind": "resistor", "at": [0, 0])";
    for (int i = 0; i < 100'000; ++i) text += ", \"k" + std::to_string(i) + "\": 1";
    const auto loaded = readHedge(text + "}]}]}");
    ASSERT_FALSE(loaded);
    EXPECT_NE(loaded.error().message.find("members"), std::string::npos);
}

TEST(Sizes, ControlCodeHasABudget) {
    std::string code;
    for (int i = 0; i < 20; ++i)
        code += "FUNCTION_BLOCK b" + std::to_string(i) + " VAR a : ARRAY[1..900000] OF LREAL; END_VAR ; END_FUNCTION_BLOCK\n";
    const auto large = test::run(controlled("VAR_OUTPUT y : LREAL; END_VAR y := 1.0;", ""));
    EXPECT_TRUE(large);
    auto circuit = controlled(code + "VAR_OUTPUT y : LREAL; END_VAR y := 1.0;", "");
    const auto errors = checkProject(circuit.project(), partLibrary());
    const auto run = hedgerow::Run::prepare(std::make_shared<Project>(circuit.project()));
    ASSERT_FALSE(run);
    EXPECT_NE(run.error().message.find("memory"), std::string::npos) << run.error().message;
}

// ---- stops and limits

// A loop with a long body, in every sample: the run can be stopped within moments.
TEST(Stops, ControlCodeIsBoundedByWhatItExecutes) {
    std::string body;
    for (int i = 0; i < 3000; ++i) body += "x := x * 1.0001 + SIN(x);";
    const auto circuit = controlled(
        "VAR_OUTPUT y : LREAL; END_VAR VAR x : LREAL; i : DINT; END_VAR FOR i := 0 TO 1000000000 DO " + body + " END_FOR; y := x;", "");
    auto run = hedgerow::Run::prepare(std::make_shared<Project>(circuit.project()));
    ASSERT_TRUE(run);
    (*run)->execute();
    EXPECT_EQ((*run)->summary().end, RunEnd::failed);
    EXPECT_NE((*run)->summary().error->message.find("does not come to an end"), std::string::npos);
}

TEST(Stops, FarTooManySamplesCanBeStopped) {
    for (const char* engine : {"exact", "fixed", "adaptive"}) {
        SCOPED_TRACE(engine);
        test::Circuit c;
        c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
            .add("resistor", "R1", {"in", "0"}, {{"r", "5"}})
            .add("constant", "K1", {"k"}, {{"value", "1"}})
            .add("moving-rms", "M1", {"k", "y"}, {{"window", "1n"}, {"n", "900"}})
            .plan("1");
        auto project = std::make_shared<Project>(c.project());
        project->plans.front().engine = engine;
        auto run = hedgerow::Run::prepare(project);
        ASSERT_TRUE(run) << run.error().message;
        std::thread stopping([&] {
            std::this_thread::sleep_for(std::chrono::milliseconds(50));
            (*run)->cancel();
        });
        (*run)->execute();
        stopping.join();
        EXPECT_EQ((*run)->summary().end, RunEnd::stopped) << (*run)->summary().brief();
        EXPECT_FALSE((*run)->summary().error);
    }
}

TEST(Stops, NonsenseTimesAreRefused) {
    for (const auto& [kind, key, value] : std::vector<std::array<const char*, 3>>{{"moving-mean", "window", "1e-30"},
                                                                                 {"moving-mean", "n", "1e30"},
                                                                                 {"transport-delay", "delay", "1e-30"},
                                                                                 {"fundamental", "f", "1e30"},
                                                                                 {"pll", "f", "1e30"},
                                                                                 {"pll", "n", "1e30"}}) {
        SCOPED_TRACE(std::string(kind) + " " + key + " " + value);
        test::Circuit c;
        c.add("constant", "K1", {"k"}, {{"value", "1"}}).add("resistor", "R1", {"a", "0"}, {{"r", "1"}});
        c.add("dc-voltage", "V1", {"a", "0"}, {{"level", "1"}});
        std::vector<std::string> nets{"k"};
        for (std::size_t pin = 1; pin < partLibrary().catalogue().find(kind)->pins.size(); ++pin)
            nets.push_back("y" + std::to_string(pin));
        c.add(kind, "M1", nets, {{key, value}}).plan("1m");
        const auto run = hedgerow::Run::prepare(std::make_shared<Project>(c.project()));
        ASSERT_FALSE(run);
        EXPECT_EQ(run.error().part, "M1") << run.error().message;
    }
    // A delay longer than any run is one: its output never comes.
    test::Circuit c;
    c.add("constant", "K1", {"k"}, {{"value", "1"}})
        .add("dc-voltage", "V1", {"a", "0"}, {{"level", "1"}})
        .add("resistor", "R1", {"a", "0"}, {{"r", "1"}})
        .add("transport-delay", "M1", {"k", "y"}, {{"delay", "1e30"}})
        .add("edge-delay", "E1", {"k", "e"}, {{"rise", "1e30"}})
        .plan("1m");
    const auto run = test::run(c);
    ASSERT_TRUE(run);
    EXPECT_EQ(valueOf(*run, "M1.y"), "0.000000");
    EXPECT_EQ(valueOf(*run, "E1.q"), "0.000000");
}

// A run that leaves all numbers fails there, by part and quantity; nothing of it is stored.
TEST(Stops, ARunThatLeavesAllNumbersFails) {
    for (const char* engine : {"exact", "fixed", "adaptive"}) {
        int failed = 0;
        // One of the signs makes a negative resistance, in which the voltage grows without end.
        for (const char* gain : {"1", "-1"}) {
            SCOPED_TRACE(std::string(engine) + " " + gain);
            test::Circuit c;
            c.add("capacitor", "C1", {"x", "0"}, {{"c", "1n"}, {"v0", "1"}})
                .add("resistor", "R1", {"x", "0"}, {{"r", "1k"}})
                .add("voltage-controlled-current", "G1", {"x", "0", "x", "0"}, {{"gain", gain}})
                .plan("10u");
            auto project = std::make_shared<Project>(c.project());
            project->plans.front().engine = engine;
            project->plans.front().fixed.step = "1n";
            project->plans.front().fixed.method = "trapezoidal";
            auto run = hedgerow::Run::prepare(project);
            ASSERT_TRUE(run) << run.error().message;
            (*run)->execute();
            const RunSummary& summary = (*run)->summary();
            failed += summary.end == RunEnd::failed;
            if (summary.end == RunEnd::failed) {
                EXPECT_LT(summary.reached, (*run)->end());
                EXPECT_TRUE(summary.error && (!summary.error->part.empty() || !summary.error->net.empty()))
                    << summary.brief();
            }
            const auto trace = (*run)->trace("x.v");
            for (std::size_t i = 0; i < trace->size(); ++i) ASSERT_TRUE(std::isfinite(trace->value(i))) << i;
        }
        EXPECT_EQ(failed, 1) << engine;
    }
}

// The limit is put above what the process has taken, which under a sanitizer is terabytes of mapped data.
TEST(Memory, LimitsOfTheProcessCount) {
    const std::size_t least = std::size_t{64} << 20, room = std::size_t{2} << 30;
    EXPECT_GE(memoryLeft(), least);
    EXPECT_EQ(apart([=] {
                  std::ifstream in("/proc/self/statm");
                  std::size_t size = 0, resident = 0, shared = 0, text = 0, library = 0, data = 0;
                  if (!(in >> size >> resident >> shared >> text >> library >> data)) return 3;
                  rlimit limit{};
                  ::getrlimit(RLIMIT_DATA, &limit);
                  limit.rlim_cur = std::min<rlim_t>(
                      data * static_cast<std::size_t>(::sysconf(_SC_PAGESIZE)) + room, limit.rlim_max);
                  if (::setrlimit(RLIMIT_DATA, &limit) != 0) return 2;
                  const std::size_t left = memoryLeft();
                  return left >= room / 2 && left <= room ? 0 : 1;
              }),
              0);
}

TEST(Memory, FilesKeptAtHandDoNotCount) {
    const test::TemporaryFolder folder;
    const auto write = [&](const std::string& name, const std::string& text) { put(folder.path() / name, text); };
    const auto left = [&] { return memoryLeftByGroups((folder.path() / "list").string(), folder.path().string()); };
    write("list", "0::/work/run\n");
    EXPECT_EQ(left(), std::numeric_limits<std::uint64_t>::max());  // no group has a limit
    write("work/memory.max", "1000\n");
    write("work/memory.current", "900\n");
    EXPECT_EQ(left(), 100u);
    write("work/memory.stat", "anon 300\ninactive_file 400\nactive_file 200\n");
    EXPECT_EQ(left(), 700u);
    write("work/run/memory.max", "max\n");
    EXPECT_EQ(left(), 700u);
    write("work/run/memory.max", "500\n");  // the least of the row counts
    write("work/run/memory.current", "600\n");
    EXPECT_EQ(left(), 0u);
    write("list", "4:memory:/old\n1:cpu:/\n");
    write("memory/old/memory.limit_in_bytes", "5000\n");
    write("memory/old/memory.usage_in_bytes", "4000\n");
    write("memory/old/memory.stat", "inactive_file 1\ntotal_inactive_file 1000\ntotal_active_file 500\n");
    EXPECT_EQ(left(), 2500u);
}
