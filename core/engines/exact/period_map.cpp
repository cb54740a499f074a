#include "engines/exact/period_map.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::exact {

namespace {
constexpr std::size_t mostIntervals = 64;
constexpr std::size_t mostNumbers = 60'000;    ///< in the matrices
constexpr std::size_t numbersAtOnce = 1'500;   ///< of several periods in one matrix: it stays close to the processor
constexpr int mostAtOnce = 8;                  ///< periods
constexpr long double shortestPeriod = 1e-9L;  ///< s
}  // namespace

template <class Real>
Matrix<Real> composedFine(const Mode<Real>& mode, FineTime length) {
    const auto ticks = static_cast<Tick>(length >> 32);
    const Matrix<Real> whole = mode.propagator().composed(ticks);
    const Real rest = static_cast<Real>(static_cast<long double>(length - toFine(ticks)) * 0x1p-86L);
    const Matrix<Real>& generator = mode.configuration().generator.full();
    return whole + rest * (generator + generator * whole);
}

/// Follows the maps through one period. @return false when something else than maps comes
template <class Real>
bool PeriodMap<Real>::collect(IntervalMap<Real>& first, Clock clock, IntervalMaps<Real>& maps, std::uint32_t signalSet,
                              std::vector<Part>& parts) {
    const FineTime start = clock.lastEdge(), period = clock.period();
    IntervalMap<Real>* map = &first;
    FineTime at = 0;
    bool afterCrossing = false;
    const auto fits = [&](const IntervalMap<Real>& l) {
        const Tick rest = clock.next() - toTick(start + at);
        if (l.fades) return l.length <= rest;
        return l.crossing >= 0 || afterCrossing || (l.length <= rest && l.length + l.slack >= rest);
    };
    while (parts.size() < mostIntervals) {
        const Tick next = clock.next();
        if (next == clock.nextSource()) return false;
        if (!map || map->periodMap || map->retired || !map->to || !fits(*map)) return false;
        if (map->to->timed) return false;
        if (map->fades) {
            const FineTime end = afterCrossing ? at : at + toFine(map->length);
            parts.push_back({map, at, end, signalSet, signalSet});
            at = end;
        } else if (map->crossing >= 0) {
            parts.push_back({map, at, toFine(next) - start, signalSet, signalSet});
            afterCrossing = true;
        } else {
            clock.advance(next);
            const FineTime end = clock.lastEdge() - start;
            if (map->gates != clock.gates() || map->turned.empty() || map->signalState != clock.state()) return false;
            parts.push_back({map, at, end, signalSet, map->signalSet});
            signalSet = map->signalSet;
            at = end;
            afterCrossing = false;
            if (end == period) return map->to == first.mode;
            if (end > period) return false;
        }
        // What followed last time, or what starts like it and is as long as the control gives it.
        IntervalMap<Real>* const followed =
            map->next && !map->next->retired && map->next->mode == map->to ? map->next : nullptr;
        map = followed && fits(*followed) ? followed
                                          : maps.scheduled(map->to, clock.next() - toTick(start + at), clock.phase());
    }
    return false;
}

template <class Real>
std::unique_ptr<PeriodMap<Real>> PeriodMap<Real>::along(IntervalMap<Real>& map, const Clock& clock,
                                                        IntervalMaps<Real>& maps, Recorder<Real>& recorder,
                                                        const StateLayout<Real>& layout) {
    std::vector<Part> parts;
    // Sources that follow a signal jump within the period, and so do signals that the circuit drives. What chatters has
    // no place in a period map.
    const auto& elements = layout.network.elements;
    if (clock.period() < toFine(shortestPeriod) || !layout.network.heldSources.empty() ||
        std::any_of(elements.begin(), elements.end(), [](const auto& e) { return e->logicSignal() >= 0; }) ||
        !collect(map, clock, maps, recorder.signalSet(), parts))
        return nullptr;
    auto periodMap = made(parts, 1, clock, recorder, layout);
    if (periodMap->bytes() > sizeof(Real) * mostNumbers) return nullptr;
    // One stage from end to end leads to the next period by a matrix: several periods then are one as well.
    const int at = static_cast<int>(numbersAtOnce * sizeof(Real) / std::max<std::size_t>(periodMap->bytes(), 1));
    if (periodMap->stages_.size() == 1 && !periodMap->stages_.front().to && at > 1)
        return made(parts, std::min(at, mostAtOnce), clock, recorder, layout);
    return periodMap;
}

template <class Real>
std::unique_ptr<PeriodMap<Real>> PeriodMap<Real>::made(const std::vector<Part>& once, int periods, const Clock& clock,
                                                       Recorder<Real>& recorder, const StateLayout<Real>& layout) {
    auto periodMap = std::make_unique<PeriodMap<Real>>();
    periodMap->periods = periods;
    periodMap->period = periods * clock.period();
    periodMap->generation = recorder.generation();
    periodMap->stores_ = recorder.stores();
    periodMap->turns.assign(layout.network.elements.size(), 0);
    periodMap->states_ = layout.states;
    periodMap->width_ = layout.size() - 1;
    std::vector<Part> parts;
    for (int k = 0; k < periods; ++k)
        for (Part part : once) {
            part.start += k * clock.period();
            part.end += k * clock.period();
            parts.push_back(part);
        }
    for (const Part& part : parts) {
        periodMap->maps.push_back(part.map);
        periodMap->before.push_back(part.map->mode);
        periodMap->after.push_back(part.map->to);
        if (part.map->crossing >= 0) {
            const GuardInfo& guard = part.map->mode->guards[static_cast<std::size_t>(part.map->crossing)];
            ++periodMap->turns[static_cast<std::size_t>(guard.element)];
            ++periodMap->crossings;
            continue;
        }
        if (part.map->fades) continue;
        for (const std::size_t element : part.map->turned) {
            ++periodMap->turns[element];
            ++periodMap->gateEvents;
        }
    }
    Builder builder(*periodMap, recorder, layout.size());
    for (const Part& part : parts) builder.add(part);
    builder.finish(*parts.front().map);
    return periodMap;
}

/// Puts the maps of a period into stages.
template <class Real>
struct PeriodMap<Real>::Builder {
    Builder(PeriodMap& r, Recorder<Real>& rec, int size)
        : periodMap(r), recorder(rec), n(size), before(Matrix<Real>::Zero(size, size)) {}

    /// The stored entries of y, from rows that make y.
    Matrix<Real> kept(const Matrix<Real>& whole) const {
        Matrix<Real> result(periodMap.width_, n);
        result << whole.topRows(periodMap.states_), whole.bottomRows(n - periodMap.states_ - 1);
        return result;
    }
    void point(FineTime offset, std::uint32_t view, std::uint32_t signalSet) {
        if (!periodMap.stores_) return;
        stage.points.push_back({static_cast<Tick>(offset >> 32), static_cast<std::uint32_t>(offset), view, signalSet,
                                static_cast<std::uint32_t>(stored.size())});
        ++periodMap.pointCount_;
    }

    /// A row that is stored, from the start of the stage.
    void store(const Matrix<Real>& row) {
        if (periodMap.stores_) stored.push_back(kept(row));
    }

    void add(const Part& part) {
        const IntervalMap<Real>& map = *part.map;
        const std::uint32_t view = recorder.viewOf(*map.mode), viewAfter = recorder.viewOf(*map.to);
        if (fresh) stage.start = part.start;
        const FineTime since = stage.afterCrossing ? faded : part.start - stage.start;
        const Matrix<Real> whole = Matrix<Real>::Identity(n, n) + before;
        stage.conditions.follow(map.conditions, whole);
        for (std::size_t k = 0; k < map.points.size(); ++k) {
            point(since + toFine(map.points[k]), view, part.signalsBefore);
            store(whole + map.rows.middleRows(n * static_cast<Eigen::Index>(k), n) * whole);
        }
        fresh = false;
        if (map.fades) {
            const FineTime at = since + toFine(map.length);
            if (stage.afterCrossing) faded = at;
            before += composedFine(*map.mode, toFine(map.length)) * whole;
            periodMap.endRows_.push_back(periodMap.periodRows_ + static_cast<int>(stored.size()));
            point(at, view, part.signalsBefore);
            store(Matrix<Real>::Identity(n, n) + before);
            before = map.to->motion->projection * Matrix<Real>(Matrix<Real>::Identity(n, n) + before) -
                     Matrix<Real>::Identity(n, n);
            point(at, viewAfter, part.signalsAfter);
            store(Matrix<Real>::Identity(n, n) + before);
            return;
        }
        const bool tail = stage.afterCrossing || map.crossing >= 0;
        if (!tail) before += composedFine(*map.mode, part.end - part.start) * whole;
        const Configuration<Real>& c = map.to->configuration();
        if (!tail && !map.to->moves() && c.contradiction.rows() == 0) {
            periodMap.endRows_.push_back(periodMap.periodRows_ + static_cast<int>(stored.size()));
            point(part.end - stage.start, view, part.signalsBefore);
            point(part.end - stage.start, viewAfter, part.signalsAfter);
            store(Matrix<Real>::Identity(n, n) + before);
            return;
        }
        stage.tail = tail;
        stage.crossing = map.crossing;
        stage.companions = map.companions;
        stage.end = part.end;
        stage.length = since + toFine(map.length);
        stage.slack = toFine(map.slack);
        stage.order = map.order;
        stage.to = map.to;
        stage.viewBefore = view;
        stage.viewAfter = viewAfter;
        stage.signalsBefore = part.signalsBefore;
        stage.signalsAfter = part.signalsAfter;
        periodMap.endRows_.push_back(periodMap.periodRows_ + static_cast<int>(stored.size()));
        if (periodMap.stores_) periodMap.pointCount_ += 2;
        close(tail ? tailOf(map, whole) : kept(before), !periodMap.stores_ ? 0 : map.to->moves() ? 2 : 1);
        stage.afterCrossing = map.crossing >= 0;
    }

    /// From the start of the stage: the values where the tail begins minus those at the start, the other coefficients
    /// of the tail, and the polynomials of the guards.
    Matrix<Real> tailOf(const IntervalMap<Real>& map, const Matrix<Real>& whole) const {
        Matrix<Real> own = map.rows.bottomRows(map.rows.rows() - map.tailAt()) * whole;
        own.topRows(n) += before;
        const Eigen::Index terms = map.order + 1, polynomials = own.rows() - n * terms;
        Matrix<Real> result(periodMap.width_ * terms + polynomials, n);
        for (Eigen::Index j = 0; j < terms; ++j)
            result.middleRows(periodMap.width_ * j, periodMap.width_) = kept(own.middleRows(n * j, n));
        result.bottomRows(polynomials) = own.bottomRows(polynomials);
        return result;
    }

    /// @param ownRows  that are stored when the stage is passed
    void close(const Matrix<Real>& last, int ownRows) {
        stage.storedRows = static_cast<int>(stored.size());
        stage.rows.resize(periodMap.width_ * stage.storedRows + last.rows(), n);
        for (std::size_t k = 0; k < stored.size(); ++k)
            stage.rows.middleRows(periodMap.width_ * static_cast<Eigen::Index>(k), periodMap.width_) = stored[k];
        stage.rows.bottomRows(last.rows()) = last;
        periodMap.periodRows_ += stage.storedRows + ownRows;
        periodMap.stages_.push_back(std::move(stage));
        stage = Stage{};
        stored.clear();
        before.setZero();
        faded = 0;
        fresh = true;
    }

    void finish(const IntervalMap<Real>& first) {
        if (fresh) return;
        // The next period map may not come: its first guards are asked for now.
        stage.conditions.followStart(first.conditions, first.mode->guardValue.rows(),
                                     Matrix<Real>::Identity(n, n) + before);
        close(kept(before), 0);
    }

    PeriodMap& periodMap;
    Recorder<Real>& recorder;
    int n;
    Stage stage;
    Matrix<Real> before;  ///< y at the start of a map minus y at the start of the stage
    std::vector<Matrix<Real>> stored;
    FineTime faded = 0;  ///< since the crossing at which the stage begins, of maps whose length is known
    bool fresh = true;   ///< nothing is in the stage yet
};

template <class Real>
std::size_t PeriodMap<Real>::bytes() const {
    Eigen::Index numbers = 0;
    for (const Stage& stage : stages_) {
        numbers += stage.rows.size() + stage.conditions.numbers();
        if (stage.to)
            numbers += 2 * stage.to->guardValue.size();  // what is enough to enter, made when it is first asked
    }
    return sizeof(Real) * static_cast<std::size_t>(numbers);
}

template <class Real>
bool PeriodMap<Real>::cutsStage() const {
    return !stages_.back().to &&
           std::any_of(stages_.begin(), stages_.end(), [](const Stage& s) { return s.to && s.crossing < 0; });
}

template <class Real>
void PeriodMap<Real>::makeRoom(std::size_t periods, bool writing, PeriodPoints& points) const {
    points.list.resize(periods * pointCount_);
    // What a stage computes beside its stored rows stands behind them until the next one.
    std::size_t beside = 0;
    for (const Stage& stage : stages_) beside = std::max(beside, static_cast<std::size_t>(stage.rows.rows()));
    points.numbers.resize(periods * static_cast<std::size_t>(periodRows_ * width_) + (writing ? beside : 0));
}

/// Writes a row.
template <class Real>
void PeriodMap<Real>::keep(const Vector<Real>& y, Pen& pen) const {
    for (int i = 0; i < states_; ++i) *pen.number++ = static_cast<double>(y(i));
    for (int i = states_ + 1; i < y.size(); ++i) *pen.number++ = static_cast<double>(y(i));
    pen.offset += static_cast<std::uint32_t>(width_);
}

template <class Real>
bool PeriodMap<Real>::go(Vector<Real>& y, FineTime start, std::size_t count, Commutation<Real>& commutation,
                         PeriodPoints& points) {
    const std::size_t number = count * static_cast<std::size_t>(periodRows_ * width_);
    Pen pen{points.list.data() + count * pointCount_, points.numbers.data() + number,
            static_cast<std::uint32_t>(number)};
    if (stages_.size() > 1 || stages_.front().to) start_ = y;
    FineTime at = start;
    for (Stage& stage : stages_) {
        if (stage.conditions.hold(y) && pass(stage, y, at, start, commutation, pen)) continue;
        if (&stage != &stages_.front() || stage.to) y = start_;
        ++misses_;
        return false;
    }
    ++passed_;
    return true;
}

/// @param at  in: where the stage before ended; out: where this one ends
template <class Real>
bool PeriodMap<Real>::pass(Stage& stage, Vector<Real>& y, FineTime& at, FineTime start, Commutation<Real>& commutation,
                           Pen& pen) {
    if (!stage.afterCrossing) at = start + stage.start;
    const int stored = stage.storedRows * width_;
    const Real* last = nullptr;
    if constexpr (std::is_same_v<Real, double>) {
        multiply(stage.rows, y.data(), pen.number);
        last = pen.number + stored;
    } else {
        if (out_.size() < stage.rows.rows()) out_.resize(stage.rows.rows());
        multiply(stage.rows, y.data(), out_.data());
        last = out_.data() + stored;
        std::copy(static_cast<const Real*>(out_.data()), last, pen.number);
    }
    const auto ticks = static_cast<Tick>(at >> 32);
    const std::uint64_t fraction = static_cast<std::uint32_t>(at), half = std::uint64_t{1} << 31;
    for (const Point& point : stage.points)
        *pen.point++ = {ticks + point.ticks + static_cast<Tick>((fraction + point.fraction + half) >> 32), point.view,
                        point.signalSet, pen.offset + point.row * static_cast<std::uint32_t>(width_)};
    pen.number += stored;
    pen.offset += static_cast<std::uint32_t>(stored);
    if (stage.tail) {
        if (!passTail(stage, last, y, at, start)) return false;
    } else {
        for (int i = 0; i < states_; ++i) y(i) += last[i];
        for (int i = states_; i < width_; ++i) y(i + 1) += last[i];
        at = start + stage.end;
    }
    if (!stage.to) return true;
    if (!stores_) return enter(stage, y, commutation);
    *pen.point++ = {toTick(at), stage.viewBefore, stage.signalsBefore, pen.offset};
    const std::uint32_t before = pen.offset;
    keep(y, pen);
    if (!enter(stage, y, commutation)) return false;
    const bool moves = stage.to->moves();
    *pen.point++ = {toTick(at), stage.viewAfter, stage.signalsAfter, moves ? pen.offset : before};
    if (moves) keep(y, pen);
    return true;
}

/// The configuration at the end of a stage, if it is what came last time.
template <class Real>
bool PeriodMap<Real>::enter(Stage& stage, Vector<Real>& y, Commutation<Real>& commutation) {
    if (stage.unsure <= 8 + passed_ / 8 && stage.to->configuration().contradiction.rows() == 0) {
        if (stage.entryNoise != commutation.noiseVersion()) {
            stage.entry = commutation.enough(*stage.to);
            stage.entryNoise = commutation.noiseVersion();
        }
        if (stage.entry.hold(y)) {
            commutation.enter(*stage.to, y);
            return true;
        }
        ++stage.unsure;
    }
    return commutation.isConsistent(*stage.to, y);
}

/// To the guard, or to the edge, that ends a stage.
template <class Real>
bool PeriodMap<Real>::passTail(Stage& stage, const Real* rows, Vector<Real>& y, FineTime& at, FineTime start) {
    constexpr Real tick = Real(tickSeconds), fine = Real(0x1p-86L);
    at += stage.length;
    Real& tau = stage.tau;
    if (stage.crossing >= 0) {
        tau = tailCrossing(rows + width_ * (stage.order + 1), stage.order,
                           secondsOf<Real>(static_cast<Tick>(stage.slack >> 32)), stage.companions, tau);
        if (tau < 0) return false;
        const Real ticks = tau * (1 / tick);
        const auto whole = static_cast<Tick>(ticks);
        at += toFine(whole) + static_cast<std::int64_t>((ticks - static_cast<Real>(whole)) * Real(0x1p32));
        if (at > start + stage.end) return false;
    } else {
        const FineTime rest = start + stage.end - at;
        if (rest < 0 || rest > stage.slack) return false;
        tau =
            secondsOf<Real>(static_cast<Tick>(rest >> 32)) + static_cast<Real>(static_cast<std::uint32_t>(rest)) * fine;
        at = start + stage.end;
    }
    for (int i = 0; i < width_; ++i) {
        Real sum = 0;
        for (int j = stage.order; j >= 1; --j) sum = (sum + rows[j * width_ + i]) * tau;
        y(i < states_ ? i : i + 1) += rows[i] + sum;
    }
    return true;
}

template <class Real>
void PeriodMap<Real>::valuesAtEnd(std::size_t map, const PeriodPoints& points, Vector<Real>& y) const {
    const double* number = points.numbers.data() + points.numbers.size() + (endRows_[map] - periodRows_) * width_;
    y.resize(width_ + 1);
    for (int i = 0; i < states_; ++i) y(i) = *number++;
    y(states_) = 1;
    for (int i = states_; i < width_; ++i) y(i + 1) = *number++;
}

template <class Real>
PeriodPoints PeriodMap<Real>::lastOf(const PeriodPoints& points) const {
    const auto size = static_cast<std::ptrdiff_t>(periodRows_) * width_;
    return {.list = {}, .numbers = {points.numbers.end() - size, points.numbers.end()}};
}

template class PeriodMap<double>;
template class PeriodMap<long double>;
template Matrix<double> composedFine<double>(const Mode<double>&, FineTime);
template Matrix<long double> composedFine<long double>(const Mode<long double>&, FineTime);

}  // namespace hedgerow::exact
