#include "engines/exact/run.h"

#include <algorithm>
#include <cmath>
#include <set>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"
#include "network/contradictions.h"

namespace hedgerow::exact {

namespace {
constexpr std::size_t chatterEvents = 1000;  ///< this many located events within `chatterSpan` are chattering
constexpr double chatterSpan = 1e-9;
constexpr double startTolerance = 1e-9;  ///< of the largest voltage or current: a start value that moves less stays
}  // namespace

template <class Real>
Run<Real>::Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel)
    : network_(network),
      request_(request),
      sink_(sink),
      cancel_(cancel),
      frame_(network),
      magnitudes_(frame_),
      commutation_(frame_, magnitudes_, !request.reference),
      recorder_(frame_, request, sink, magnitudes_, cancel),
      legs_(frame_, magnitudes_, recorder_),
      clock_(network, request.startMemories, cancel),
      y_(Vector<Real>::Zero(frame_.size())),
      slope_(frame_.size()),
      sense_([this](int column) { return static_cast<double>(mode_->configuration().read(column, y_)); }),
      gateOn_(network.elements.size(), 0),
      entered_(network.elements.size(), 0),
      eventsByElement_(network.elements.size(), 0) {
    for (std::size_t i = 0; i < network.elements.size(); ++i)
        if (network.elements[i]->logicSignal() >= 0) logic_.push_back(i);
}

template <class Real>
RunSummary Run<Real>::solve() {
    RunSummary summary;
    summary.engine = "exact";
    start();
    while (!stopped_ && t_ < request_.end) {
        if (cancel_.cancelled() || recorder_.full()) {
            stopped_ = true;
            break;
        }
        Tick next = std::min({request_.end, clock_.next(), nextTimeout()});
        while (instant_ < request_.instants.size() && request_.instants[instant_] <= t_) ++instant_;
        if (instant_ < request_.instants.size()) next = std::min(next, request_.instants[instant_]);
        if (!alongLegs(next)) general(next);
        // Steps and commutations look for themselves; what goes along known intervals is looked at now and then.
        if ((++looks_ % 32 == 0 || t_ >= request_.end) && !y_.allFinite()) fail(beyondNumbers(frame_, y_, t_));
        sink_.progress(t_);
    }
    if (request_.goesOn && !stopped_ && clock_.next() <= t_) handOver();
    finish(summary);
    return summary;
}

/// What comes at the last instant acts in the network that goes on; what samples sees this one.
template <class Real>
void Run<Real>::handOver() {
    advanceClock();
    if (error_) return;
    leaving_ = mode_->segments;
    Cause cause;
    turnGates(leaving_, cause);
    for (std::size_t i = 0; i < leaving_.size(); ++i)
        if (leaving_[i] != mode_->segments[i]) entered_[i] = t_;
}

template <class Real>
void Run<Real>::start() {
    if (clock_.error()) return fail(*clock_.error());
    if (request_.from) return goOn(*request_.from);
    for (int i = 0; i < frame_.states; ++i)
        y_(i) = request_.startStates.empty() ? network_.states[static_cast<std::size_t>(i)].initial
                                             : request_.startStates[static_cast<std::size_t>(i)];
    refreshSources();
    Segments segments(network_.elements.size());
    for (std::size_t i = 0; i < segments.size(); ++i) {
        gateOn_[i] = clock_.gate(i);
        segments[i] = network_.elements[i]->initialSegment(gateOn_[i]);
    }
    chargeSources();
    seeStates();
    const Vector<Real> given = y_;
    recorder_.setSignals(clock_.signals());
    signalVersion_ = clock_.version();
    enter(segments, {Cause::Sort::start, -1});
    if (!error_ && !request_.redistribute) startsAsGiven(given);
}

/// From where another run stood.
template <class Real>
void Run<Real>::goOn(const Standing& from) {
    t_ = from.t;
    for (int i = 0; i < frame_.states; ++i) y_(i) = static_cast<Real>(from.states[static_cast<std::size_t>(i)]);
    clock_.resume(from);
    refreshSources();
    for (std::size_t i = 0; i < gateOn_.size(); ++i) gateOn_[i] = clock_.gate(i);
    entered_ = from.entered;
    chargeSources();
    seeStates();
    recorder_.setSignals(clock_.signals());
    signalVersion_ = clock_.version();
    enter(from.segments, {Cause::Sort::start, -1});
    entered_ = from.entered;
}

template <class Real>
void Run<Real>::seeStates() {
    for (int i = 0; i < frame_.states; ++i) {
        const StateSort sort = network_.states[static_cast<std::size_t>(i)].sort;
        if (sort == StateSort::capacitorVoltage) magnitudes_.seeVoltage(y_(i));
        if (sort == StateSort::windingCurrent) magnitudes_.seeCurrent(y_(i));
    }
    magnitudes_.seeSignals(y_.data());
}

/// A start value that the user gave and that cannot be is an error that says what would flow.
template <class Real>
bool Run<Real>::startsAsGiven(const Vector<Real>& given) {
    for (int i = 0; i < frame_.states; ++i) {
        const StateInfo& state = network_.states[static_cast<std::size_t>(i)];
        if (state.sort == StateSort::signal) continue;
        const bool voltage = state.sort == StateSort::capacitorVoltage;
        const Real jump = y_(i) - given(i), size = voltage ? magnitudes_.voltage() : magnitudes_.current();
        if (!state.given || std::abs(jump) <= Real(startTolerance) * size) continue;
        fail(contradictoryStart(state, static_cast<double>(given(i)), static_cast<double>(y_(i))));
        return false;
    }
    return true;
}

/// Gives the noise floors a size before anything was solved.
template <class Real>
void Run<Real>::chargeSources() {
    LinearStamp stamp(network_.nodeCount());
    for (std::size_t i = 0; i < network_.elements.size(); ++i)
        network_.elements[i]->stamp(stamp, network_.elements[i]->initialSegment(gateOn_[i]));
    for (const Triplet& entry : stamp.bw)
        magnitudes_.seeVoltage(static_cast<Real>(entry.value) * y_(frame_.states + entry.column));
}

template <class Real>
void Run<Real>::refreshSources() {
    std::vector<double> values;
    y_(frame_.states) = 1;
    for (std::size_t i = 0; i < network_.sources.size(); ++i) {
        values.assign(static_cast<std::size_t>(network_.sources[i]->size()), 0.0);
        network_.sources[i]->valueAt(t_, values);
        for (std::size_t j = 0; j < values.size(); ++j)
            y_(frame_.states + network_.sourceOffsets[i] + static_cast<int>(j)) = values[j];
    }
    for (const HeldSource& held : network_.heldSources)
        y_(frame_.states + held.source) = clock_.signals()[static_cast<std::size_t>(held.signal)];
    magnitudes_.seeSources(y_);
}

/// To the present instant. What blocks see of the circuit is as it was just before.
template <class Real>
void Run<Real>::advanceClock() {
    clock_.advance(t_, sense_);
    if (clock_.error()) fail(*clock_.error());
}

/// Elements that drive a signal show what they do now; what follows from it comes at the same instant.
template <class Real>
void Run<Real>::showLogic() {
    for (const std::size_t i : logic_) {
        const Element& element = *network_.elements[i];
        clock_.set(element.logicSignal(), element.conducts(mode_->segments[i]) ? 1.0 : 0.0, t_);
    }
}

template <class Real>
Tick Run<Real>::nextTimeout() const {
    Tick next = neverTick;
    if (!mode_ || !mode_->timed) return next;
    for (std::size_t i = 0; i < entered_.size(); ++i)
        if (const auto timeout = network_.elements[i]->timeout(mode_->segments[i]))
            next = std::min(next, std::max(t_, later(entered_[i], toTicks(timeout->seconds))));
    return next;
}

/// Gates whose signal has changed; each element says what follows for it.
template <class Real>
void Run<Real>::turnGates(Segments& wanted, Cause& cause) {
    for (std::size_t i = 0; i < wanted.size(); ++i) {
        const bool on = clock_.gate(i);
        if (on == static_cast<bool>(gateOn_[i])) continue;
        gateOn_[i] = on;
        const Element& element = *network_.elements[i];
        double sensed = 0;
        for (const auto& [column, factor] : element.sense())
            sensed += factor * static_cast<double>(mode_->configuration().read(column, y_));
        wanted[i] = element.gated(wanted[i], on, sensed);
        ++gateEvents_;
        ++eventsByElement_[i];
        if (cause.sort == Cause::Sort::none)
            cause = {on ? Cause::Sort::gateOn : Cause::Sort::gateOff, static_cast<int>(i)};
    }
}

/// The instant at which modes of motion have died out, where that is before `next`.
template <class Real>
Tick Run<Real>::upToFading(Tick next) {
    const auto fading = commutation_.fading(*mode_, next - inModeSince_);
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
    recorder_.instant(*mode_, y_, t_);
}

/// Sources jump, gates switch and times run out at the present instant.
template <class Real>
void Run<Real>::scheduled() {
    const bool timeout = t_ >= nextTimeout();
    advanceClock();
    if (error_) return;
    refreshSources();
    Segments wanted = mode_->segments;
    Cause cause;
    if (clock_.version() != signalVersion_) {
        signalVersion_ = clock_.version();
        recorder_.setSignals(clock_.signals());
        turnGates(wanted, cause);
    }
    if (timeout) {
        for (std::size_t i = 0; i < wanted.size(); ++i) {
            const auto limit = network_.elements[i]->timeout(mode_->segments[i]);
            if (!limit || wanted[i] != mode_->segments[i] || later(entered_[i], toTicks(limit->seconds)) > t_) continue;
            wanted[i] = limit->next;
            ++timeouts_;
            ++eventsByElement_[i];
            cause = {Cause::Sort::timeout, static_cast<int>(i)};
        }
    }
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
    if (!stopped_) enter(wanted, {Cause::Sort::change, guard.element});
}

template <class Real>
void Run<Real>::countCrossing(std::size_t element) {
    ++crossings_;
    ++eventsByElement_[element];
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
        parts.insert(network_.elements[static_cast<std::size_t>(element)]->part());
    for (std::size_t i = 0; parts.empty() && i < eventsByElement_.size(); ++i)
        if (eventsByElement_[i] > static_cast<std::int64_t>(chatterEvents)) parts.insert(network_.elements[i]->part());
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
    auto mode = commutation_.settle(y_, wanted, t_, cause);
    secondsEvents_ += watch.seconds();
    if (!mode) return fail(mode.error());
    if (commutation_.generation() != modeGeneration_) {
        modeGeneration_ = commutation_.generation();
        legs_.clear();
    }
    entered(*mode);
}

template <class Real>
void Run<Real>::entered(Mode<Real>* mode) {
    if (mode->timed || (mode_ && mode_->timed))
        for (std::size_t i = 0; i < entered_.size(); ++i)
            if (mode_ && mode->segments[i] != mode_->segments[i]) entered_[i] = t_;
    mode_ = mode;
    inModeSince_ = t_;
    ++events_;
    recorder_.instant(*mode_, y_, t_);
    showLogic();
}

template <class Real>
void Run<Real>::fail(Error error) {
    error_ = std::move(error);
    stopped_ = true;
}

template <class Real>
void Run<Real>::finish(RunSummary& summary) {
    summary.reached = t_;
    summary.end = endOf(error_, stopped_, recorder_.full());
    summary.error = error_;
    summary.standing.t = t_;
    for (int i = 0; i < frame_.states; ++i) summary.standing.states.push_back(static_cast<double>(y_(i)));
    if (mode_) summary.standing.segments = leaving_.empty() ? mode_->segments : leaving_;
    summary.standing.entered = entered_;
    clock_.describe(summary.standing);
    summary.counters = {{"events", events_},
                        {"gate edges", gateEvents_},
                        {"source breaks", clock_.sourceBreaks()},
                        {"located crossings", crossings_},
                        {"timeouts", timeouts_},
                        {"configurations", commutation_.configurationsBuilt()},
                        {"sections", commutation_.sectionCount()},
                        {"states of sections", commutation_.sectionsSolved()},
                        {"revisits", commutation_.configurationsRevisited()},
                        {"legs", legs_.built()},
                        {"events along legs", replayed_},
                        {"periods along rounds", rounds_},
                        {"steps", steps_},
                        {"products", commutation_.products()},
                        {"descents", descents_},
                        {"stored points", recorder_.points()},
                        {"stored bytes", recorder_.bytes()},
                        {"cache bytes", static_cast<std::int64_t>(commutation_.bytes())}};
    summary.seconds = {{"configurations", commutation_.secondsBuilding() + legs_.secondsBuilding()},
                       {"propagation", secondsGeneral_},
                       {"legs", secondsLegs_},
                       {"events", std::max(0.0, secondsEvents_ - commutation_.secondsBuilding())},
                       {"storing", recorder_.seconds()},
                       {"total", watch_.seconds()}};
    for (std::size_t i = 0; i < eventsByElement_.size(); ++i)
        if (eventsByElement_[i] > 0) summary.eventsByPart[network_.elements[i]->part()] += eventsByElement_[i];
    sink_.progress(t_);
}

template class Run<double>;
template class Run<long double>;

}  // namespace hedgerow::exact
