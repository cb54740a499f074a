#pragma once
// Simulated time. Counted in whole ticks of 2^-54 s, so that instants compare exactly and never drift.

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
/// Rounds to the nearest tick. @pre |seconds| <= longestRunSeconds
inline Tick toTicks(long double seconds) { return static_cast<Tick>(std::llroundl(seconds * 0x1p54L)); }

/// Counts 2^-86 s: fine enough for billions of periods whose length is not a whole number of ticks.
__extension__ using FineTime = __int128;
inline FineTime toFine(long double seconds) { return static_cast<FineTime>(seconds * 0x1p86L); }
inline FineTime toFine(Tick tick) { return static_cast<FineTime>(tick) << 32; }
/// Rounds to the nearest tick; what lies beyond the longest run never comes.
inline Tick toTick(FineTime fine) {
    const FineTime ticks = (fine + (FineTime{1} << 31)) >> 32;
    return ticks < static_cast<FineTime>(neverTick) ? static_cast<Tick>(ticks) : neverTick;
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
