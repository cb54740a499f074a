#include "session/ledger.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <ctime>
#include <optional>
#include <set>
#include <sstream>
#include <thread>

#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

#include "session/run_file.h"
#include "session/run_writer.h"

namespace hedgerow {

namespace {

namespace fs = std::filesystem;
constexpr int standardBound = 50;
constexpr int busyMilliseconds = 4000;  ///< another window may be writing

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

/// A prepared statement that ends with its scope.
class Statement {
public:
    Statement(sqlite3* database, const std::string& sql, const std::vector<std::string>& values = {}) {
        if (sqlite3_prepare_v2(database, sql.c_str(), -1, &statement_, nullptr) != SQLITE_OK) return;
        for (std::size_t i = 0; i < values.size(); ++i)
            sqlite3_bind_text(statement_, static_cast<int>(i) + 1, values[i].c_str(), -1, SQLITE_TRANSIENT);
    }
    ~Statement() { sqlite3_finalize(statement_); }
    Statement(const Statement&) = delete;
    Statement& operator=(const Statement&) = delete;
    /// SQLITE_ROW, SQLITE_DONE, or an error.
    int step() { return statement_ ? sqlite3_step(statement_) : SQLITE_ERROR; }
    std::string text(int column) const {
        const auto* bytes = sqlite3_column_text(statement_, column);
        return bytes ? reinterpret_cast<const char*>(bytes) : "";
    }
    std::int64_t whole(int column) const { return sqlite3_column_int64(statement_, column); }
    double real(int column) const { return sqlite3_column_double(statement_, column); }

private:
    sqlite3_stmt* statement_ = nullptr;
};

constexpr char columns[] =
    "number, name, note, star, started, plan, scene, end, seconds, points, events, outcome, bytes, file";

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

std::int64_t sizeOf(const fs::path& folder) {
    std::error_code failed;
    std::int64_t sum = 0;
    for (const auto& file : fs::directory_iterator(folder, failed)) {
        const auto size = file.file_size(failed);
        if (!failed) sum += static_cast<std::int64_t>(size);
    }
    return sum;
}

}  // namespace

fs::path Ledger::folderOf(const fs::path& project) { return fs::path(project.string() + "-runs"); }

Result<std::shared_ptr<Ledger>> Ledger::open(const fs::path& folder) {
    std::shared_ptr<Ledger> ledger(new Ledger(folder));
    std::error_code failed;
    fs::create_directories(folder, failed);
    if (auto status = ledger->connect(); !status) {
        // What is in the table but in no file is lost with it; the runs themselves are not.
        sqlite3_close(ledger->database_);
        ledger->database_ = nullptr;
        const fs::path damaged = folder / "ledger.damaged";
        fs::rename(folder / "ledger.sqlite", damaged, failed);
        for (const char* rest : {"ledger.sqlite-wal", "ledger.sqlite-shm"}) fs::remove(folder / rest, failed);
        if (auto again = ledger->connect(); !again) return again.error();
        ledger->notice_ = "the list of kept runs was damaged and has been made anew from the runs; the old one is " +
                          damaged.string();
    }
    if (auto status = ledger->adoptFiles(); !status) return status.error();
    return ledger;
}

Ledger::~Ledger() { sqlite3_close(database_); }

Status Ledger::connect() {
    const fs::path file = folder_ / "ledger.sqlite";
    if (sqlite3_open(file.c_str(), &database_) == SQLITE_OK) {
        sqlite3_busy_timeout(database_, busyMilliseconds);
        if (sqlite3_exec(database_, schema, nullptr, nullptr, nullptr) == SQLITE_OK) {
            Statement check(database_, std::string("SELECT ") + columns + " FROM runs LIMIT 1");
            const int outcome = check.step();
            if (outcome == SQLITE_ROW || outcome == SQLITE_DONE) return {};
        }
    }
    return Error{ErrorCode::file, fmt::format("{} cannot be used: {}", file.string(),
                                              database_ ? sqlite3_errmsg(database_) : "no memory")};
}

Status Ledger::execute(const std::string& sql, const std::vector<std::string>& values) const {
    const std::lock_guard held(mutex_);
    if (Statement(database_, sql, values).step() == SQLITE_DONE) return {};
    return Error{ErrorCode::file,
                 fmt::format("the ledger {} cannot be written: {}", folder_.string(), sqlite3_errmsg(database_))};
}

/// Brings table and files together.
Status Ledger::adoptFiles() {
    auto known = runs();
    if (!known) return known.error();
    std::set<std::string> listed;
    std::error_code failed;
    for (const KeptRun& run : *known) {
        listed.insert(run.file);
        if (!fs::exists(folder_ / run.file, failed))
            if (auto status = execute("DELETE FROM runs WHERE number = ?", {std::to_string(run.number)}); !status)
                return status;
    }
    std::vector<fs::path> files;
    for (const auto& entry : fs::directory_iterator(folder_, failed))
        if (entry.is_directory() && entry.path().filename().string().starts_with("run-") &&
            !listed.contains(entry.path().filename().string()))
            files.push_back(entry.path());
    std::sort(files.begin(), files.end());
    for (const fs::path& file : files) {
        const auto mended = mendRunFolder(file);
        if (mended && !*mended) continue;  // another window is writing it
        auto run = mended ? openRunFolder(file) : mended.error();
        if (!run) {
            notice_ += (notice_.empty() ? "" : "; ") + run.error().message;
            continue;
        }
        const std::string name = file.filename().string();
        // run-2026-11-23T18:00:00Z-...
        const std::string started = name.size() > 24 && name.starts_with("run-") ? name.substr(4, 20) : "";
        if (auto added = add(**run, name, started); !added) return added.error();
    }
    return {};
}

Result<std::vector<KeptRun>> Ledger::runs() const {
    const std::lock_guard held(mutex_);
    std::vector<KeptRun> all;
    Statement rows(database_, std::string("SELECT ") + columns + " FROM runs ORDER BY number DESC");
    int outcome = rows.step();
    for (; outcome == SQLITE_ROW; outcome = rows.step()) all.push_back(rowOf(rows));
    if (outcome != SQLITE_DONE)
        return Error{ErrorCode::file,
                     fmt::format("the ledger {} cannot be read: {}", folder_.string(), sqlite3_errmsg(database_))};
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
             std::to_string(summary.counter("events")), summary.brief(), std::to_string(sizeOf(folder_ / file)), file});
        !status)
        return status.error();
    Statement row(database_, std::string("SELECT ") + columns + " FROM runs WHERE file = ?", {file});
    if (row.step() != SQLITE_ROW) return Error{ErrorCode::file, "the ledger lost a run that was just kept"};
    return rowOf(row);
}

Result<KeptRun> Ledger::keep(const Run& run, const std::function<bool()>& over) {
    static std::atomic<int> count{0};
    constexpr auto glance = std::chrono::milliseconds(20);
    const std::string started = timeText(std::chrono::system_clock::now());
    const std::string name = fmt::format("run-{}-{}-{}", started, ::getpid(), ++count);
    std::optional<RunWriter> writer(std::in_place, run, folder_ / name);
    bool following = true;
    while (over && !over()) {
        following = following && writer->follow();  // what fails now is tried again at the end
        std::this_thread::sleep_for(glance);
    }
    if (auto status = writer->finish(); !status) {
        Error error = status.error();
        const bool part = writer->pieces() > 0;
        writer.reset();
        std::error_code failed;
        if (!part) fs::remove_all(folder_ / name, failed);
        error.message = (part ? "the run was kept in part only: " : "the run was not kept: ") + error.message;
        return error;
    }
    auto kept = add(run, name, started);
    if (kept) prune();
    return kept;
}

Result<std::shared_ptr<RunRecord>> Ledger::load(const KeptRun& run) const { return openRunFolder(folder_ / run.file); }

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
    std::error_code failed;
    if (!file.empty()) fs::remove_all(folder_ / file, failed);
    return {};
}

int Ledger::bound() const {
    const std::lock_guard held(mutex_);
    Statement row(database_, "SELECT value FROM settings WHERE key = 'bound'");
    return row.step() == SQLITE_ROW ? static_cast<int>(row.whole(0)) : standardBound;
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

/// What has neither name nor star goes, the oldest first.
void Ledger::prune() {
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
