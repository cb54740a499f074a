#include "engines/fixed/run.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "model/quantity.h"
#include "network/contradictions.h"
#include "network/engine.h"

namespace hedgerow {
std::unique_ptr<Engine> makeAdaptive();
}

namespace hedgerow::fixed {

namespace {
constexpr double stepShare = 0.01;  ///< of the trace tolerance, to which smooth equations are solved
constexpr double linearZero = 1e-12, iteratedZero = 1e-9;
constexpr double moment = 0x1p-40;      ///< s: in it nothing but charges that contradict each other moves
constexpr double cutPart = 1e-6;        ///< of a winding current: what is left of one that is cut
constexpr double cutResistance = 3e13;  ///< Ohm: of a way that is none
constexpr int blockRounds = 4, mostRounds = 60;
constexpr int mostEventsInStep = 50;  ///< that are located; what comes after them waits for the grid
}  // namespace

Run::Machinery::Machinery(const Network& network, const RunRequest& request, RunSink& sink)
    : scales(network),
      solvers(network, scales, request.fixed, stepShare * request.traceTolerance),
      recorder(network, request, sink) {}

Run::Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel)
    : SwitchingLoop("fixed", network, request, sink, cancel),
      stepping_(request.fixed),
      length_(toTicks(request.fixed.step)) {
    takeNetwork();
}

void Run::takeNetwork() {
    if (machinery_) earlier_ = counts();
    machinery_ = std::make_unique<Machinery>(network(), request(), sink());
    zero_ = linearZero;
    for (const auto& element : network().elements)
        if (element->smooth()) zero_ = iteratedZero;
    now_.z.assign(static_cast<std::size_t>(network().unknownCount()), 0.0);
    between_.resize(now_.z.size());
    base_.resize(network().states.size());
    slopes_.resize(network().states.size());
}

Run::Counts Run::counts() const {
    return {.configurations = earlier_.configurations + solvers().configurations(),
            .iterations = earlier_.iterations + solvers().iterations(),
            .factorisations = earlier_.factorisations + solvers().factorisations(),
            .points = earlier_.points + recorder().points()};
}

void Run::describe(RunSummary& summary) const {
    const Counts all = counts();
    summary.counters = {{"steps", steps_},
                        {"events", events_},
                        {"gate edges", gateEvents_},
                        {"located within steps", located_},
                        {"steps without a state that fits", unsettled_},
                        {"configurations", all.configurations},
                        {"iterations", all.iterations},
                        {"factorisations", all.factorisations},
                        {"stored points", all.points}};
    const double total = watch_.seconds();
    summary.seconds = {{"steps", total - secondsStoring_},
                       {"storing", secondsStoring_},
                       {"total", total},
                       {"step of the grid", stepping_.step},
                       {"longest step", longestStep_}};
}

Result<std::vector<double>> Run::operatingPoint(const Network& of) const { return makeAdaptive()->operatingPoint(of); }

void Run::flush() {
    if (!recorder().fault()) recorder().flush();
    if (recorder().fault() && !error()) fail(*recorder().fault());
}

double Run::scaleOf(const StateInfo& state) const {
    return state.sort == StateSort::capacitorVoltage ? scales().voltage() : scales().current();
}

void Run::move(Tick) {
    const Stopwatch watch;
    step();
    longestStep_ = std::max(longestStep_, watch.seconds());
    if (k_ % 16 == 0) sink().progress(t_);
}

void Run::stopHere(Tick asked) {
    cut_ = asked;
    while (!stopped() && t_ < asked && !full() && !cancelToken().cancelled()) step();
    cut_ = neverTick;
}

bool Run::begin(const std::vector<double>& states, const std::vector<int>& segments) {
    now_.x = states;
    origin_ = t_;
    k_ = 0;
    segments_ = segments;
    hasMiddle_ = false;
    follow({});
    recorder().setSignals(clock().signals());
    signalVersion_ = clock().version();
    // What the circuit shows before its first step.
    if (!attempt()) return false;
    recorder().setSegments(segments_);
    Solvers::Solver& solver = solvers().of(segments_, k_ + 1);
    solver.newton.sources(t_);
    const Outcome outcome = solver.newton.solveCarefully(now_.x, moment, now_.z, middle_.x);
    if (outcome != Outcome::good) return failStep(outcome, solver);
    scales().see(now_.z, now_.x);
    showsFirst_ = true;
    return true;
}

void Run::showStart() {
    showsFirst_ = false;
    recorder().event(t_, now_.z);
    showLogic();
}

/// Whether no winding current is gone after the first part of a step because it has no way left but the vanishing
/// conductances, by which the equations stay regular: behind a resistance that can be given more is left of it.
bool Run::currentsHaveWays(Solvers::Solver& solver) {
    std::vector<std::size_t> suspects;
    for (std::size_t i = 0; i < now_.x.size(); ++i)
        if (network().states[i].sort == StateSort::windingCurrent &&
            std::abs(now_.x[i]) > cutPart * scales().current() &&
            std::abs(middle_.x[i]) <= cutPart * std::abs(now_.x[i]))
            suspects.push_back(i);
    if (suspects.empty()) return true;
    Instant probe{now_.x, now_.z};
    solver.newton.sources(t_);
    if (solver.newton.solveCarefully(now_.x, moment, probe.z, probe.x) != Outcome::good) return true;
    for (const std::size_t i : suspects) {
        const double left = std::abs(probe.x[i] / now_.x[i]);
        if (left * (1 + moment * cutResistance / network().states[i].storage) > 1) continue;
        fail(cutCurrent(network().states[i], now_.x[i], "at " + formatQuantity(toSeconds(t_), "s", 6)));
        return false;
    }
    return true;
}

/// Takes the guards of the present segments. @param before  the segments before, empty for none
void Run::follow(const std::vector<int>& before) {
    guards_.clear();
    for (std::size_t i = 0; i < segments_.size(); ++i)
        for (Guard& guard : network().elements[i]->guards(segments_[i])) guards_.emplace_back(i, std::move(guard));
    if (!before.empty()) noteEntered(before, segments_);
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
        if (wanted[element] != segments_[element] || guard.valueAt(z) >= -zero_ * scales().ofTerms(guard.terms))
            continue;
        wanted[element] = guard.next;
        if (onlyFirst) break;
    }
    return wanted;
}

/// Ticks do not add up to steps: each instant is rounded by itself.
Tick Run::nextOfGrid() const {
    const Tick next = origin_ + toTicks(static_cast<double>(k_ + 1) * stepping_.step);
    const Tick end = std::min(request().end, cut_);
    return end - next < 2 ? end : next;
}

void Run::step() {
    const Tick horizon = nextOfGrid();
    for (int located = 0; t_ < horizon && !stopped() && !recorder().full() && !cancelToken().cancelled();) {
        takeInstants();
        if (stopped() || !attempt()) return;
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
            if (next[i] != segments_[i]) ++events_, countEvent(i);
        recorder().event(t_, now_.z);
        enter(std::move(next));
    }
    ++k_, ++steps_;
}

bool Run::failStep(Outcome outcome, Solvers::Solver& solver) {
    const std::string when = formatQuantity(toSeconds(t_), "s", 6);
    if (outcome == Outcome::singular) {
        fail({ErrorCode::illPosed, fmt::format("{} has no unique value at {}: add a resistance there",
                                               solver.system.singularPlace(), when)});
        return false;
    }
    const int worst = static_cast<int>(solver.newton.worst());
    fail({ErrorCode::numeric,
          fmt::format("{} finds no value in the step at {}: take a shorter step, or put the parts there on a lower "
                      "rung",
                      network().describeUnknown(worst), when),
          worst >= network().nodeCount() ? network().partOfBranch(worst) : ""});
    return false;
}

bool Run::attempt() {
    const double alpha = stepping_.trapezoidal ? stepping_.step / 2 : stepping_.step;
    if (fresh_) return attemptAfterEvent(alpha);
    hasMiddle_ = false;
    Solvers::Solver& solver = solvers().of(segments_, k_ + 1);
    solver.newton.setHeld(clock().signals());
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
        Solvers::Solver& solver = solvers().of(segments_, k_ + 1);
        solver.newton.setHeld(clock().signals());
        solver.newton.sources(t_, t_ + first);
        middle_.z = now_.z;
        const Outcome outcome = solver.newton.solve(now_.x, alpha, middle_.z, middle_.x);
        if (outcome != Outcome::good) return failStep(outcome, solver);
        if (std::vector<int> next = flipped(middle_.z, round >= blockRounds); next != segments_) {
            if (round < mostRounds) {
                for (std::size_t i = 0; i < next.size(); ++i)
                    if (next[i] != segments_[i]) countEvent(i);
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
        recorder().setSegments(segments_);
        if (hasMiddle_)
            for (std::size_t i = 0; i < now_.z.size(); ++i) now_.z[i] = 2 * middle_.z[i] - end_.z[i];
        recorder().event(t_, now_.z);
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
    Event first{std::min({horizon, clock().next(), nextTimeout()})};
    const Values& start = hasMiddle_ ? middle_.z : now_.z;
    const double length = static_cast<double>(length_) / (hasMiddle_ ? 2 : 1),
                 from = static_cast<double>(length_) - length;
    for (std::size_t i = 0; i < guards_.size(); ++i) {
        const Guard& guard = guards_[i].second;
        const double ends = guard.valueAt(end_.z);
        if (ends >= -zero_ * scales().ofTerms(guard.terms)) continue;
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
        const auto& instants = request().instants;
        for (; instant_ < instants.size() && instants[instant_] <= at; ++instant_) {
            if (instants[instant_] <= t_) continue;
            within(static_cast<double>(instants[instant_] - t_) / static_cast<double>(length_), between_);
            recorder().line(instants[instant_], between_);
            recorder().flush();
        }
        if (hasMiddle_ && part > 0.5) recorder().line(t_ + length_ / 2, middle_.z);
        within(part, between_);
        if (at > t_) recorder().line(at, between_);
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
    scales().see(now_.z, now_.x);
}

void Run::takeInstants() {
    std::vector<int> wanted = segments_;
    const bool known = clock().next() <= t_;
    if (known) {
        if (!advanceClock()) return;
        turnGates(wanted);
    }
    takeTimeouts(wanted);
    if (!known && wanted == segments_) return;
    ++events_;
    recorder().event(t_, now_.z);
    if (clock().version() != signalVersion_) {
        recorder().flush();
        signalVersion_ = clock().version();
        recorder().setSignals(clock().signals());
    }
    enter(std::move(wanted));
    fresh_ = changed_ = true;
}

}  // namespace hedgerow::fixed
