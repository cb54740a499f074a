// How a run gets from one event to the next: the general way, which locates whatever guard ends first, and the short
// way along maps.

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "engines/exact/period_map.h"
#include "engines/exact/run.h"
#include "model/quantity.h"

namespace hedgerow::exact {

namespace {
constexpr int noGuard = -1;
constexpr int intervalsPerLook = 256;       ///< maps between two looks at the clock on the wall
constexpr std::size_t periodsPerLook = 64;  ///< periods between two looks at the swings of the traces
constexpr double together = 1e-12;          ///< ends of guards that differ by less, in lengths of the piece, are one
constexpr int seeEvery = 8;                 ///< visits of a map between two looks at the swings of the traces

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
void Run<Real>::stepToEvent(Tick next) {
    next = upToFading(next);
    Mode<Real>* const fades = fadesTo_;
    const bool noted = !request().reference && !peeking_;
    EventInterval<Real>& interval = interval_;
    if (noted) {
        interval.mode = mode_;
        interval.start = y_;
        interval.length = t_;
        interval.phase = clock().phase();
        interval.instead = maps().predicted();
    }
    const int generation = modeGeneration_;
    const bool fromEdge = toTick(clock().lastEdge()) == t_;
    wayStart_ = y_;
    wayLength_ = 0;
    startKnown_ = false;
    risen_.assign(mode_->guards.size(), 0);
    const Stopwatch watch;
    const double stored = recorder().seconds();
    const int guard = locateEvents(next);
    flushWay();
    secondsGeneral_ += watch.seconds() - (recorder().seconds() - stored);
    if (stopped()) return;
    if (noted) {
        interval.length = t_ - interval.length;
        interval.crossing = guard;
        interval.end = y_;
        interval.repeats = clock().period() > 0 &&
                           toSeconds(request().end - t_) > maps().paysAfter() * toSeconds(toTick(clock().period()));
        interval.periodic = guard == noGuard && clock().period() > 0 && (fromEdge || fades);
        interval.fades = fades != nullptr && guard == noGuard;
    }
    if (!peeking_) scales().drifted(mode_->propagator().norm() * secondsOf<Real>(t_ - inModeSince_));
    if (guard != noGuard)
        crossing(guard);
    else if (fades && t_ == next)
        fade(fades);
    else if (t_ < request().end && (t_ >= clock().next() || (mode_->timed && t_ >= nextTimeout())))
        scheduled();
    else
        return;
    if (stopped() || !noted || generation != modeGeneration_) return;
    maps().walked(nullptr);
    if (IntervalMap<Real>* map = maps().note(interval)) {
        map->to = mode_;
        map->gates = clock().gates();
        maps().walked(map);
    }
}

template <class Real>
int Run<Real>::locateEvents(Tick next) {
    while (t_ < next) {
        if (cancelToken().cancelled() || recorder().full()) {
            stop();
            return noGuard;
        }
        const int guard = tryStep(mode_->propagator().topStep(next - t_));
        if (guard != noGuard || stopped()) return guard;
    }
    return noGuard;
}

/// One step of the given length if no guard can end within it, else a walk down the doubling table.
template <class Real>
int Run<Real>::tryStep(Tick length) {
    after_ = y_;
    mode_->propagator().advance(after_, length);
    if (!guardsHold(length)) return bracketCrossing(length);
    acceptHeld(length);
    return noGuard;
}

/// Through an interval in which a guard may end: to shortly before the end that the cubics of the last look let expect,
/// then on with what is left, until the interval is short enough for a Taylor polynomial. @pre guardsHold() just failed
template <class Real>
int Run<Real>::bracketCrossing(Tick length) {
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
    while (length > 0 && !stopped()) {
        if (cancelToken().cancelled()) {
            stop();
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
    const std::vector<Real>& noise = mode_->noise(scales());
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
    const std::vector<Real>& noise = mode_->noise(scales());
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
    if (!startKnown_) mode_->guardValuesAndRates(y_.data(), start_);
    startKnown_ = true;
    mode_->guardValuesAndRates(after_.data(), end_);
    const std::vector<Real>& noise = mode_->noise(scales());
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
        return fail(beyondNumbers(stateLayout(), after, t_));
    }
    if (wayLength_ > 0 && mode_->propagator().topStep(wayLength_ + length) < wayLength_ + length) flushWay();
    wayLength_ += length;
    y_ = after;
    t_ += length;
    ++steps_;
    if ((steps_ & 1023) == 0) sink().progress(t_);
}

template <class Real>
void Run<Real>::flushWay() {
    if (wayLength_ > 0 && !peeking_) recorder().way(*mode_, wayStart_, y_, t_ - wayLength_, wayLength_);
    wayStart_ = y_;
    wayLength_ = 0;
}

/// Goes along one map after the other while they fit, by whole intervals: the one in which `until` lies is looked at
/// only.
template <class Real>
typename Run<Real>::Way Run<Real>::alongIntervals(Tick until) {
    if (request().reference || mode_->timed || !request().instants.empty()) return Way::none;
    const Stopwatch watch;
    const Tick end = request().end;
    int walked = 0;
    Way way = Way::none;
    while (walked < intervalsPerLook && !stopped() && !recorder().full() && t_ < end) {
        IntervalMap<Real>* map = maps().predicted();
        if (map && map->mode == mode_ && clock().period() > 0 && periodsTried_ != events_) {
            Way alongPeriod = Way::none;
            while (!cancelToken().cancelled() && (alongPeriod = alongPeriods(*map, until)) == Way::gone)
                way = Way::gone;
            if (alongPeriod == Way::insidePeriod) {
                way = alongPeriod;
                break;
            }
            periodsTried_ = events_;
            if (t_ >= end) break;
            map = maps().predicted();  // that one may have been given up
        }
        const Tick known = std::min(end, clock().next());
        if (lastsUntil(known, until) && looksAhead(until)) {
            way = Way::gone;
            break;
        }
        const Tick next = upToFading(known);
        if (!map || map->mode != mode_ || !replay(*map, next)) {
            IntervalMap<Real>* const failed = map && map->mode == mode_ ? map : nullptr;
            map = maps().crossing(mode_);
            if (!map || map == failed || !replay(*map, next)) {
                map = maps().scheduled(mode_, next - t_, clock().phase());
                if (!map || map == failed || !replay(*map, next)) break;
            }
        }
        maps().walked(map);
        way = Way::gone;
        ++walked, ++replayed_;
        if (t_ >= end) break;
        arrive(*map);
        if (mode_->timed) break;
    }
    secondsIntervals_ += watch.seconds();
    return way;
}

/// Goes along the period map that begins with a map, as often as it fits and ends before `until`.
template <class Real>
typename Run<Real>::Way Run<Real>::alongPeriods(IntervalMap<Real>& map, Tick until) {
    if (!map.periodMap) {
        if (map.visits < map.periodMapAt || toTick(clock().lastEdge()) != t_) return Way::none;
        maps().makePeriodMap(map, clock());
        if (!map.periodMap) return Way::none;
    }
    PeriodMap<Real>& periodMap = *map.periodMap;
    if (open_.periodMap != &periodMap) open_ = {};
    if (periodMap.generation != recorder().generation()) {
        for (IntervalMap<Real>* part : periodMap.maps) maps().renew(*part);
        return Way::none;
    }
    if (toTick(clock().lastEdge()) != t_ || recorder().full()) return Way::none;
    const FineTime start = clock().lastEdge();
    const Tick limit = std::min(request().end, clock().nextSource()), stay = until < request().end ? until : neverTick;
    const std::size_t most =
        std::max<std::size_t>(1, periodsPerLook / static_cast<std::size_t>(periodMap.periods)) - open_.count;
    periodMap.makeRoom(most, true, periodPoints_);
    after_ = y_;
    std::size_t count = 0;
    bool inside = false;
    for (FineTime at = start; count < most && toTick(at + periodMap.period) < limit; at += periodMap.period) {
        inside = toTick(at + periodMap.period) >= stay;
        if (inside || !periodMap.go(y_, at, count, commutation(), periodPoints_)) break;
        ++count;
    }
    if (count > 0 && !y_.allFinite()) {
        y_ = after_;  // the general way finds out where
        return Way::none;
    }
    if (count > 0) {
        periodMap.makeRoom(count, false, periodPoints_);
        recorder().points(periodPoints_.list, periodPoints_.numbers);
        const auto times = static_cast<int>(count), periods = times * periodMap.periods;
        t_ = toTick(start + times * periodMap.period);
        clock().skipPeriods(periods);
        inModeSince_ = lastEvent_ = t_;
        sink().progress(t_);
        events_ += times * static_cast<std::int64_t>(periodMap.maps.size());
        replayed_ += times * static_cast<std::int64_t>(periodMap.maps.size());
        periods_ += periods;
        gateEvents_ += times * periodMap.gateEvents;
        crossings_ += times * periodMap.crossings;
        for (std::size_t i = 0; i < periodMap.turns.size(); ++i) countEvent(i, times * periodMap.turns[i]);
        open_.count += count;
    }
    if (inside) {
        if (count > 0) {
            open_.periodMap = &periodMap;
            if (recorder().stores()) open_.last = periodMap.lastOf(periodPoints_);
        }
        return Way::insidePeriod;
    }
    if (open_.count == 0) {
        if (periodMap.useless()) maps().dropPeriodMap(map);
        return Way::none;
    }
    // So many periods, or the last ones before something else: the recorder looks at them.
    if (count == 0) periodPoints_ = std::move(open_.last);
    showPeriods(periodMap, static_cast<int>(open_.count));
    open_ = {};
    refreshSources();
    return Way::gone;
}

/// Shows the ends of the maps of the last period to the recorder.
template <class Real>
void Run<Real>::showPeriods(const PeriodMap<Real>& periodMap, int count) {
    const std::size_t inPeriod = periodMap.maps.size() / static_cast<std::size_t>(periodMap.periods);
    for (std::size_t k = periodMap.maps.size() - inPeriod; k < periodMap.maps.size(); ++k) {
        periodMap.maps[k]->periodVisits += count;
        if (!recorder().stores()) continue;
        periodMap.valuesAtEnd(k, periodPoints_, slope_);
        recorder().see(*periodMap.before[k], slope_.data());
        recorder().see(*periodMap.after[k], slope_.data());
    }
}

template <class Real>
bool Run<Real>::replay(IntervalMap<Real>& map, Tick next) {
    const Tick tail = next - t_ - map.length;
    if (map.fades != (fadesTo_ && map.crossing < 0)) return false;
    if (map.crossing < 0 ? tail < 0 || tail > map.slack : tail < map.slack) return false;
    if (!map.conditions.hold(y_)) {
        maps().missed(map);
        return false;
    }
    if (mapOut_.size() < map.rows.rows()) mapOut_.resize(map.rows.rows());
    multiply(map.rows, y_.data(), mapOut_.data());
    Tick length = map.length + tail;
    Real tau = secondsOf<Real>(tail);
    if (map.crossing >= 0) {
        tau = tailCrossing(mapOut_.data() + map.polynomialAt(), map.order, secondsOf<Real>(map.slack), map.companions,
                           Real(-1));
        if (tau < 0) return false;
        length = map.length + toTicks(tau);
    }
    const Eigen::Index n = y_.size();
    const Real* const tailRows = mapOut_.data() + map.tailAt();
    after_.resize(n);
    for (Eigen::Index i = 0; i < n; ++i) {
        Real sum = 0;
        for (int j = map.order; j >= 1; --j) sum = (sum + tailRows[j * n + i]) * tau;
        after_(i) = y_(i) + (tailRows[i] + sum);
    }
    store(map, after_, length);
    y_.swap(after_);
    t_ += length;
    return true;
}

template <class Real>
void Run<Real>::store(IntervalMap<Real>& map, const Vector<Real>& end, Tick length) {
    const Eigen::Index n = y_.size();
    const Real* rows = mapOut_.data();
    slope_.resize(n);
    for (const Tick offset : map.points) {
        for (Eigen::Index i = 0; i < n; ++i) slope_(i) = y_(i) + rows[i];
        recorder().point(*mode_, slope_.data(), t_ + offset);
        rows += n;
    }
    recorder().point(*mode_, end.data(), t_ + length);
    maps().visited(map);
    if (map.visits % seeEvery != 0) return;
    recorder().see(*mode_, y_.data());
    recorder().see(*mode_, end.data());
}

/// Takes up a mode that is known to come.
template <class Real>
void Run<Real>::arriveIn(Mode<Real>* mode) {
    if (hasTimeouts()) noteEntered(mode_->segments, mode->segments);
    mode_ = mode;
    inModeSince_ = t_;
    ++events_;
    recorder().point(*mode_, y_.data(), t_);
    showLogic();
}

/// The event at the end of a map: what came of it last time, when that fits again.
template <class Real>
void Run<Real>::arrive(IntervalMap<Real>& map) {
    if (map.fades) return fade(map.to);
    const int generation = modeGeneration_;
    if (map.crossing >= 0) {
        const auto element = static_cast<std::size_t>(mode_->guards[static_cast<std::size_t>(map.crossing)].element);
        if (!map.to || !commutation().isConsistent(*map.to, y_)) {
            crossing(map.crossing);
        } else {
            countCrossing(element);
            arriveIn(map.to);
        }
        if (generation == modeGeneration_) map.to = mode_;
        return;
    }
    const std::int64_t breaks = clock().sourceBreaks();
    if (!SwitchingLoop::advanceClock()) return;
    if (clock().sourceBreaks() != breaks || map.visits % 32 == 0 ||
        (!network().heldSources.empty() && clock().version() != signalVersion_))
        refreshSources();
    if (clock().version() != signalVersion_) {
        signalVersion_ = clock().version();
        if (map.signalState != clock().state() || map.turned.empty()) {
            recorder().setSignals(clock().signals());
            map.signalState = clock().state();
            map.signalSet = recorder().signalSet();
        } else {
            recorder().setSignals(map.signalSet);
        }
    }
    if (map.to && map.gates == clock().gates() && !map.turned.empty() && commutation().isConsistent(*map.to, y_)) {
        for (const std::size_t element : map.turned) {
            gateOn_[element] = !gateOn_[element];
            ++gateEvents_;
            countEvent(element);
        }
        return arriveIn(map.to);
    }
    Segments wanted = mode_->segments;
    Cause cause;
    const std::vector<char> before = gateOn_;
    if (const Turned turned = turnGates(wanted); turned.element >= 0)
        cause = {turned.on ? Cause::Sort::gateOn : Cause::Sort::gateOff, turned.element};
    enter(wanted, cause);
    if (generation != modeGeneration_) return;  // the maps are gone
    map.to = mode_;
    map.gates = clock().gates();
    map.turned.clear();
    for (std::size_t i = 0; i < before.size(); ++i)
        if (before[i] != gateOn_[i]) map.turned.push_back(i);
}

template void Run<double>::stepToEvent(Tick);
template void Run<long double>::stepToEvent(Tick);
template typename Run<double>::Way Run<double>::alongIntervals(Tick);
template typename Run<long double>::Way Run<long double>::alongIntervals(Tick);
template int Run<double>::locateEvents(Tick);
template int Run<long double>::locateEvents(Tick);

}  // namespace hedgerow::exact
