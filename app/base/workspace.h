#pragma once
// What the views of one window share: the project with its history, the selection, the runs and the time cursor.
// Views observe it; every change of the project goes through apply().

#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include <QObject>
#include <QTimer>

#include "formats/hedge/hedge.h"
#include "model/history.h"
#include "model/modules.h"
#include "files/library.h"
#include "files/outside_files.h"
#include "files/recovery.h"
#include "runs/price.h"
#include "runs/run.h"
#include "base/background.h"
#include "base/runs.h"

namespace hedgerow::app {

/// Something about the sheet that wants a look.
struct Check {
    Error error;
    bool keepsFromRunning;
    std::optional<double> at = {};  ///< s: when it was seen in the shown run
};

class Workspace : public QObject {
    Q_OBJECT

public:
    explicit Workspace(QObject* parent = nullptr);
    ~Workspace() override;

    const Project& project() const { return history_.project(); }
    const History& history() const { return history_; }
    /// All parts, with the modules of the project and of the libraries. Kinds of modules change with their sheets:
    /// catalogueChanged() tells.
    const Catalogue& catalogue() const { return catalogue_; }
    const NetList& nets() const { return nets_; }
    const ParameterTable& parameters() const { return *parameters_; }
    /// A typed time of this project, s: an expression, or "3 periods of V1".
    Result<double> timeOf(const std::string& text) const;

    /// Makes a change; a refusal is shown and returned.
    Status apply(const Edit& edit);
    void undo();
    void redo();

    // What is in view: the main sheet, or a module at the end of a path of places
    void look(const View& view);
    /// Opens the module of a place on the sheet in view.
    void openPlace(int part);
    /// From a module to the sheet it was opened from.
    void leaveModule();
    /// Brings the sheet of a part named from outside ("X1.S1") into view. @return its id there
    std::optional<int> lookAtPart(const std::string& name);
    /// The part of the sheet in view that has this name from outside, or holds what has it.
    const Part* partInView(const std::string& name) const;
    /// What a quantity of the sheet in view is called from outside.
    std::string outside(const std::string& quantity) const;

    const Library& library() const { return library_; }
    /// The user's own parts: the project's, then those of the libraries under other names.
    const std::vector<Part>& keptParts() const { return keptParts_; }
    void readLibraries(const std::vector<std::filesystem::path>& folders);

    /// Kinds of parts that were placed, the last one first.
    const std::vector<std::string>& recentKinds() const { return recentKinds_; }
    void used(const std::string& kind);

    const std::set<int>& selection() const { return selection_; }
    void select(std::set<int> ids);
    /// The one selected part, or nullptr.
    const Part* selectedPart() const;

    // Files
    const QString& path() const { return path_; }
    bool readOnly() const { return readOnly_; }
    /// Reads a project beside the window. What is read within a moment is shown, or refused, before this returns; else
    /// it comes later, unless the project in view was changed meanwhile.
    Status open(const QString& path);
    bool opening() const { return !openingPath_.isEmpty(); }
    Status save(const QString& path);
    /// Whether another program has changed the project's file since it was read or written here.
    bool changedOnDisk() const;
    /// Shows a project that has no file: a new one, or a copy.
    void adopt(Project project, const QString& path, bool unsaved);
    /// Shows work that another session has left. @return whether this session keeps it too: else the copy must stay
    Status recover(const RecoveredWork& work);
    void setRecoverySlot(std::unique_ptr<RecoverySlot> slot) { recovery_ = std::move(slot); }
    /// Files outside of the project's folder that it names and may not read.
    const std::set<std::string>& outsideFiles() const { return outside_; }
    /// They may be read from now on, also when the project is opened again.
    Status allowOutside();

    // Runs
    void setPlan(const QString& name);
    const Plan& plan() const;
    const Scene& scene() const;
    void setScene(const QString& name);
    void startRun();
    /// Finds the periodic state, and runs as many periods of it as the plan says.
    void settle();
    /// Runs the circuit with the selected parts one rung lower, pins that run, and runs the circuit as it is beside it.
    void compareWithRungBelow();
    /// Runs all other scenes, pins their runs, and runs the one in view beside them.
    void compareScenes();
    /// Runs another project by the plan in force, pinned under a name.
    void startWith(std::shared_ptr<const Project> project, const std::string& name);
    void stopRun();
    /// Whether a run goes on, or is about to.
    bool running() const { return starting_ || runList_->running(); }
    /// Whether the run is still being prepared: a large circuit takes its time.
    bool starting() const { return starting_; }
    Runs& runList() { return *runList_; }
    const std::vector<RunPointer>& runs() const { return runList_->all(); }
    /// The run the sheet and the timeline show; may be running; may be null.
    const RunPointer& shownRun() const { return runList_->shown(); }
    Trace* trace(const std::string& quantity) { return runList_->trace(quantity); }
    /// The circuit as it was in a run; lanes stay as they are.
    void bringBack(const RunEntry& entry);
    /// True when the shown run was made from another circuit than is on the sheet now.
    bool shownRunIsOld() const { return shownRun() && isOld(*shownRun()); }
    bool isOld(const RunEntry& entry) const;

    std::optional<Tick> cursor() const { return cursor_; }
    void setCursor(std::optional<Tick> t);
    /// A second cursor, from which differences are counted.
    std::optional<Tick> mark() const { return mark_; }
    void setMark(std::optional<Tick> t);
    /// The window of the timeline, and what measures are made of: between mark and cursor, or all that is seen.
    void setWindow(Tick from, Tick to);
    std::pair<Tick, Tick> measured() const;
    /// What that is, in words: "between the cursors"; "" when it is all that is seen.
    std::string measuredOver() const;
    /// The unit of a quantity or expression in the shown run, or what its name tells.
    std::string unitOf(const std::string& quantity);
    /// The quantity or expression that is looked at on the card; "" for none.
    const std::string& chosenTrace() const { return chosenTrace_; }
    void chooseTrace(const std::string& quantity);

    /// What stands in the way of a run, or went wrong in it.
    const std::vector<Error>& problems() const { return problems_; }
    /// What is wrong or doubtful, kept up to date a moment after every change.
    const std::vector<Check>& checks() const { return checks_; }
    /// Whether checks are still being made of what is on the sheet now, or its price.
    bool judging() const { return estimateTimer_.isActive() || judging_.busy(); }
    bool pricing() const { return judging() || pricing_.busy(); }
    /// What a run by the present plan will cost; nothing while that is not known, or when it cannot run.
    const std::optional<RunPrice>& price() const { return price_; }
    /// A span of the present plan as it stands on the time axis; one that waits ends there at the latest.
    struct PlannedSpan {
        std::string text;
        Tick from = 0, to = 0;
        bool settle = false, waits = false;
    };
    /// Those of the plan; empty where it has none, or cannot run.
    const std::vector<PlannedSpan>& plannedSpans() const { return plannedSpans_; }
    /// Changes the plan in force.
    void changePlan(const std::function<void(Plan&)>& change);

signals:
    void projectChanged();
    void fileChanged();
    void selectionChanged();
    void viewChanged();       ///< another sheet is in view
    void catalogueChanged();  ///< modules or kept parts changed
    void runsChanged();       ///< a run started, ended or was chosen
    void runProgressed();     ///< new points in the shown run
    void cursorChanged();
    void measuredChanged();  ///< the window or the mark
    void chosenTraceChanged();
    void problemsChanged();
    void checksChanged();
    void left();  ///< the project is about to be replaced: what is computed of it is of no use any more
    void refused(const QString& message);

private:
    /// The one place where a project is left: what belongs to it is stopped and forgotten.
    void leave();
    void afterChange();
    void take(const QString& path, const std::string& stamp, Result<LoadedProject>& loaded);
    /// @param name  what the run is called in the list, where it is pinned; "" for neither
    void start(std::shared_ptr<const Project> project, RunSettings settings, const std::string& name = "");
    struct Prepared;
    void startPrepared(const Prepared& prepared, const std::string& name);
    void runNext();
    void runNextScene();
    void findPeriods();
    void followChange(const View& before);
    void refreshCatalogue();
    void setProblems(std::vector<Error> problems);
    void keepWork();
    void dropKeptWork();
    void estimate();
    std::filesystem::path ledgerFolder() const;
    void noteEnd(const RunEntry& entry);
    void findPrice(const std::shared_ptr<Run>& run);
    void learnCost(const Run& run);

    History history_;
    Library library_;
    Catalogue catalogue_;
    std::vector<Sheet> cataloguedModules_;
    std::vector<Part> cataloguedParts_, keptParts_;
    std::map<std::string, std::string> netsOutside_;  ///< of the module in view
    NetList nets_;
    std::unique_ptr<ParameterTable> parameters_;
    std::set<int> selection_;
    std::vector<std::string> recentKinds_;
    QString path_;
    bool readOnly_ = false;
    std::string planName_, sceneName_;
    Runs* runList_;
    std::weak_ptr<RunEntry> cursorRun_;  ///< whose time the cursor is on
    std::optional<Tick> cursor_, mark_;
    std::pair<Tick, Tick> window_{0, 0};
    /// The last periods asked for, within the window; nothing when there are not so many.
    std::optional<std::pair<Tick, Tick>> periods_;
    std::string chosenTrace_;
    std::vector<Error> problems_;
    std::vector<Check> checks_, observed_;  ///< observed_: in the last run
    std::optional<RunPrice> price_;
    std::shared_ptr<const Project> pricedProject_;  ///< what `price_` is the price of
    std::string pricedPlan_, pricedScene_;
    std::optional<RunPrice> startedPrice_;  ///< of the run that was started last, where it was known
    std::vector<PlannedSpan> plannedSpans_;
    PriceBook book_;
    const std::filesystem::path bookFile_ = PriceBook::usualFile();
    std::set<std::string> outside_;
    std::string stamp_;  ///< of the project's file when it was last read or written here
    std::shared_ptr<RecoverySlot> recovery_;
    bool runAgain_ = false;               ///< the circuit as it is, when the present run has finished
    std::vector<std::string> comparing_;  ///< scenes still to be run before it
    QTimer keepTimer_, estimateTimer_;
    QTimer nextRunTimer_;  ///< what follows the run that has just ended
    QString openingPath_;  ///< of the file that is being read; "" for none
    Status openError_;     ///< of the last one
    bool late_ = false;    ///< it takes longer than a moment
    bool starting_ = false;
    Background opening_, preparing_;
    Background judging_;  ///< checks
    Background pricing_;
    Background learning_;  ///< the book of prices, from and to its file
    Background keeping_;  ///< of unsaved work; last: it ends before the slot
};

}  // namespace hedgerow::app
