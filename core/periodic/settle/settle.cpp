#include "periodic/settle/settle.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"
#include "periodic/settle/common_period.h"
#include "periodic/settle/coordinates.h"
#include "periodic/settle/multipliers.h"
#include "periodic/settle/scout.h"

namespace hedgerow {

namespace settle {

namespace {

using Vector = Eigen::VectorXd;
using Matrix = Eigen::MatrixXd;

constexpr int looks = 24;              ///< within a period, at which the swings of states are taken
constexpr double sectionAt = 0.382;    ///< of the longest time between events: no instant that a control would choose
constexpr double floorOfSwing = 1e-3;  ///< of the largest value: the least swing that a residual counts by
constexpr double floorOfKind = 1e-3;   ///< of the largest value of its kind: the least size of a coordinate
constexpr double warmth = 10;          ///< K, the least size of a temperature
constexpr double singular = 3e-9;      ///< of the largest singular value: a direction in which nothing restores
constexpr double mostError = 1e-6;     ///< of its largest value, by which a coordinate may still be off in the end
constexpr double roundingOf = 1000;    ///< times the tolerance, of a residual that rounding may leave
constexpr double goodEnough = 1e-3;    ///< of a residual, to which a step must bring it for the map to stay
constexpr double firstReach = 512, shortestReach = 4, longestReach = 1e5;  ///< periods of a step
constexpr int mostMultiple = 12;                                           ///< periods after which logic may come again
constexpr std::size_t mostEvents = 200000;                                 ///< of a search for a period

double secondsOf(FineTime fine) { return static_cast<double>(static_cast<long double>(fine) * 0x1p-86L); }

/// Whether an instant is the same in two snapshots.
bool sameInstant(const Snapshot& a, const Snapshot& b, const Coordinate& c) {
    const auto at = [&](const Snapshot& snapshot) {
        const MemoryRecord& memory = snapshot.blocks[c.place].memory;
        const auto entry = memory.find(c.entry);
        return entry != memory.end() && c.index < entry->second.wholes.size() ? entry->second.wholes[c.index]
                                                                              : neverTick;
    };
    return at(a) == at(b);
}

std::string keyOf(const Coordinate& c) {
    return fmt::format("{} {} {} {}", static_cast<int>(c.sort), c.place, c.entry, c.index);
}

/// A place at the section: the instant before it is rounded to a tick.
struct Place {
    FineTime at = 0;
    Snapshot snapshot = {};
};

class Search {
public:
    Search(const Engine& engine, const Network& network, const SettleRequest& request, const CancelToken& cancel)
        : engine_(engine), network_(network), request_(request), cancel_(cancel) {
        run_ = request.run;
        run_.end = toTicks(longestRunSeconds);
        run_.instants.clear();
        exact_ = engine.exact();
        nudge_ = exact_ ? 1e-4 : 1e-3;
        simulation_ = engine.begin(network, run_, nothing_, cancel);
    }
    Result<Settled> search();

private:
    Result<Snapshot> go(const Snapshot& from, Tick until);
    Result<Place> period(const Place& from);
    Status begin();
    Status findPeriod();
    Status chooseSection();
    Status runUntilLogicRepeats();
    Status iterate();
    Status step();
    Status takeMap();
    Status refineMap();
    void takeCoordinates();
    void takeScales();
    bool diesOut(const Coordinate& c) const {
        return request_.slow && !c.heat && c.sort == Coordinate::Sort::state &&
               std::find(request_.slow->begin(), request_.slow->end(), c.name) == request_.slow->end();
    }
    void note();
    Vector residual() const { return valuesOf(after_.snapshot, active_) - valuesOf(before_.snapshot, active_); }
    double norm(const Vector& r) const { return r.size() ? r.cwiseQuotient(swing_).cwiseAbs().maxCoeff() : 0.0; }
    Result<Vector> direction(const Matrix& a, const Vector& right, const Vector& size, const Vector& residuals) const;
    Result<bool> take(const Vector& by, double longer, double now);
    Status nothingRestores(Eigen::Index most, double perPeriod) const;
    Result<Settled> finish();
    Error stopped() const { return {ErrorCode::stop, "stopped"}; }

    const Engine& engine_;
    const Network& network_;
    const SettleRequest& request_;
    const CancelToken cancel_;
    RunRequest run_;
    NoPoints nothing_;
    std::unique_ptr<Simulation> simulation_;
    bool exact_ = true;
    double nudge_ = 1e-6;  ///< of its size, by which a coordinate is moved for the derivative

    FineTime period_ = 0;
    bool found_ = false;
    std::string made_;
    int multiple_ = 1;
    Place before_, after_;  ///< a period apart
    std::vector<Coordinate> all_, active_;
    std::map<std::string, double> swings_;   ///< of states, by their name
    std::map<std::string, double> reached_;  ///< how far others can drive what is no state
    Vector swing_, size_;                    ///< of the active coordinates
    Matrix map_;
    Vector flow_;                  ///< derivative of the place after a period by the period, where that is unknown
    Vector phase_;                 ///< the direction in which the place does not move, of an unknown period
    std::optional<double> reach_;  ///< periods that a step goes over; nothing for all of them
    bool fresh_ = false;           ///< whether the map was taken where the search stands
    double firstNorm_ = 0, norm_ = 0;
    int iterations_ = 0, periods_ = 0, plain_ = 0, unrestored_ = 0, calm_ = 0, bestAt_ = 0;
    double best_ = std::numeric_limits<double>::infinity();
};

Result<Snapshot> Search::go(const Snapshot& from, Tick until) {
    if (until >= run_.end) return Error{ErrorCode::range, "the search for the periodic state has gone on for too long"};
    if (auto started = simulation_->start(from); !started) return started.error();
    if (simulation_->advance(until) != RunEnd::finished) {
        if (cancel_.cancelled()) return stopped();
        const RunSummary summary = simulation_->summary();
        return summary.error ? *summary.error : stopped();
    }
    return simulation_->snapshot();
}

Result<Place> Search::period(const Place& from) {
    const FineTime at = from.at + period_;
    auto there = go(from.snapshot, toTick(at));
    if (!there) return there.error();
    ++periods_;
    note();
    return Place{at, std::move(*there)};
}

void Search::note() {
    if (request_.progress) request_.progress({.periods = periods_, .iterations = iterations_, .residual = norm_});
}

Status Search::begin() {
    if (engine_.onGrid())
        return Error{ErrorCode::name,
                     "the periodic state is found by the engines 'exact' and 'adaptive', not on a fixed grid",
                     {},
                     {},
                     "engine"};
    auto common = commonPeriod(network_);
    if (!common && !request_.period) return common.error();
    Tick from = common ? common->from : 0;
    if (request_.period) {
        if (!(*request_.period > 0)) return Error{ErrorCode::range, "the period must be above zero", {}, {}, "period"};
        period_ = toFinePeriod(static_cast<long double>(*request_.period));
        made_ = "typed";
    } else if (common->period) {
        period_ = *common->period;
        made_ = common->made;
    }
    if (request_.start) {
        before_.snapshot = *request_.start;
    } else {
        if (auto started = simulation_->start(); !started) return started.error();
        before_.snapshot = simulation_->snapshot();
    }
    before_.at = toFine(before_.snapshot.t);
    if (from > before_.snapshot.t) {
        auto there = go(before_.snapshot, from);
        if (!there) return there.error();
        before_ = {toFine(from), std::move(*there)};
    }
    if (period_ == 0) {
        if (auto known = findPeriod(); !known) return known.error();
    } else if (before_.snapshot.t > 0) {
        // The next instant at which all begins anew.
        const FineTime whole = (before_.at + period_ - 1) / period_ * period_;
        auto there = go(before_.snapshot, toTick(whole));
        if (!there) return there.error();
        before_ = {whole, std::move(*there)};
    }
    for (plain_ = 0; plain_ < request_.plainPeriods; ++plain_) {
        auto next = period(before_);
        if (!next) return next.error();
        before_ = std::move(*next);
    }
    return {};
}

/// Runs until what switches has come again in the same order, three times.
Status Search::findPeriod() {
    Scout scout;
    RunRequest run = run_;
    const auto simulation = engine_.begin(network_, run, scout, cancel_);
    if (auto started = simulation->start(before_.snapshot); !started) return started.error();
    const Tick horizon = std::max<Tick>(request_.run.end, 1000);
    constexpr int pieces = 64;
    Tick repetition = 0;
    for (int k = 1; k <= pieces && repetition == 0; ++k) {
        const Tick until = later(before_.snapshot.t, static_cast<Tick>(static_cast<double>(horizon) / pieces * k));
        if (simulation->advance(until) != RunEnd::finished) {
            const RunSummary summary = simulation->summary();
            if (summary.error) return *summary.error;
            return stopped();
        }
        if (scout.events().size() > mostEvents) break;
        repetition = repetitionOf(scout.events(), k < pieces ? 0.02 : 0.2);
    }
    if (repetition == 0)
        return Error{ErrorCode::numeric,
                     fmt::format("no period was found: no source, carrier or task has one, and within {} nothing "
                                 "switched again and again in the same order; type the period",
                                 formatQuantity(toSeconds(horizon), "s", 3)),
                     {},
                     {},
                     "period"};
    before_ = {toFine(simulation->now()), simulation->snapshot()};
    period_ = toFine(repetition);
    found_ = true;
    made_ = "found: what switches comes again after it";
    return {};
}

/// Goes through one period, notes where events lie and how far states swing, and moves on to where nothing happens.
Status Search::chooseSection() {
    Scout scout;
    const auto simulation = engine_.begin(network_, run_, scout, cancel_);
    if (auto started = simulation->start(before_.snapshot); !started) return started.error();
    const Tick start = before_.snapshot.t, end = toTick(before_.at + period_);
    std::map<std::string, std::pair<double, double>> ranges;
    for (int k = 0; k <= looks; ++k) {
        const Tick until = start + static_cast<Tick>(static_cast<double>(end - start) / looks * k);
        if (simulation->advance(std::min(until, end)) != RunEnd::finished) {
            const RunSummary summary = simulation->summary();
            if (summary.error) return *summary.error;
            return stopped();
        }
        const Snapshot at = simulation->snapshot();
        for (const Snapshot::State& state : at.states) {
            const auto [range, isNew] = ranges.try_emplace(state.part + "." + state.name, state.value, state.value);
            range->second = {std::min(range->second.first, state.value), std::max(range->second.second, state.value)};
        }
    }
    ++periods_, ++plain_;
    for (const auto& [name, range] : ranges) swings_[name] = range.second - range.first;
    std::vector<Tick> instants{start};
    for (const Scout::Event& event : scout.events())
        if (event.t > start && event.t < end) instants.push_back(event.t);
    instants.push_back(end);
    std::size_t widest = 1;
    for (std::size_t i = 1; i < instants.size(); ++i)
        if (instants[i] - instants[i - 1] > instants[widest] - instants[widest - 1]) widest = i;
    const FineTime from = toFine(instants[widest - 1] - start), wide = toFine(instants[widest] - instants[widest - 1]);
    const FineTime section =
        before_.at + from + static_cast<FineTime>(static_cast<long double>(wide) * static_cast<long double>(sectionAt));
    auto there = go(before_.snapshot, toTick(section));
    if (!there) return there.error();
    before_ = {section, std::move(*there)};
    auto next = period(before_);
    if (!next) return next.error();
    after_ = std::move(*next);
    ++plain_;
    return {};
}

/// Logic must come again: after one period, or after a few, which then are one.
Status Search::runUntilLogicRepeats() {
    std::string difference = differenceOf(before_.snapshot, after_.snapshot);
    std::vector<Place> places{before_, after_};
    constexpr int patience = 3 * mostMultiple;
    for (int k = 0; !difference.empty() && k < patience; ++k) {
        auto next = period(places.back());
        if (!next) return next.error();
        ++plain_;
        places.push_back(std::move(*next));
        before_ = places[places.size() - 2], after_ = places.back();
        difference = differenceOf(before_.snapshot, after_.snapshot);
        if (difference.empty() || multiple_ > 1) continue;
        // Twice the same after several periods.
        for (std::size_t m = 2; m <= mostMultiple && 2 * m < places.size(); ++m) {
            const std::size_t last = places.size() - 1;
            bool repeats = true;
            for (std::size_t j = 0; repeats && j < m; ++j)
                repeats = differenceOf(places[last - j].snapshot, places[last - j - m].snapshot).empty();
            if (!repeats) continue;
            before_ = places[last - m], after_ = places[last];
            multiple_ = static_cast<int>(m);
            period_ *= static_cast<FineTime>(m);
            return {};
        }
    }
    if (difference.empty()) return {};
    return Error{ErrorCode::numeric,
                 fmt::format("no periodic state: {} from one period of {} to the next, and it does not come again "
                             "within {} periods",
                             difference, formatQuantity(secondsOf(period_), "s", 4), mostMultiple)};
}

/// Those that move: all states, and what the control remembers where it changes from period to period.
void Search::takeCoordinates() {
    all_ = coordinatesOf(after_.snapshot, network_);
    const Vector a = valuesOf(before_.snapshot, all_), b = valuesOf(after_.snapshot, all_);
    active_.clear();
    const double rounding = 4 * tickSeconds;
    for (std::size_t i = 0; i < all_.size(); ++i) {
        const auto k = static_cast<Eigen::Index>(i);
        if (!std::isfinite(a(k)) || !std::isfinite(b(k))) continue;
        const Coordinate& c = all_[i];
        bool moves = c.sort == Coordinate::Sort::state;
        if (c.sort == Coordinate::Sort::instant) {
            // One that lies still in absolute time belongs to the past.
            moves = !sameInstant(before_.snapshot, after_.snapshot, c) && (found_ || std::abs(b(k) - a(k)) > rounding);
        } else if (!moves) {
            moves = std::abs(b(k) - a(k)) > 1e-14 * (std::abs(a(k)) + std::abs(b(k)));
        }
        if (moves) active_.push_back(c);
    }
}

void Search::takeScales() {
    const Vector a = valuesOf(before_.snapshot, active_), b = valuesOf(after_.snapshot, active_);
    std::map<std::string, double> largest;  // of a kind, for what is zero
    for (std::size_t i = 0; i < active_.size(); ++i)
        largest[active_[i].unit] = std::max(largest[active_[i].unit], std::abs(b(static_cast<Eigen::Index>(i))));
    swing_.resize(static_cast<Eigen::Index>(active_.size()));
    size_.resize(swing_.size());
    for (std::size_t i = 0; i < active_.size(); ++i) {
        const auto k = static_cast<Eigen::Index>(i);
        const Coordinate& c = active_[i];
        const auto known = swings_.find(c.name);
        double swing = known == swings_.end() || c.sort != Coordinate::Sort::state ? 0.0 : known->second;
        double size = std::max({std::abs(a(k)), std::abs(b(k)), swing});
        if (c.sort == Coordinate::Sort::instant) size = secondsOf(period_), swing = size;
        const double ofKind = largest[c.unit];
        size = std::max(size, ofKind > 0 ? floorOfKind * ofKind : 1e-9);
        if (c.heat) size = std::max(size, warmth);
        if (const auto reached = reached_.find(keyOf(c)); reached != reached_.end())
            size = std::max(size, reached->second);
        if (c.sort != Coordinate::Sort::state) swing = size;
        size_(k) = size;
        swing_(k) = std::max(swing, floorOfSwing * size);
    }
}

/// The derivative of the map of a period, by a period with each coordinate moved. What then moves too is a coordinate
/// as well.
Status Search::takeMap() {
    const auto index = [](std::size_t i) { return static_cast<Eigen::Index>(i); };
    std::vector<Vector> columns;  // over all_
    const Vector base = valuesOf(after_.snapshot, all_);
    for (std::size_t j = 0; j < active_.size(); ++j) {
        if (cancel_.cancelled()) return stopped();
        takeScales();
        const double at = valuesOf(before_.snapshot, {active_[j]})(0);
        Vector column = Vector::Zero(index(all_.size()));
        if (diesOut(active_[j])) {
            columns.push_back(std::move(column));
            continue;
        }
        // Temperatures hardly come back within a period: what is left of a difference must be seen beside it.
        const double nudge = active_[j].heat ? 1.0 : nudge_;
        for (const double share : {nudge, -nudge, nudge / 100}) {
            Place moved = before_;
            setValue(moved.snapshot, active_[j], at + share * size_(index(j)));
            const double by = valuesOf(moved.snapshot, {active_[j]})(0) - at;
            if (by == 0) continue;
            auto there = period(moved);
            if (!there) {
                if (there.error().code == ErrorCode::stop) return there.error();
                continue;
            }
            const Vector values = valuesOf(there->snapshot, all_);
            column = (values - base) / by;
            for (double& entry : column)
                if (!std::isfinite(entry)) entry = 0;
            if (differenceOf(after_.snapshot, there->snapshot).empty()) break;
        }
        // What responds, and was none: it comes into play.
        for (std::size_t i = 0; i < all_.size(); ++i) {
            if (column(index(i)) == 0 || std::find(active_.begin(), active_.end(), all_[i]) != active_.end()) continue;
            const double moves = std::abs(column(index(i))) * size_(index(j)) * nudge;
            const bool instant = all_[i].sort == Coordinate::Sort::instant;
            const double noise = instant ? 8 * tickSeconds : 1e-11 * std::abs(base(index(i)));
            const bool lies = instant && sameInstant(before_.snapshot, after_.snapshot, all_[i]);
            if (moves > noise && !lies) active_.push_back(all_[i]);
        }
        columns.push_back(std::move(column));
    }
    takeScales();
    const auto n = index(active_.size());
    map_.resize(n, n);
    for (std::size_t i = 0; i < active_.size(); ++i) {
        const auto place = std::find(all_.begin(), all_.end(), active_[i]) - all_.begin();
        for (std::size_t j = 0; j < active_.size(); ++j) map_(index(i), index(j)) = columns[j](place);
    }
    // A coordinate is as large as what the others can make of it: an error that is filtered is near zero in the end.
    for (int pass = 0; pass < 2; ++pass)
        for (Eigen::Index i = 0; i < n; ++i) {
            double largest = size_(i);
            for (Eigen::Index j = 0; j < n; ++j) largest = std::max(largest, std::abs(map_(i, j)) * size_(j));
            const Coordinate& c = active_[static_cast<std::size_t>(i)];
            if (c.sort == Coordinate::Sort::state) continue;
            reached_[keyOf(c)] = size_(i) = largest;
            swing_(i) = largest;
        }
    if (found_) {
        // The flow at the end of the period, where nothing happens.
        const Tick by = std::max<Tick>(16, toTick(static_cast<FineTime>(static_cast<long double>(period_) * 1e-6L)));
        auto there = go(after_.snapshot, after_.snapshot.t + by);
        if (!there) return there.error();
        flow_ = (valuesOf(*there, active_) - valuesOf(after_.snapshot, active_)) / toSeconds(by);
        for (double& entry : flow_)
            if (!std::isfinite(entry)) entry = 0;
        phase_ = flow_.cwiseQuotient(size_.cwiseAbs2());
    }
    fresh_ = true;
    return {};
}

/// The same by central differences: where instants are located, they are counted in ticks, and a difference must stand
/// far above that.
Status Search::refineMap() {
    const Vector base = valuesOf(before_.snapshot, active_);
    for (std::size_t j = 0; j < active_.size(); ++j) {
        if (cancel_.cancelled()) return stopped();
        const auto k = static_cast<Eigen::Index>(j);
        if (diesOut(active_[j])) continue;
        const double nudge = (active_[j].heat ? 1.0 : nudge_) * size_(k);
        Vector values[2];
        double at[2] = {0, 0};
        bool good = true;
        for (const int side : {0, 1}) {
            Place moved = before_;
            setValue(moved.snapshot, active_[j], base(k) + (side == 0 ? nudge : -nudge));
            at[side] = valuesOf(moved.snapshot, {active_[j]})(0);
            auto there = period(moved);
            if (!there && there.error().code == ErrorCode::stop) return there.error();
            good = good && there && differenceOf(after_.snapshot, there->snapshot).empty();
            if (!good) break;
            values[side] = valuesOf(there->snapshot, active_);
        }
        // At an edge of what is possible one side must do.
        if (!good || at[0] == at[1]) continue;
        const Vector column = (values[0] - values[1]) / (at[0] - at[1]);
        if (column.allFinite()) map_.col(k) = column;
    }
    return {};
}

Status Search::nothingRestores(Eigen::Index most, double perPeriod) const {
    const Coordinate& c = active_[static_cast<std::size_t>(most)];
    const std::string part = c.sort == Coordinate::Sort::state ? c.name.substr(0, c.name.rfind('.')) : c.name;
    std::string why = "nothing brings it back";
    if (c.unit == "A") why = fmt::format("the mean of {}.v cannot be zero", part);
    if (c.unit == "V") why = fmt::format("the mean of {}.i cannot be zero", part);
    return Error{ErrorCode::numeric,
                 fmt::format("no periodic state: {} goes on by {} in each period, {}", c.name,
                             formatQuantity(std::abs(perPeriod), c.unit, 3), why),
                 part};
}

/// Sizes by which the map has rows and columns of like weight, from some to begin with (E. E. Osborne, "On
/// pre-conditioning of matrices", J. ACM 7, 1960): singular values then tell what restores and what does not.
Vector balanced(const Matrix& map, Vector size) {
    const Eigen::Index n = map.rows();
    for (int pass = 0; pass < 8; ++pass)
        for (Eigen::Index i = 0; i < n; ++i) {
            double row = 0, column = 0;
            for (Eigen::Index j = 0; j < n; ++j) {
                if (i == j) continue;
                row += std::abs(map(i, j)) * size(j) / size(i);
                column += std::abs(map(j, i)) * size(i) / size(j);
            }
            if (row > 0 && column > 0) size(i) *= std::clamp(std::sqrt(row / column), 1e-3, 1e3);
        }
    return size;
}

/// Where to go: (I - M) d = r, or with 1/h on the diagonal for a step over h periods.
Result<Vector> Search::direction(const Matrix& a, const Vector& right, const Vector& size,
                                 const Vector& residuals) const {
    const Eigen::Index m = residuals.size();
    Matrix shifted = a;
    if (reach_) shifted.diagonal().head(m).array() += 1 / *reach_;
    const Eigen::BDCSVD<Matrix> svd(shifted, Eigen::ComputeThinU | Eigen::ComputeThinV);
    Vector d = Vector::Zero(right.size());
    for (Eigen::Index k = 0; k < right.size(); ++k) {
        const double value = svd.singularValues()(k), along = svd.matrixU().col(k).dot(right);
        if (value > singular) {
            d += svd.matrixV().col(k) * (along / value);
            continue;
        }
        // Nothing restores this direction: it must not be driven either.
        const Vector moves = svd.matrixV().col(k).head(m).cwiseProduct(size);
        Eigen::Index most = 0;
        moves.cwiseQuotient(size_).cwiseAbs().maxCoeff(&most);
        if (std::abs(residuals(most)) > 1e-6 * swing_(most)) return nothingRestores(most, residuals(most)).error();
    }
    return d;
}

/// Takes a step if it leads nearer. What it has set going that dies out at once gets a period for that.
Result<bool> Search::take(const Vector& by, double longer, double now) {
    const FineTime periodBefore = period_;
    const double seconds = secondsOf(period_);
    Place candidate = after_;
    const Vector at = valuesOf(before_.snapshot, active_);
    for (Eigen::Index i = 0; i < by.size(); ++i)
        setValue(candidate.snapshot, active_[static_cast<std::size_t>(i)], at(i) + by(i));
    if (found_) {
        const double change = std::clamp(longer, -0.3 * seconds, 0.3 * seconds);
        period_ = toFinePeriod(static_cast<long double>(period_) * 0x1p-86L + static_cast<long double>(change));
    }
    for (int k = 0; k < 3; ++k) {
        auto there = period(candidate);
        if (!there) {
            if (there.error().code == ErrorCode::stop) return there.error();
            break;
        }
        const Vector moved = valuesOf(there->snapshot, active_) - valuesOf(candidate.snapshot, active_);
        const double then = moved.allFinite() && differenceOf(candidate.snapshot, there->snapshot).empty()
                                ? norm(moved)
                                : std::numeric_limits<double>::infinity();
        if (then < 0.9 * now || then <= request_.tolerance) {
            before_ = std::move(candidate), after_ = std::move(*there);
            norm_ = then;
            return true;
        }
        candidate = std::move(*there);
    }
    period_ = periodBefore;
    return false;
}

/// One step.
Status Search::step() {
    const Vector r = residual();
    const Eigen::Index n = r.size();
    const double now = norm(r);
    if (!fresh_ || map_.rows() != n)
        if (auto taken = takeMap(); !taken) return taken;
    const Vector residuals = residual();  // coordinates may have come into play
    const Eigen::Index m = residuals.size(), extra = found_ ? 1 : 0;
    const Vector size = balanced(map_, size_);
    Matrix a = Matrix::Zero(m + extra, m + extra);
    Vector right = Vector::Zero(m + extra);
    a.topLeftCorner(m, m) = Matrix::Identity(m, m) - size.cwiseInverse().asDiagonal() * map_ * size.asDiagonal();
    right.head(m) = residuals.cwiseQuotient(size);
    const double seconds = secondsOf(period_);
    if (found_) {
        a.col(m).head(m) = -flow_.cwiseQuotient(size) * seconds;
        a.row(m).head(m) = (phase_.cwiseProduct(size)).transpose();
        const double scale = a.row(m).head(m).cwiseAbs().maxCoeff();
        if (scale > 0) a.row(m) /= scale;
    }
    // A step of Newton's method; where that leads nowhere nearer, one of implicit Euler over so many periods: between
    // running on and Newton's method (C. T. Kelley, D. E. Keyes, "Convergence analysis of pseudo-transient
    // continuation", SIAM J. Numer. Anal. 35, 1998).
    constexpr int patience = 10;
    for (;;) {
        const auto d = direction(a, right, size, residuals);
        if (!d) {
            // Where something else takes over as it moves on, a diode for instance, it may be brought back after all.
            if (++unrestored_ > patience) return d.error();
            reach_ = 2 * shortestReach;
            continue;
        }
        auto taken = take(d->head(m).cwiseProduct(size), found_ ? (*d)(m)*seconds : 0.0, now);
        if (!taken) return taken.error();
        if (*taken) {
            // The map is good as long as steps lead as far as it says.
            fresh_ = !reach_ && norm_ <= std::max(goodEnough * now, request_.tolerance) && !found_;
            if (reach_ && (*reach_ *= 8) > longestReach) reach_.reset();
            return {};
        }
        reach_ = reach_ ? *reach_ / 8 : firstReach;
        if (*reach_ < shortestReach) break;
    }
    reach_.reset();
    // It leads nowhere nearer: run on, and try again from there.
    for (int k = 0; k < 3; ++k) {
        before_ = std::move(after_);
        auto next = period(before_);
        if (!next) return next.error();
        after_ = std::move(*next);
        ++plain_;
    }
    fresh_ = false;
    if (auto repeats = runUntilLogicRepeats(); !repeats) return repeats;
    takeCoordinates();
    takeScales();
    norm_ = norm(residual());
    return {};
}

Status Search::iterate() {
    for (;;) {
        if (cancel_.cancelled()) return stopped();
        if (fresh_ && norm_ <= request_.tolerance) {
            // Small changes of what moves slowly may still be far from their end.
            const Vector r = residual(), size = balanced(map_, size_);
            const Matrix a = Matrix::Identity(r.size(), r.size()) -
                             Matrix(size.cwiseInverse().asDiagonal() * map_ * size.asDiagonal());
            const Eigen::BDCSVD<Matrix> svd(a, Eigen::ComputeThinU | Eigen::ComputeThinV);
            Vector off = Vector::Zero(r.size());
            for (Eigen::Index k = 0; k < r.size(); ++k)
                if (svd.singularValues()(k) > singular)
                    off += svd.matrixV().col(k) *
                           (svd.matrixU().col(k).dot(r.cwiseQuotient(size)) / svd.singularValues()(k));
            off = off.cwiseProduct(size).cwiseQuotient(size_).eval();
            const double least = exact_ ? mostError : 1e-3;
            // What is left in a direction that hardly restores is rounding, where steps do not make it less.
            constexpr int patience = 3;
            if (++calm_ > patience) return {};
            if (found_ || r.size() == 0 || off.cwiseAbs().maxCoeff() <= least) return {};
        }
        if (norm_ <= request_.tolerance && !fresh_) {
            if (auto taken = takeMap(); !taken) return taken;
            norm_ = norm(residual());
            continue;
        }
        // Rounding may not let it come nearer: what is as small as that is told, and good.
        constexpr int noBetter = 5;
        if (norm_ < 0.5 * best_)
            best_ = norm_, bestAt_ = iterations_;
        else if (norm_ <= roundingOf * request_.tolerance && iterations_ - bestAt_ >= noBetter)
            return fresh_ ? Status() : takeMap();
        if (iterations_ >= request_.mostIterations) {
            const Vector r = residual();
            Eigen::Index most = 0;
            const double worst = r.cwiseQuotient(swing_).cwiseAbs().maxCoeff(&most);
            const Coordinate& c = active_[static_cast<std::size_t>(most)];
            return Error{ErrorCode::numeric,
                         fmt::format("no periodic state was found in {} iterations and {} periods: {} still moves by "
                                     "{} in a period of {}, {} of its swing",
                                     iterations_, periods_, c.name, formatQuantity(std::abs(r(most)), c.unit, 3),
                                     formatQuantity(secondsOf(period_), "s", 4), formatQuantity(worst, "", 2))};
        }
        ++iterations_;
        note();
        if (auto done = step(); !done) return done;
    }
}

Result<Settled> Search::finish() {
    Settled all;
    if (request_.fine)
        if (auto refined = refineMap(); !refined) return refined.error();
    all.section = before_.snapshot;
    all.sizes.assign(size_.begin(), size_.end());
    all.found = found_;
    all.period = period_;
    all.made = made_;
    all.multiple = multiple_;
    all.residual = norm_;
    all.iterations = iterations_;
    const Vector r = residual();
    if (r.size() > 0) {
        Eigen::Index most = 0;
        r.cwiseQuotient(swing_).cwiseAbs().maxCoeff(&most);
        all.worst = active_[static_cast<std::size_t>(most)].name;
    }
    const double seconds = secondsOf(period_);
    for (std::size_t i = 0; i < after_.snapshot.states.size(); ++i) {
        const StateInfo& info = network_.states[i];
        const double now = after_.snapshot.states[i].value, change = now - before_.snapshot.states[i].value;
        if (info.heat || info.sort == StateSort::signal) continue;
        double& mean = info.sort == StateSort::capacitorVoltage ? all.meanCurrent : all.meanVoltage;
        mean = std::max(mean, std::abs(info.storage * change / seconds));
        all.storedPower += info.storage * now * change / seconds;
    }
    all.multipliers = multipliersOf(map_, active_, secondsOf(period_), found_);
    all.coordinates = active_;
    for (Eigen::Index i = 0; i < map_.rows(); ++i)
        for (Eigen::Index j = 0; j < map_.cols(); ++j) all.map.push_back(map_(i, j));
    all.stable = all.multipliers.empty() || std::abs(all.multipliers.front().value) <= 1 + 1e-6;
    double slowest = 0;
    for (const Multiplier& one : all.multipliers)
        if (std::abs(one.value - 1.0) > 1e-7) slowest = std::max(slowest, std::abs(one.value));
    if (!all.stable)
        all.plainEquivalent = std::numeric_limits<double>::infinity();
    else if (slowest > 0 && firstNorm_ > norm_ && norm_ > 0)
        all.plainEquivalent = plain_ + std::log(norm_ / firstNorm_) / std::log(slowest);
    else
        all.plainEquivalent = plain_;
    // To the instant at which all begins anew.
    Snapshot start = after_.snapshot;
    if (!found_) {
        const FineTime whole = (after_.at + period_ - 1) / period_ * period_;
        if (toTick(whole) > after_.snapshot.t) {
            auto there = go(after_.snapshot, toTick(whole));
            if (!there) return there.error();
            start = std::move(*there);
        }
    }
    all.start = start.later(-start.t);
    all.periods = periods_, all.plainPeriods = plain_;
    return all;
}

Result<Settled> Search::search() {
    if (auto begun = begin(); !begun) return begun.error();
    if (auto chosen = chooseSection(); !chosen) return chosen.error();
    if (auto repeats = runUntilLogicRepeats(); !repeats) return repeats.error();
    takeCoordinates();
    takeScales();
    firstNorm_ = norm_ = norm(residual());
    if (auto done = iterate(); !done) return done.error();
    return finish();
}

}  // namespace

}  // namespace settle

Result<Settled> settlePeriodic(const Engine& engine, const Network& network, const SettleRequest& request,
                               const CancelToken& cancel) {
    return settle::Search(engine, network, request, cancel).search();
}

std::vector<std::pair<std::string, std::string>> Settled::words() const {
    std::vector<std::pair<std::string, std::string>> all;
    const double length = seconds();
    std::string of =
        fmt::format("{} ({}): {}", formatQuantity(length, "s", 6), formatQuantity(1 / length, "Hz", 6), made);
    if (multiple > 1) of += fmt::format("; logic comes again after {} of them", multiple);
    all.emplace_back("period", of);
    all.emplace_back("residual", worst.empty()
                                     ? "nothing is stored in this circuit"
                                     : fmt::format("{} of the swing of {}", formatQuantity(residual, "", 2), worst));
    all.emplace_back("balance", fmt::format("means of capacitor currents within {}, of winding voltages within {}; "
                                            "powers in and out differ by {}",
                                            formatQuantity(meanCurrent, "A", 2), formatQuantity(meanVoltage, "V", 2),
                                            formatQuantity(std::abs(storedPower), "W", 2)));
    std::string effort = fmt::format("{} iteration{}, {} periods gone, {} of them plain", iterations,
                                     iterations == 1 ? "" : "s", periods, plainPeriods);
    if (std::isfinite(plainEquivalent))
        effort += fmt::format("; a plain run would take {:.0f} periods, {}", plainEquivalent,
                              formatQuantity(plainEquivalent * length, "s", 3));
    all.emplace_back("search", effort);
    all.emplace_back("stability", stable ? "stable: deviations die out" : "unstable: a run leaves this state");
    constexpr std::size_t most = 6;
    for (std::size_t i = 0; i < std::min(most, multipliers.size()); ++i)
        all.emplace_back(fmt::format("motion {}", i + 1), multipliers[i].words);
    return all;
}

}  // namespace hedgerow
