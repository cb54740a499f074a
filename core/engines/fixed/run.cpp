#include "engines/fixed/run.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "model/quantity.h"
#include "network/contradictions.h"

namespace hedgerow::fixed {

namespace {
constexpr double stepShare = 0.01;  ///< of the trace tolerance, to which smooth equations are solved
constexpr double linearZero = 1e-12, iteratedZero = 1e-9;
constexpr double moment = 0x1p-40;       ///< s: in it nothing but charges that contradict each other moves
constexpr double startTolerance = 1e-3;  ///< of the scale: what parasitics take of a start value is no contradiction
constexpr double cutPart = 1e-6;         ///< of a winding current: what is left of one that is cut
constexpr double cutResistance = 3e13;   ///< Ohm: of a way that is none
constexpr int blockRounds = 4, mostRounds = 60;
constexpr int mostEventsInStep = 50;  ///< that are located; what comes after them waits for the grid
}  // namespace

Run::Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel)
    : network_(network),
      request_(request),
      stepping_(request.fixed),
      length_(toTicks(request.fixed.step)),
      cancel_(cancel),
      sink_(sink),
      scales_(network),
      solvers_(network, scales_, stepping_, stepShare * request.traceTolerance),
      recorder_(network, request, sink),
      clock_(network, request.startMemories, cancel),
      zero_(linearZero),
      gateOn_(network.elements.size(), 0),
      entered_(network.elements.size(), 0),
      now_{{}, Values(static_cast<std::size_t>(network.unknownCount()), 0.0)},
      base_(network.states.size()),
      slopes_(network.states.size()),
      between_(now_.z.size()),
      eventsByElement_(network.elements.size(), 0) {
    for (const auto& element : network.elements)
        if (element->smooth()) zero_ = iteratedZero;
}

RunSummary Run::solve() {
    if (start()) {
        while (!error_ && !stopped_ && t_ < request_.end && !recorder_.full()) {
            const Stopwatch watch;
            step();
            longestStep_ = std::max(longestStep_, watch.seconds());
            if (k_ % 16 == 0) sink_.progress(t_);
            stopped_ = cancel_.cancelled() && t_ < request_.end;
        }
    }
    // What comes at the last instant acts in the network that goes on; what samples sees this one.
    if (request_.goesOn && !error_ && !stopped_ && t_ >= request_.end && clock_.next() <= t_) takeInstants();
    if (!recorder_.fault()) recorder_.flush();
    if (!error_) error_ = recorder_.fault();
    sink_.progress(t_);
    RunSummary summary;
    summary.end = endOf(error_, stopped_, recorder_.full());
    summary.error = error_;
    summary.reached = t_;
    summary.engine = "fixed";
    summary.counters = {{"steps", k_},
                        {"events", events_},
                        {"gate edges", gateEvents_},
                        {"located within steps", located_},
                        {"steps without a state that fits", unsettled_},
                        {"configurations", solvers_.configurations()},
                        {"iterations", solvers_.iterations()},
                        {"factorisations", solvers_.factorisations()},
                        {"stored points", recorder_.points()}};
    const double total = watch_.seconds();
    summary.seconds = {{"steps", total - secondsStoring_},
                       {"storing", secondsStoring_},
                       {"total", total},
                       {"step of the grid", stepping_.step},
                       {"longest step", longestStep_}};
    for (std::size_t i = 0; i < eventsByElement_.size(); ++i)
        if (eventsByElement_[i] > 0) summary.eventsByPart[network_.elements[i]->part()] += eventsByElement_[i];
    summary.standing = {t_, now_.x, segments_, entered_, {}, {}};
    clock_.describe(summary.standing);
    return summary;
}

bool Run::start() {
    if (clock_.error()) return error_ = clock_.error(), false;
    if (request_.from) {
        t_ = request_.from->t;
        now_.x = request_.from->states;
        clock_.resume(*request_.from);
        segments_ = request_.from->segments;
        entered_ = request_.from->entered;
    } else {
        for (const StateInfo& state : network_.states) now_.x.push_back(state.initial);
        if (!request_.startStates.empty()) now_.x = request_.startStates;
    }
    origin_ = t_;
    for (std::size_t i = 0; i < gateOn_.size(); ++i) {
        gateOn_[i] = clock_.gate(i);
        if (!request_.from) segments_.push_back(network_.elements[i]->initialSegment(gateOn_[i]));
    }
    follow({});
    recorder_.setSignals(clock_.signals());
    signalVersion_ = clock_.version();
    // What the circuit shows before its first step.
    if (!attempt()) return false;
    recorder_.setSegments(segments_);
    Solvers::Solver& solver = solvers_.of(segments_, k_ + 1);
    solver.newton.sources(t_);
    const Outcome outcome = solver.newton.solveCarefully(now_.x, moment, now_.z, middle_.x);
    if (outcome != Outcome::good) return failStep(outcome, solver);
    scales_.see(now_.z, now_.x);
    if (!request_.from && !request_.redistribute && !startsAsGiven()) return false;
    recorder_.event(t_, now_.z);
    showLogic();
    return true;
}

/// Whether the start values are what the first moment leaves of them. @pre middle_ ends it
bool Run::startsAsGiven() {
    for (std::size_t i = 0; i < now_.x.size(); ++i) {
        const StateInfo& state = network_.states[i];
        if (state.sort == StateSort::signal || !state.given) continue;
        const double scale = state.sort == StateSort::capacitorVoltage ? scales_.voltage() : scales_.current();
        if (std::abs(middle_.x[i] - now_.x[i]) <= startTolerance * scale) continue;
        error_ = contradictoryStart(state, now_.x[i], middle_.x[i]);
        return false;
    }
    return true;
}

/// Whether no winding current is gone after the first part of a step because it has no way left but the vanishing
/// conductances, by which the equations stay regular: behind a resistance that can be given more is left of it.
bool Run::currentsHaveWays(Solvers::Solver& solver) {
    std::vector<std::size_t> suspects;
    for (std::size_t i = 0; i < now_.x.size(); ++i)
        if (network_.states[i].sort == StateSort::windingCurrent && std::abs(now_.x[i]) > cutPart * scales_.current() &&
            std::abs(middle_.x[i]) <= cutPart * std::abs(now_.x[i]))
            suspects.push_back(i);
    if (suspects.empty()) return true;
    Instant probe{now_.x, now_.z};
    solver.newton.sources(t_);
    if (solver.newton.solveCarefully(now_.x, moment, probe.z, probe.x) != Outcome::good) return true;
    for (const std::size_t i : suspects) {
        const double left = std::abs(probe.x[i] / now_.x[i]);
        if (left * (1 + moment * cutResistance / network_.states[i].storage) > 1) continue;
        error_ = cutCurrent(network_.states[i], now_.x[i], "at " + formatQuantity(toSeconds(t_), "s", 6));
        return false;
    }
    return true;
}

/// Takes the guards of the present segments. @param before  the segments before, empty for none
void Run::follow(const std::vector<int>& before) {
    guards_.clear();
    for (std::size_t i = 0; i < segments_.size(); ++i) {
        for (Guard& guard : network_.elements[i]->guards(segments_[i])) guards_.emplace_back(i, std::move(guard));
        if (!before.empty() && before[i] != segments_[i]) entered_[i] = t_;
    }
    fresh_ = true;
}

void Run::enter(std::vector<int> segments) {
    if (segments == segments_) return;
    const std::vector<int> before = std::exchange(segments_, std::move(segments));
    follow(before);
}

std::vector<int> Run::flipped(const Values& z, bool onlyFirst) const {
    std::vector<int> wanted = segments_;
    for (const auto& [element, guard] : guards_) {
        if (wanted[element] != segments_[element] || guard.valueAt(z) >= -zero_ * scales_.ofTerms(guard.terms))
            continue;
        wanted[element] = guard.next;
        if (onlyFirst) break;
    }
    return wanted;
}

/// Ticks do not add up to steps: each instant is rounded by itself.
Tick Run::nextOfGrid() const {
    const Tick next = origin_ + toTicks(static_cast<double>(k_ + 1) * stepping_.step);
    return request_.end - next < 2 ? request_.end : next;
}

void Run::step() {
    const Tick horizon = nextOfGrid();
    for (int located = 0; t_ < horizon && !error_ && !recorder_.full() && !cancel_.cancelled();) {
        takeInstants();
        if (error_ || !attempt()) return;
        Event event{horizon};
        if (stepping_.interpolate && located++ < mostEventsInStep) event = firstEvent(horizon);
        if (event.at < horizon) ++located_;
        moveTo(event.at);
        std::vector<int> next = segments_;
        if (event.guard >= 0) {
            const auto& [element, guard] = guards_[static_cast<std::size_t>(event.guard)];
            next[element] = guard.next;
        } else if (t_ == horizon) {
            next = flipped(now_.z, false);
        }
        if (next == segments_) continue;
        for (std::size_t i = 0; i < next.size(); ++i)
            if (next[i] != segments_[i]) ++events_, ++eventsByElement_[i];
        recorder_.event(t_, now_.z);
        enter(std::move(next));
    }
    ++k_;
}

bool Run::failStep(Outcome outcome, Solvers::Solver& solver) {
    const std::string when = formatQuantity(toSeconds(t_), "s", 6);
    if (outcome == Outcome::singular) {
        error_ = {ErrorCode::illPosed, fmt::format("{} has no unique value at {}: add a resistance there",
                                                   solver.system.singularPlace(), when)};
        return false;
    }
    const int worst = static_cast<int>(solver.newton.worst());
    error_ = {ErrorCode::numeric,
              fmt::format("{} finds no value in the step at {}: take a shorter step, or put the parts there on a lower "
                          "rung",
                          network_.describeUnknown(worst), when),
              worst >= network_.nodeCount() ? network_.partOfBranch(worst) : ""};
    return false;
}

bool Run::attempt() {
    const double alpha = stepping_.trapezoidal ? stepping_.step / 2 : stepping_.step;
    if (fresh_) return attemptAfterEvent(alpha);
    hasMiddle_ = false;
    Solvers::Solver& solver = solvers_.of(segments_, k_ + 1);
    solver.newton.setHeld(clock_.signals());
    solver.newton.sources(t_, t_ + length_);
    base_ = now_.x;
    if (stepping_.trapezoidal) {
        solver.system.rates(now_.z, slopes_);
        for (std::size_t i = 0; i < base_.size(); ++i) base_[i] += alpha * slopes_[i];
    }
    end_.z = now_.z;
    end_.x.resize(base_.size());
    const Outcome outcome = solver.newton.solve(base_, alpha, end_.z, end_.x);
    return outcome == Outcome::good || failStep(outcome, solver);
}

/// The first step after a change: in which segments its first part ends with guards that hold. All that are violated
/// flip at once first, then one by one.
bool Run::attemptAfterEvent(double alpha) {
    const Tick first = stepping_.trapezoidal ? length_ / 2 : length_;
    middle_.x.resize(now_.x.size());
    std::vector<int> before = segments_;
    for (int round = 0;; ++round) {
        Solvers::Solver& solver = solvers_.of(segments_, k_ + 1);
        solver.newton.setHeld(clock_.signals());
        solver.newton.sources(t_, t_ + first);
        middle_.z = now_.z;
        const Outcome outcome = solver.newton.solve(now_.x, alpha, middle_.z, middle_.x);
        if (outcome != Outcome::good) return failStep(outcome, solver);
        if (std::vector<int> next = flipped(middle_.z, round >= blockRounds); next != segments_) {
            if (round < mostRounds) {
                for (std::size_t i = 0; i < next.size(); ++i)
                    if (next[i] != segments_[i]) ++eventsByElement_[i];
                enter(std::move(next));
                continue;
            }
            ++unsettled_;
        }
        if (!currentsHaveWays(solver)) return false;
        hasMiddle_ = stepping_.trapezoidal;
        end_ = middle_;
        if (!hasMiddle_) break;
        solver.newton.sources(t_, t_ + length_);
        const Outcome second = solver.newton.solve(middle_.x, alpha, end_.z, end_.x);
        if (second != Outcome::good) return failStep(second, solver);
        break;
    }
    if (t_ > origin_ || k_ > 0 || changed_) {
        // What the unknowns are just after the change: of two half steps along their straight line, of one as they
        // were.
        recorder_.setSegments(segments_);
        if (hasMiddle_)
            for (std::size_t i = 0; i < now_.z.size(); ++i) now_.z[i] = 2 * middle_.z[i] - end_.z[i];
        recorder_.event(t_, now_.z);
        showLogic();
    }
    return true;
}

void Run::within(double part, std::span<double> z) const {
    const Values *from = &now_.z, *to = &end_.z;
    if (hasMiddle_) {
        (part < 0.5 ? to : from) = &middle_.z;
        part = part < 0.5 ? 2 * part : 2 * part - 1;
    }
    for (std::size_t i = 0; i < z.size(); ++i) z[i] = (*from)[i] + part * ((*to)[i] - (*from)[i]);
}

Run::Event Run::firstEvent(Tick horizon) const {
    Event first{std::min({horizon, clock_.next(), nextTimeout()})};
    const Values& start = hasMiddle_ ? middle_.z : now_.z;
    const double length = static_cast<double>(length_) / (hasMiddle_ ? 2 : 1),
                 from = static_cast<double>(length_) - length;
    for (std::size_t i = 0; i < guards_.size(); ++i) {
        const Guard& guard = guards_[i].second;
        const double ends = guard.valueAt(end_.z);
        if (ends >= -zero_ * scales_.ofTerms(guard.terms)) continue;
        const double holds = std::max(0.0, guard.valueAt(start));
        const Tick at = t_ + static_cast<Tick>(std::ceil(from + length * holds / (holds - ends)));
        if (at < first.at) first = {at, static_cast<int>(i)};
    }
    return first;
}

void Run::moveTo(Tick at) {
    const double part = static_cast<double>(at - t_) / static_cast<double>(length_);
    {
        const Stopwatch watch;
        const auto& instants = request_.instants;
        for (; instant_ < instants.size() && instants[instant_] <= at; ++instant_) {
            if (instants[instant_] <= t_) continue;
            within(static_cast<double>(instants[instant_] - t_) / static_cast<double>(length_), between_);
            recorder_.line(instants[instant_], between_);
            recorder_.flush();
        }
        if (hasMiddle_ && part > 0.5) recorder_.line(t_ + length_ / 2, middle_.z);
        within(part, between_);
        if (at > t_) recorder_.line(at, between_);
        secondsStoring_ += watch.seconds();
    }
    const bool late = hasMiddle_ && part >= 0.5;
    const Values &from = late ? middle_.x : now_.x, &to = hasMiddle_ && !late ? middle_.x : end_.x;
    const double share = !hasMiddle_ ? part : late ? 2 * part - 1 : 2 * part;
    Values x(to.size());
    for (std::size_t i = 0; i < x.size(); ++i) x[i] = from[i] + share * (to[i] - from[i]);
    now_.x.swap(x);
    now_.z = between_;
    if (at > t_) fresh_ = false;
    t_ = at;
    scales_.see(now_.z, now_.x);
}

Tick Run::nextTimeout() const {
    Tick next = neverTick;
    for (std::size_t i = 0; i < entered_.size(); ++i)
        if (const auto timeout = network_.elements[i]->timeout(segments_[i]))
            next = std::min(next, later(entered_[i], toTicks(timeout->seconds)));
    return next;
}

void Run::takeInstants() {
    std::vector<int> wanted = segments_;
    bool broke = false;
    for (std::size_t i = 0; i < entered_.size(); ++i)
        if (const auto timeout = network_.elements[i]->timeout(wanted[i]);
            timeout && later(entered_[i], toTicks(timeout->seconds)) <= t_) {
            wanted[i] = timeout->next;
            ++eventsByElement_[i];
        }
    while (clock_.next() <= t_) {
        broke = true;
        clock_.advance(clock_.next(), [this](int column) { return now_.z[static_cast<std::size_t>(column)]; });
        if (clock_.error()) {
            error_ = clock_.error();
            return;
        }
    }
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
    }
    if (!broke && wanted == segments_) return;
    ++events_;
    recorder_.event(t_, now_.z);
    if (clock_.version() != signalVersion_) {
        recorder_.flush();
        signalVersion_ = clock_.version();
        recorder_.setSignals(clock_.signals());
    }
    enter(std::move(wanted));
    fresh_ = changed_ = true;
}

/// Elements that drive a signal show what they do now; what follows from it comes with the next instant.
void Run::showLogic() {
    for (std::size_t i = 0; i < network_.elements.size(); ++i) {
        const Element& element = *network_.elements[i];
        if (element.logicSignal() >= 0)
            clock_.set(element.logicSignal(), element.conducts(segments_[i]) ? 1.0 : 0.0, t_);
    }
}

}  // namespace hedgerow::fixed
