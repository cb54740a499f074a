#include "engines/exact/interval_map.h"

#include "engines/exact/line_subdivision.h"
#include "engines/exact/period_map.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::exact {

namespace {

constexpr Tick rigidGrain = 64;               ///< lengths that differ by less share a map whose tail is one linear term
constexpr Tick tailSteps = 8;                 ///< base steps in the tail of a map of variable length
constexpr int tailOrder = 6;                  ///< (8 * 2e-3)^7 / 7! is below rounding
constexpr int mostHulls = 8;                  ///< steps in which guards are looked at
constexpr int mostSize = 32;                  ///< of y: larger ones gain nothing
constexpr Eigen::Index mostNumbers = 30'000;  ///< in the matrix of a map
constexpr double room = 0.8;                  ///< of what a line may bend: the rest is for what comes later
constexpr std::size_t mostBytes = std::size_t{24} << 20;
constexpr std::size_t mostPlaces = 50'000;
constexpr int sightsOfPeriods = 4;   ///< before an interval of a periodic control becomes a map: it will come again
constexpr int sightsInPeriods = 10;  ///< the same where a guard begins or ends it: its length may still change
constexpr int sightsOfDrift = 2;     ///< the same where it has drifted out of a map that was worth its while
constexpr int mostMisses = 3;        ///< in a row, before a map is made anew to suit what has changed
constexpr int mostPeriodMapPatience = 256;
constexpr int mostPatience = 1000;  ///< intervals before a map that often failed is made once more

/// A step of Newton's method of this part of the root leaves less than rounding, where the slope is that of the chord.
template <class Real>
const Real settled = std::sqrt(std::numeric_limits<Real>::epsilon()) / 16;

/// The order from which on a tail has nothing but rounding to add.
/// @param reach  of the norm of the equations times its length
template <class Real>
int orderOfTail(Real reach) {
    int order = 1;
    for (Real rest = reach * reach / 2; rest > std::numeric_limits<Real>::epsilon() / 16 && order < tailOrder; ++order)
        rest *= reach / static_cast<Real>(order + 2);
    return order;
}

}  // namespace

template <class Real>
Real firstRoot(const Real* c, int order, Real h, Real precision, Real guess) {
    const auto value = [&](Real x) {
        Real sum = 0;
        for (int j = order; j >= 0; --j) sum = sum * x + c[j];
        return sum;
    };
    if (value(h) >= 0) return -1;
    if (c[0] <= 0) return 0;
    Real low = 0, high = h,
         x = guess > 0 && guess < h ? guess : std::clamp(c[0] / std::max(-c[1], Real(1e-300)), Real(0), h);
    for (int i = 0; i < 100; ++i) {
        Real v = c[order], d = 0;
        for (int j = order - 1; j >= 0; --j) d = d * x + v, v = v * x + c[j];
        (v > 0 ? low : high) = x;
        // Far from a double root the step after a tiny one changes nothing.
        if (std::abs(v) <= settled<Real> * x * std::abs(d) && std::abs(d) * x >= Real(0.1) * c[0])
            return std::clamp(x - v / d, low, high);
        Real next = d != 0 ? x - v / d : low;
        if (!(next > low && next < high)) next = Real(0.5) * (low + high);
        if (std::abs(next - x) <= precision * x) return next;
        x = next;
    }
    return x;
}

template <class Real>
Real tailCrossing(const Real* polynomials, int order, Real slack, const std::vector<Companion<Real>>& companions,
                  Real guess) {
    constexpr Real precision = std::numeric_limits<Real>::epsilon();
    Real tau = firstRoot(polynomials, order, slack, precision, guess);
    if (tau < 0 || companions.empty()) return tau;
    // The first of those that end together, whichever of them the map was made with.
    const Real* other = polynomials;
    for (std::size_t i = 0; i < companions.size(); ++i) {
        const Real root = firstRoot(other += order + 1, order, slack, precision, guess);
        if (root >= 0) tau = std::min(tau, root);
    }
    other = polynomials;
    for (const Companion<Real>& companion : companions) {
        other += order + 1;
        Real value = 0;
        for (int j = order; j >= 0; --j) value = value * tau + other[j];
        if (!(std::abs(value) <= -companion.least)) return -1;
    }
    return tau;
}

template <class Real>
IntervalMap<Real>::IntervalMap() = default;
template <class Real>
IntervalMap<Real>::~IntervalMap() = default;

template <class Real>
void IntervalMaps<Real>::clear() {
    places_.clear();
    keys_.clear();
    lastCrossing_.clear();
    retired_.clear();
    last_ = nullptr;
    bytes_ = 0;
}

template <class Real>
typename IntervalMaps<Real>::Key IntervalMaps<Real>::rigidKey(const Mode<Real>* mode, Tick length,
                                                              std::uint64_t phase) {
    return {mode, -2, rigidGrain, length / rigidGrain, phase};
}

/// The tail may be as long as its polynomial is exact, and is short against the whole.
template <class Real>
typename IntervalMaps<Real>::Key IntervalMaps<Real>::tailedKey(const Mode<Real>* mode, Tick length, int crossing) {
    Tick grain = tailSteps * mode->propagator().baseStep();
    while (grain > 1 && grain > length / 16) grain /= 2;
    return {mode, crossing, grain, length / grain, 0};
}

template <class Real>
IntervalMap<Real>* IntervalMaps<Real>::scheduled(const Mode<Real>* mode, Tick length, std::uint64_t phase) {
    if (places_.empty() || length == 0) return nullptr;
    for (const Key& key : {rigidKey(mode, length, phase), tailedKey(mode, length, -1)})
        if (const auto place = places_.find(key); place != places_.end() && place->second.map)
            return place->second.map.get();
    return nullptr;
}

template <class Real>
IntervalMap<Real>* IntervalMaps<Real>::crossing(const Mode<Real>* mode) {
    const auto found = lastCrossing_.find(mode);
    return found == lastCrossing_.end() ? nullptr : found->second;
}

template <class Real>
void IntervalMaps<Real>::visited(IntervalMap<Real>& map) {
    ++map.visits;
    if (map.generation != recorder_.generation()) renew(map);
}

template <class Real>
void IntervalMaps<Real>::missed(IntervalMap<Real>& map) {
    if (++map.misses <= mostMisses + map.visits / 8) return;
    int& patience = places_.at(keys_.at(&map)).patience;
    retire(map, sightsOfPeriods - patience);
    patience = std::min(2 * patience, mostPatience);
}

/// @param sights  how often the interval counts as seen: enough to make the map anew at once, or too few for long
template <class Real>
void IntervalMaps<Real>::retire(IntervalMap<Real>& map, int sights) {
    if (map.retired) return;
    map.retired = true;
    Place& place = places_.at(keys_.at(&map));
    std::erase_if(lastCrossing_, [&](const auto& entry) { return entry.second == &map; });
    retired_.push_back(std::move(place.map));
    place.sights = sights;
}

template <class Real>
void IntervalMaps<Real>::makePeriodMap(IntervalMap<Real>& map, const Clock& clock) {
    const Stopwatch watch;
    map.periodMapAt = 2 * map.visits + 16;
    if (recorder_.ofStates()) map.periodMap = PeriodMap<Real>::along(map, clock, *this, recorder_, layout_);
    if (map.periodMap && map.periodMap->cutsStage() && !map.yielded) {
        map.yielded = true;
        map.periodMap.reset();
    }
    if (map.periodMap) bytes_ += map.periodMap->bytes();
    seconds_ += watch.seconds();
}

/// Something else than what it was made of comes: it is tried again later, and not too often.
template <class Real>
void IntervalMaps<Real>::dropPeriodMap(IntervalMap<Real>& map) {
    bytes_ -= std::min(bytes_, map.periodMap->bytes());
    map.periodMap.reset();
    map.periodMapAt = map.visits + map.periodMapPatience;
    map.periodMapPatience = std::min(2 * map.periodMapPatience, mostPeriodMapPatience);
}

template <class Real>
void IntervalMaps<Real>::dropPeriodMaps() {
    for (auto& [key, place] : places_)
        if (place.map && place.map->periodMap) {
            bytes_ -= std::min(bytes_, place.map->periodMap->bytes());
            place.map->periodMap.reset();
            place.map->periodMapAt = place.map->visits + 1;
        }
}

template <class Real>
IntervalMap<Real>* IntervalMaps<Real>::note(const EventInterval<Real>& interval) {
    const Mode<Real>& mode = *interval.mode;
    if (layout_.size() > mostSize || mode.timed || interval.length == 0) return nullptr;
    const IntervalMap<Real>* const expected = interval.instead;
    const bool drifted =
        expected && expected->mode == &mode && expected->crossing == interval.crossing && wasWorthwhile(*expected);
    if (places_.size() > mostPlaces || bytes_ > mostBytes) clear();
    if (interval.periodic) return sight(rigidKey(&mode, interval.length, interval.phase), interval, 1, sightsOfPeriods);
    const Key key = tailedKey(&mode, interval.length, interval.crossing);
    const int order = orderOfTail(interval.mode->propagator().norm() * secondsOf<Real>(key.grain));
    return sight(key, interval, order, drifted ? sightsOfDrift : interval.repeats ? sightsInPeriods : sightsNeeded());
}

template <class Real>
IntervalMap<Real>* IntervalMaps<Real>::sight(const Key& key, const EventInterval<Real>& interval, int order,
                                             int needed) {
    Place& place = places_[key];
    if (!place.map && ++place.sights >= needed) {
        // What cannot be made a map now is tried again after a while.
        const Stopwatch watch;
        place.map = build(interval, key.grains * key.grain, key.grain, order);
        if (place.map) {
            keys_[place.map.get()] = key;
        } else {
            place.sights = -20 * needed;
        }
        seconds_ += watch.seconds();
    }
    if (place.map && place.map->crossing >= 0) lastCrossing_[interval.mode] = place.map.get();
    return place.map.get();
}

/// The matrices of a map at equally spaced instants: y there minus y at the start, and the slope.
template <class Real>
struct IntervalMaps<Real>::Course {
    Course(const Mode<Real>& mode, Tick length, int count) : step(secondsOf<Real>(length) / static_cast<Real>(count)) {
        const Matrix<Real>& generator = mode.configuration().generator.full();
        const Matrix<Real> stride = mode.propagator().composed(length / count);
        difference.push_back(Matrix<Real>::Zero(stride.rows(), stride.cols()));
        for (int k = 1; k < count; ++k)
            difference.push_back(difference.back() + stride + multiply(stride, difference.back()));
        difference.push_back(mode.propagator().composed(length));
        for (const Matrix<Real>& d : difference) slope.push_back(generator + multiply(generator, d));
    }
    Real step;
    std::vector<Matrix<Real>> difference, slope;
};

template <class Real>
std::unique_ptr<IntervalMap<Real>> IntervalMaps<Real>::build(const EventInterval<Real>& interval, Tick length,
                                                             Tick slack, int order) {
    if (length < 2 * slack) return nullptr;
    const Eigen::Index n = layout_.size();
    auto map = std::make_unique<IntervalMap<Real>>();
    map->mode = interval.mode;
    map->length = length;
    map->slack = slack;
    map->crossing = interval.crossing;
    map->order = order;
    map->fades = interval.fades;
    map->generation = recorder_.generation();
    if (!guarded(*map, interval)) return nullptr;

    const Matrix<Real> watch = watched(*map->mode, interval);
    const Vector<Real> sizes = scales_.sizes();
    LineSubdivision<Real> lines(*map->mode, length, slack, watch, sizes);
    if (!lines.divide(interval.start, Real(room))) return nullptr;
    map->conditions.limit(lines.bends());
    map->points = lines.points();

    const Eigen::Index terms = order + 1, tail = n * terms;
    const Eigen::Index polynomials =
        map->crossing >= 0 ? terms * (1 + static_cast<Eigen::Index>(map->companions.size())) : 0;
    const Eigen::Index height = static_cast<Eigen::Index>(map->points.size()) * n + tail + polynomials;
    if (map->conditions.numbers() + height * n > mostNumbers) return nullptr;
    map->rows.resize(height, n);
    Eigen::Index at = 0;
    for (const Tick point : map->points) {
        map->rows.middleRows(at, n) = lines.mark(point).difference;
        at += n;
    }
    const Matrix<Real>& whole = lines.mark(length).difference;
    Matrix<Real> term = Matrix<Real>::Identity(n, n) + whole;
    for (int j = 0; j <= order; ++j) {
        if (j > 0) term = multiply(map->mode->configuration().generator.full(), term) / static_cast<Real>(j);
        map->rows.middleRows(at, n) = j == 0 ? whole : term;
        at += n;
        if (polynomials == 0) continue;
        Eigen::Index row = height - polynomials + j;
        map->rows.row(row) = map->mode->guardValue.full().row(map->crossing) * term;
        for (const auto& companion : map->companions)
            map->rows.row(row += terms) = map->mode->guardValue.full().row(companion.guard) * term;
    }
    bytes_ += map->bytes();
    ++built_;
    return map;
}

/// The rows that make bends of unknowns from bends of states, in units of what is allowed; each direction once, by the
/// unknown that allows least, and only where the largest values seen could bend a line that far.
template <class Real>
Matrix<Real> IntervalMaps<Real>::watched(const Mode<Real>& mode, const EventInterval<Real>& interval) {
    Vector<Real> allowed;
    recorder_.allowances(mode, interval.start.data(), interval.end.data(), allowed);
    Matrix<Real> rows = allowed.cwiseInverse().asDiagonal() * mode.configuration().readout();
    rows.col(layout_.states).setZero();
    std::vector<Eigen::Index> order(static_cast<std::size_t>(rows.rows())), kept;
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = static_cast<Eigen::Index>(i);
    std::stable_sort(order.begin(), order.end(),
                     [&](auto i, auto j) { return rows.row(i).squaredNorm() > rows.row(j).squaredNorm(); });
    for (const Eigen::Index i : order) {
        const Real size = rows.row(i).norm();
        if (size == 0) break;
        const bool known = std::any_of(kept.begin(), kept.end(), [&](Eigen::Index k) {
            return std::abs(rows.row(k).dot(rows.row(i))) > Real(1 - 1e-9) * rows.row(k).norm() * size;
        });
        if (!known) kept.push_back(i);
    }
    Matrix<Real> result(static_cast<Eigen::Index>(kept.size()), rows.cols());
    for (std::size_t k = 0; k < kept.size(); ++k) result.row(static_cast<Eigen::Index>(k)) = rows.row(kept[k]);
    return result;
}

/// Conditions under which no guard can end on the way: the hulls of the cubics through values and slopes at the ends of
/// steps, and the line that prolongs the last one through the tail.
template <class Real>
bool IntervalMaps<Real>::guarded(IntervalMap<Real>& map, const EventInterval<Real>& interval) {
    const Mode<Real>& mode = *map.mode;
    const Eigen::Index guards = mode.guardValue.rows();
    if (guards == 0) return true;
    const std::vector<Real>& noise = map.mode->noise(scales_);
    for (int i = 0; i < guards && map.crossing >= 0; ++i) {
        const Real floor = noise[static_cast<std::size_t>(i)];
        if (i != map.crossing && std::abs(mode.guardValue.full().row(i).dot(interval.end)) <= floor)
            map.companions.push_back({i, -floor});
    }
    const Tick top = mode.propagator().topStep(map.length);
    for (int hulls = static_cast<int>((map.length + top - 1) / top); hulls <= mostHulls; hulls *= 2) {
        const Course course(mode, map.length, hulls);
        Conditions<Real> conditions;
        const auto demand = [&](const Matrix<Real>& block, bool start) {
            std::vector<Real> least;
            for (Eigen::Index i = 0; i < guards; ++i) {
                const auto g = static_cast<std::size_t>(i);
                // A guard that starts from zero may do so again; its slope keeps it.
                const bool zero = start && mode.guardValue.full().row(i).dot(interval.start) <= 2 * noise[g];
                least.push_back(zero ? -noise[g] : 2 * noise[g]);
            }
            conditions.demand(block, least);
        };
        for (std::size_t k = 0; k < course.difference.size(); ++k) {
            const Matrix<Real> value = mode.guardValue.full() + multiply(mode.guardValue.full(), course.difference[k]);
            const Matrix<Real> slope = multiply(mode.guardValue.full(), course.slope[k]);
            const Real third = course.step / 3;
            demand(value, k == 0);
            if (k + 1 < course.difference.size()) demand(value + third * slope, false);
            if (k > 0) demand(value - third * slope, false);
            if (k + 1 < course.difference.size() || map.order == 1) continue;
            Matrix<Real> prolonged = value + secondsOf<Real>(map.slack) * slope;
            if (map.crossing >= 0) {
                prolonged.row(map.crossing) = value.row(map.crossing);
                for (const auto& other : map.companions) prolonged.row(other.guard) = value.row(other.guard);
            }
            demand(prolonged, false);
        }
        if (!conditions.hold(interval.start)) continue;
        map.conditions = std::move(conditions);
        return true;
    }
    return false;
}

template double firstRoot<double>(const double*, int, double, double, double);
template long double firstRoot<long double>(const long double*, int, long double, long double, long double);
template double tailCrossing<double>(const double*, int, double, const std::vector<Companion<double>>&, double);
template long double tailCrossing<long double>(const long double*, int, long double,
                                               const std::vector<Companion<long double>>&, long double);
template struct IntervalMap<double>;
template struct IntervalMap<long double>;
template class IntervalMaps<double>;
template class IntervalMaps<long double>;

}  // namespace hedgerow::exact
