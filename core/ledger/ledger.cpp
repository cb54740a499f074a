#include "ledger/ledger.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <fstream>
#include <ctime>
#include <optional>
#include <random>
#include <set>
#include <sstream>
#include <thread>

#include <fcntl.h>
#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

#include "formats/file.h"
#include "ledger/run_file.h"
#include "ledger/run_writer.h"
#include "ledger/statement.h"

namespace hedgerow {

namespace {

namespace fs = std::filesystem;
constexpr int standardBound = 50;
constexpr int mostListed = 10'000;
constexpr double abandoned = 60;  ///< s: a window that makes a folder soon writes into it
constexpr int longestText = 1'000'000;          ///< bytes of a value in the database
constexpr int stepsAtOnce = 1'000'000;          ///< of the database's machine, between two looks at the budget
constexpr int mostTimesAtOnce = 500;            ///< so often: then a statement is ended
constexpr char databaseName[] = "ledger.sqlite";

constexpr char schema[] = R"(
PRAGMA journal_mode = WAL;
CREATE TABLE IF NOT EXISTS runs (
  number INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL DEFAULT '', note TEXT NOT NULL DEFAULT '',
  star INTEGER NOT NULL DEFAULT 0, started TEXT NOT NULL, plan TEXT NOT NULL, scene TEXT NOT NULL, end REAL NOT NULL,
  seconds REAL NOT NULL, points INTEGER NOT NULL, events INTEGER NOT NULL, outcome TEXT NOT NULL, bytes INTEGER NOT NULL,
  file TEXT NOT NULL UNIQUE);
CREATE TABLE IF NOT EXISTS settings (key TEXT PRIMARY KEY, value TEXT NOT NULL);
)";

/// The folder may be seen from several machines, and prices are those of one.
std::string keyOfPrices(const std::string& kind) {
    char machine[256] = "";
    gethostname(machine, sizeof machine - 1);
    return "prices " + std::string(machine) + " " + kind;
}

constexpr char columns[] =
    "number, substr(name, 1, 1000), substr(note, 1, 10000), star, substr(started, 1, 100), substr(plan, 1, 1000), "
    "substr(scene, 1, 1000), end, seconds, points, events, substr(outcome, 1, 10000), bytes, substr(file, 1, 200)";

KeptRun rowOf(const Statement& s) {
    return {s.whole(0), s.text(1), s.text(2),  s.whole(3) != 0, s.text(4),  s.text(5),   s.text(6),
            s.real(7),  s.real(8), s.whole(9), s.whole(10),     s.text(11), s.whole(12), s.text(13)};
}

std::string timeText(std::chrono::system_clock::time_point time) {
    const std::time_t seconds = std::chrono::system_clock::to_time_t(time);
    std::tm parts{};
    gmtime_r(&seconds, &parts);
    char text[32];
    std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &parts);
    return text;
}

std::int64_t sizeOf(const OpenFolder& ledger, const std::string& name) {
    std::int64_t sum = 0;
    if (const auto folder = ledger.folder(name))
        for (const std::string& file : folder->names()) sum += static_cast<std::int64_t>(folder->sizeOf(file));
    return sum;
}

/// The primary part of what SQLite answered.
bool isDamage(int code) { return (code & 0xff) == SQLITE_CORRUPT || (code & 0xff) == SQLITE_NOTADB; }

/// Ends a statement that takes more than its share, a table that is an endless question for instance.
int overBudget(void* times) { return ++*static_cast<int*>(times) > mostTimesAtOnce ? 1 : 0; }

/// What a damaged database still tells of its runs, by their folders, and its settings.
struct Salvage {
    struct Said {
        std::string name, note;
        bool star;
    };
    std::map<std::string, Said> runs;
    std::map<std::string, std::string> settings;
};

Salvage salvaged(const fs::path& file) {
    Salvage found;
    sqlite3* database = nullptr;
    if (sqlite3_open_v2(file.c_str(), &database, SQLITE_OPEN_READONLY, nullptr) == SQLITE_OK) {
        sqlite3_limit(database, SQLITE_LIMIT_LENGTH, longestText);
        sqlite3_db_config(database, SQLITE_DBCONFIG_ENABLE_VIEW, 0, nullptr);
        // From both ends, as far as it goes.
        for (const char* order : {"ASC", "DESC"}) {
            Statement rows(database, fmt::format("SELECT file, name, note, star FROM runs ORDER BY number {} LIMIT {}",
                                                 order, mostListed));
            while (rows.step() == SQLITE_ROW)
                if (isRunName(rows.text(0))) found.runs[rows.text(0)] = {rows.text(1), rows.text(2), rows.whole(3) != 0};
        }
        Statement settings(database, "SELECT key, value FROM settings LIMIT 1000");
        while (settings.step() == SQLITE_ROW) found.settings[settings.text(0)] = settings.text(1);
    }
    sqlite3_close(database);
    return found;
}

}  // namespace

fs::path Ledger::folderOf(const fs::path& project) { return fs::path(project.string() + "-runs"); }

Result<std::shared_ptr<Ledger>> Ledger::open(const fs::path& folder) {
    auto opened = OpenFolder::make(folder);
    if (!opened) return Error{ErrorCode::file, "runs cannot be kept: " + opened.error().message};
    std::shared_ptr<Ledger> ledger(new Ledger(std::move(*opened)));
    for (const char* name : {"ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm", "ledger.sqlite-journal"})
        if (const auto entry = ledger->folder_.entry(name);
            entry != OpenFolder::Entry::none && entry != OpenFolder::Entry::file)
            return Error{ErrorCode::file,
                         fmt::format("{} is a link or no file: it is left alone, and no runs are kept or listed here",
                                     (folder / name).string())};
    ledger->readOnly_ = !ledger->folder_.writable() ||
                        (ledger->folder_.entry(databaseName) == OpenFolder::Entry::file &&
                         ::faccessat(ledger->folder_.descriptor(), databaseName, W_OK, AT_EACCESS) != 0);
    if (ledger->readOnly_) {
        if (auto status = ledger->connectToRead(); !status) return status.error();
        return ledger;
    }
    if (auto connection = ledger->connect(); connection.damaged) {
        ledger->setAside();
        if (auto again = ledger->connect(); !again.status) return again.status.error();
    } else if (!connection.status) {
        return connection.status.error();
    }
    if (auto status = ledger->adoptFiles(); !status) return status.error();
    return ledger;
}

Ledger::~Ledger() { sqlite3_close(database_); }

void Ledger::restrict() const { restrictDatabase(database_, longestText); }

Ledger::Connection Ledger::checkTables() {
    int times = 0;
    sqlite3_progress_handler(database_, stepsAtOnce, overBudget, &times);
    int outcome = SQLITE_OK;
    std::string fault;
    {
        Statement sound(database_, "PRAGMA integrity_check(1)");
        if (sound.step() == SQLITE_ROW && sound.text(0) != "ok") fault = sound.text(0);
    }
    for (const char* question : {columns, ""}) {
        Statement check(database_, *question ? fmt::format("SELECT {} FROM runs LIMIT 1", question)
                                             : std::string("SELECT key, value FROM settings LIMIT 1"));
        outcome = check.step();
        if (outcome != SQLITE_ROW && outcome != SQLITE_DONE) break;
        outcome = SQLITE_OK;
    }
    const int code = !fault.empty()       ? SQLITE_CORRUPT
                     : outcome == SQLITE_OK ? SQLITE_OK
                                            : sqlite3_extended_errcode(database_);
    const std::string message = fault.empty() ? sqlite3_errmsg(database_) : fault;
    sqlite3_progress_handler(database_, 0, nullptr, nullptr);
    if (code == SQLITE_OK) return {{}, false};
    return {Error{ErrorCode::file, fmt::format("the list of kept runs {} cannot be read: {}",
                                               (folder_.path() / databaseName).string(), message)},
            isDamage(code)};
}

Ledger::Connection Ledger::connect() {
    // SQLite wants a path without links; the folder itself is none (invariant 4).
    std::error_code failed;
    const fs::path parent = fs::canonical(fs::absolute(folder_.path()).parent_path(), failed);
    const fs::path file = parent / folder_.path().filename() / databaseName;
    sqlite3_close(database_);
    database_ = nullptr;
    int code = sqlite3_open_v2(file.c_str(), &database_,
                               SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_NOFOLLOW, nullptr);
    if (code == SQLITE_OK) {
        restrict();
        code = sqlite3_exec(database_, schema, nullptr, nullptr, nullptr);
        if (code == SQLITE_OK) return checkTables();
    }
    return {Error{ErrorCode::file, fmt::format("the list of kept runs {} cannot be used now: {}", file.string(),
                                               database_ ? sqlite3_errmsg(database_) : "no memory")},
            isDamage(code)};
}

/// In a folder that cannot be written: what the list says, or else the runs that are there.
Status Ledger::connectToRead() {
    notice_ = "the folder of the runs cannot be written: they are listed, and new ones are not kept";
    if (folder_.entry(databaseName) == OpenFolder::Entry::file) {
        // Nobody else writes here: without the files beside it that SQLite would make.
        const std::string uri = fmt::format("file:/proc/self/fd/{}/{}?immutable=1", folder_.descriptor(), databaseName);
        if (sqlite3_open_v2(uri.c_str(), &database_, SQLITE_OPEN_READONLY | SQLITE_OPEN_URI, nullptr) == SQLITE_OK) {
            restrict();
            if (checkTables().status) return {};
        }
        notice_ += "; its list cannot be read";
    }
    // A list in memory.
    sqlite3_close(database_);
    database_ = nullptr;
    if (sqlite3_open_v2(":memory:", &database_, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE, nullptr) != SQLITE_OK ||
        sqlite3_exec(database_, schema, nullptr, nullptr, nullptr) != SQLITE_OK)
        return Error{ErrorCode::resource, "there is no memory for the list of runs"};
    readOnly_ = false;
    auto status = adoptFiles();
    readOnly_ = true;
    return status;
}

/// Makes room for a new database and takes over what the damaged one still tells.
void Ledger::setAside() {
    sqlite3_close(database_);
    database_ = nullptr;
    const Salvage found = salvaged(folder_.way(databaseName));
    std::string aside = "ledger.damaged";
    for (int n = 2; folder_.entry(aside) != OpenFolder::Entry::none; ++n) aside = fmt::format("ledger.damaged-{}", n);
    (void)::renameat(folder_.descriptor(), databaseName, folder_.descriptor(), aside.c_str());
    for (const char* rest : {"ledger.sqlite-wal", "ledger.sqlite-shm"})
        if (folder_.entry(rest) == OpenFolder::Entry::file) (void)folder_.removeFile(rest);
    notice_ = "the list of kept runs was damaged and has been made anew from the runs; the old one is " +
              (folder_.path() / aside).string();
    if (!connect().status || !adoptFiles()) return;
    int saved = 0, named = 0;
    for (const auto& [file, said] : found.runs) {
        if (said.name.empty() && said.note.empty() && !said.star) continue;
        ++named;
        if (execute("UPDATE runs SET name = ?, note = ?, star = ? WHERE file = ?",
                    {said.name, said.note, said.star ? "1" : "0", file}) &&
            sqlite3_changes(database_) > 0)
            ++saved;
    }
    for (const auto& [key, value] : found.settings) (void)set(key, value);
    if (named > 0) notice_ += fmt::format("; names, notes and stars of {} of {} runs could be saved", saved, named);
}

Error Ledger::writingError() const {
    return {ErrorCode::file, readOnly_ ? fmt::format("{} cannot be written", folder_.path().string())
                                       : fmt::format("the list of kept runs {} cannot be written now: {}",
                                                     (folder_.path() / databaseName).string(),
                                                     sqlite3_errmsg(database_))};
}

Status Ledger::execute(const std::string& sql, const std::vector<std::string>& values) const {
    const std::lock_guard held(mutex_);
    if (!readOnly_ && Statement(database_, sql, values).step() == SQLITE_DONE) return {};
    return writingError();
}

/// Brings table and files together.
Status Ledger::adoptFiles() {
    std::set<std::string> listed;
    {
        // Also what lists do not show: rows that lead out of the folder.
        Statement rows(database_, fmt::format("SELECT number, substr(file, 1, 200) FROM runs LIMIT {}", 2 * mostListed));
        std::vector<std::string> lost;
        while (rows.step() == SQLITE_ROW)
            if (isRunName(rows.text(1)) && folder_.entry(rows.text(1)) == OpenFolder::Entry::folder)
                listed.insert(rows.text(1));
            else
                lost.push_back(std::to_string(rows.whole(0)));
        for (const std::string& number : lost)
            if (auto status = execute("DELETE FROM runs WHERE number = ?", {number}); !status) return status;
    }
    std::vector<std::string> unreadable;
    for (const std::string& name : folder_.names()) {
        if (!isRunName(name) || listed.contains(name) || folder_.entry(name) != OpenFolder::Entry::folder) continue;
        const auto folder = folder_.folder(name);
        if (!folder) continue;
        const auto mended = mendRunFolder(*folder);
        if (mended && !*mended) {
            // Left by a crash before there was a point, unless another window is just writing it.
            if (!isHeld(*folder) && folder_.writable()) (void)removeRunFolder(folder_, name);
            continue;
        }
        auto run = mended ? openRunFolder(*folder) : mended.error();
        if (!run && folder->names().empty()) {  // just made by another window, or left by a crash
            if (folder->age() > abandoned && folder_.writable()) (void)folder_.removeFolder(name);
            continue;
        }
        if (!run) {
            unreadable.push_back(run.error().message);
            continue;
        }
        // run-2026-11-23T18:00:00Z-...
        const std::string started = name.size() > 24 ? name.substr(4, 20) : "";
        if (auto added = add(**run, name, started); !added) return added.error();
    }
    constexpr std::size_t mostSaid = 3;
    for (std::size_t i = 0; i < std::min(unreadable.size(), mostSaid); ++i)
        notice_ += (notice_.empty() ? "" : "; ") + unreadable[i];
    if (unreadable.size() > mostSaid) notice_ += fmt::format("; and {} more like these", unreadable.size() - mostSaid);
    return {};
}

Result<std::vector<KeptRun>> Ledger::runs() const {
    const std::lock_guard held(mutex_);
    std::vector<KeptRun> all;
    Statement rows(database_, fmt::format("SELECT {} FROM runs ORDER BY number DESC LIMIT {}", columns, mostListed));
    int outcome = rows.step();
    for (; outcome == SQLITE_ROW; outcome = rows.step())
        if (KeptRun run = rowOf(rows); isRunName(run.file)) all.push_back(std::move(run));
    if (outcome != SQLITE_DONE)
        return Error{ErrorCode::file, fmt::format("the list of kept runs {} cannot be read now: {}",
                                                  (folder_.path() / databaseName).string(), sqlite3_errmsg(database_))};
    return all;
}

Result<KeptRun> Ledger::add(const RunRecord& run, const std::string& file, const std::string& started) {
    const std::lock_guard held(mutex_);
    const RunSummary& summary = run.summary();
    if (auto status = execute(
            "INSERT OR IGNORE INTO runs (started, plan, scene, end, seconds, points, events, outcome, bytes, file) "
            "VALUES "
            "(?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            {started, run.plan(), run.scene(), fmt::format("{}", toSeconds(run.end())),
             fmt::format("{}", summary.second("total")), std::to_string(run.points()),
             std::to_string(summary.counter("events")), summary.brief(), std::to_string(sizeOf(folder_, file)), file});
        !status)
        return status.error();
    Statement row(database_, std::string("SELECT ") + columns + " FROM runs WHERE file = ?", {file});
    if (row.step() != SQLITE_ROW) return Error{ErrorCode::file, "the ledger lost a run that was just kept"};
    return rowOf(row);
}

/// A folder of its own for a run: two of them never share one, whoever else keeps runs here.
Result<std::string> Ledger::makeRunFolder(const std::string& started) const {
    static thread_local std::mt19937 random{std::random_device{}()};
    constexpr int most = 100;
    Error last{ErrorCode::file, ""};
    for (int n = 0; n < most; ++n) {
        const std::string name = fmt::format("run-{}-{:08x}", started, random());
        auto made = folder_.makeFolder(name);
        if (made) return name;
        last = made.error();
        if (folder_.entry(name) == OpenFolder::Entry::none) break;
    }
    return last;
}

Result<KeptRun> Ledger::keep(const Run& run, const std::function<bool()>& over) {
    constexpr auto glance = std::chrono::milliseconds(20);
    const auto lost = [](Error error, bool part) {
        error.message = (part ? "the run was kept in part only: " : "the run was not kept: ") + error.message;
        return error;
    };
    if (readOnly_) return lost(writingError(), false);
    const std::string started = timeText(std::chrono::system_clock::now());
    auto name = makeRunFolder(started);
    if (!name) return lost(name.error(), false);
    auto folder = folder_.folder(*name);
    if (!folder) return lost(folder.error(), false);
    std::optional<RunWriter> writer(std::in_place, run, *folder);
    bool following = true;
    while (over && !over()) {
        following = following && writer->follow();  // what fails now is tried again at the end
        std::this_thread::sleep_for(glance);
    }
    if (auto status = writer->finish(); !status) {
        const bool part = writer->pieces() > 0;
        writer.reset();
        if (!part) (void)removeRunFolder(folder_, *name);
        return lost(status.error(), part);
    }
    auto kept = add(run, *name, started);
    if (kept) prune();
    return kept;
}

Result<std::shared_ptr<RunRecord>> Ledger::load(const KeptRun& run) const {
    if (!isRunName(run.file)) return Error{ErrorCode::file, "'" + run.file + "' is no kept run"};
    const auto folder = folder_.folder(run.file);
    if (!folder) return folder.error();
    return openRunFolder(*folder);
}

Status Ledger::setName(std::int64_t number, const std::string& name) {
    return execute("UPDATE runs SET name = ? WHERE number = ?", {name, std::to_string(number)});
}
Status Ledger::setNote(std::int64_t number, const std::string& note) {
    return execute("UPDATE runs SET note = ? WHERE number = ?", {note, std::to_string(number)});
}
Status Ledger::setStar(std::int64_t number, bool star) {
    return execute("UPDATE runs SET star = ? WHERE number = ?", {star ? "1" : "0", std::to_string(number)});
}

Status Ledger::remove(std::int64_t number) {
    const std::lock_guard held(mutex_);
    std::string file;
    {
        Statement row(database_, "SELECT file FROM runs WHERE number = ?", {std::to_string(number)});
        if (row.step() == SQLITE_ROW) file = row.text(0);
    }
    // The row first: a file without a row comes back, a row without a file would point nowhere.
    if (auto status = execute("DELETE FROM runs WHERE number = ?", {std::to_string(number)}); !status) return status;
    if (isRunName(file) && folder_.entry(file) == OpenFolder::Entry::folder) return removeRunFolder(folder_, file);
    return {};
}

int Ledger::bound() const {
    const std::lock_guard held(mutex_);
    Statement row(database_, "SELECT value FROM settings WHERE key = 'bound'");
    return row.step() == SQLITE_ROW ? static_cast<int>(std::clamp<std::int64_t>(row.whole(0), 0, mostListed)) : standardBound;
}

Status Ledger::setBound(int runs) {
    auto status = set("bound", std::to_string(std::max(0, runs)));
    if (status) prune();
    return status;
}

Status Ledger::set(const std::string& key, const std::string& value) {
    return execute(
        "INSERT INTO settings (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value",
        {key, value});
}

std::map<int, double> Ledger::prices(const std::string& kind) const {
    const std::lock_guard held(mutex_);
    Statement row(database_, "SELECT value FROM settings WHERE key = ?", {keyOfPrices(kind)});
    std::map<int, double> byRung;
    if (row.step() != SQLITE_ROW) return byRung;
    std::istringstream text(row.text(0));
    int rung = 0;
    double price = 0;
    while (text >> rung >> price)
        if (std::isfinite(price) && price > 0) byRung[rung] = price;
    return byRung;
}

Status Ledger::setPrices(const std::string& kind, const std::map<int, double>& byRung) {
    std::string text;
    for (const auto& [rung, price] : byRung) text += fmt::format("{} {:.6g} ", rung, price);
    return set(keyOfPrices(kind), text);
}

namespace {

constexpr std::size_t mostStudies = 10'000, mostStudyBytes = std::size_t{64} << 20;

bool isStudyName(std::string_view name) {
    constexpr std::string_view begins = "study-", ends = ".json";
    constexpr std::size_t longest = 100;
    if (!name.starts_with(begins) || !name.ends_with(ends) || name.size() > longest) return false;
    const std::string_view middle = name.substr(begins.size(), name.size() - begins.size() - ends.size());
    return !middle.empty() && std::all_of(middle.begin(), middle.end(), [](unsigned char c) {
        return std::isalnum(c) || c == '-' || c == ':';
    });
}

}  // namespace

std::vector<std::string> keptStudies(const std::filesystem::path& path) {
    std::vector<std::string> names;
    const auto folder = OpenFolder::open(path);
    if (!folder) return names;
    for (const std::string& name : folder->names())
        if (isStudyName(name) && folder->entry(name) == OpenFolder::Entry::file && names.size() < mostStudies)
            names.push_back(name);
    std::sort(names.rbegin(), names.rend());  // they begin with when they were made
    return names;
}

Result<std::string> loadStudy(const std::filesystem::path& path, const std::string& name) {
    if (!isStudyName(name)) return Error{ErrorCode::file, "'" + name + "' is no kept study"};
    const auto folder = OpenFolder::open(path);
    if (!folder) return folder.error();
    if (folder->entry(name) != OpenFolder::Entry::file) return Error{ErrorCode::file, "'" + name + "' is no file"};
    const auto file = openRegular(name, folder->descriptor());
    if (!file) return file.error();
    return readAll(*file, folder->path() / name, mostStudyBytes);
}

Result<std::string> Ledger::keepStudy(const std::string& text) {
    const std::string started = timeText(std::chrono::system_clock::now());
    std::random_device random;
    const std::string name = fmt::format("study-{}-{:08x}.json", started, random());
    auto written = replaceAtomically(folder_, name, [&](const std::filesystem::path& temporary) -> Status {
        std::ofstream out(temporary, std::ios::binary);
        out << text;
        out.close();
        if (out) return {};
        return Error{ErrorCode::file, (folder_.path() / name).string() + " cannot be written: the disk may be full"};
    });
    if (!written) return written.error();
    return name;
}

Status Ledger::removeStudy(const std::string& name) {
    if (!isStudyName(name)) return Error{ErrorCode::file, "'" + name + "' is no kept study: it is left alone"};
    return folder_.removeFile(name);
}

/// What has neither name nor star goes, the oldest first.
void Ledger::prune() {
    if (readOnly_) return;
    const int most = bound();
    const auto all = runs();
    if (most == 0 || !all) return;
    int plain = 0;
    for (const KeptRun& run : *all)
        if (run.name.empty() && !run.star && ++plain > most) (void)remove(run.number);
}

std::int64_t Ledger::bytes() const {
    std::int64_t sum = 0;
    if (const auto all = runs())
        for (const KeptRun& run : *all) sum += run.bytes;
    return sum;
}

}  // namespace hedgerow
