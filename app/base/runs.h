#pragma once
// The runs of a window: those of this session and those kept in the project's ledger, the one that is shown, those that
// are pinned beside it, and their traces.

#include <atomic>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include <QObject>
#include <QTimer>

#include "model/quantity.h"
#include "ledger/ledger.h"
#include "runs/run.h"
#include "base/background.h"

namespace hedgerow::app {

/// A run in the list.
struct RunEntry {
    std::int64_t number = 0;
    KeptRun about;                         ///< what the list shows; number 0 until the ledger has it
    std::shared_ptr<const RunRecord> run;  ///< nullptr while it is only in the ledger
    std::shared_ptr<Run> live;             ///< of this session
    QString measuredFrom;                  ///< the file of measured data; "" for a run
    double offset = 0, scale = 1;          ///< of the time of measured data
    std::atomic<bool> over{true};
    bool pinned = false;
    std::thread thread;
    Stopwatch watch;
    /// Readers by quantity or expression, as they were asked for; nullptr for what the run has not.
    std::map<std::string, std::shared_ptr<Trace>, std::less<>> traces;
    ~RunEntry();
    bool running() const { return !over; }
};
using RunPointer = std::shared_ptr<RunEntry>;

/// The ledger in a folder; where there is no memory for it, that is the error. For any thread.
Result<std::shared_ptr<Ledger>> openLedger(const std::filesystem::path& folder);

class Runs : public QObject {
    Q_OBJECT

public:
    /// @param parameters  for expressions over traces
    Runs(ParameterLookup parameters, QObject* parent = nullptr);
    ~Runs() override;

    /// Newest first.
    const std::vector<RunPointer>& all() const { return runs_; }
    const RunPointer& shown() const { return shown_; }
    bool running() const { return current_ && current_->running(); }

    void start(std::shared_ptr<Run> run);
    /// A run that was made elsewhere and is over: it is listed under a name, and stays with this session.
    RunPointer add(std::shared_ptr<Run> run, const std::string& name);
    void stop();
    /// Leaves the project: stops what runs, and forgets all runs. What is over is still kept in the ledger it belongs
    /// to, beside the window, and says nothing to it any more.
    void leave();
    /// Lists the runs of the ledger in `folder`, if there is one. Where that takes long the window does not wait: they
    /// come later.
    void list(const std::filesystem::path& folder);
    /// The project has a place now: runs are kept there from now on, those of this session too.
    void keepIn(const Result<std::shared_ptr<Ledger>>& ledger);
    bool keepsIn(const std::filesystem::path& folder) const { return ledger_ && ledger_->folder() == folder; }

    /// Where a kept run takes its time to be read, the window does not wait: it is shown when it is there, unless
    /// another one is asked for meanwhile. The same holds for pin().
    void show(const RunPointer& entry);
    /// Reads measured data and pins them beside the shown run, later where that takes long. @return false where it is
    /// known already that they cannot be read
    bool addMeasured(const QString& path);
    /// Measured data that are shown, or else the first that are pinned; nullptr when there are none.
    RunPointer measured() const;
    /// Moves and stretches measured data in time.
    void setTiming(const RunPointer& entry, double offset, double scale);
    /// Shows it dashed beside the shown one.
    void pin(const RunPointer& entry, bool pinned);
    /// The pinned ones other than the shown one.
    std::vector<RunPointer> beside() const;
    void setName(const RunPointer& entry, const std::string& name);
    void setNote(const RunPointer& entry, const std::string& note);
    void setStar(const RunPointer& entry, bool star);
    void remove(const RunPointer& entry);
    const std::shared_ptr<Ledger>& ledger() const { return ledger_; }

    /// A reader of a quantity of the shown run, or of an expression over its quantities, kept up to date; nullptr when
    /// there is none.
    Trace* trace(const std::string& quantity) { return shown_ ? trace(*shown_, quantity) : nullptr; }
    Trace* trace(RunEntry& entry, const std::string& quantity) { return sharedTrace(entry, quantity).get(); }
    std::shared_ptr<Trace> sharedTrace(RunEntry& entry, const std::string& quantity);
    /// Why an expression gives no trace of the shown run; "" when it does.
    std::string mistakeIn(const std::string& expression);
    /// The unit of a quantity or expression in the shown run.
    std::optional<std::string> unitOf(const std::string& quantity);

signals:
    void changed();     ///< a run started, ended, was chosen, or its place in the list changed
    void progressed();  ///< new points in the shown run
    void ended(const hedgerow::app::RunEntry& entry);
    void said(const QString& message, bool bad);

private:
    void poll();
    void noteEnd();
    void take(const Result<std::shared_ptr<Ledger>>& ledger);
    bool catchUp(int milliseconds);
    using Loaded = Result<std::shared_ptr<RunRecord>>;
    /// Reads beside the window; `then` is called in it, within a moment or later, unless the project was left.
    void readBeside(std::function<Loaded()> read, std::function<void(const Loaded& found)> then);
    void load(const RunPointer& entry, std::function<void()> then);
    void showLoaded(const RunPointer& entry);
    void keep(const RunPointer& entry);
    void listKept();
    Result<std::shared_ptr<Trace>> expression(RunEntry& entry, const std::string& text);
    bool told(const Status& status);
    bool isKept(const RunEntry& entry) const { return ledger_ && !entry.about.file.empty(); }

    ParameterLookup parameters_;
    std::vector<RunPointer> runs_;
    RunPointer shown_;
    std::weak_ptr<RunEntry> wanted_;  ///< the one that was asked for last
    std::shared_ptr<Ledger> ledger_;
    std::int64_t lastNumber_ = 0;
    QTimer pollTimer_;
    RunPointer current_;           ///< the run that was started last, until its end is noted
    std::int64_t generation_ = 0;  ///< grows with each project that is left
    Finishers finishers_;          ///< last: they end before anything they use
};

}  // namespace hedgerow::app
