#include "shell/workspace.h"

#include <QDir>

#include "formats/hedge/hedge.h"
#include "network/advice.h"
#include "session/registry.h"

namespace hedgerow::app {

namespace {
constexpr int pollMilliseconds = 33;
constexpr int keepMilliseconds = 1500;  ///< after the last change
constexpr int estimateMilliseconds = 150;
constexpr std::size_t mostRunsKept = 24;
constexpr std::size_t pointsAtOnce = 20'000;  ///< that a trace takes in
constexpr int catchingMilliseconds = 8, endingMilliseconds = 300,
              followingMilliseconds = 24;  ///< for all traces, while a run goes on and at its end
}  // namespace

RunEntry::~RunEntry() {
    if (run) run->cancel();
    if (thread.joinable()) thread.join();
}

Workspace::Workspace(QObject* parent) : QObject(parent) {
    pollTimer_.setInterval(pollMilliseconds);
    keepTimer_.setInterval(keepMilliseconds);
    keepTimer_.setSingleShot(true);
    estimateTimer_.setInterval(estimateMilliseconds);
    estimateTimer_.setSingleShot(true);
    connect(&pollTimer_, &QTimer::timeout, this, &Workspace::poll);
    connect(&keepTimer_, &QTimer::timeout, this, &Workspace::keepWork);
    connect(&estimateTimer_, &QTimer::timeout, this, &Workspace::estimate);
    adopt({}, {}, false);
}

Workspace::~Workspace() {
    for (const auto& entry : runs_) entry->run->cancel();
}

const Catalogue& Workspace::catalogue() const { return partLibrary().catalogue(); }

Status Workspace::apply(const Edit& edit) {
    auto status = history_.apply(edit);
    if (!status) {
        emit refused(QString::fromStdString(status.error().message));
        return status;
    }
    afterChange();
    return status;
}

void Workspace::used(const std::string& kind) {
    std::erase(recentKinds_, kind);
    recentKinds_.insert(recentKinds_.begin(), kind);
}

void Workspace::undo() {
    history_.undo();
    afterChange();
}

void Workspace::redo() {
    history_.redo();
    afterChange();
}

void Workspace::afterChange() {
    nets_ = findNets(project().sheet(), catalogue());
    parameters_ = std::make_unique<ParameterTable>(project().parameters);
    std::set<int> still;
    for (const int id : selection_)
        if (project().findPart(id) || project().findWire(id) || project().findLabel(id)) still.insert(id);
    const bool selectionShrank = still != selection_;
    selection_ = std::move(still);
    if (!problems_.empty()) setProblems({});
    keepTimer_.start();
    estimateTimer_.start();
    emit projectChanged();
    if (selectionShrank) emit selectionChanged();
}

void Workspace::select(std::set<int> ids) {
    if (ids == selection_) return;
    selection_ = std::move(ids);
    emit selectionChanged();
}

const Part* Workspace::selectedPart() const {
    const Part* found = nullptr;
    for (const int id : selection_) {
        const Part* part = project().findPart(id);
        if (part && found) return nullptr;
        if (part) found = part;
    }
    return found;
}

Status Workspace::open(const QString& path) {
    auto loaded = loadHedge(path.toStdString());
    if (!loaded) return loaded.error();
    adopt(std::move(loaded->project), QDir(path).absolutePath(), false);
    readOnly_ = loaded->readOnly;
    if (!loaded->notice.empty()) emit refused(QString::fromStdString(loaded->notice));
    emit fileChanged();
    return {};
}

Status Workspace::save(const QString& path) {
    if (readOnly_ && path == path_)
        return Error{ErrorCode::file, "this project was written by a newer version: save it under another name"};
    if (auto status = saveHedge(project(), path.toStdString()); !status) return status;
    path_ = path;
    readOnly_ = false;
    history_.markSaved();
    if (recovery_) recovery_->clear();
    emit fileChanged();
    return {};
}

void Workspace::adopt(Project project, const QString& path, bool unsaved) {
    stopRun();
    history_ = History(std::move(project));
    if (unsaved) history_.markUnsaved();
    path_ = path;
    readOnly_ = false;
    selection_.clear();
    runs_.clear();
    traces_.clear();
    shownRun_.reset();
    cursor_.reset();
    lastRunNumber_ = 0;
    planName_ = this->project().plans.front().name;
    sceneName_ = this->project().scenes.front().name;
    problems_.clear();
    afterChange();
    emit fileChanged();
    emit selectionChanged();
    emit runsChanged();
    emit cursorChanged();
    emit problemsChanged();
}

const Plan& Workspace::plan() const {
    const Plan* found = project().findPlan(planName_);
    return found ? *found : project().plans.front();
}

const Scene& Workspace::scene() const {
    const Scene* found = project().findScene(sceneName_);
    return found ? *found : project().scenes.front();
}

void Workspace::setPlan(const QString& name) {
    planName_ = name.toStdString();
    estimateTimer_.start();
    emit projectChanged();
}

void Workspace::setScene(const QString& name) {
    sceneName_ = name.toStdString();
    emit projectChanged();
}

void Workspace::startRun() {
    if (running()) return;
    const std::vector<Error> found = checkProject(project(), partLibrary());
    if (!found.empty()) return setProblems(found);
    auto prepared = Run::prepare(history_.shared(), {scene().name, plan().name, "", {}});
    if (!prepared) return setProblems({prepared.error()});
    setProblems({});
    auto entry = std::make_shared<RunEntry>();
    entry->number = ++lastRunNumber_;
    entry->run = *prepared;
    if (runs_.size() >= mostRunsKept) runs_.pop_back();
    runs_.insert(runs_.begin(), entry);
    entry->thread = std::thread([raw = entry.get()] {
        raw->run->execute();
        raw->over = true;
    });
    ended_ = false;
    pollTimer_.start();
    showRun(entry);
}

void Workspace::stopRun() {
    for (const auto& entry : runs_)
        if (entry->running()) entry->run->cancel();
}

bool Workspace::running() const { return !runs_.empty() && runs_.front()->running(); }

void Workspace::poll() {
    const bool over = !running();
    // A run may store faster than can be looked at: the window goes on working, and the traces follow.
    const bool all = catchUp(!over ? catchingMilliseconds : ended_ ? followingMilliseconds : endingMilliseconds);
    emit runProgressed();
    if (over && all) {
        pollTimer_.stop();
        if (ended_) emit runsChanged();  // measures were made of the traces as far as they were known
    }
    if (!over || ended_) return;
    ended_ = true;
    RunEntry& entry = *runs_.front();
    if (entry.thread.joinable()) entry.thread.join();
    learnCost(*entry.run);
    if (entry.run->summary().error) setProblems({*entry.run->summary().error});
    emit runsChanged();
}

/// Takes new points into the traces for about so long. @return whether all are in
bool Workspace::catchUp(int milliseconds) {
    const Stopwatch watch;
    bool all = false;
    while (!all && watch.seconds() < 1e-3 * milliseconds) {
        all = true;
        for (const auto& [name, trace] : traces_)
            if (trace && !trace->update(pointsAtOnce)) all = false;
    }
    return all;
}

void Workspace::showRun(std::shared_ptr<RunEntry> entry) {
    shownRun_ = std::move(entry);
    traces_.clear();
    setCursor({});
    emit runsChanged();
}

Trace* Workspace::trace(const std::string& quantity) {
    if (!shownRun_) return nullptr;
    const auto found = traces_.find(quantity);
    if (found != traces_.end()) return found->second.get();
    auto trace = shownRun_->run->trace(quantity, pointsAtOnce);
    if (trace && trace->size() >= pointsAtOnce) pollTimer_.start();
    return traces_.emplace(quantity, std::move(trace)).first->second.get();
}

bool Workspace::shownRunIsOld() const {
    if (!shownRun_) return false;
    const Project& then = shownRun_->run->project();
    return !(then.sheets == project().sheets && then.parameters == project().parameters);
}

void Workspace::setCursor(std::optional<Tick> t) {
    if (t == cursor_) return;
    cursor_ = t;
    emit cursorChanged();
}

void Workspace::setProblems(std::vector<Error> problems) {
    problems_ = std::move(problems);
    emit problemsChanged();
}

void Workspace::keepWork() {
    if (!recovery_) return;
    if (!history_.modified()) return recovery_->clear();
    if (auto status = recovery_->keep(project(), path_.toStdString()); !status)
        emit refused(QString::fromStdString(status.error().message));
}

void Workspace::check() {
    checks_.clear();
    for (Error& error : checkProject(project(), partLibrary())) checks_.push_back({std::move(error), true});
    if (checks_.empty())
        for (Error& error : advise(project(), partLibrary(), nets_, *parameters_))
            checks_.push_back({std::move(error), false});
    emit checksChanged();
}

void Workspace::estimate() {
    check();
    price_.reset();
    if (auto prepared = Run::prepare(history_.shared(), {scene().name, plan().name, "", {}, 0})) {
        const std::int64_t edges = (*prepared)->expectedEdges();
        if (edges > 0) price_ = Price{static_cast<double>(edges) * secondsPerEdge_, edges};
    }
    emit runProgressed();
}

/// What an edge cost in this run predicts the next.
void Workspace::learnCost(const Run& run) {
    const std::int64_t edges = run.expectedEdges();
    if (edges <= 0 || run.summary().reached <= 0) return;
    const double part = toSeconds(run.summary().reached) / toSeconds(run.end());
    if (part > 0.05) secondsPerEdge_ = run.summary().second("total") / (part * static_cast<double>(edges));
    estimate();
}

}  // namespace hedgerow::app
