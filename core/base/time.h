#pragma once
// Simulated time. Counted in whole ticks of 2^-54 s, so that instants compare exactly and never drift.

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdint>

namespace hedgerow {

using Tick = std::int64_t;

inline constexpr double tickSeconds = 0x1p-54;
/// The longest run: 500 s of simulated time, just below what 63 bits of ticks hold.
inline constexpr double longestRunSeconds = 500.0;
inline constexpr Tick neverTick = INT64_MAX;

inline double toSeconds(Tick ticks) { return static_cast<double>(ticks) * tickSeconds; }
/// Rounds to the nearest tick; times beyond the longest run become the longest run, and what is no number becomes 0.
inline Tick toTicks(long double seconds) {
    constexpr long double most = longestRunSeconds;
    if (!(seconds < most)) return seconds >= most ? static_cast<Tick>(most * 0x1p54L) : Tick{0};
    return static_cast<Tick>(std::llroundl(std::max(seconds, -most) * 0x1p54L));
}
/// A time after an instant; neverTick where there are no more ticks.
inline Tick later(Tick t, Tick by) { return by > 0 && t > neverTick - by ? neverTick : t + by; }

/// Counts 2^-86 s: fine enough for billions of periods whose length is not a whole number of ticks.
__extension__ using FineTime = __int128;
/// A time so long that it never comes, yet may be added up: products with the number of a period within a run fit.
inline constexpr long double longestFineSeconds = 0x1p30L;
inline FineTime toFine(long double seconds) {
    if (!(seconds < longestFineSeconds)) seconds = seconds >= longestFineSeconds ? longestFineSeconds : 0.0L;
    return static_cast<FineTime>(std::max(seconds, -longestFineSeconds) * 0x1p86L);
}
/// The length of something that comes again and again: at least one tick.
inline FineTime toFinePeriod(long double seconds) { return std::max(toFine(seconds), FineTime{1} << 32); }
inline FineTime toFine(Tick tick) { return static_cast<FineTime>(tick) << 32; }
/// Rounds to the nearest tick; what lies beyond the longest run never comes, or was before everything.
inline Tick toTick(FineTime fine) {
    const FineTime ticks = (fine + (FineTime{1} << 31)) >> 32;
    return static_cast<Tick>(std::clamp(ticks, static_cast<FineTime>(-neverTick), static_cast<FineTime>(neverTick)));
}

/// Wall-clock seconds that passed since it was made.
class Stopwatch {
public:
    double seconds() const { return std::chrono::duration<double>(Clock::now() - start_).count(); }

private:
    using Clock = std::chrono::steady_clock;
    Clock::time_point start_ = Clock::now();
};

}  // namespace hedgerow
