#include "engines/exact/trace_ranges.h"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <limits>

#include "engines/exact/wide.h"

// Functions of several numbers at once are inlined: how they would be passed does not matter.
#pragma GCC diagnostic ignored "-Wpsabi"

namespace hedgerow::exact {

namespace {
/// Turns of a trace in one interval of its memory, which reaches back to the beginning of the interval before: a few
/// oscillations of what is fastest in it, however many points they take.
constexpr double turnsRemembered = 8;
/// A trace that hardly moves is not resolved finer than this part of the largest of its unit.
constexpr double quietPart = 1e-4;
/// Of what a running signal is made of: below this part it is rounding.
constexpr double signalNoise = 1e-13;

// The same for one number and for several at once.
template <class Number>
[[gnu::always_inline]] inline Number larger(Number a, Number b) {
    return a > b ? a : b;
}
template <class Number>
[[gnu::always_inline]] inline Number smaller(Number a, Number b) {
    return a < b ? a : b;
}

/// Numbers from a place on.
template <class Number, class Real>
[[gnu::always_inline]] inline Number read(const Real* from, std::size_t at) {
    Number number;
    std::memcpy(&number, from + at, sizeof number);
    return number;
}

/// What the bow of a line is judged by, a number per unknown each.
template <class Real>
struct Judged {
    const Real *z0, *rate0, *z1, *rate1, *low, *high, *tolerance, *least, *floor;
    Real h;
};

/// Zero where the lines of the unknowns from `at` on stay near their chords, else one; one for what is not a number.
template <class Number, class Real>
[[gnu::always_inline]] inline Number straying(const Judged<Real>& j, std::size_t at) {
    const Number a = read<Number>(j.z0, at), b = read<Number>(j.z1, at), rise = b - a;
    const Number swing =
        larger(larger(read<Number>(j.high, at), a), b) - smaller(smaller(read<Number>(j.low, at), a), b);
    const Number most = Real(4) * (read<Number>(j.tolerance, at) * larger(swing, read<Number>(j.least, at)) +
                                   read<Number>(j.floor, at));
    const Number one = j.h * read<Number>(j.rate0, at) - rise, other = j.h * read<Number>(j.rate1, at) - rise;
    const Number bow = larger(larger(one, -one), larger(other, -other)) + (one - one) + (other - other);
    return bow <= most ? Number{} : Number{} + Real(1);
}

template <class Real>
bool anyStraysOneByOne(const Judged<Real>& judged, std::size_t count) {
    for (std::size_t i = 0; i < count; ++i)
        if (straying<Real>(judged, i) != 0) return true;
    return false;
}

bool anyStrays(const Judged<long double>& judged, std::size_t count) { return anyStraysOneByOne(judged, count); }

HEDGEROW_WIDE bool anyStrays(const Judged<double>& judged, std::size_t count) {
    if (count < lanes) return anyStraysOneByOne(judged, count);
    // The last block overlaps the one before it.
    Lanes any{};
    for (std::size_t at = 0; at + lanes < count; at += lanes) any += straying<Lanes>(judged, at);
    any += straying<Lanes>(judged, count - lanes);
    return any[0] + any[1] + any[2] + any[3] != 0;
}

/// What a trace has swung, a number per unknown each.
template <class Real>
struct Swung {
    Real *low, *high;        ///< of late: of both intervals
    Real *lowNow, *highNow;  ///< of the interval that is on
    Real *peak, *direction,
        *turns;  ///< the last extreme, where it goes from there (1 or -1), and turns in the interval
    const Real *z, *size, *least;
};

/// Widens the swings of the unknowns from `at` on. @return one where a value is larger than any before, else zero
template <class Number, class Real>
[[gnu::always_inline]] inline Number widened(const Swung<Real>& s, std::size_t at) {
    const Number z = read<Number>(s.z, at), low = read<Number>(s.low, at), high = read<Number>(s.high, at),
                 lowNow = smaller(z, read<Number>(s.lowNow, at)), highNow = larger(z, read<Number>(s.highNow, at)),
                 peak = read<Number>(s.peak, at), direction = read<Number>(s.direction, at),
                 turns = read<Number>(s.turns, at), size = read<Number>(s.size, at);
    const Number one = Number{} + Real(1), back = direction * (peak - z);
    // Less than what counts as a swing at all is no turn.
    const auto turned = back > read<Number>(s.least, at);
    const Number peakThen = turned ? z : (back < Number{} ? z : peak), directionThen = turned ? -direction : direction,
                 counted = turned ? turns + one : turns;
    const auto full = counted >= one * Real(turnsRemembered);
    const Number lowThen = full ? lowNow : smaller(z, low), highThen = full ? highNow : larger(z, high),
                 lowOn = full ? z : lowNow, highOn = full ? z : highNow, turnsOn = full ? Number{} : counted;
    std::memcpy(s.low + at, &lowThen, sizeof z);
    std::memcpy(s.high + at, &highThen, sizeof z);
    std::memcpy(s.lowNow + at, &lowOn, sizeof z);
    std::memcpy(s.highNow + at, &highOn, sizeof z);
    std::memcpy(s.peak + at, &peakThen, sizeof z);
    std::memcpy(s.direction + at, &directionThen, sizeof z);
    std::memcpy(s.turns + at, &turnsOn, sizeof z);
    return larger(z, -z) > size ? one : Number{};
}

bool widen(const Swung<long double>& s, std::size_t count) {
    bool grew = false;
    for (std::size_t i = 0; i < count; ++i) grew |= widened<long double>(s, i) != 0;
    return grew;
}

HEDGEROW_WIDE bool widen(const Swung<double>& s, std::size_t count) {
    Lanes any{};
    std::size_t at = 0;
    for (; at + lanes <= count; at += lanes) any += widened<Lanes>(s, at);
    bool grew = any[0] + any[1] + any[2] + any[3] != 0;
    for (; at < count; ++at) grew |= widened<double>(s, at) != 0;
    return grew;
}

}  // namespace

template <class Real>
TraceRanges<Real>::TraceRanges(const StateLayout<Real>& layout, const RunRequest& request, Scales<Real>& scales)
    : scales_(scales) {
    const auto n = static_cast<std::size_t>(layout.unknowns);
    for (int i = 0; i < layout.unknowns; ++i) {
        const double tolerance =
            request.tolerances.empty() ? request.traceTolerance : request.tolerances[static_cast<std::size_t>(i)];
        tolerance_.push_back(static_cast<Real>(tolerance));
        sorts_.push_back(layout.network.sortOf(i));
        running_ = running_ || sorts_.back() == UnknownSort::signal;
    }
    low_.assign(n, std::numeric_limits<Real>::max());
    high_.assign(n, -std::numeric_limits<Real>::max());
    for (std::vector<Real>* zeros : {&size_, &then_, &least_, &floor_, &turns_}) zeros->assign(n, Real(0));
    direction_.assign(n, Real(1));
}

template <class Real>
void TraceRanges<Real>::see(const Real* z) {
    const std::size_t n = low_.size();
    if (first_) {
        for (std::vector<Real>* all : {&low_, &high_, &lowNow_, &highNow_, &peak_}) all->assign(z, z + n);
        first_ = false;
    }
    refreshLeast();
    if (!widen({low_.data(), high_.data(), lowNow_.data(), highNow_.data(), peak_.data(), direction_.data(),
                turns_.data(), z, size_.data(), least_.data()},
               n))
        return;
    for (std::size_t i = 0; i < n; ++i) {
        const Real seen = std::abs(z[i]);
        if (!(seen > size_[i])) continue;
        if (sorts_[i] == UnknownSort::voltage) scales_.seeVoltage(seen);
        if (sorts_[i] == UnknownSort::current) scales_.seeCurrent(seen);
        if (sorts_[i] == UnknownSort::signal && seen > Real(1.1) * size_[i]) sizesVersion_ = -1;
        size_[i] = seen;
    }
}

/// What of the swing counts at least, by the largest of its kind that was seen.
template <class Real>
Real TraceRanges<Real>::leastSwing(int unknown) const {
    const auto i = static_cast<std::size_t>(unknown);
    return Real(quietPart) * (sorts_[i] == UnknownSort::voltage   ? scales_.voltage()
                              : sorts_[i] == UnknownSort::current ? scales_.current()
                                                                  : size_[i]);
}

template <class Real>
void TraceRanges<Real>::refreshLeast() {
    if (sizesVersion_ == scales_.version()) return;
    sizesVersion_ = scales_.version();
    for (std::size_t i = 0; i < least_.size(); ++i) {
        least_[i] = leastSwing(static_cast<int>(i));
        floor_[i] = Real(1e-15 / quietPart) * least_[i] + Real(1e-30);
        if (made_.empty()) continue;
        Real sum = 0;
        for (std::size_t j = 0; j < made_[i].size(); ++j)
            if (made_[i][j] != 0) sum += made_[i][j] * scales_.size(static_cast<int>(j));
        floor_[i] += Real(signalNoise) * sum;
    }
}

template <class Real>
void TraceRanges<Real>::madeOf(const Matrix<Real>& readout) {
    if (!running_) return;
    made_.resize(sorts_.size());
    for (std::size_t i = 0; i < sorts_.size(); ++i) {
        if (sorts_[i] != UnknownSort::signal) continue;
        made_[i].resize(static_cast<std::size_t>(readout.cols()), Real(0));
        for (std::size_t j = 0; j < made_[i].size(); ++j)
            made_[i][j] = std::max(made_[i][j], std::abs(readout(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j))));
    }
    sizesVersion_ = -1;
}

template <class Real>
Real TraceRanges<Real>::allowed(int unknown, Real z0, Real z1) {
    refreshLeast();
    const auto i = static_cast<std::size_t>(unknown);
    const Real swing = larger(larger(high_[i], z0), z1) - smaller(smaller(low_[i], z0), z1);
    return tolerance_[i] * larger(swing, least_[i]) + floor_[i];
}

template <class Real>
bool TraceRanges<Real>::straight(const Real* z0, const Real* rate0, const Real* z1, const Real* rate1, Real h) {
    refreshLeast();
    const Judged<Real> judged{
        z0, rate0, z1, rate1, low_.data(), high_.data(), tolerance_.data(), least_.data(), floor_.data(), h};
    const std::size_t n = low_.size();
    if (suspect_ < n && straying<Real>(judged, suspect_) != 0) return false;
    if (!anyStrays(judged, n)) return true;
    for (suspect_ = 0; straying<Real>(judged, suspect_) == 0;) ++suspect_;
    return false;
}

template <class Real>
bool TraceRanges<Real>::hardlyBowed(const Real* z0, const Real* middle, const Real* z1, Real part) {
    for (std::size_t i = 0; i < low_.size(); ++i)
        if (!(4 * std::abs(middle[i] - z0[i] - part * (z1[i] - z0[i])) <= allowed(static_cast<int>(i), z0[i], z1[i])))
            return false;
    return true;
}

template <class Real>
bool TraceRanges<Real>::changedMuch() {
    bool much = false;
    for (std::size_t i = 0; i < low_.size() && !much; ++i) {
        const Real least = leastSwing(static_cast<int>(i));
        const Real now = larger(high_[i] - low_[i], least), then = larger(then_[i], least);
        much = now < Real(0.4) * then || now > Real(6) * then;
    }
    for (std::size_t i = 0; much && i < low_.size(); ++i) then_[i] = high_[i] - low_[i];
    return much;
}

template class TraceRanges<double>;
template class TraceRanges<long double>;

}  // namespace hedgerow::exact
