#pragma once
// The ledger of a project: every run that was kept, in a folder beside the project file.
//
//   med-aux.hedge-runs/ledger.sqlite   one row a run, what lists show
//   med-aux.hedge-runs/run-*.h5        the runs themselves (run_file.h)
//
// Invariants
//  1. A row is added after its run is complete. Runs without a row, left by a crash, are mended and get one when the
//     ledger is opened, unless another process is writing them; rows without a run are dropped.
//  2. The table holds nothing that is not in the runs but names, notes and stars. Where the database itself is damaged
//     it is set aside and made anew from the runs, with the names, notes and stars that can still be read. No other
//     error counts as damage: the ledger then cannot be opened, and nothing is changed.
//  3. Several processes may use one ledger at once.
//  4. Nothing is written, read or removed outside of the folder: it is held open, runs are reached by names that
//     isRunName() takes, no link is followed. Only what Hedgerow wrote is removed, file by file.
//  5. A folder that cannot be written is read: its runs are listed.

#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "base/folder.h"
#include "base/result.h"
#include "runs/run.h"
#include "runs/run_record.h"

struct sqlite3;

namespace hedgerow {

struct KeptRun {
    std::int64_t number = 0;
    std::string name, note;
    bool star = false;
    std::string started;  ///< ISO 8601, UTC
    std::string plan, scene;
    double end = 0;      ///< s
    double seconds = 0;  ///< of waiting
    std::int64_t points = 0, events = 0;
    std::string outcome;  ///< how it ended, in a line
    std::int64_t bytes = 0;
    std::string file;  ///< its folder, in the ledger's
};

class Ledger {
public:
    /// Opens the ledger in a folder, which is made when it is missing. An error says what is in the way.
    static Result<std::shared_ptr<Ledger>> open(const std::filesystem::path& folder);
    /// Where the ledger of a project file lies.
    static std::filesystem::path folderOf(const std::filesystem::path& project);
    ~Ledger();

    /// Newest first.
    Result<std::vector<KeptRun>> runs() const;
    /// Keeps a run, from its beginning when it is not yet over; then removes what is beyond the bound. Returns when the
    /// run is over and written. For any thread but that of the run.
    /// @param over  whether the run is over; empty when it is
    Result<KeptRun> keep(const Run& run, const std::function<bool()>& over = {});
    Result<std::shared_ptr<RunRecord>> load(const KeptRun& run) const;
    Status setName(std::int64_t number, const std::string& name);
    Status setNote(std::int64_t number, const std::string& note);
    Status setStar(std::int64_t number, bool star);
    Status remove(std::int64_t number);
    /// How many runs without name and star are kept; 0 for all.
    int bound() const;
    Status setBound(int runs);
    /// What rungs of a kind of part cost on this machine over the lowest, as was last measured; empty when it was not.
    std::map<int, double> prices(const std::string& kind) const;
    Status setPrices(const std::string& kind, const std::map<int, double>& byRung);
    /// Keeps the result of a study, as a text, in a file "study-*.json" of the folder. @return its name
    Result<std::string> keepStudy(const std::string& text);
    Status removeStudy(const std::string& name);
    /// Of all runs together.
    std::int64_t bytes() const;
    const std::filesystem::path& folder() const { return folder_.path(); }
    bool has(const KeptRun& run) const { return folder_.entry(run.file) == OpenFolder::Entry::folder; }
    bool readOnly() const { return readOnly_; }
    /// What was repaired when it was opened; "" when nothing.
    const std::string& notice() const { return notice_; }

private:
    explicit Ledger(OpenFolder folder) : folder_(std::move(folder)) {}
    /// How opening the database ended.
    struct Connection {
        Status status;
        bool damaged = false;  ///< the database itself is: nothing else than making it anew helps
    };
    Connection connect();
    Status connectToRead();
    Connection checkTables();
    void restrict() const;
    void setAside();
    Status adoptFiles();
    Result<KeptRun> add(const RunRecord& run, const std::string& file, const std::string& started);
    Status execute(const std::string& sql, const std::vector<std::string>& values = {}) const;
    Status set(const std::string& key, const std::string& value);
    Result<std::string> makeRunFolder(const std::string& started) const;
    void prune();
    Error writingError() const;

    OpenFolder folder_;
    bool readOnly_ = false;
    std::string notice_;
    mutable std::recursive_mutex mutex_;
    sqlite3* database_ = nullptr;
};

/// The results of studies that are kept in a ledger's folder, the newest first; none where there is no such folder.
std::vector<std::string> keptStudies(const std::filesystem::path& folder);
Result<std::string> loadStudy(const std::filesystem::path& folder, const std::string& name);

}  // namespace hedgerow
