#include "base/runs.h"

#include <algorithm>
#include <future>

#include <QCoreApplication>

#include "ledger/measured_run.h"
#include "traces/expression.h"

namespace hedgerow::app {

namespace {
constexpr int pollMilliseconds = 33;
constexpr std::size_t mostWithoutLedger = 24;
constexpr std::size_t pointsAtOnce = 20'000;        ///< that a trace takes in
constexpr std::size_t pointsWaitedFor = 1'000'000;  ///< of a run that is over: more come bit by bit
constexpr int catchingMilliseconds = 8, endingMilliseconds = 300,
              followingMilliseconds = 24;  ///< for all traces, while a run goes on and at its end

}  // namespace

Result<std::shared_ptr<Ledger>> openLedger(const std::filesystem::path& folder) {
    try {
        return Ledger::open(folder);
    } catch (const std::bad_alloc&) {
        return Error{ErrorCode::resource, "there is no memory left to list the kept runs"};
    }
}

RunEntry::~RunEntry() {
    if (live) live->cancel();
    if (thread.joinable()) thread.join();
}

Runs::Runs(ParameterLookup parameters, QObject* parent) : QObject(parent), parameters_(std::move(parameters)) {
    pollTimer_.setInterval(pollMilliseconds);
    connect(&pollTimer_, &QTimer::timeout, this, &Runs::poll);
}

Runs::~Runs() {
    leave();
    finishers_.finish();
    QCoreApplication::sendPostedEvents(this,
                                       QEvent::MetaCall);  // names that were given meanwhile go with what was kept
}

bool Runs::told(const Status& status) {
    if (!status) emit said(QString::fromStdString(status.error().message), true);
    return static_cast<bool>(status);
}

// ---- running

void Runs::start(std::shared_ptr<Run> run) {
    auto entry = std::make_shared<RunEntry>();
    entry->number = ++lastNumber_;
    entry->about.plan = run->plan();
    entry->about.scene = run->scene();
    entry->run = entry->live = std::move(run);
    entry->over = false;
    if (!ledger_ && runs_.size() >= mostWithoutLedger) runs_.pop_back();
    runs_.insert(runs_.begin(), entry);
    entry->thread = std::thread([raw = entry.get()] {
        raw->live->execute();
        raw->over = true;
    });
    current_ = entry;
    pollTimer_.start();
    keep(entry);
    show(entry);
}

RunPointer Runs::add(std::shared_ptr<Run> run, const std::string& name) {
    for (const RunPointer& known : runs_)
        if (known->live == run) return known;
    auto entry = std::make_shared<RunEntry>();
    entry->number = ++lastNumber_;
    entry->about.plan = run->plan();
    entry->about.scene = run->scene();
    entry->about.name = name;
    entry->about.seconds = run->summary().second("total");
    entry->about.points = static_cast<std::int64_t>(run->points());
    entry->about.outcome = run->summary().brief();
    entry->run = entry->live = std::move(run);
    if (!ledger_ && runs_.size() >= mostWithoutLedger) runs_.pop_back();
    runs_.insert(runs_.begin(), entry);
    emit changed();
    return entry;
}

void Runs::stop() {
    for (const RunPointer& entry : runs_)
        if (entry->running()) entry->live->cancel();
}

void Runs::poll() {
    const bool over = !running();
    // A run may store faster than can be looked at: the window goes on working, and the traces follow.
    const bool all = catchUp(!over ? catchingMilliseconds : !current_ ? followingMilliseconds : endingMilliseconds);
    emit progressed();
    if (over && all) {
        pollTimer_.stop();
        if (!current_) emit changed();  // measures were made of the traces as far as they were known
    }
    if (over && current_) noteEnd();
}

void Runs::noteEnd() {
    const RunPointer entry = std::exchange(current_, nullptr);
    if (entry->thread.joinable()) entry->thread.join();
    const RunSummary& summary = entry->run->summary();
    entry->about.seconds = summary.second("total");
    entry->about.points = static_cast<std::int64_t>(entry->run->points());
    entry->about.outcome = summary.brief();
    std::erase_if(entry->traces, [](const auto& known) { return !known.second; });  // expressions can be computed now
    emit ended(*entry);
    emit changed();
}

/// Takes new points into the traces for about so long. @return whether all are in
bool Runs::catchUp(int milliseconds) {
    const Stopwatch watch;
    bool all = false;
    while (!all && watch.seconds() < 1e-3 * milliseconds) {
        all = true;
        for (const RunPointer& entry : runs_)
            if (entry == shown_ || entry->pinned)
                for (const auto& [name, trace] : entry->traces)
                    if (trace && !trace->update(pointsAtOnce)) all = false;
    }
    return all;
}

// ---- the ledger

void Runs::leave() {
    stop();
    pollTimer_.stop();
    ++generation_;
    // A run that is stopped ends soon, but not at once: its thread is joined beside the window.
    for (RunPointer& entry : runs_)
        if (entry->thread.joinable()) finishers_.start([held = entry] { held->thread.join(); });
    runs_.clear();
    shown_.reset();
    current_.reset();
    ledger_.reset();
    lastNumber_ = 0;
}

void Runs::list(const std::filesystem::path& folder) {
    std::error_code failed;
    if (folder.empty() || !std::filesystem::exists(folder, failed)) return emit changed();
    auto promise = std::make_shared<std::promise<Result<std::shared_ptr<Ledger>>>>();
    auto opened = promise->get_future().share();
    finishers_.start([this, folder, promise, opened, generation = generation_] {
        promise->set_value(openLedger(folder));
        QMetaObject::invokeMethod(this, [this, opened, generation] {
            if (generation == generation_ && !ledger_) take(opened.get());
        });
    });
    if (opened.wait_for(std::chrono::milliseconds(patience)) == std::future_status::ready) take(opened.get());
}

/// The ledger of the project that is open.
void Runs::take(const Result<std::shared_ptr<Ledger>>& ledger) {
    if (ledger) {
        ledger_ = *ledger;
        if (!ledger_->notice().empty()) emit said(QString::fromStdString(ledger_->notice()), true);
        listKept();
    } else {
        emit said(QString::fromStdString(ledger.error().message), true);
    }
    emit changed();
}

void Runs::keepIn(const Result<std::shared_ptr<Ledger>>& ledger) {
    if (!ledger) return (void)told(ledger.error());
    if (keepsIn((*ledger)->folder())) return;
    ledger_ = *ledger;
    if (!ledger_->notice().empty()) emit said(QString::fromStdString(ledger_->notice()), true);
    const std::vector<RunPointer> before(runs_.rbegin(), runs_.rend());
    // Those of another ledger stay there.
    std::erase_if(runs_, [](const RunPointer& entry) { return !entry->live && entry->measuredFrom.isEmpty(); });
    for (const RunPointer& entry : before)
        if (entry->live) keep(entry);
    listKept();
    emit changed();
}

/// Adds those of the ledger that the list does not have.
void Runs::listKept() {
    const auto kept = ledger_->runs();
    if (!kept) return (void)told(kept.error());
    for (const KeptRun& about : *kept) {
        const auto same = [&](const RunPointer& entry) { return entry->about.file == about.file; };
        if (std::any_of(runs_.begin(), runs_.end(), same)) continue;
        auto entry = std::make_shared<RunEntry>();
        entry->number = about.number;
        entry->about = about;
        runs_.push_back(std::move(entry));
        lastNumber_ = std::max(lastNumber_, about.number);
    }
}

/// Beside the window and the run: writing may take as long as the run.
void Runs::keep(const RunPointer& entry) {
    if (!ledger_ || ledger_->readOnly()) return;
    finishers_.start([this, entry, ledger = ledger_, generation = generation_] {
        const auto kept = [&]() -> Result<KeptRun> {
            try {
                return ledger->keep(*entry->live, [raw = entry.get()] { return raw->over.load(); });
            } catch (const std::bad_alloc&) {
                return Error{ErrorCode::resource, "the run was not kept: there is no memory left"};
            }
        }();
        QMetaObject::invokeMethod(this, [this, entry, ledger, kept, generation] {
            if (!kept) {
                if (generation == generation_ && entry->live->points() > 0) (void)told(kept.error());
                return;
            }
            const KeptRun meanwhile = std::exchange(entry->about, *kept);
            entry->number = kept->number;
            entry->about.name = meanwhile.name, entry->about.note = meanwhile.note, entry->about.star = meanwhile.star;
            Status said;
            if (!meanwhile.name.empty()) said = ledger->setName(kept->number, meanwhile.name);
            if (!meanwhile.note.empty() && said) said = ledger->setNote(kept->number, meanwhile.note);
            if (meanwhile.star && said) said = ledger->setStar(kept->number, true);
            if (generation != generation_) return;
            (void)told(said);
            lastNumber_ = std::max(lastNumber_, kept->number);
            const auto gone = [&](const RunPointer& other) {  // beyond the bound
                return other != shown_ && !other->pinned && !other->running() && !other->about.file.empty() &&
                       !ledger->has(other->about);
            };
            if (ledger_ == ledger) std::erase_if(runs_, gone);
            emit changed();
        });
    });
}

void Runs::readBeside(std::function<Loaded()> read, std::function<void(const Loaded& found)> then) {
    struct Reading {
        std::promise<Loaded> promise;
        std::shared_future<Loaded> found = promise.get_future().share();
        bool taken = false;
    };
    auto reading = std::make_shared<Reading>();
    const auto take = [this, reading, then = std::move(then), generation = generation_] {
        if (!std::exchange(reading->taken, true) && generation == generation_) then(reading->found.get());
    };
    finishers_.start([this, reading, read = std::move(read), take] {
        try {
            reading->promise.set_value(read());
        } catch (const std::bad_alloc&) {
            reading->promise.set_value(Error{ErrorCode::resource, "there is no memory left to read this run"});
        }
        QMetaObject::invokeMethod(this, take);
    });
    if (reading->found.wait_for(std::chrono::milliseconds(patience)) == std::future_status::ready) take();
}

/// Calls `then` when the run of an entry is there.
void Runs::load(const RunPointer& entry, std::function<void()> then) {
    if (entry->run) return then();
    if (!ledger_) return;
    readBeside([ledger = ledger_, about = entry->about]() -> Loaded { return ledger->load(about); },
               [this, entry, then = std::move(then)](const Loaded& found) {
                   if (!found) return (void)told(found.error());
                   if (!entry->run) entry->run = *found;
                   then();
               });
}

void Runs::show(const RunPointer& entry) {
    wanted_ = entry;
    if (!entry) return showLoaded(entry);
    load(entry, [this, entry] {
        const bool listed = std::find(runs_.begin(), runs_.end(), entry) != runs_.end();
        if (wanted_.lock() == entry && listed) showLoaded(entry);
    });
}

void Runs::showLoaded(const RunPointer& entry) {
    if (shown_ && shown_ != entry && !shown_->pinned) {
        shown_->traces.clear();
        if (!shown_->live && shown_->measuredFrom.isEmpty()) shown_->run.reset();  // it can be read again
    }
    shown_ = entry;
    emit changed();
}

bool Runs::addMeasured(const QString& path) {
    auto good = std::make_shared<bool>(true);
    readBeside([path]() -> Loaded { return openMeasured(path.toStdString()); },
               [this, path, good](const Loaded& read) {
                   if (!read) {
                       *good = false;
                       return (void)told(read.error());
                   }
                   auto entry = std::make_shared<RunEntry>();
                   entry->number = ++lastNumber_;
                   entry->measuredFrom = path;
                   entry->run = *read;
                   entry->about.plan = "measured";
                   entry->about.name = (*read)->plan();
                   entry->about.points = static_cast<std::int64_t>((*read)->points());
                   entry->pinned = true;
                   // Behind a run that is on its way: that is always the first.
                   runs_.insert(runs_.begin() + (running() ? 1 : 0), entry);
                   if (!shown_) return show(entry);
                   emit changed();
               });
    return *good;
}

void Runs::setTiming(const RunPointer& entry, double offset, double scale) {
    if (!entry->run) return;
    auto moved = retimed(*entry->run, offset, scale);
    if (!moved) return (void)told(moved.error());
    entry->run = *moved;
    entry->offset = offset;
    entry->scale = scale;
    entry->traces.clear();
    emit changed();
}

RunPointer Runs::measured() const {
    if (shown_ && !shown_->measuredFrom.isEmpty()) return shown_;
    for (const RunPointer& entry : beside())
        if (!entry->measuredFrom.isEmpty()) return entry;
    return nullptr;
}

void Runs::pin(const RunPointer& entry, bool pinned) {
    const auto set = [this, entry, pinned] {
        entry->pinned = pinned;
        emit changed();
    };
    if (pinned)
        load(entry, set);
    else
        set();
}

std::vector<RunPointer> Runs::beside() const {
    std::vector<RunPointer> found;
    for (const RunPointer& entry : runs_)
        if (entry->pinned && entry != shown_ && entry->run && !entry->running()) found.push_back(entry);
    return found;
}

void Runs::setName(const RunPointer& entry, const std::string& name) {
    if (isKept(*entry) && !told(ledger_->setName(entry->number, name))) return;
    entry->about.name = name;
    emit changed();
}

void Runs::setNote(const RunPointer& entry, const std::string& note) {
    if (isKept(*entry) && !told(ledger_->setNote(entry->number, note))) return;
    entry->about.note = note;
    emit changed();
}

void Runs::setStar(const RunPointer& entry, bool star) {
    if (isKept(*entry) && !told(ledger_->setStar(entry->number, star))) return;
    entry->about.star = star;
    emit changed();
}

void Runs::remove(const RunPointer& entry) {
    if (entry->running() || entry == current_) return;
    if (ledger_ && !entry->about.file.empty() && !told(ledger_->remove(entry->number))) return;
    if (shown_ == entry) shown_.reset();
    std::erase(runs_, entry);
    emit changed();
}

// ---- traces

Result<std::shared_ptr<Trace>> Runs::expression(RunEntry& entry, const std::string& text) {
    const auto quantity = [&](std::string_view name) -> std::shared_ptr<const Trace> {
        if (!entry.run->findQuantity(name)) return nullptr;
        auto trace = entry.run->trace(name);
        return std::shared_ptr<const Trace>(std::move(trace));
    };
    return traceOf(text, quantity, parameters_);
}

std::shared_ptr<Trace> Runs::sharedTrace(RunEntry& entry, const std::string& quantity) {
    if (!entry.run) return nullptr;
    const auto found = entry.traces.find(quantity);
    if (found != entry.traces.end()) return found->second;
    std::shared_ptr<Trace> trace =
        entry.run->trace(quantity, entry.running() || entry.run->points() > pointsWaitedFor ? pointsAtOnce : SIZE_MAX);
    if (!trace && !entry.running())
        if (auto computed = expression(entry, quantity)) trace = *computed;
    if (trace && trace->size() >= pointsAtOnce) pollTimer_.start();
    return entry.traces.emplace(quantity, std::move(trace)).first->second;
}

std::string Runs::mistakeIn(const std::string& text) {
    if (!shown_ || shown_->running()) return "there is no run yet whose quantities it could use";
    const auto computed = expression(*shown_, text);
    return computed ? "" : computed.error().message;
}

std::optional<std::string> Runs::unitOf(const std::string& quantity) {
    if (!shown_ || !shown_->run) return {};
    if (const QuantityInfo* info = shown_->run->findQuantity(quantity)) return info->unit;
    const Trace* known = trace(quantity);
    return known ? std::optional(known->unit()) : std::nullopt;
}

}  // namespace hedgerow::app
