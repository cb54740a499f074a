#include "network/switching_loop.h"

#include <algorithm>
#include <cmath>

#include "network/contradictions.h"
#include "network/equilibrium.h"

namespace hedgerow {

SwitchingLoop::SwitchingLoop(std::string engine, const Network& network, const RunRequest& request, RunSink& sink,
                             const CancelToken& cancel)
    : gateOn_(network.elements.size(), 0),
      engine_(std::move(engine)),
      network_(&network),
      request_(request),
      sink_(sink),
      cancel_(cancel),
      clock_(std::make_unique<Clock>(network, request.startMemories, cancel)),
      sense_([this](int column) { return read(column); }),
      entered_(network.elements.size(), 0),
      eventsByElement_(network.elements.size(), 0) {
    take(network);
}

void SwitchingLoop::take(const Network& network) {
    network_ = &network;
    logic_.clear();
    timed_.clear();
    for (std::size_t i = 0; i < network.elements.size(); ++i) {
        const Element& element = *network.elements[i];
        if (element.logicSignal() >= 0) logic_.push_back(i);
        for (int segment = 0; segment < element.segmentCount(); ++segment)
            if (element.timeout(segment)) {
                timed_.push_back(i);
                break;
            }
    }
}

Status SwitchingLoop::start() {
    begun_ = true;
    if (clock_->error()) fail(*clock_->error());
    if (error_) return status();
    std::vector<double> states = request_.startStates;
    if (states.empty())
        for (const StateInfo& state : network_->states) states.push_back(state.initial);
    std::vector<int> segments;
    for (std::size_t i = 0; i < network_->elements.size(); ++i) {
        gateOn_[i] = clock_->gate(i);
        segments.push_back(network_->elements[i]->initialSegment(gateOn_[i]));
    }
    if (!begin(states, segments)) return status();
    if (!request_.redistribute)
        if (auto error = contradiction(states)) fail(std::move(*error));
    if (!error_) showStart();
    return status();
}

/// A start value that the user gave and that cannot be is an error that says what would flow.
std::optional<Error> SwitchingLoop::contradiction(const std::vector<double>& given) const {
    const std::vector<double> become = states();
    for (std::size_t i = 0; i < given.size(); ++i) {
        const StateInfo& state = network_->states[i];
        if (state.sort == StateSort::signal || !state.given) continue;
        if (std::abs(become[i] - given[i]) <= startTolerance() * scaleOf(state)) continue;
        return contradictoryStart(state, given[i], become[i]);
    }
    return {};
}

Status SwitchingLoop::start(const Snapshot& from) {
    if (begun_) {
        leave();
        error_.reset();
        stopped_ = false;
    } else if (clock_->error())
        fail(*clock_->error());
    if (error_) return status();
    begun_ = true;
    return resume(from);
}

Status SwitchingLoop::resume(const Snapshot& from) {
    const Carried carried = carriedInto(*network_, from);
    t_ = asked_ = from.t;
    clock_->resume(t_, carried.signalValues, carried.memories);
    std::vector<int> segments = carried.segments;
    for (std::size_t i = 0; i < segments.size(); ++i) {
        gateOn_[i] = carried.gates[i] < 0 ? clock_->gate(i) : carried.gates[i] > 0;
        if (segments[i] < 0) segments[i] = network_->elements[i]->initialSegment(gateOn_[i]);
    }
    entered_ = carried.entered;
    const auto restOf = [this](const Network& held) { return operatingPoint(held); };
    if (begin(withNewAtRest(*network_, t_, carried, segments, restOf), segments)) {
        entered_ = carried.entered;
        noteEntered(segments, this->segments());
        showStart();
    }
    return status();
}

RunEnd SwitchingLoop::advance(Tick until) {
    until = std::min(until, request_.end);
    asked_ = until;
    while (!stopped_ && now() < until && !full() && canMove(until)) {
        if (cancel_.cancelled()) {
            stopped_ = true;
            break;
        }
        move(until);
    }
    // What is held back is held back across calls: only an end writes it.
    if (stopped_ || full() || now() >= request_.end) flush();
    sink_.progress(now());
    std::optional<Error> error = error_;
    return endOf(error, stopped_, full());
}

Status SwitchingLoop::goOnIn(const Network& next) {
    if (error_) return status();
    stopHere(std::max(asked_, now()));
    std::vector<int> leaving = segments();
    if (!stopped_ && clock_->next() <= t_ && advanceClock()) {
        const std::vector<int> before = leaving;
        turnGates(leaving);
        noteEntered(before, leaving);
    }
    if (error_) return status();
    flush();
    const Snapshot here = snapshotIn(leaving);
    take(next);
    earlierBreaks_ += clock_->sourceBreaks();
    clock_ = std::make_unique<Clock>(next, std::vector<MemoryRecord>(), cancel_);
    if (clock_->error()) fail(*clock_->error());
    if (error_) return status();
    takeNetwork();
    return resume(here);
}

void SwitchingLoop::finish() {
    if (!begun_ || error_) return;
    stopHere(std::max(asked_, now()));
    flush();
}

Snapshot SwitchingLoop::snapshotIn(const std::vector<int>& segments) const {
    Snapshot snapshot;
    snapshot.t = now();
    const std::vector<double> values = states();
    for (std::size_t i = 0; i < values.size(); ++i) {
        const StateInfo& info = network_->states[i];
        snapshot.states.push_back({.part = info.part, .name = info.name, .value = values[i], .storage = info.storage});
    }
    std::map<std::string_view, int> numbers;
    for (std::size_t i = 0; i < segments.size(); ++i) {
        const Element& element = *network_->elements[i];
        const int signal = element.logicSignal();
        snapshot.pieces.push_back({.part = element.part(),
                                   .number = numbers[element.part()]++,
                                   .segments = element.segmentCount(),
                                   .segment = segments[i],
                                   .entered = entered_[i],
                                   .gate = gateOn_[i] != 0,
                                   .drives = signal < 0 ? 0.0 : clock_->signals()[static_cast<std::size_t>(signal)]});
    }
    snapshot.blocks = clock_->blocks();
    return snapshot;
}

RunSummary SwitchingLoop::summary() const {
    RunSummary summary;
    summary.engine = engine_;
    summary.reached = now();
    summary.error = error_;
    summary.end = endOf(summary.error, stopped_ || now() < request_.end, full());
    summary.snapshot = snapshot();
    describe(summary);
    for (std::size_t i = 0; i < eventsByElement_.size(); ++i)
        if (eventsByElement_[i] > 0) summary.eventsByPart[network_->elements[i]->part()] += eventsByElement_[i];
    return summary;
}

Tick SwitchingLoop::nextTimeout() const {
    Tick next = neverTick;
    for (const std::size_t i : timed_)
        if (const auto timeout = network_->elements[i]->timeout(segments()[i]))
            next = std::min(next, std::max(t_, later(entered_[i], toTicks(timeout->seconds))));
    return next;
}

bool SwitchingLoop::advanceClock() {
    for (Tick last = -1; !clock_->error() && clock_->next() <= t_ && clock_->next() > last;) {
        last = clock_->next();
        clock_->advance(last, sense_);
    }
    if (clock_->error()) fail(*clock_->error());
    return !error_;
}

SwitchingLoop::Spot SwitchingLoop::mark() const {
    return {.t = t_,
            .gateOn = gateOn_,
            .entered = entered_,
            .eventsByElement = eventsByElement_,
            .events = events_,
            .gateEvents = gateEvents_,
            .crossings = crossings_,
            .timeouts = timeouts_,
            .clock = *clock_};
}

void SwitchingLoop::goBack(const Spot& spot) {
    t_ = spot.t;
    gateOn_ = spot.gateOn;
    entered_ = spot.entered;
    eventsByElement_ = spot.eventsByElement;
    events_ = spot.events, gateEvents_ = spot.gateEvents, crossings_ = spot.crossings, timeouts_ = spot.timeouts;
    clock_ = std::make_unique<Clock>(spot.clock);
}

SwitchingLoop::Turned SwitchingLoop::turnGates(std::vector<int>& wanted) {
    Turned first;
    for (std::size_t i = 0; i < wanted.size(); ++i) {
        const bool on = clock_->gate(i);
        if (on == static_cast<bool>(gateOn_[i])) continue;
        gateOn_[i] = on;
        const Element& element = *network_->elements[i];
        double sensed = 0;
        for (const auto& [column, factor] : element.sense()) sensed += factor * read(column);
        wanted[i] = element.gated(wanted[i], on, sensed);
        ++gateEvents_;
        ++eventsByElement_[i];
        if (first.element < 0) first = {static_cast<int>(i), on};
    }
    return first;
}

bool SwitchingLoop::gatesWait() const {
    for (std::size_t i = 0; i < gateOn_.size(); ++i)
        if (clock_->gate(i) != static_cast<bool>(gateOn_[i])) return true;
    return false;
}

int SwitchingLoop::takeTimeouts(std::vector<int>& wanted) {
    int first = -1;
    for (const std::size_t i : timed_) {
        const auto limit = network_->elements[i]->timeout(segments()[i]);
        if (!limit || wanted[i] != segments()[i] || later(entered_[i], toTicks(limit->seconds)) > t_) continue;
        wanted[i] = limit->next;
        ++timeouts_;
        ++eventsByElement_[i];
        if (first < 0) first = static_cast<int>(i);
    }
    return first;
}

void SwitchingLoop::noteEntered(const std::vector<int>& before, const std::vector<int>& after) {
    for (std::size_t i = 0; i < before.size(); ++i)
        if (before[i] != after[i]) entered_[i] = t_;
}

void SwitchingLoop::showLogic() {
    for (const std::size_t i : logic_) {
        const Element& element = *network_->elements[i];
        clock_->set(element.logicSignal(), element.conducts(segments()[i]) ? 1.0 : 0.0, t_);
    }
}

}  // namespace hedgerow
