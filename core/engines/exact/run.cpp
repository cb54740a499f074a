#include "engines/exact/run.h"

#include <algorithm>
#include <cmath>
#include <set>

#include <fmt/format.h>

#include "base/text.h"
#include "engines/exact/operating_point.h"
#include "model/quantity.h"
#include "network/same_equations.h"

namespace hedgerow::exact {

namespace {
constexpr std::size_t chatterEvents = 1000;  ///< this many located events within `chatterSpan` are chattering
constexpr double chatterSpan = 1e-9;
}  // namespace

template <class Real>
typename Machinery<Real>::Counts Machinery<Real>::Counts::operator+(const Counts& other) const {
    return {.configurations = configurations + other.configurations,
            .subnetworksSolved = subnetworksSolved + other.subnetworksSolved,
            .revisits = revisits + other.revisits,
            .maps = maps + other.maps,
            .products = products + other.products,
            .points = points + other.points,
            .bytes = bytes + other.bytes,
            .cacheBytes = cacheBytes + other.cacheBytes,
            .secondsBuilding = secondsBuilding + other.secondsBuilding,
            .secondsMaps = secondsMaps + other.secondsMaps,
            .secondsStoring = secondsStoring + other.secondsStoring};
}

template <class Real>
typename Machinery<Real>::Counts Machinery<Real>::counts() const {
    return {.configurations = commutation.configurationsBuilt(),
            .subnetworksSolved = commutation.subnetworksSolved(),
            .revisits = commutation.configurationsRevisited(),
            .maps = maps.built(),
            .products = commutation.products(),
            .points = recorder.points(),
            .bytes = recorder.bytes(),
            .cacheBytes = static_cast<std::int64_t>(commutation.bytes()),
            .secondsBuilding = commutation.secondsBuilding(),
            .secondsMaps = maps.secondsBuilding(),
            .secondsStoring = recorder.seconds()};
}

template <class Real>
Run<Real>::Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel)
    : SwitchingLoop("exact", network, request, sink, cancel) {
    takeNetwork();
    y_ = Vector<Real>::Zero(stateLayout().size());
    for (const auto& element : network.elements) first_.push_back(element->initialSegment(false));
}

/// Takes the machinery of a network with the same equations, or makes one.
template <class Real>
void Run<Real>::takeNetwork() {
    if (mode_) first_ = mode_->segments;
    mode_ = nullptr;
    const auto known = std::find_if(machineries_.begin(), machineries_.end(),
                                    [&](const auto& one) { return sameEquations(one->network, network()); });
    if (known != machineries_.end()) {
        std::rotate(known, known + 1, machineries_.end());
    } else {
        makeRoom();
        machineries_.push_back(std::make_unique<Machinery<Real>>(network(), request(), sink(), cancelToken()));
    }
    machinery_ = machineries_.back().get();
    // The control may have other instants now.
    maps().dropPeriodMaps();
    modeGeneration_ = commutation().generation();
    slope_.resize(stateLayout().size());
    open_ = {};
}

/// Gives up machineries that were not used for longest: all but a few, and whatever would take too much memory.
template <class Real>
void Run<Real>::makeRoom() {
    constexpr std::size_t mostMachineries = 8, mostBytes = std::size_t{64} << 20;
    std::size_t bytes = 0, kept = 0;
    for (auto one = machineries_.rbegin(); one != machineries_.rend(); ++one) {
        bytes += (*one)->commutation.bytes();
        if (kept + 1 == mostMachineries || bytes > mostBytes) break;
        ++kept;
    }
    const auto gone = machineries_.end() - static_cast<std::ptrdiff_t>(kept);
    for (auto one = machineries_.begin(); one != gone; ++one) retired_ = (*one)->counts() + retired_;
    machineries_.erase(machineries_.begin(), gone);
}

template <class Real>
bool Run<Real>::begin(const std::vector<double>& states, const std::vector<int>& segments) {
    y_.resize(stateLayout().size());
    for (int i = 0; i < stateLayout().states; ++i) y_(i) = static_cast<Real>(states[static_cast<std::size_t>(i)]);
    refreshSources();
    chargeSources();
    seeStates();
    recorder().setSignals(clock().signals());
    signalVersion_ = gatesWait() ? -1 : clock().version();
    lastEvent_ = -1;
    enter(segments, {Cause::Sort::start, -1});
    return !error();
}

template <class Real>
double Run<Real>::scaleOf(const StateInfo& state) const {
    return static_cast<double>(state.sort == StateSort::capacitorVoltage ? scales().voltage() : scales().current());
}

template <class Real>
double Run<Real>::startTolerance() const {
    return 1e-9;  // of the largest voltage or current: a start value that moves less stays
}

template <class Real>
std::vector<double> Run<Real>::states() const {
    const Vector<Real>& y = ahead_ ? ahead_->y : y_;
    std::vector<double> all;
    for (int i = 0; i < stateLayout().states; ++i) all.push_back(static_cast<double>(y(i)));
    return all;
}

/// The next instant at which something is known to happen, or at which a point is asked for.
template <class Real>
Tick Run<Real>::nextKnown() const {
    Tick next = std::min({request().end, clock().next(), mode_->timed ? nextTimeout() : neverTick});
    if (instant_ < request().instants.size()) next = std::min(next, request().instants[instant_]);
    return next;
}

template <class Real>
void Run<Real>::move(Tick until) {
    ahead_.reset();
    while (instant_ < request().instants.size() && request().instants[instant_] <= t_) ++instant_;
    switch (alongIntervals(until)) {
        case Way::gone:
            break;
        case Way::insidePeriod:
            lookThroughPeriod(until);
            break;
        case Way::none:
            const Tick next = nextKnown();
            if (lastsUntil(next, until) && looksAhead(until)) break;
            stepToEvent(next);
    }
    // Steps and commutations look for themselves; what goes along known intervals is looked at now and then.
    if ((++looks_ % 32 == 0 || t_ >= until) && !y_.allFinite()) fail(beyondNumbers(stateLayout(), y_, t_));
    sink().progress(now());
}

/// Whether the interval that ends at `next`, or where modes of motion have died out, contains `until`.
template <class Real>
bool Run<Real>::lastsUntil(Tick next, Tick until) {
    if (until >= request().end || next < until) return false;
    const Rehearsal<Real> rehearsal(stateLayout());
    return upToFading(next) >= until;
}

/// Looks at what comes until then, and goes back. @return false when an event comes before it, to which the whole
/// interval leads
template <class Real>
bool Run<Real>::looksAhead(Tick until) {
    const Vector<Real> from = y_;
    const Tick start = t_;
    const Rehearsal<Real> rehearsal(stateLayout());
    peeking_ = true;
    wayLength_ = 0;
    startKnown_ = false;
    risen_.assign(mode_->guards.size(), 0);
    const int guard = locateEvents(until);
    peeking_ = false;
    wayLength_ = 0;
    startKnown_ = false;
    const bool whole = guard < 0 && !stopped();
    if (whole) ahead_ = Ahead{.t = until, .y = y_};
    y_ = from;
    t_ = start;
    return whole || stopped();
}

/// The same where events lie between, all of which only gates and guards make.
template <class Real>
void Run<Real>::lookThroughPeriod(Tick until) {
    const Spot spot = mark();
    const Vector<Real> y = y_;
    Mode<Real>* const mode = mode_;
    const Tick since = inModeSince_, last = lastEvent_;
    const int same = sameInstant_;
    const std::int64_t version = signalVersion_;
    const auto recent = recent_;
    const std::size_t recentAt = recentAt_;
    const Rehearsal<Real> rehearsal(stateLayout());
    peeking_ = true;
    while (!stopped() && t_ < until) stepToEvent(std::min(until, nextKnown()));
    peeking_ = false;
    if (!stopped()) ahead_ = Ahead{.t = until, .y = y_, .snapshot = SwitchingLoop::snapshot()};
    goBack(spot);
    y_ = y;
    mode_ = mode;
    inModeSince_ = since, lastEvent_ = last, sameInstant_ = same, signalVersion_ = version;
    recent_ = recent, recentAt_ = recentAt;
    startKnown_ = false;
}

/// Makes what was only looked at what was gone.
template <class Real>
void Run<Real>::stopHere(Tick) {
    if (!ahead_) return;
    const Tick until = ahead_->t;
    ahead_.reset();
    while (!stopped() && t_ < until) stepToEvent(std::min(until, nextKnown()));
}

template <class Real>
void Run<Real>::leave() {
    if (mode_) first_ = mode_->segments;
    mode_ = nullptr;
    fadesTo_ = nullptr;
    ahead_.reset();
    open_ = {};
    wayLength_ = 0;
    startKnown_ = false;
    recent_.clear(), recentAt_ = 0;
    periodsTried_ = -1;
    instant_ = 0;
}

template <class Real>
void Run<Real>::seeStates() {
    for (int i = 0; i < stateLayout().states; ++i) {
        const StateSort sort = network().states[static_cast<std::size_t>(i)].sort;
        if (sort == StateSort::capacitorVoltage) scales().seeVoltage(y_(i));
        if (sort == StateSort::windingCurrent) scales().seeCurrent(y_(i));
    }
    scales().seeSignals(y_.data());
}

/// Gives the noise floors a size before anything was solved.
template <class Real>
void Run<Real>::chargeSources() {
    LinearStamp stamp(network().nodeCount());
    for (std::size_t i = 0; i < network().elements.size(); ++i)
        network().elements[i]->stamp(stamp, network().elements[i]->initialSegment(gateOn_[i]));
    for (const Triplet& entry : stamp.bw)
        scales().seeVoltage(static_cast<Real>(entry.value) * y_(stateLayout().states + entry.column));
}

template <class Real>
void Run<Real>::refreshSources() {
    std::vector<double> values;
    y_(stateLayout().states) = 1;
    for (std::size_t i = 0; i < network().sources.size(); ++i) {
        values.assign(static_cast<std::size_t>(network().sources[i]->size()), 0.0);
        network().sources[i]->valueAt(t_, values);
        for (std::size_t j = 0; j < values.size(); ++j)
            y_(stateLayout().states + network().sourceOffsets[i] + static_cast<int>(j)) = values[j];
    }
    for (const HeldSource& held : network().heldSources)
        y_(stateLayout().states + held.source) = clock().signals()[static_cast<std::size_t>(held.signal)];
    scales().seeSources(y_);
}

/// The instant at which modes of motion have died out, where that is before `next`.
template <class Real>
Tick Run<Real>::upToFading(Tick next) {
    const auto fading = commutation().fading(*mode_, next - inModeSince_);
    const Tick at = fading.to ? std::max(t_, inModeSince_ + fading.after) : next;
    fadesTo_ = at < next ? fading.to : nullptr;
    return fadesTo_ ? at : next;
}

/// From now on without them.
template <class Real>
void Run<Real>::fade(Mode<Real>* to) {
    mode_ = to;
    mode_->land(y_);
    startKnown_ = false;
    if (!peeking_) recorder().instant(*mode_, y_, t_);
}

/// Sources jump, gates switch and times run out at the present instant.
template <class Real>
void Run<Real>::scheduled() {
    const bool timeout = mode_->timed && t_ >= nextTimeout();
    if (!SwitchingLoop::advanceClock()) return;
    refreshSources();
    Segments wanted = mode_->segments;
    Cause cause;
    if (clock().version() != signalVersion_) {
        signalVersion_ = clock().version();
        if (!peeking_) recorder().setSignals(clock().signals());
        if (const Turned turned = turnGates(wanted); turned.element >= 0)
            cause = {turned.on ? Cause::Sort::gateOn : Cause::Sort::gateOff, turned.element};
    }
    if (timeout)
        if (const int element = takeTimeouts(wanted); element >= 0) cause = {Cause::Sort::timeout, element};
    enter(wanted, cause);
}

/// A guard ended its segment at the present instant.
template <class Real>
void Run<Real>::crossing(int index) {
    Segments wanted = mode_->segments;
    const GuardInfo& guard = mode_->guards[static_cast<std::size_t>(index)];
    const auto element = static_cast<std::size_t>(guard.element);
    wanted[element] = guard.next;
    countCrossing(element);
    if (!stopped()) enter(wanted, {Cause::Sort::change, guard.element});
}

template <class Real>
void Run<Real>::countCrossing(std::size_t element) {
    ++crossings_;
    countEvent(element);
    const std::pair<Tick, int> now{t_, static_cast<int>(element)};
    if (recent_.size() < chatterEvents) {
        recent_.push_back(now);
        return;
    }
    if (toSeconds(t_ - recent_[recentAt_].first) < chatterSpan) return chattering();
    recent_[recentAt_] = now;
    recentAt_ = (recentAt_ + 1) % chatterEvents;
}

template <class Real>
void Run<Real>::chattering() {
    std::set<std::string> parts;
    for (const auto& [when, element] : recent_)
        parts.insert(network().elements[static_cast<std::size_t>(element)]->part());
    for (std::size_t i = 0; parts.empty() && i < network().elements.size(); ++i)
        if (eventsOf(i) > static_cast<std::int64_t>(chatterEvents)) parts.insert(network().elements[i]->part());
    if (parts.empty()) parts.insert("the parts");
    fail({ErrorCode::numeric,
          fmt::format("{} switch without end at {}: add what would slow them, a capacitance or an inductance",
                      listed({parts.begin(), parts.end()}), formatQuantity(toSeconds(t_), "s", 6)),
          *parts.begin()});
}

template <class Real>
void Run<Real>::enter(const Segments& wanted, const Cause& cause) {
    sameInstant_ = t_ == lastEvent_ ? sameInstant_ + 1 : 0;
    lastEvent_ = t_;
    if (sameInstant_ > static_cast<int>(chatterEvents)) return chattering();
    const Stopwatch watch;
    auto mode = commutation().findConsistent(y_, wanted, t_, cause);
    secondsEvents_ += watch.seconds();
    if (!mode) return fail(mode.error());
    if (commutation().generation() != modeGeneration_) {
        modeGeneration_ = commutation().generation();
        maps().clear();
    }
    entered(*mode);
}

template <class Real>
void Run<Real>::entered(Mode<Real>* mode) {
    if (mode_ && hasTimeouts()) noteEntered(mode_->segments, mode->segments);
    mode_ = mode;
    inModeSince_ = t_;
    ++events_;
    if (!peeking_) recorder().instant(*mode_, y_, t_);
    showLogic();
}

template <class Real>
Result<std::vector<double>> Run<Real>::operatingPoint(const Network& of) const {
    return exact::operatingPoint(of);
}

template <class Real>
void Run<Real>::describe(RunSummary& summary) const {
    typename Machinery<Real>::Counts all = retired_;
    for (const auto& one : machineries_) all = all + one->counts();
    summary.counters = {{"events", events_},
                        {"gate edges", gateEvents_},
                        {"source breaks", sourceBreaks()},
                        {"located crossings", crossings_},
                        {"timeouts", timeouts_},
                        {"configurations", all.configurations},
                        {"subnetworks", commutation().subnetworkCount()},
                        {"states of subnetworks", all.subnetworksSolved},
                        {"revisits", all.revisits},
                        {"interval maps", all.maps},
                        {"events along interval maps", replayed_},
                        {"periods along period maps", periods_},
                        {"steps", steps_},
                        {"products", all.products},
                        {"descents", descents_},
                        {"stored points", all.points},
                        {"stored bytes", all.bytes},
                        {"cache bytes", all.cacheBytes}};
    summary.seconds = {{"configurations", all.secondsBuilding + all.secondsMaps},
                       {"propagation", secondsGeneral_},
                       {"interval maps", secondsIntervals_},
                       {"events", std::max(0.0, secondsEvents_ - all.secondsBuilding)},
                       {"storing", all.secondsStoring},
                       {"total", watch_.seconds()}};
}

template class Run<double>;
template class Run<long double>;

}  // namespace hedgerow::exact
