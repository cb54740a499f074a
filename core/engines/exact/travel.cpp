// How a run gets from one event to the next: the general way, which locates whatever guard ends first, and the short
// way along legs.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "engines/exact/round.h"
#include "engines/exact/run.h"
#include "model/quantity.h"

namespace hedgerow::exact {

namespace {
constexpr int noGuard = -1;
constexpr int legsPerLook = 256;            ///< legs between two looks at the clock on the wall
constexpr std::size_t periodsPerLook = 64;  ///< periods between two looks at the swings of the traces
constexpr double together = 1e-12;          ///< ends of guards that differ by less, in lengths of the piece, are one
constexpr int seeEvery = 8;                 ///< visits of a leg between two looks at the swings of the traces

/// Whether a polynomial stays above zero before this root of it, to third order: by the hull of the cubic through
/// values and slopes at both ends.
template <class Real>
bool fallsOnce(const std::vector<Real>& c, Real root) {
    Real slope = 0;
    for (std::size_t j = c.size(); j-- > 1;) slope = slope * root + static_cast<Real>(j) * c[j];
    return 3 * c[0] + root * c[1] >= 0 && slope <= 0;
}
}  // namespace

/// To `next`, or to the first guard that ends before, and the event there.
template <class Real>
void Run<Real>::general(Tick next) {
    next = upToFading(next);
    Mode<Real>* const fades = fadesTo_;
    const bool noted = !request_.reference;
    Stretch<Real>& stretch = stretch_;
    if (noted) {
        stretch.mode = mode_;
        stretch.start = y_;
        stretch.length = t_;
        stretch.phase = clock_.phase();
        stretch.instead = legs_.predicted();
    }
    const int generation = modeGeneration_;
    const bool fromEdge = toTick(clock_.lastEdge()) == t_;
    wayStart_ = y_;
    wayLength_ = 0;
    startKnown_ = false;
    risen_.assign(mode_->guards.size(), 0);
    const Stopwatch watch;
    const double stored = recorder_.seconds();
    const int guard = travel(next);
    flushWay();
    secondsGeneral_ += watch.seconds() - (recorder_.seconds() - stored);
    if (stopped_) return;
    if (noted) {
        stretch.length = t_ - stretch.length;
        stretch.crossing = guard;
        stretch.end = y_;
        stretch.repeats = clock_.period() > 0 &&
                          toSeconds(request_.end - t_) > legs_.paysAfter() * toSeconds(toTick(clock_.period()));
        stretch.periodic = guard == noGuard && clock_.period() > 0 && (fromEdge || fades);
        stretch.fades = fades != nullptr && guard == noGuard;
    }
    magnitudes_.drifted(mode_->propagator().norm() * secondsOf<Real>(t_ - inModeSince_));
    if (guard != noGuard)
        crossing(guard);
    else if (fades && t_ == next)
        fade(fades);
    else if (t_ < request_.end && (t_ >= clock_.next() || t_ >= nextTimeout()))
        scheduled();
    else
        return;
    if (stopped_ || !noted || generation != modeGeneration_) return;
    legs_.walked(nullptr);
    if (Leg<Real>* leg = legs_.note(stretch)) {
        leg->to = mode_;
        leg->gates = clock_.gates();
        legs_.walked(leg);
    }
}

template <class Real>
int Run<Real>::travel(Tick next) {
    while (t_ < next) {
        if (cancel_.cancelled() || recorder_.full()) {
            stopped_ = true;
            return noGuard;
        }
        const int guard = piece(mode_->propagator().topStep(next - t_));
        if (guard != noGuard || stopped_) return guard;
    }
    return noGuard;
}

/// One step of the given length if no guard can end within it, else a walk down the ladder.
template <class Real>
int Run<Real>::piece(Tick length) {
    after_ = y_;
    mode_->propagator().advance(after_, length);
    if (!guardsHold(length)) return walk(length);
    acceptHeld(length);
    return noGuard;
}

/// Through a stretch in which a guard may end: to shortly before the end that the cubics of the last look let expect,
/// then on with what is left, until the stretch is short enough for a Taylor polynomial. @pre guardsHold() just failed
template <class Real>
int Run<Real>::walk(Tick length) {
    ++descents_;
    Propagator<Real>& propagator = mode_->propagator();
    const Tick base = propagator.baseStep();
    Tick end = t_;  ///< when a guard is expected to end, as far as that is known
    const auto before = [&](Tick failed) {
        const Tick expected = expectedEnd(failed);
        end = t_ + std::max(expected, Tick{0});
        return expected < 0 ? failed / 2 : expected - std::max({failed / 64, base / 2, Tick{1}});
    };
    const Tick reach = propagator.seriesReach();
    Tick step = before(length);
    while (length > 0 && !stopped_) {
        if (cancel_.cancelled()) {
            stopped_ = true;
            return noGuard;
        }
        step = std::max(step, std::min(length, base));
        if (end - t_ > 0 && end - t_ < step && step <= reach)
            if (const int guard = endWithin(step); guard != noGuard) return guard;
        step = propagator.easyStep(step);
        after_ = y_;
        propagator.advance(after_, step);
        if (guardsHold(step)) {
            acceptHeld(step);
        } else if (const int guard = step <= reach ? endWithin(step) : noGuard; guard != noGuard) {
            return guard;
        } else if (step > base) {
            step = before(step);
            continue;
        } else {
            accept(after_, step);
            startKnown_ = false;
        }
        length -= step;
        const Tick left = end - t_;
        step = std::min(length, left > 0 ? 2 * left : 2 * step);
        if (left > 0 && left < reach - reach / 4) step = std::min(step, reach);
    }
    return noGuard;
}

/// The first end of a guard within a step, to third order, after a look at the guards at both ends of it; -1 when none
/// shows.
template <class Real>
Tick Run<Real>::expectedEnd(Tick length) const {
    const Real h = secondsOf<Real>(length);
    const std::vector<Real>& noise = mode_->noise(magnitudes_);
    Real first = -1;
    const auto count = static_cast<Eigen::Index>(noise.size());
    for (Eigen::Index i = 0; i < count; ++i) {
        const Real value0 = start_(i), rate0 = start_(count + i), rate1 = end_(count + i);
        const Real rise = (end_(i) - value0) / h;
        const Real cubic[] = {value0, rate0, (3 * rise - 2 * rate0 - rate1) / h, (rate0 + rate1 - 2 * rise) / (h * h)};
        // A guard that starts from zero ends where what remains without that root does.
        const bool leaves = value0 <= noise[static_cast<std::size_t>(i)] && rate0 > 0;
        const Real root = firstRoot(cubic + leaves, leaves ? 2 : 3, h, Real(1e-4));
        if (root >= 0 && (first < 0 || root < first)) first = root;
    }
    return first < 0 ? -1 : toTicks(first);
}

/// Goes to the first end of a guard within a short step: a root of its Taylor polynomial. @return the guard; where none
/// ends, or it cannot be said which is the first, nothing is done
template <class Real>
int Run<Real>::endWithin(Tick length) {
    const auto y = mode_->propagator().taylor(y_, length);
    const int order = static_cast<int>(y.cols()) - 1;
    const bool shortest = length <= mode_->propagator().baseStep();
    const Real h = secondsOf<Real>(length);
    Real first = -1, ofCrossed = -1;
    int crossed = noGuard;
    const Eigen::Index guards = mode_->guardValue.rows();
    if (polynomials_.rows() != guards || polynomials_.cols() <= order) polynomials_.resize(guards, order + 1);
    for (int j = 0; j <= order; ++j) mode_->guardValue.apply(y.col(j).data(), polynomials_.col(j).data());
    const std::vector<Real>& noise = mode_->noise(magnitudes_);
    polynomial_.resize(static_cast<std::size_t>(order) + 1);
    for (Eigen::Index i = 0; i < guards; ++i) {
        for (int j = 0; j <= order; ++j) polynomial_[static_cast<std::size_t>(j)] = polynomials_(i, j);
        // As in guardsHold(): what starts from zero may be below it by its noise.
        const Real floor = noise[static_cast<std::size_t>(i)];
        const bool fromZero = !risen_[static_cast<std::size_t>(i)] && std::abs(polynomial_[0]) <= floor;
        if (fromZero) polynomial_[0] += floor;
        const Real root = firstRoot(polynomial_.data(), order, h);
        if (root < 0) continue;
        if (!shortest && (fromZero || !fallsOnce(polynomial_, root))) return noGuard;
        // Of those that end together, as two diodes with one current do, it is the first whatever the last digit says;
        // the instant is that of the earliest.
        if (crossed == noGuard || root < ofCrossed - Real(together) * h)
            ofCrossed = root, crossed = static_cast<int>(i);
        first = first < 0 ? root : std::min(first, root);
    }
    if (crossed == noGuard) return noGuard;
    // The states are those of the exact root; its instant is counted to the nearest tick.
    after_ = y.col(order);
    for (int j = order; j-- > 0;) after_ = first * after_ + y.col(j);
    startKnown_ = false;
    accept(after_, std::clamp<Tick>(toTicks(first), 0, length));
    return crossed;
}

/// No crossing within a step to third order: the Bernstein hull of the cubic through values and slopes at both ends
/// stays on one side.
template <class Real>
bool Run<Real>::guardsHold(Tick length) {
    const auto count = static_cast<Eigen::Index>(mode_->guards.size());
    if (count == 0) return true;
    if (!startKnown_) mode_->look(y_.data(), start_);
    startKnown_ = true;
    mode_->look(after_.data(), end_);
    const std::vector<Real>& noise = mode_->noise(magnitudes_);
    const Real third = secondsOf<Real>(length) / 3;
    for (Eigen::Index i = 0; i < count; ++i) {
        // Noise counts only while the guard is at the zero it started from: a real crossing is found where it is.
        const Real floor = noise[static_cast<std::size_t>(i)];
        const Real value0 = start_(i), rate0 = start_(count + i), value1 = end_(i), rate1 = end_(count + i);
        char& risen = risen_[static_cast<std::size_t>(i)];
        risen |= value0 > 4 * floor ? 1 : 0;
        const Real least = risen || value0 > floor ? Real(0) : -floor;
        if (!(value0 >= least && value1 >= least && value0 + third * rate0 >= least && value1 - third * rate1 >= least))
            return false;
    }
    return true;
}

/// Takes the step to `after_`, in which the guards hold.
template <class Real>
void Run<Real>::acceptHeld(Tick length) {
    accept(after_, length);
    start_.swap(end_);
}

/// Takes a step. What lies between stored points may be as long as the top step.
template <class Real>
void Run<Real>::accept(const Vector<Real>& after, Tick length) {
    if (!after.allFinite()) {
        return fail(beyondNumbers(frame_, after, t_));
    }
    if (wayLength_ > 0 && mode_->propagator().topStep(wayLength_ + length) < wayLength_ + length) flushWay();
    wayLength_ += length;
    y_ = after;
    t_ += length;
    ++steps_;
    if ((steps_ & 1023) == 0) sink_.progress(t_);
}

template <class Real>
void Run<Real>::flushWay() {
    if (wayLength_ > 0) recorder_.way(*mode_, wayStart_, y_, t_ - wayLength_, wayLength_);
    wayStart_ = y_;
    wayLength_ = 0;
}

/// Goes along one leg after the other while they fit. @return false when there is none from here
template <class Real>
bool Run<Real>::alongLegs(Tick next) {
    if (request_.reference || mode_->timed || !request_.instants.empty()) return false;
    const Stopwatch watch;
    int walked = 0;
    while (walked < legsPerLook && !stopped_ && !recorder_.full() && t_ < request_.end) {
        if (walked > 0) next = std::min(request_.end, clock_.next());
        Leg<Real>* leg = legs_.predicted();
        if (leg && leg->mode == mode_ && clock_.period() > 0) {
            while (!cancel_.cancelled() && alongRounds(*leg)) walked = std::max(walked, 1);
            if (t_ >= request_.end) break;
            next = std::min(request_.end, clock_.next());
        }
        next = upToFading(next);
        if (!leg || leg->mode != mode_ || !replay(*leg, next)) {
            Leg<Real>* const failed = leg && leg->mode == mode_ ? leg : nullptr;
            leg = legs_.crossing(mode_);
            if (!leg || leg == failed || !replay(*leg, next)) {
                leg = legs_.scheduled(mode_, next - t_, clock_.phase());
                if (!leg || leg == failed || !replay(*leg, next)) break;
            }
        }
        legs_.walked(leg);
        ++walked, ++replayed_;
        if (t_ >= request_.end) break;
        arrive(*leg);
        if (mode_->timed) break;
    }
    secondsLegs_ += watch.seconds();
    return walked > 0;
}

/// Goes along the round that begins with a leg, as often as it fits. @return false when it never did
template <class Real>
bool Run<Real>::alongRounds(Leg<Real>& leg) {
    if (!leg.round) {
        if (leg.visits < leg.roundAt || toTick(clock_.lastEdge()) != t_) return false;
        legs_.makeRound(leg, clock_);
        if (!leg.round) return false;
    }
    Round<Real>& round = *leg.round;
    if (round.generation != recorder_.generation()) {
        for (Leg<Real>* part : round.legs) legs_.renew(*part);
        return false;
    }
    if (toTick(clock_.lastEdge()) != t_ || recorder_.full()) return false;
    const FineTime start = clock_.lastEdge();
    const Tick limit = std::min(request_.end, clock_.nextSource());
    std::size_t count = 0;
    const std::size_t most = std::max<std::size_t>(1, periodsPerLook / static_cast<std::size_t>(round.periods));
    round.makeRoom(most, true, roundPoints_);
    after_ = y_;
    for (FineTime at = start;
         count < most && toTick(at + round.period) < limit && round.go(y_, at, count, commutation_, roundPoints_);
         at += round.period)
        ++count;
    if (count == 0) {
        if (round.useless()) legs_.dropRound(leg);
        return false;
    }
    if (!y_.allFinite()) {
        y_ = after_;  // the general way finds out where
        return false;
    }
    round.makeRoom(count, false, roundPoints_);
    recorder_.points(roundPoints_.list, roundPoints_.numbers);
    const auto rounds = static_cast<int>(count), periods = rounds * round.periods;
    t_ = toTick(start + rounds * round.period);
    clock_.skipPeriods(periods);
    inModeSince_ = lastEvent_ = t_;
    sink_.progress(t_);
    refreshSources();
    seeRound(round, rounds);
    events_ += rounds * static_cast<std::int64_t>(round.legs.size());
    replayed_ += rounds * static_cast<std::int64_t>(round.legs.size());
    rounds_ += periods;
    gateEvents_ += rounds * round.gateEvents;
    crossings_ += rounds * round.crossings;
    for (std::size_t i = 0; i < round.turns.size(); ++i) eventsByElement_[i] += rounds * round.turns[i];
    return true;
}

/// Shows the ends of the legs of the last period to the recorder.
template <class Real>
void Run<Real>::seeRound(const Round<Real>& round, int count) {
    const std::size_t inPeriod = round.legs.size() / static_cast<std::size_t>(round.periods);
    for (std::size_t k = round.legs.size() - inPeriod; k < round.legs.size(); ++k) {
        round.valuesAtEnd(k, roundPoints_, slope_);
        recorder_.see(*round.before[k], slope_.data());
        recorder_.see(*round.after[k], slope_.data());
        round.legs[k]->rounds += count;
    }
}

template <class Real>
bool Run<Real>::replay(Leg<Real>& leg, Tick next) {
    const Tick tail = next - t_ - leg.length;
    if (leg.fades != (fadesTo_ && leg.crossing < 0)) return false;
    if (leg.crossing < 0 ? tail < 0 || tail > leg.slack : tail < leg.slack) return false;
    if (!leg.conditions.hold(y_)) {
        legs_.missed(leg);
        return false;
    }
    if (legOut_.size() < leg.rows.rows()) legOut_.resize(leg.rows.rows());
    multiply(leg.rows, y_.data(), legOut_.data());
    Tick length = leg.length + tail;
    Real tau = secondsOf<Real>(tail);
    if (leg.crossing >= 0) {
        tau = tailCrossing(legOut_.data() + leg.polynomialAt(), leg.order, secondsOf<Real>(leg.slack), leg.companions,
                           Real(-1));
        if (tau < 0) return false;
        length = leg.length + toTicks(tau);
    }
    const Eigen::Index n = y_.size();
    const Real* const tailRows = legOut_.data() + leg.tailAt();
    after_.resize(n);
    for (Eigen::Index i = 0; i < n; ++i) {
        Real sum = 0;
        for (int j = leg.order; j >= 1; --j) sum = (sum + tailRows[j * n + i]) * tau;
        after_(i) = y_(i) + (tailRows[i] + sum);
    }
    store(leg, after_, length);
    y_.swap(after_);
    t_ += length;
    return true;
}

template <class Real>
void Run<Real>::store(Leg<Real>& leg, const Vector<Real>& end, Tick length) {
    const Eigen::Index n = y_.size();
    const Real* rows = legOut_.data();
    slope_.resize(n);
    for (const Tick offset : leg.points) {
        for (Eigen::Index i = 0; i < n; ++i) slope_(i) = y_(i) + rows[i];
        recorder_.point(*mode_, slope_.data(), t_ + offset);
        rows += n;
    }
    recorder_.point(*mode_, end.data(), t_ + length);
    legs_.visited(leg);
    if (leg.visits % seeEvery != 0) return;
    recorder_.see(*mode_, y_.data());
    recorder_.see(*mode_, end.data());
}

/// The event at the end of a leg: what came of it last time, when that fits again.
template <class Real>
void Run<Real>::arrive(Leg<Real>& leg) {
    if (leg.fades) return fade(leg.to);
    const int generation = modeGeneration_;
    if (leg.crossing >= 0) {
        const auto element = static_cast<std::size_t>(mode_->guards[static_cast<std::size_t>(leg.crossing)].element);
        if (!leg.to || !commutation_.settleAs(*leg.to, y_)) {
            crossing(leg.crossing);
        } else {
            countCrossing(element);
            mode_ = leg.to;
            inModeSince_ = t_;
            ++events_;
            recorder_.point(*mode_, y_.data(), t_);
            showLogic();
        }
        if (generation == modeGeneration_) leg.to = mode_;
        return;
    }
    const std::int64_t breaks = clock_.sourceBreaks();
    advanceClock();
    if (error_) return;
    if (clock_.sourceBreaks() != breaks || leg.visits % 32 == 0 ||
        (!network_.heldSources.empty() && clock_.version() != signalVersion_))
        refreshSources();
    if (clock_.version() != signalVersion_) {
        signalVersion_ = clock_.version();
        if (leg.signalState != clock_.state() || leg.turned.empty()) {
            recorder_.setSignals(clock_.signals());
            leg.signalState = clock_.state();
            leg.signalSet = recorder_.signalSet();
        } else {
            recorder_.setSignals(leg.signalSet);
        }
    }
    if (leg.to && leg.gates == clock_.gates() && !leg.turned.empty() && commutation_.settleAs(*leg.to, y_)) {
        for (const std::size_t element : leg.turned) {
            gateOn_[element] = !gateOn_[element];
            ++gateEvents_;
            ++eventsByElement_[element];
        }
        mode_ = leg.to;
        inModeSince_ = t_;
        ++events_;
        recorder_.point(*mode_, y_.data(), t_);
        showLogic();
        return;
    }
    Segments wanted = mode_->segments;
    Cause cause;
    const std::vector<char> before = gateOn_;
    turnGates(wanted, cause);
    enter(wanted, cause);
    if (generation != modeGeneration_) return;  // the legs are gone
    leg.to = mode_;
    leg.gates = clock_.gates();
    leg.turned.clear();
    for (std::size_t i = 0; i < before.size(); ++i)
        if (before[i] != gateOn_[i]) leg.turned.push_back(i);
}

template void Run<double>::general(Tick);
template void Run<long double>::general(Tick);
template bool Run<double>::alongLegs(Tick);
template bool Run<long double>::alongLegs(Tick);

}  // namespace hedgerow::exact
