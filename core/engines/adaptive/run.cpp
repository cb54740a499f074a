#include "engines/adaptive/run.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <utility>

#include <fmt/format.h>

#include "engines/adaptive/operating_point.h"
#include "model/quantity.h"

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
constexpr Tick leastCourse = 64;      ///< of a step whose course within may be doubted

}  // namespace

Run::Machinery::Machinery(const Network& network, const RunRequest& request, RunSink& sink, const Tableau& tableau)
    : system(network),
      scales(network),
      stepper(system, tableau, scales, stepShare * request.traceTolerance),
      switching(system, stepper, scales),
      recorder(network, request, sink) {}

Run::Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel,
         const Tableau& tableau)
    : SwitchingLoop("adaptive", network, request, sink, cancel), tableau_(tableau) {
    takeNetwork();
}

void Run::takeNetwork() {
    if (machinery_) earlier_ = counts();
    machinery_ = std::make_unique<Machinery>(network(), request(), sink(), tableau_);
    now_.z.assign(system().unknowns(), 0.0);
    allowed_.assign(system().unknowns(), 0.0);
    lastEvent_ = -1;
    strayed_ = 0;
    longest_ = std::max<Tick>(1, request().end / piecesOfRun);
    for (const auto& source : network().sources)
        if (source->angularFrequency() > 0)
            longest_ = std::min(longest_, toTicks(2 * std::numbers::pi / source->angularFrequency() / piecesOfSine));
}

Run::Counts Run::counts() const {
    return {.iterations = earlier_.iterations + stepper().newton().iterations(),
            .factorisations = earlier_.factorisations + system().factorisations(),
            .evaluations = earlier_.evaluations + system().evaluations(),
            .points = earlier_.points + recorder().points()};
}

void Run::describe(RunSummary& summary) const {
    const Counts all = counts();
    summary.counters = {{"events", events_},
                        {"gate edges", gateEvents_},
                        {"located crossings", crossings_},
                        {"steps", steps_},
                        {"steps repeated", rejected_},
                        {"iterations", all.iterations},
                        {"factorisations", all.factorisations},
                        {"evaluations", all.evaluations},
                        {"stored points", all.points}};
    for (std::size_t i = 0; i < stepsByState_.size(); ++i)
        if (stepsByState_[i] > 0) summary.stepsByPart[network().states[i].part] += stepsByState_[i];
    const double total = watch_.seconds();
    summary.seconds = {{"steps", total - secondsEvents_ - secondsStoring_},
                       {"events", secondsEvents_},
                       {"storing", secondsStoring_},
                       {"total", total}};
}

Result<std::vector<double>> Run::operatingPoint(const Network& of) const { return adaptive::operatingPoint(of); }

void Run::flush() {
    if (!recorder().fault()) recorder().flush();
    if (recorder().fault() && !error()) fail(*recorder().fault());
}

double Run::scaleOf(const StateInfo& state) const {
    return state.sort == StateSort::capacitorVoltage ? scales().voltage() : scales().current();
}

bool Run::begin(const std::vector<double>& states, const std::vector<int>& segments) {
    now_.x = states;
    switching().set(segments);
    recorder().setSignals(clock().signals());
    signalVersion_ = clock().version();
    stepper().newton().setHeld(clock().signals());
    const char* const what = t_ > 0 ? "as other values begin" : "as the run starts";
    if (auto settled = switching().settle(now_, t_, what); !settled) return fail(settled.error()), false;
    return true;
}

void Run::showStart() {
    recorder().setSegments(switching().segments());
    recorder().event(t_, now_.z);
    showLogic();
    beforeEvent_ = longest_;
    easeIn();
}

/// States at now(): within a step by the cubic through values and slopes at its ends.
std::vector<double> Run::states() const {
    if (!pending_) return now_.x;
    const double part = static_cast<double>(pending_->looked - t_) / static_cast<double>(pending_->length),
                 h = toSeconds(pending_->length);
    const Instant& end = stepper().end();
    Values before(now_.x.size()), after(now_.x.size());
    system().rates(now_.z, before);
    system().rates(end.z, after);
    std::vector<double> x(now_.x.size());
    const double late = part * part * (3 - 2 * part), first = part * (1 - part) * (1 - part),
                 second = part * part * (1 - part);
    for (std::size_t i = 0; i < x.size(); ++i)
        x[i] = now_.x[i] + late * (end.x[i] - now_.x[i]) + h * (first * before[i] - second * after[i]);
    return x;
}

/// The next instant that is known: of the control, a source, or a timeout.
Tick Run::nextInstant() const { return std::min({clock().next(), nextTimeout(), request().end}); }

/// One step. One that passes `until` is kept until the next call: it is taken then, as if nothing had been in between.
void Run::move(Tick until) {
    if (t_ < request().end && nextInstant() <= t_) return arrived();
    std::optional<Pending> step = std::exchange(pending_, std::nullopt);
    if (!step) step = nextStep(nextInstant());
    if (!step) return;
    if (t_ + step->length > until) {
        pending_ = step;
        pending_->looked = until;
        return;
    }
    take(*step);
}

/// Steps to the present instant, so that what was made beyond it is forgotten.
void Run::stopHere(Tick) {
    if (!pending_) return;
    const Tick until = pending_->looked;
    pending_.reset();
    while (!stopped() && t_ < until && !full()) {
        if (cancelToken().cancelled()) return stop();
        if (nextInstant() <= t_)
            arrived();
        else if (const auto step = nextStep(std::min(until, nextInstant())))
            take(*step);
    }
}

/// Makes an attempt that holds, towards an instant; nothing when it is to be made anew.
std::optional<Run::Pending> Run::nextStep(Tick until) {
    Tick target = until;
    while (instant_ < request().instants.size() && request().instants[instant_] <= t_) ++instant_;
    if (instant_ < request().instants.size()) target = std::min(target, request().instants[instant_]);
    const Tick left = target - t_;
    Tick length = std::clamp(step_, shortest, longest_);
    // No crumbs before an instant that is known.
    if (length >= left)
        length = left;
    else if (2 * length > left)
        length = (left + 1) / 2;
    const bool atBreak = t_ + length == clock().nextSource();
    if (!tryStep(length, atBreak)) return {};
    Pending step{.length = length};
    if (const auto crossing = firstCrossing()) {
        const Landing landing = landOn(*crossing, step.length);
        if (landing == Landing::repeat) return {};
        step.shortened = true;
        if (landing == Landing::ends) step.crossed = crossing->second;
    }
    return step;
}

void Run::take(const Pending& step) {
    accept(step.length);
    if (step.crossed) return crossed(*step.crossed);
    if (!step.shortened) {
        // A step that was cut short tells little about how long the next may be.
        const Tick grown = static_cast<Tick>(stepper().growth() * static_cast<double>(step.length));
        step_ = std::clamp(step.length < step_ ? std::max(step_, grown) : grown, shortest, longest_);
        if (stepper().method().order == 1 &&
            (stepper().growth() < leastEase ||
             static_cast<double>(step_) > handOver * static_cast<double>(beforeEvent_)))
            takeOver();
        if (instant_ < request().instants.size() && t_ == request().instants[instant_]) recorder().flush();
    }
    if (++sinceProgress_ % 16 == 0) sink().progress(t_);
}

/// Makes the last attempt anew, shorter, so that it ends where the guard has just ended.
/// @param length  of the attempt, in and out
Run::Landing Run::landOn(const std::pair<double, std::size_t>& crossing, Tick& length) {
    const Guard guard = switching().guards()[crossing.second].guard;
    const double enough = landing * scales().ofTerms(guard.terms);
    Tick holds = 0, ends = length;
    double above = std::max(guard.valueAt(now_.z), enough), below = guard.valueAt(stepper().end().z);
    Tick next = static_cast<Tick>(crossing.first * static_cast<double>(length));
    if (below > 0 && length > 1) {
        // Within the step only: true when a step to there sees it too.
        next = std::clamp<Tick>(next, 1, length - 1);
        if (!tryLanding(next)) return Landing::repeat;
        const double value = guard.valueAt(stepper().end().z);
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
        const double value = guard.valueAt(stepper().end().z);
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
    const auto outcome = stepper().attempt(now_, t_, length, false);
    if (outcome == Outcome::good) return true;
    // No shorter one can be told apart from the shortest.
    if (outcome == Outcome::inaccurate && (stepper().error() <= mostLandingError || length <= shortest)) return true;
    return repeat(outcome, length), false;
}

/// One attempt; false when it must be made anew with the shorter step_.
bool Run::tryStep(Tick length, bool atBreak) {
    const auto outcome = stepper().attempt(now_, t_, length, atBreak);
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
    recorder().allowances(allowed_);
    const double strays = stepper().strays(allowed_);
    const bool helps = strayed_ == 0 || strays < mostOfBefore * strayed_;
    // Currents of capacitances bend more than states do: they may shorten some of the steps, and no more.
    const bool may = network().states.empty() || shortened_ < steps_ / shortenedSteps + shortenedSteps;
    if (strays <= 1 || length <= leastCourse || !helps || !may) {
        strayed_ = 0;
        return true;
    }
    strayed_ = strays;
    ++rejected_, ++shortened_;
    step_ = std::max(shortest,
                     static_cast<Tick>(static_cast<double>(length) * std::clamp(0.9 / std::cbrt(strays), 0.2, 0.8)));
    return false;
}

/// Shortens the step after an attempt that was no good.
void Run::repeat(Outcome outcome, Tick length) {
    ++rejected_;
    if (stepper().method().order == 1 && outcome == Outcome::inaccurate)
        return takeOver();  // which gains more from here
    if (freshEvent_ && length <= toTicks(firstStep)) {
        // Charges may flow within less than the moment in which the event was settled: the currents it left are others.
        freshEvent_ = false;
        if (stepper().fitUnknowns(now_, t_)) return;
    }
    if (outcome != Outcome::inaccurate && length <= shortest) return failStep(outcome);
    const double factor = outcome == Outcome::inaccurate ? std::min(0.9, stepper().growth()) : 0.25;
    step_ = std::max(shortest, static_cast<Tick>(factor * static_cast<double>(length)));
}

/// The first moments after an event.
void Run::easeIn() {
    step_ = toTicks(firstStep);
    stepper().use(backwardEuler());
    freshEvent_ = true;
}

void Run::takeOver() {
    stepper().use(tableau_);
    beforeEvent_ = 0;
}

void Run::failStep(Outcome outcome) {
    const std::string when = formatQuantity(toSeconds(t_), "s", 6);
    if (outcome == Outcome::singular)
        return fail({ErrorCode::illPosed, fmt::format("{} has no unique value at {}: add a resistance there",
                                                      system().singularPlace(), when)});
    const int worst = static_cast<int>(stepper().newton().worst());
    fail({ErrorCode::numeric,
          fmt::format("{} finds no value at {}, however short the step: put the parts there on a lower rung, or give "
                      "them a capacitance or a resistance",
                      network().describeUnknown(worst), when),
          worst >= network().nodeCount() ? network().partOfBranch(worst) : ""});
}

std::optional<std::pair<double, std::size_t>> Run::firstCrossing() {
    const auto& guards = switching().guards();
    std::optional<std::pair<double, std::size_t>> first;
    for (std::size_t i = 0; i < guards.size(); ++i) {
        const Guard& guard = guards[i].guard;
        const Course course = stepper().courseOf(guard);
        const double least = -switching().zero() * scales().ofTerms(guard.terms),
                     end = guard.valueAt(stepper().end().z);
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
    if (const int worst = stepper().worst(); worst >= 0) {
        stepsByState_.resize(network().states.size());
        ++stepsByState_[static_cast<std::size_t>(worst)];
    }
    freshEvent_ = false;
    now_ = stepper().end();
    scales().see(now_.z, now_.x);
    const Stopwatch watch;
    recorder().way([this](double part, std::span<double> z) { stepper().within(part, z); }, t_, length, now_.z);
    secondsStoring_ += watch.seconds();
    t_ += length;
}

void Run::crossed(std::size_t guard) {
    const auto active = switching().guards()[guard];
    ++crossings_;
    countEvent(active.element);
    std::vector<int> wanted = switching().segments();
    wanted[active.element] = active.guard.next;
    enter(wanted, "when " + network().elements[active.element]->part() + " changes");
}

std::string Run::describeTurn(const Turned& turned) const {
    return "when " + network().elements[static_cast<std::size_t>(turned.element)]->part() +
           (turned.on ? " turns on" : " turns off");
}

/// At an instant that was known: signals, sources, timeouts.
void Run::arrived() {
    if (t_ >= request().end) return;
    std::vector<int> wanted = switching().segments();
    std::string what = "as a source jumps";
    const bool known = clock().next() <= t_;
    bool changed = false;
    if (known) {
        if (!advanceClock()) return;
        stepper().newton().setHeld(clock().signals());
        if (const Turned turned = turnGates(wanted); turned.element >= 0) what = describeTurn(turned), changed = true;
    }
    if (const int element = takeTimeouts(wanted); element >= 0)
        what = "when " + network().elements[static_cast<std::size_t>(element)]->part() + " changes";
    if (known && clock().version() != signalVersion_) {
        recorder().flush();
        signalVersion_ = clock().version();
        if (!changed) recorder().event(t_, now_.z);
        recorder().setSignals(clock().signals());
    }
    if (known || wanted != switching().segments()) enter(wanted, what);
}

void Run::enter(const std::vector<int>& wanted, const std::string& what) {
    const Stopwatch watch;
    ++events_;
    sameInstant_ = t_ - lastEvent_ <= shortest ? sameInstant_ + 1 : 0;
    lastEvent_ = t_;
    if (sameInstant_ > mostSameInstant)
        return fail({ErrorCode::numeric, fmt::format("the circuit switches without end {} at {}", what,
                                                     formatQuantity(toSeconds(t_), "s", 6))});
    switching().lookCloser(sameInstant_ > fewSameInstant);
    recorder().event(t_, now_.z);
    const std::vector<int> before = switching().segments();
    switching().set(wanted);
    auto settled = switching().settle(now_, t_, what);
    for (const std::size_t element : switching().flipped()) countEvent(element);
    noteEntered(before, switching().segments());
    recorder().setSegments(switching().segments());
    if (settled) recorder().event(t_, now_.z);
    beforeEvent_ = std::max(step_, beforeEvent_);
    easeIn();
    secondsEvents_ += watch.seconds();
    if (!settled) return fail(settled.error());
    showLogic();
}

}  // namespace hedgerow::adaptive
