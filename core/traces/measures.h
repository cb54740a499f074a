#pragma once
// What is read off a trace beyond its least, greatest and mean value: times, frequencies, and relations of two traces.
// Everything is computed on the stored straight lines, without sampling.

#include <optional>
#include <string>
#include <vector>

#include "traces/trace.h"

namespace hedgerow {

/// An instant at which a trace passes a level.
struct Crossing {
    double t = 0;  ///< s
    bool rising = true;
};

/// The passages of `level` in [from, to], in order. A passage counts once the trace has been beyond level -+ hysteresis
/// on both sides; its instant is that of the level itself. At most `most` of them.
std::vector<Crossing> crossings(const Trace& trace, Tick from, Tick to, double level, double hysteresis,
                                std::size_t most = SIZE_MAX);

/// The nearest passage of a level after, or before, an instant.
std::optional<Tick> nextCrossing(const Trace& trace, Tick now, double level, bool forward);

/// The low and the high level at which a trace spends most time, by a histogram of 256 classes over time: the state
/// levels of IEEE Std 181-2011, 5.2.1.2 (least and greatest value split in two halves).
struct StateLevels {
    double low = 0, high = 0;
};
std::optional<StateLevels> stateLevels(const Trace& trace, Tick from, Tick to);

/// Everything that is shown for a trace over a window.
struct WaveMeasures {
    Measures basic;
    double acRms = 0;                  ///< rms of the trace less its mean
    double integral = 0;               ///< in units of the trace times s
    std::optional<double> frequency;   ///< Hz, from the rising passages of the middle level
    std::optional<double> duty;        ///< share of whole periods above the middle level
    std::optional<double> rise, fall;  ///< s, between 10 % and 90 % of the state levels, the first of each
    /// Of a step from the value at the start of the window to that at its end: the greatest excursion beyond the end,
    /// relative to the step; and how long after the start the trace is last more than 2 % of the step off the end.
    std::optional<double> overshoot, settling;
};
std::optional<WaveMeasures> waveMeasures(const Trace& trace, Tick from, Tick to);

/// One row of a table of measures.
struct MeasureRow {
    std::string name;  ///< "mean", "rise time"
    std::string unit;
    double value;
};
/// The measures as rows in the order in which they are shown; those that do not exist are left out.
std::vector<MeasureRow> measureRows(const WaveMeasures& measures, const std::string& unit);

/// From a rising passage of the middle level to another one, n periods later, the last such in [from, to].
std::optional<std::pair<Tick, Tick>> lastPeriods(const Trace& trace, Tick from, Tick to, int n);

/// Degrees by which the fundamental of `b` is ahead of that of `a`, in (-180, 180], over whole periods of `a`.
std::optional<double> phaseBetween(const Trace& a, const Trace& b, Tick from, Tick to);
/// Root mean square of a - b over what both have of the window.
std::optional<double> rmsDifference(const Trace& a, const Trace& b, Tick from, Tick to);
/// Mean of `output` over mean of `input`; nothing when the latter is zero.
std::optional<double> efficiency(const Trace& input, const Trace& output, Tick from, Tick to);

}  // namespace hedgerow
