#include "base/workspace.h"

#include <fmt/format.h>
#include <QDir>
#include <QFileInfo>

#include "base/file.h"
#include "base/machine.h"

#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "model/module_edits.h"
#include "model/periods.h"
#include "network/advice.h"
#include "analysis/observations.h"
#include "runs/registry.h"
#include "base/shared_files.h"
#include "traces/measures.h"

namespace hedgerow::app {

namespace {
constexpr int keepMilliseconds = 800;  ///< after the first change that is not kept yet
constexpr int estimateMilliseconds = 150;
constexpr std::size_t mostObserved = 2'000'000;  ///< points of a run that is looked through in the window's thread
}  // namespace

Result<double> Workspace::timeOf(const std::string& text) const {
    return evaluateTime(text, project(), partLibrary().catalogue(), parameters().lookup());
}

Workspace::Workspace(QObject* parent) : QObject(parent), catalogue_(partLibrary().catalogue()) {
    runList_ = new Runs([this](std::string_view name) { return parameters_->lookup()(name); }, this);
    connect(runList_, &Runs::changed, this, [this] {
        if (cursorRun_.lock() != shownRun()) setCursor({}), setMark({});
        cursorRun_ = shownRun();
        emit runsChanged();
    });
    connect(runList_, &Runs::progressed, this, &Workspace::runProgressed);
    const auto countPeriods = [this] {
        const auto before = periods_;
        findPeriods();
        if (before != periods_) emit measuredChanged();
    };
    connect(this, &Workspace::runsChanged, this, countPeriods);
    connect(this, &Workspace::runProgressed, this, countPeriods);
    connect(this, &Workspace::projectChanged, this, countPeriods);
    connect(runList_, &Runs::ended, this, &Workspace::noteEnd);
    connect(runList_, &Runs::said, this, [this](const QString& message) { emit refused(message); });
    keepTimer_.setInterval(keepMilliseconds);
    keepTimer_.setSingleShot(true);
    estimateTimer_.setInterval(estimateMilliseconds);
    estimateTimer_.setSingleShot(true);
    nextRunTimer_.setInterval(0);
    nextRunTimer_.setSingleShot(true);
    connect(&nextRunTimer_, &QTimer::timeout, this, &Workspace::runNext);
    connect(&keepTimer_, &QTimer::timeout, this, &Workspace::keepWork);
    connect(&estimateTimer_, &QTimer::timeout, this, &Workspace::estimate);
    learning_.start([this, file = bookFile_](const CancelToken&) -> std::function<void()> {
        return [this, book = PriceBook::read(file)] { book_ = book; };
    });
    adopt({}, {}, false);
}

Workspace::~Workspace() = default;

Status Workspace::apply(const Edit& edit) {
    const auto before = history_.shared();  // what views look at lives until all have followed
    // A project holds all modules that it uses.
    const Edit whole{edit.label,
                     [&](Project& changed) {
                         auto made = edit.apply(changed);
                         if (made) edits::takeMissingModules(changed, library_.modules);
                         return made;
                     },
                     edit.mergeKey};
    auto status = history_.apply(whole);
    if (!status) {
        emit refused(QString::fromStdString(status.error().message));
        return status;
    }
    followChange(before->view);
    return status;
}

/// After a change that may have brought another sheet into view.
void Workspace::followChange(const View& before) {
    const View& now = project().view;
    const bool other = now.sheet != before.sheet || now.path != before.path;
    afterChange();
    if (other) emit viewChanged();
}

void Workspace::look(const View& view) {
    const auto before = history_.shared();  // what views look at lives until all have followed
    history_.look(view);
    if (project().view.sheet == before->view.sheet && project().view.path == before->view.path) return;
    followChange(before->view);
}

void Workspace::openPlace(int part) {
    std::vector<int> path = project().view.path;
    if (const Part* place = project().findPart(part); place && path.empty() && project().showsModule()) {
        // A module that was opened by itself has no way to it from the main sheet.
        const Sheet* inner = project().findSheet(moduleOf(place->kind));
        if (inner) look({static_cast<std::size_t>(inner - project().sheets.data()), {}});
        return;
    }
    path.push_back(part);
    look(viewAlong(project(), path));
}

void Workspace::leaveModule() {
    std::vector<int> path = project().view.path;
    const int place = path.empty() ? 0 : path.back();
    if (!path.empty()) path.pop_back();
    look(viewAlong(project(), path));
    if (place != 0) select({place});
}

std::optional<int> Workspace::lookAtPart(const std::string& name) {
    std::vector<int> path;
    const Sheet* sheet = &project().sheets.front();
    for (std::size_t from = 0; sheet;) {
        const std::size_t dot = name.find('.', from);
        const std::string own = name.substr(from, dot == std::string::npos ? dot : dot - from);
        const auto part = std::find_if(sheet->parts.begin(), sheet->parts.end(),
                                       [&](const Part& candidate) { return candidate.name == own; });
        if (part == sheet->parts.end()) return {};
        if (dot == std::string::npos) {
            const int id = part->id;
            look(viewAlong(project(), path));
            return id;
        }
        path.push_back(part->id);
        sheet = project().findSheet(moduleOf(part->kind));
        from = dot + 1;
    }
    return {};
}

const Part* Workspace::partInView(const std::string& name) const {
    const std::string prefix = prefixInView(project());
    if (!name.starts_with(prefix)) return nullptr;
    const std::string own = name.substr(prefix.size());
    return project().findPart(std::string_view(own).substr(0, own.find('.')));
}

std::string Workspace::outside(const std::string& quantity) const {
    if (!project().showsModule()) return quantity;
    const std::size_t dot = quantity.rfind('.');
    if (const auto net = netsOutside_.find(quantity.substr(0, dot)); net != netsOutside_.end())
        return net->second + quantity.substr(dot);
    return prefixInView(project()) + quantity;
}

void Workspace::readLibraries(const std::vector<std::filesystem::path>& folders) {
    library_ = readLibrary(folders);
    cataloguedModules_.clear();
    catalogue_ = {};  // made anew even where the project has no modules
    refreshCatalogue();
    for (const Error& error : library_.errors) emit refused(QString::fromStdString(error.text()));
}

void Workspace::refreshCatalogue() {
    const std::vector<Sheet> modules(project().sheets.begin() + 1, project().sheets.end());
    const bool same = !catalogue_.all().empty() && modules == cataloguedModules_ && project().kept == cataloguedParts_;
    if (same) return;
    catalogue_ = withModules(partLibrary().catalogue(), project(), library_.modules);
    cataloguedModules_ = modules;
    cataloguedParts_ = keptParts_ = project().kept;
    for (const Part& part : library_.kept) {
        const auto same = [&](const Part& own) { return own.name == part.name; };
        if (std::none_of(keptParts_.begin(), keptParts_.end(), same)) keptParts_.push_back(part);
    }
    emit catalogueChanged();
}

void Workspace::used(const std::string& kind) {
    std::erase(recentKinds_, kind);
    recentKinds_.insert(recentKinds_.begin(), kind);
}

void Workspace::undo() {
    const auto before = history_.shared();  // what views look at lives until all have followed
    history_.undo();
    followChange(before->view);
}

void Workspace::redo() {
    const auto before = history_.shared();  // what views look at lives until all have followed
    history_.redo();
    followChange(before->view);
}

void Workspace::afterChange() {
    refreshCatalogue();
    nets_ = findNets(project().sheet(), catalogue());
    parameters_ = std::make_unique<ParameterTable>(project().parametersInView());
    netsOutside_.clear();
    if (project().showsModule()) netsOutside_ = netNamesOutside(project(), nets_, partLibrary().catalogue());
    std::set<int> still;
    for (const int id : selection_)
        if (project().findPart(id) || project().findWire(id) || project().findLabel(id)) still.insert(id);
    const bool selectionShrank = still != selection_;
    selection_ = std::move(still);
    if (!problems_.empty()) setProblems({});
    if (!keepTimer_.isActive()) keepTimer_.start();  // steady editing must not put it off
    estimateTimer_.start();
    emit projectChanged();
    if (selectionShrank) emit selectionChanged();
}

void Workspace::select(std::set<int> ids) {
    chooseTrace("");
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
    openingPath_ = path;
    openError_ = {};
    late_ = false;
    opening_.start([this, path, before = history_.shared()](const CancelToken&) -> std::function<void()> {
        const std::string stamp = fileStamp(path.toStdString());
        auto loaded = std::make_shared<Result<LoadedProject>>(
            Error{ErrorCode::resource, path.toStdString() + " cannot be read: there is no memory left"});
        try {
            *loaded = loadHedge(path.toStdString());
            if (*loaded) (*loaded)->project.folder.allow(AllowedFiles::ofUser().of(path.toStdString()));
        } catch (const std::bad_alloc&) {
            keepMemoryReserve();
        }
        return [this, path, before, stamp, loaded] {
            openingPath_.clear();
            if (history_.shared() != before && history_.modified())
                openError_ = Error{ErrorCode::file, path.toStdString() +
                                                        " is not shown: the project in view was changed "
                                                        "while it was read. Open it again"};
            else
                take(path, stamp, *loaded);
            if (std::exchange(late_, false) && !openError_)
                emit refused(QString::fromStdString(std::exchange(openError_, {}).error().text()));
        };
    });
    if (opening_.waitFor(patience)) return std::exchange(openError_, {});
    late_ = true;  // what goes wrong from now on is told, not returned
    return {};
}

void Workspace::take(const QString& path, const std::string& stamp, Result<LoadedProject>& loaded) {
    if (!loaded) {
        openError_ = loaded.error();
        return;
    }
    adopt(std::move(loaded->project), QDir(path).absolutePath(), false);
    stamp_ = stamp;
    runList_->list(ledgerFolder());
    readOnly_ = loaded->readOnly;
    if (!loaded->notice.empty()) emit refused(QString::fromStdString(loaded->notice));
    emit fileChanged();
}

Status Workspace::save(const QString& path) {
    if (readOnly_ && path == path_)
        return Error{ErrorCode::file, "this project was written by a newer version: save it under another name"};
    if (auto status = saveHedge(project(), path.toStdString()); !status) return status;
    stamp_ = fileStamp(path.toStdString());
    const bool moved = path != path_;
    path_ = path;
    readOnly_ = false;
    if (moved) {
        ProjectFolder folder = project().folder;
        folder.moveTo(QFileInfo(path).absolutePath().toStdString());
        history_.setFolder(std::move(folder));
        estimateTimer_.start();
    }
    if (runs().empty()) runList_->leave(), runList_->list(ledgerFolder());
    history_.markSaved();
    dropKeptWork();
    emit fileChanged();
    return {};
}

bool Workspace::changedOnDisk() const {
    return !path_.isEmpty() && !stamp_.empty() && fileStamp(path_.toStdString()) != stamp_;
}

Status Workspace::recover(const RecoveredWork& work) {
    Project project = work.project;
    if (!work.originalPath.empty()) project.folder.allow(AllowedFiles::ofUser().of(work.originalPath));
    // Kept by this session before it is shown: a crash from here on finds one copy or both.
    keeping_.finish();  // of two copies the later one must be this
    Status kept = recovery_ ? recovery_->keep(project, work.originalPath, work.stamp)
                            : Status(Error{ErrorCode::file, "unsaved work is not kept by this session"});
    const QString path = QString::fromStdString(work.originalPath);
    adopt(std::move(project), path, true);
    stamp_ = work.stamp;
    runList_->list(ledgerFolder());
    return kept;
}

Status Workspace::allowOutside() {
    if (outside_.empty()) return {};
    ProjectFolder folder = project().folder;
    folder.allow(outside_);
    if (!path_.isEmpty())
        if (auto kept = AllowedFiles::ofUser().allow(path_.toStdString(), outside_); !kept) return kept;
    history_.setFolder(std::move(folder));
    estimate();
    emit projectChanged();
    return {};
}

void Workspace::leave() {
    emit left();
    opening_.drop();
    openingPath_.clear();
    preparing_.drop();
    starting_ = false;
    judging_.drop();
    runList_->leave();
    nextRunTimer_.stop();
    estimateTimer_.stop();
    comparing_.clear();
    runAgain_ = false;
    selection_.clear();
    cursor_.reset();
    mark_.reset();
    cursorRun_.reset();
    window_ = {0, 0};
    periods_.reset();
    chosenTrace_.clear();
    problems_.clear();
    checks_.clear();
    observed_.clear();
    price_.reset();
    pricing_.drop();
    plannedSpans_.clear();
    outside_.clear();
    readOnly_ = false;
    path_.clear();
    stamp_.clear();
}

void Workspace::adopt(Project project, const QString& path, bool unsaved) {
    const auto before = history_.shared();  // what views look at lives until all have followed
    leave();
    history_ = History(std::move(project));
    cataloguedParts_.clear();
    if (unsaved) history_.markUnsaved();
    path_ = path;
    planName_ = this->project().plans.front().name;
    sceneName_ = this->project().scenes.front().name;
    afterChange();
    emit viewChanged();
    emit fileChanged();
    emit selectionChanged();
    emit runsChanged();
    emit cursorChanged();
    emit measuredChanged();
    emit chosenTraceChanged();
    emit problemsChanged();
    emit checksChanged();
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
    estimateTimer_.start();
    emit projectChanged();
}

void Workspace::startRun() {
    if (running()) return;
    runAgain_ = false;
    start(history_.shared(), {.scene = scene().name});
}

void Workspace::settle() {
    if (running()) return;
    runAgain_ = false;
    start(history_.shared(), {.scene = scene().name, .settle = true});
}

void Workspace::stopRun() {
    comparing_.clear();
    runAgain_ = false;
    runList_->stop();
    if (!std::exchange(starting_, false)) return;
    preparing_.drop();
    emit runsChanged();
}

/// What a run needs before it goes.
struct Workspace::Prepared {
    std::vector<Error> problems;  ///< why it cannot
    std::shared_ptr<Run> run;
    std::optional<Result<std::shared_ptr<Ledger>>> ledger;  ///< where it is kept, where that is not open yet
};

/// Beside the window: checks, laying out and opening the ledger take their time with large circuits and slow disks.
void Workspace::start(std::shared_ptr<const Project> project, RunSettings settings, const std::string& name) {
    starting_ = true;
    setProblems({});
    settings.plan = plan().name;
    const std::filesystem::path folder = ledgerFolder();
    const bool open = !folder.empty() && !runList_->keepsIn(folder);
    preparing_.start([this, project = std::move(project), settings, name, folder, open](const CancelToken&) -> std::function<void()> {
        auto made = std::make_shared<Prepared>();
        try {
            made->problems = checkProject(*project, partLibrary());
            if (made->problems.empty()) {
                auto run = Run::prepare(project, settings);
                if (run)
                    made->run = *run;
                else
                    made->problems = {run.error()};
            }
        } catch (const std::bad_alloc&) {
            keepMemoryReserve();
            made->problems = {Error{ErrorCode::resource, "there is no memory left to prepare this run"}};
        }
        if (made->run && open) made->ledger = openLedger(folder);
        return [this, made, name] { startPrepared(*made, name); };
    });
    if (!preparing_.waitFor(patience)) emit runsChanged();
}

void Workspace::startWith(std::shared_ptr<const Project> project, const std::string& name) {
    if (!running()) start(std::move(project), {.scene = scene().name}, name);
}

void Workspace::startPrepared(const Prepared& prepared, const std::string& name) {
    starting_ = false;
    setProblems(prepared.problems);
    if (!prepared.run) {
        comparing_.clear();
        runAgain_ = false;
        return emit runsChanged();
    }
    if (prepared.ledger) runList_->keepIn(*prepared.ledger);
    const bool otherPlan = !shownRun() || !shownRun()->run || shownRun()->run->plan() != prepared.run->plan();
    // What was expected is of the very project that is run.
    startedPrice_.reset();
    if (price_ && &prepared.run->project() == pricedProject_.get() && prepared.run->plan() == pricedPlan_ &&
        prepared.run->scene() == pricedScene_ && !prepared.run->settles()) {
        startedPrice_ = price_;
        std::vector<double> spans;
        for (const SpanPrice& span : price_->spans) spans.push_back(span.seconds);
        prepared.run->expect(std::move(spans), price_->seconds);
    }
    runList_->start(prepared.run);
    if (!name.empty()) {
        runList_->setName(shownRun(), name);
        runList_->pin(shownRun(), true);
    }
    for (const LaneSet& set : project().laneSets)
        if (otherPlan && set.plan == prepared.run->plan() && set.lanes != project().lanes) {
            (void)apply(edits::showLaneSet(set.name));
            break;
        }
}

void Workspace::compareWithRungBelow() {
    if (running()) return;
    auto lower = std::make_shared<Project>(project());
    if (!edits::climb(selection_, -1, catalogue()).apply(*lower) || *lower == project()) {
        emit refused("no selected part has a rung below its own");
        return;
    }
    runAgain_ = true;
    start(lower, {.scene = scene().name}, "a rung below");
}

void Workspace::compareScenes() {
    if (running()) return;
    comparing_.clear();
    for (const Scene& other : project().scenes)
        if (other.name != scene().name) comparing_.push_back(other.name);
    if (comparing_.empty()) return emit refused("there is no other scene to compare with");
    runNextScene();
}

void Workspace::runNextScene() {
    const std::string next = comparing_.front();
    comparing_.erase(comparing_.begin());
    runAgain_ = comparing_.empty();
    start(history_.shared(), {.scene = next}, next);
}

/// Where runs are kept; "" where they are not.
std::filesystem::path Workspace::ledgerFolder() const {
    return path_.isEmpty() || ships(path_) ? std::filesystem::path() : Ledger::folderOf(path_.toStdString());
}

void Workspace::noteEnd(const RunEntry& entry) {
    if (entry.live) learnCost(*entry.live);
    if (entry.run->summary().error) setProblems({*entry.run->summary().error});
    observed_.clear();
    if (entry.live && entry.run->points() < mostObserved)
        for (Observation& seen : observe(*entry.live)) observed_.push_back({std::move(seen.error), false, seen.at});
    estimate();
    if (entry.run->summary().end != RunEnd::finished) comparing_.clear(), runAgain_ = false;
    if (runAgain_ || !comparing_.empty()) nextRunTimer_.start();
}

void Workspace::runNext() {
    if (running()) return;
    if (!comparing_.empty()) return runNextScene();
    if (std::exchange(runAgain_, false)) startRun();
}

void Workspace::bringBack(const RunEntry& entry) {
    if (!entry.run) return;
    const Project& then = entry.run->project();
    (void)apply({"bring back run " + std::to_string(entry.number), [&](Project& now) -> Status {
                     now.sheets = then.sheets;
                     now.parameters = then.parameters;
                     now.scenes = then.scenes;
                     now.plans = then.plans;
                     now.view = {};
                     now.lastId = std::max(now.lastId, then.lastId);
                     return {};
                 }});
}

bool Workspace::isOld(const RunEntry& entry) const {
    if (!entry.run) return false;
    const Project& then = entry.run->project();
    return !(then.sheets == project().sheets && then.parameters == project().parameters);
}

void Workspace::setCursor(std::optional<Tick> t) {
    if (t == cursor_) return;
    cursor_ = t;
    emit cursorChanged();
}

void Workspace::setMark(std::optional<Tick> t) {
    if (t == mark_) return;
    mark_ = t;
    emit cursorChanged();
    emit measuredChanged();
}

void Workspace::setWindow(Tick from, Tick to) {
    window_ = {from, to};
    findPeriods();
    emit measuredChanged();
}

std::pair<Tick, Tick> Workspace::measured() const {
    if (mark_ && cursor_ && *mark_ != *cursor_) return std::minmax(*mark_, *cursor_);
    return periods_.value_or(window_);
}

std::string Workspace::measuredOver() const {
    if (mark_ && cursor_ && *mark_ != *cursor_) return "between the cursors";
    const MeasuredPeriods& wanted = project().measured;
    if (!periods_) return {};
    return wanted.count == 1 ? "over the last period of " + wanted.quantity
                             : fmt::format("over the last {} periods of {}", wanted.count, wanted.quantity);
}

/// Counts the last periods anew. Points beyond what can be counted while one waits give none.
void Workspace::findPeriods() {
    constexpr std::size_t mostPoints = 4'000'000;
    const MeasuredPeriods& wanted = project().measured;
    const Trace* of = wanted.quantity.empty() ? nullptr : trace(wanted.quantity);
    const bool countable = of && of->firstAtOrAfter(window_.second) - of->firstAtOrAfter(window_.first) <= mostPoints;
    const auto found = countable ? lastPeriods(*of, window_.first, window_.second, wanted.count) : std::nullopt;
    periods_ = found;
}

std::string Workspace::unitOf(const std::string& quantity) {
    if (const auto unit = runList_->unitOf(quantity)) return *unit;
    const std::string letter = quantity.substr(quantity.rfind('.') + 1);
    return letter == "v" ? "V" : letter == "i" ? "A" : letter == "p" ? "W" : "";
}

void Workspace::chooseTrace(const std::string& quantity) {
    if (!quantity.empty()) select({});
    if (quantity == chosenTrace_) return;
    chosenTrace_ = quantity;
    emit chosenTraceChanged();
}

void Workspace::setProblems(std::vector<Error> problems) {
    problems_ = std::move(problems);
    emit problemsChanged();
}

/// Beside the window: a slow disk must not make it wait.
void Workspace::keepWork() {
    if (!recovery_) return;
    if (!history_.modified()) return dropKeptWork();
    keeping_.start([this, slot = recovery_, project = history_.shared(), path = path_.toStdString(),
                    stamp = stamp_](const CancelToken&) -> std::function<void()> {
        auto status = slot->keep(*project, path, stamp);
        return [this, status] {
            if (!status) emit refused(QString::fromStdString(status.error().message));
        };
    });
}

/// After whatever is just being kept.
void Workspace::dropKeptWork() {
    if (!recovery_) return;
    keepTimer_.stop();
    keeping_.start([slot = recovery_](const CancelToken&) -> std::function<void()> {
        slot->clear();
        return [] {};
    });
}

namespace {

/// What is known of a project a moment after it changed.
struct Judgement {
    std::vector<Check> checks;
    std::set<std::string> outside;
    std::shared_ptr<Run> run;  ///< by the plan; null when it cannot run
};

Judgement judge(const std::shared_ptr<const Project>& project, const std::string& scene, const std::string& plan) {
    Judgement found;
    const FlatProject flat = flattened(*project, partLibrary().catalogue());
    for (Error& error : checkFlat(flat, partLibrary())) found.checks.push_back({std::move(error), true});
    if (found.checks.empty()) {
        const ParameterTable parameters(flat.project.parameters);
        for (Error& error : advise(flat.project, partLibrary(), flat.nets, parameters))
            found.checks.push_back({std::move(error), false});
    }
    found.outside = hedgerow::outsideFiles(*project);
    auto prepared = Run::prepare(project, {.scene = scene, .plan = plan, .memoryLimit = 0});
    if (prepared)
        found.run = *prepared;
    else if (prepared.error().field.starts_with("span ") && found.checks.empty())
        found.checks.push_back({prepared.error(), true});
    return found;
}

}  // namespace

/// Beside the window: a large circuit takes its time.
void Workspace::estimate() {
    judging_.start([this, project = history_.shared(), scene = scene().name,
                    plan = plan().name](const CancelToken&) -> std::function<void()> {
        return [this, found = judge(project, scene, plan)] {
            checks_ = found.checks;
            checks_.insert(checks_.end(), observed_.begin(), observed_.end());
            outside_ = found.outside;
            price_.reset();
            plannedSpans_.clear();
            if (found.run && found.run->epochs().typedSpans)
                for (const ReadySpan& span : found.run->epochs().spans)
                    plannedSpans_.push_back({.text = span.text,
                                             .from = span.from,
                                             .to = span.settle ? span.from : span.latest,
                                             .settle = span.settle,
                                             .waits = span.untilSettled || span.condition});
            if (found.run && !running())
                findPrice(found.run);
            else
                pricing_.drop();
            emit checksChanged();
            emit runProgressed();
        };
    });
}

/// Tries it out, beside the window.
void Workspace::findPrice(const std::shared_ptr<Run>& run) {
    constexpr double budget = 0.2;  // s
    pricing_.start([this, run, book = book_](const CancelToken& cancel) -> std::function<void()> {
        auto price = priceOf(*run, book, budget, cancel);
        return [this, run, price = std::move(price)]() mutable {
            price_.reset();
            if (price) price_ = std::move(*price);
            pricedProject_ = run->sharedProject(), pricedPlan_ = run->plan(), pricedScene_ = run->scene();
            emit runProgressed();
        };
    });
}

/// What a run has cost against what was expected predicts the next better.
void Workspace::learnCost(const Run& run) {
    if (!startedPrice_ || run.summary().priced <= 0) return;
    learnFrom(*startedPrice_, run.summary(), book_);
    learning_.start([book = book_, file = bookFile_](const CancelToken&) -> std::function<void()> {
        (void)book.write(file);
        return [] {};
    });
}

void Workspace::changePlan(const std::function<void(Plan&)>& change) {
    Plan changed = plan();
    change(changed);
    (void)apply(edits::setPlan(changed.name, changed));
}

}  // namespace hedgerow::app
