#include "engines/exact/swings.h"

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
/// Of the swing of a trace per point: it forgets what is further back than a few oscillations, which take the more
/// points the finer the tolerance is.
double forgettingFor(double tolerance) { return std::clamp(std::sqrt(tolerance) / 16, 1e-6, 1.0 / 1024); }
/// However many points a value stands for, a few periods of them are remembered.
constexpr double mostForgotten = 1.0 / 64;
/// A trace that hardly moves is not resolved finer than this part of the largest of its unit.
constexpr double quietPart = 1e-4;

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
    Real *low, *high;
    const Real *z, *forgetting, *size;
    Real weight;
};

/// Widens the swings of the unknowns from `at` on, which forget a little. @return one where a value is larger than any
/// before, else zero
template <class Number, class Real>
[[gnu::always_inline]] inline Number widened(const Swung<Real>& s, std::size_t at) {
    const Number z = read<Number>(s.z, at), low = read<Number>(s.low, at), high = read<Number>(s.high, at),
                 size = read<Number>(s.size, at);
    const Number forget = smaller(s.weight * read<Number>(s.forgetting, at), Number{} + Real(mostForgotten));
    const Number lower = smaller(z, low + forget * (z - low)), higher = larger(z, high + forget * (z - high));
    std::memcpy(s.low + at, &lower, sizeof lower);
    std::memcpy(s.high + at, &higher, sizeof higher);
    return larger(z, -z) > size ? Number{} + Real(1) : Number{};
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
Swings<Real>::Swings(const Frame<Real>& frame, const RunRequest& request, Magnitudes<Real>& magnitudes)
    : magnitudes_(magnitudes) {
    const auto n = static_cast<std::size_t>(frame.unknowns);
    for (int i = 0; i < frame.unknowns; ++i) {
        const double tolerance =
            request.tolerances.empty() ? request.traceTolerance : request.tolerances[static_cast<std::size_t>(i)];
        tolerance_.push_back(static_cast<Real>(tolerance));
        forgetting_.push_back(static_cast<Real>(forgettingFor(tolerance)));
        sorts_.push_back(frame.network.sortOf(i));
        running_ = running_ || sorts_.back() == UnknownSort::signal;
    }
    low_.assign(n, std::numeric_limits<Real>::max());
    high_.assign(n, -std::numeric_limits<Real>::max());
    for (std::vector<Real>* zeros : {&size_, &then_, &least_, &floor_}) zeros->assign(n, Real(0));
}

template <class Real>
void Swings<Real>::see(const Real* z, Real weight) {
    const std::size_t n = low_.size();
    if (first_) {
        std::copy_n(z, n, low_.begin());
        std::copy_n(z, n, high_.begin());
        first_ = false;
    }
    if (!widen({low_.data(), high_.data(), z, forgetting_.data(), size_.data(), weight}, n)) return;
    for (std::size_t i = 0; i < n; ++i) {
        const Real seen = std::abs(z[i]);
        if (!(seen > size_[i])) continue;
        if (sorts_[i] == UnknownSort::voltage) magnitudes_.seeVoltage(seen);
        if (sorts_[i] == UnknownSort::current) magnitudes_.seeCurrent(seen);
        if (sorts_[i] == UnknownSort::signal && seen > Real(1.1) * size_[i]) sizesVersion_ = -1;
        size_[i] = seen;
    }
}

/// What of the swing counts at least, by the largest of its kind that was seen.
template <class Real>
Real Swings<Real>::leastSwing(int unknown) const {
    const auto i = static_cast<std::size_t>(unknown);
    return Real(quietPart) * (sorts_[i] == UnknownSort::voltage   ? magnitudes_.voltage()
                              : sorts_[i] == UnknownSort::current ? magnitudes_.current()
                                                                  : size_[i]);
}

template <class Real>
void Swings<Real>::refreshLeast() {
    if (sizesVersion_ == magnitudes_.version()) return;
    sizesVersion_ = magnitudes_.version();
    for (std::size_t i = 0; i < least_.size(); ++i) {
        least_[i] = leastSwing(static_cast<int>(i));
        floor_[i] = Real(1e-15 / quietPart) * least_[i] + Real(1e-30);
    }
}

template <class Real>
Real Swings<Real>::allowed(int unknown, Real z0, Real z1) {
    refreshLeast();
    const auto i = static_cast<std::size_t>(unknown);
    const Real swing = larger(larger(high_[i], z0), z1) - smaller(smaller(low_[i], z0), z1);
    return tolerance_[i] * larger(swing, least_[i]) + floor_[i];
}

template <class Real>
bool Swings<Real>::straight(const Real* z0, const Real* rate0, const Real* z1, const Real* rate1, Real h) {
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
bool Swings<Real>::hardlyBowed(const Real* z0, const Real* middle, const Real* z1, Real part) {
    for (std::size_t i = 0; i < low_.size(); ++i)
        if (!(4 * std::abs(middle[i] - z0[i] - part * (z1[i] - z0[i])) <= allowed(static_cast<int>(i), z0[i], z1[i])))
            return false;
    return true;
}

template <class Real>
bool Swings<Real>::changedMuch() {
    bool much = false;
    for (std::size_t i = 0; i < low_.size() && !much; ++i) {
        const Real least = leastSwing(static_cast<int>(i));
        const Real now = larger(high_[i] - low_[i], least), then = larger(then_[i], least);
        much = now < Real(0.5) * then || now > Real(3) * then;
    }
    for (std::size_t i = 0; much && i < low_.size(); ++i) then_[i] = high_[i] - low_[i];
    return much;
}

template class Swings<double>;
template class Swings<long double>;

}  // namespace hedgerow::exact
