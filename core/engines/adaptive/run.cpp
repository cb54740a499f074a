#include "engines/adaptive/run.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "model/quantity.h"
#include "network/contradictions.h"

namespace hedgerow::adaptive {

namespace {

constexpr double stepShare = 0.01;     ///< of the trace tolerance, that one step may err by
constexpr int piecesOfRun = 50;        ///< a step is never longer than this part of a run
constexpr double piecesOfSine = 20;    ///< nor than this part of a period of a source
constexpr double firstStep = 0x1p-39;  ///< s, after an event
constexpr double handOver = 0.1;       ///< of the step before an event: from there on the method takes over again
constexpr double leastEase = 2;        ///< growth below which the first moments are over
constexpr int guardPieces = 8;         ///< of a step, at whose ends guards are looked at
constexpr double landing = 1e-13;      ///< of its scale, by which a guard may be past its end where a step ends with it
constexpr int mostLandings = 40;
constexpr double mostLandingError = 2;  ///< over the tolerance, of a step cut short
constexpr int fewSameInstant = 10;
constexpr int mostSameInstant = 1000;
constexpr Tick shortest = 4;
constexpr int shortenedSteps = 8;     ///< one in so many steps may be shortened for its course
constexpr double mostOfBefore = 0.7;  ///< by what a course must come closer when its step is shortened
constexpr Tick leastCourse = 64;  ///< of a step whose course within may be doubted

}  // namespace

Run::Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel,
         const Tableau& tableau)
    : network_(network),
      request_(request),
      sink_(sink),
      cancel_(cancel),
      system_(network),
      scales_(network),
      tableau_(tableau),
      stepper_(system_, tableau, scales_, stepShare * request.traceTolerance),
      switching_(system_, stepper_, scales_),
      recorder_(network, request, sink),
      clock_(network, request.startMemories, cancel),
      now_{{}, Values(system_.unknowns(), 0.0)},
      allowed_(system_.unknowns(), 0.0),
      gateOn_(network.elements.size(), 0),
      entered_(network.elements.size(), 0),
      eventsByElement_(network.elements.size(), 0) {
    longest_ = std::max<Tick>(1, request.end / piecesOfRun);
    for (const auto& source : network.sources)
        if (source->angularFrequency() > 0)
            longest_ = std::min(longest_, toTicks(2 * std::numbers::pi / source->angularFrequency() / piecesOfSine));
}

void Run::fail(Error error) {
    if (!error_) error_ = std::move(error);
}

RunSummary Run::solve() {
    if (start()) {
        int sinceProgress = 0;
        while (!error_ && !stopped_ && t_ < request_.end && !recorder_.full()) {
            travel(std::min({clock_.next(), nextTimeout(), request_.end}));
            if (++sinceProgress % 16 == 0) sink_.progress(t_);
        }
    }
    std::vector<int> leaving = switching_.segments();
    if (request_.goesOn && !error_ && !stopped_ && t_ >= request_.end && clock_.next() <= t_) {
        // What comes at the last instant acts in the network that goes on; what samples sees this one.
        clock_.advance(t_, [this](int column) { return now_.z[static_cast<std::size_t>(column)]; });
        if (clock_.error()) fail(*clock_.error());
        std::string what;
        turnGates(leaving, what);
        for (std::size_t i = 0; i < leaving.size(); ++i)
            if (leaving[i] != switching_.segments()[i]) entered_[i] = t_;
    }
    if (!recorder_.fault()) recorder_.flush();
    if (!error_) error_ = recorder_.fault();
    sink_.progress(t_);
    RunSummary summary;
    summary.end = endOf(error_, stopped_, recorder_.full());
    summary.error = error_;
    summary.reached = t_;
    summary.engine = "adaptive";
    summary.counters = {{"events", events_},
                        {"gate edges", gateEvents_},
                        {"located crossings", crossings_},
                        {"steps", steps_},
                        {"steps repeated", rejected_},
                        {"iterations", stepper_.newton().iterations()},
                        {"factorisations", system_.factorisations()},
                        {"evaluations", system_.evaluations()},
                        {"stored points", recorder_.points()}};
    const double total = watch_.seconds();
    summary.seconds = {{"steps", total - secondsEvents_ - secondsStoring_},
                       {"events", secondsEvents_},
                       {"storing", secondsStoring_},
                       {"total", total}};
    for (std::size_t i = 0; i < eventsByElement_.size(); ++i)
        if (eventsByElement_[i] > 0) summary.eventsByPart[network_.elements[i]->part()] += eventsByElement_[i];
    summary.standing = {t_, now_.x, leaving, entered_, {}, {}};
    clock_.describe(summary.standing);
    return summary;
}

/// From where another run stood.
bool Run::goOn(const Standing& from) {
    t_ = from.t;
    now_.x = from.states;
    clock_.resume(from);
    for (std::size_t i = 0; i < gateOn_.size(); ++i) gateOn_[i] = clock_.gate(i);
    entered_ = from.entered;
    switching_.set(from.segments);
    if (!begin("as a new stretch begins")) return false;
    for (std::size_t i = 0; i < entered_.size(); ++i)
        if (from.segments[i] != switching_.segments()[i]) entered_[i] = t_;
    firstPoint();
    return true;
}

/// Settles the first configuration.
bool Run::begin(const std::string& what) {
    recorder_.setSignals(clock_.signals());
    signalVersion_ = clock_.version();
    stepper_.newton().setHeld(clock_.signals());
    if (auto settled = switching_.settle(now_, t_, what); !settled) return fail(settled.error()), false;
    return true;
}

void Run::firstPoint() {
    recorder_.setSegments(switching_.segments());
    recorder_.event(t_, now_.z);
    showLogic();
    beforeEvent_ = longest_;
    easeIn();
}

bool Run::start() {
    if (clock_.error()) return fail(*clock_.error()), false;
    if (request_.from) return goOn(*request_.from);
    for (const StateInfo& state : network_.states) now_.x.push_back(state.initial);
    if (!request_.startStates.empty()) now_.x = request_.startStates;
    const Values given = now_.x;
    std::vector<int> segments;
    for (std::size_t i = 0; i < network_.elements.size(); ++i) {
        gateOn_[i] = clock_.gate(i);
        segments.push_back(network_.elements[i]->initialSegment(gateOn_[i]));
    }
    switching_.set(segments);
    if (!begin("as the run starts")) return false;
    for (std::size_t i = 0; i < given.size() && !request_.redistribute; ++i) {
        constexpr double startTolerance = 1e-3;  // what parasitics take is no contradiction
        const StateInfo& state = network_.states[i];
        if (state.sort == StateSort::signal) continue;
        const bool voltage = state.sort == StateSort::capacitorVoltage;
        if (!state.given || std::abs(now_.x[i] - given[i]) <=
                                startTolerance * (voltage ? scales_.voltage() : scales_.current()))
            continue;
        fail(contradictoryStart(state, given[i], now_.x[i]));
        return false;
    }
    firstPoint();
    return true;
}

Tick Run::nextTimeout() const {
    Tick next = neverTick;
    for (std::size_t i = 0; i < entered_.size(); ++i)
        if (const auto timeout = network_.elements[i]->timeout(switching_.segments()[i]))
            next = std::min(next, later(entered_[i], toTicks(timeout->seconds)));
    return next;
}

void Run::travel(Tick until) {
    while (!error_ && t_ < until && !recorder_.full()) {
        if (cancel_.cancelled()) {
            stopped_ = true;
            return;
        }
        Tick target = until;
        while (instant_ < request_.instants.size() && request_.instants[instant_] <= t_) ++instant_;
        if (instant_ < request_.instants.size()) target = std::min(target, request_.instants[instant_]);
        const Tick left = target - t_;
        Tick length = std::clamp(step_, shortest, longest_);
        // No crumbs before an instant that is known.
        if (length >= left)
            length = left;
        else if (2 * length > left)
            length = (left + 1) / 2;
        const bool atBreak = t_ + length == clock_.nextSource();
        if (!tryStep(length, atBreak)) continue;
        if (const auto crossing = firstCrossing()) {
            const Landing landing = landOn(*crossing, length);
            if (landing == Landing::repeat) continue;
            accept(length);
            if (landing == Landing::holds) continue;
            crossed(crossing->second);
            return;
        }
        accept(length);
        // A step that was cut short tells little about how long the next may be.
        const Tick grown = static_cast<Tick>(stepper_.growth() * static_cast<double>(length));
        step_ = std::clamp(length < step_ ? std::max(step_, grown) : grown, shortest, longest_);
        if (stepper_.method().order == 1 && (stepper_.growth() < leastEase ||
                                             static_cast<double>(step_) > handOver * static_cast<double>(beforeEvent_)))
            takeOver();
        if (instant_ < request_.instants.size() && t_ == request_.instants[instant_]) recorder_.flush();
    }
    if (!error_ && t_ == until) arrived();
}

/// Makes the last attempt anew, shorter, so that it ends where the guard has just ended.
/// @param length  of the attempt, in and out
Run::Landing Run::landOn(const std::pair<double, std::size_t>& crossing, Tick& length) {
    const Guard guard = switching_.guards()[crossing.second].guard;
    const double enough = landing * scales_.ofTerms(guard.terms);
    Tick holds = 0, ends = length;
    double above = std::max(guard.valueAt(now_.z), enough), below = guard.valueAt(stepper_.end().z);
    Tick next = static_cast<Tick>(crossing.first * static_cast<double>(length));
    if (below > 0 && length > 1) {
        // Within the step only: true when a step to there sees it too.
        next = std::clamp<Tick>(next, 1, length - 1);
        if (!tryLanding(next)) return Landing::repeat;
        const double value = guard.valueAt(stepper_.end().z);
        if (value > 0) {
            // The course within the step told of a crossing that is none. A shorter one tells better.
            if (8 * next >= length || length <= leastCourse) {
                length = next;
                return Landing::holds;
            }
            step_ = length / 4;
            ++rejected_;
            return Landing::repeat;
        }
        length = ends = next, below = value;
        if (below >= -enough) return Landing::ends;
        next = holds + (ends - holds) / 2;
    }
    for (int round = 0; round < mostLandings; ++round) {
        next = std::clamp(next, holds + 1, std::max(holds + 1, ends - 1));
        if (next >= ends) break;
        if (!tryLanding(next)) return Landing::repeat;
        const double value = guard.valueAt(stepper_.end().z);
        length = next;
        if (value <= 0 && value >= -enough) return Landing::ends;
        // Between the two by a straight line, aimed a little beyond it, or halfway where that does not gain enough.
        const Tick before = ends - holds;
        if (value > 0)
            holds = next, above = value;
        else
            ends = next, below = value;
        const double share = (above + enough / 2) / (above - below);
        next = holds + static_cast<Tick>(std::ceil(share * static_cast<double>(ends - holds)));
        if (round % 3 == 2 && ends - holds > before / 4) next = holds + (ends - holds) / 2;
    }
    if (length == ends) return Landing::ends;
    length = ends;
    return tryLanding(ends) ? Landing::ends : Landing::repeat;
}

/// An attempt that ends somewhere in a good one. False when it is none itself: the longer one stepped over something.
bool Run::tryLanding(Tick length) {
    const auto outcome = stepper_.attempt(now_, t_, length, false);
    if (outcome == Outcome::good) return true;
    // No shorter one can be told apart from the shortest.
    if (outcome == Outcome::inaccurate && (stepper_.error() <= mostLandingError || length <= shortest)) return true;
    return repeat(outcome, length), false;
}

/// One attempt; false when it must be made anew with the shorter step_.
bool Run::tryStep(Tick length, bool atBreak) {
    const auto outcome = stepper_.attempt(now_, t_, length, atBreak);
    if (outcome == Outcome::good) return followed(length);
    if (outcome == Outcome::inaccurate && length <= shortest) {
        ++rejected_;
        return true;  // no shorter one can be told apart
    }
    return repeat(outcome, length), false;
}

/// Whether the course within a step is known well enough to be stored. Where a shorter one does not come closer, what
/// is left is rounding.
bool Run::followed(Tick length) {
    recorder_.allowances(allowed_);
    const double strays = stepper_.strays(allowed_);
    const bool helps = strayed_ == 0 || strays < mostOfBefore * strayed_;
    // Currents of capacitances bend more than states do: they may shorten some of the steps, and no more.
    const bool may = network_.states.empty() || shortened_ < steps_ / shortenedSteps + shortenedSteps;
    if (strays <= 1 || length <= leastCourse || !helps || !may) {
        strayed_ = 0;
        return true;
    }
    strayed_ = strays;
    ++rejected_, ++shortened_;
    step_ = std::max(shortest, static_cast<Tick>(static_cast<double>(length) *
                                                 std::clamp(0.9 / std::cbrt(strays), 0.2, 0.8)));
    return false;
}

/// Shortens the step after an attempt that was no good.
void Run::repeat(Outcome outcome, Tick length) {
    ++rejected_;
    if (stepper_.method().order == 1 && outcome == Outcome::inaccurate)
        return takeOver();  // which gains more from here
    if (freshEvent_ && length <= toTicks(firstStep)) {
        // Charges may flow within less than the moment in which the event was settled: the currents it left are others.
        freshEvent_ = false;
        if (stepper_.fitUnknowns(now_, t_)) return;
    }
    if (outcome != Outcome::inaccurate && length <= shortest) return failStep(outcome);
    const double factor = outcome == Outcome::inaccurate ? std::min(0.9, stepper_.growth()) : 0.25;
    step_ = std::max(shortest, static_cast<Tick>(factor * static_cast<double>(length)));
}

/// The first moments after an event.
void Run::easeIn() {
    step_ = toTicks(firstStep);
    stepper_.use(backwardEuler());
    freshEvent_ = true;
}

void Run::takeOver() {
    stepper_.use(tableau_);
    beforeEvent_ = 0;
}

void Run::failStep(Outcome outcome) {
    const std::string when = formatQuantity(toSeconds(t_), "s", 6);
    if (outcome == Outcome::singular)
        return fail({ErrorCode::illPosed, fmt::format("{} has no unique value at {}: add a resistance there",
                                                      system_.singularPlace(), when)});
    const int worst = static_cast<int>(stepper_.newton().worst());
    fail({ErrorCode::numeric,
          fmt::format("{} finds no value at {}, however short the step: put the parts there on a lower rung, or give "
                      "them a capacitance or a resistance",
                      network_.describeUnknown(worst), when),
          worst >= network_.nodeCount() ? network_.partOfBranch(worst) : ""});
}

std::optional<std::pair<double, std::size_t>> Run::firstCrossing() {
    const auto& guards = switching_.guards();
    std::optional<std::pair<double, std::size_t>> first;
    for (std::size_t i = 0; i < guards.size(); ++i) {
        const Guard& guard = guards[i].guard;
        const Course course = stepper_.courseOf(guard);
        const double least = -switching_.zero() * scales_.ofTerms(guard.terms), end = guard.valueAt(stepper_.end().z);
        const auto at = [&](double part) { return part < 1 ? course.at(part) : end; };
        const double until = first ? first->first : 1.0;
        for (int piece = 1; piece <= guardPieces; ++piece) {
            const double before = static_cast<double>(piece - 1) / guardPieces,
                         part = std::min(static_cast<double>(piece) / guardPieces, until);
            if (before >= until) break;
            if (at(part) >= least) continue;
            // Halving: down to where the guard is zero, but on the far side of it.
            double low = before, high = part;
            for (int k = 0; k < 50 && high - low > 1e-13; ++k) {
                const double half = (low + high) / 2;
                (at(half) < 0 ? high : low) = half;
            }
            first = {high, i};
            break;
        }
    }
    return first;
}

void Run::accept(Tick length) {
    ++steps_;
    freshEvent_ = false;
    now_ = stepper_.end();
    scales_.see(now_.z, now_.x);
    const Stopwatch watch;
    recorder_.way([this](double part, std::span<double> z) { stepper_.within(part, z); }, t_, length, now_.z);
    secondsStoring_ += watch.seconds();
    t_ += length;
}

void Run::crossed(std::size_t guard) {
    const auto active = switching_.guards()[guard];
    ++crossings_;
    ++eventsByElement_[active.element];
    std::vector<int> wanted = switching_.segments();
    wanted[active.element] = active.guard.next;
    enter(wanted, "when " + network_.elements[active.element]->part() + " changes");
}

/// Gates whose signal has changed; each element says what follows for it. @return whether there are any
bool Run::turnGates(std::vector<int>& wanted, std::string& what) {
    bool changed = false;
    for (std::size_t i = 0; i < gateOn_.size(); ++i) {
        if (static_cast<bool>(gateOn_[i]) == clock_.gate(i)) continue;
        gateOn_[i] = clock_.gate(i);
        const Element& element = *network_.elements[i];
        double sensed = 0;
        for (const auto& [column, factor] : element.sense())
            sensed += factor * now_.z[static_cast<std::size_t>(column)];
        wanted[i] = element.gated(wanted[i], gateOn_[i], sensed);
        ++eventsByElement_[i];
        ++gateEvents_;
        what = "when " + element.part() + (gateOn_[i] ? " turns on" : " turns off");
        changed = true;
    }
    return changed;
}

/// At an instant that was known: signals, sources, timeouts.
void Run::arrived() {
    if (t_ >= request_.end) return;
    std::vector<int> wanted = switching_.segments();
    std::string what = "as a source jumps";
    for (std::size_t i = 0; i < entered_.size(); ++i)
        if (const auto timeout = network_.elements[i]->timeout(wanted[i]);
            timeout && later(entered_[i], toTicks(timeout->seconds)) <= t_) {
            wanted[i] = timeout->next;
            ++eventsByElement_[i];
            what = "when " + network_.elements[i]->part() + " changes";
        }
    if (clock_.next() > t_) {
        if (wanted != switching_.segments()) enter(wanted, what);
        return;
    }
    clock_.advance(t_, [this](int column) { return now_.z[static_cast<std::size_t>(column)]; });
    if (clock_.error()) return fail(*clock_.error());
    stepper_.newton().setHeld(clock_.signals());
    bool changed = turnGates(wanted, what);
    if (clock_.version() != signalVersion_) {
        recorder_.flush();
        signalVersion_ = clock_.version();
        if (!changed) recorder_.event(t_, now_.z);
        recorder_.setSignals(clock_.signals());
        changed = true;
    }
    enter(wanted, what);
}

void Run::enter(const std::vector<int>& wanted, const std::string& what) {
    const Stopwatch watch;
    ++events_;
    sameInstant_ = t_ - lastEvent_ <= shortest ? sameInstant_ + 1 : 0;
    lastEvent_ = t_;
    if (sameInstant_ > mostSameInstant)
        return fail({ErrorCode::numeric, fmt::format("the circuit switches without end {} at {}", what,
                                                     formatQuantity(toSeconds(t_), "s", 6))});
    switching_.lookCloser(sameInstant_ > fewSameInstant);
    recorder_.event(t_, now_.z);
    const std::vector<int> before = switching_.segments();
    switching_.set(wanted);
    auto settled = switching_.settle(now_, t_, what);
    for (const std::size_t element : switching_.flipped()) ++eventsByElement_[element];
    for (std::size_t i = 0; i < before.size(); ++i)
        if (before[i] != switching_.segments()[i]) entered_[i] = t_;
    recorder_.setSegments(switching_.segments());
    if (settled) recorder_.event(t_, now_.z);
    beforeEvent_ = std::max(step_, beforeEvent_);
    easeIn();
    secondsEvents_ += watch.seconds();
    if (!settled) return fail(settled.error());
    showLogic();
}

/// Elements that drive a signal show what they do now; what follows from it comes at the same instant.
void Run::showLogic() {
    for (std::size_t i = 0; i < network_.elements.size(); ++i) {
        const Element& element = *network_.elements[i];
        if (element.logicSignal() >= 0)
            clock_.set(element.logicSignal(), element.conducts(switching_.segments()[i]) ? 1.0 : 0.0, t_);
    }
}

}  // namespace hedgerow::adaptive
