#pragma once
// Writes a run as straight lines: every event twice, and between events just enough points.

#include <span>
#include <vector>

#include "engines/exact/commutation.h"
#include "engines/exact/trace_ranges.h"

namespace hedgerow::exact {

template <class Real>
class Recorder {
public:
    Recorder(const StateLayout<Real>& layout, const RunRequest& request, RunSink& sink, Scales<Real>& scales,
             const CancelToken& cancel);

    /// The signals of all rows from now on.
    void setSignals(std::span<const double> signals) { signalSet_ = sink_.addSignals(signals); }
    void setSignals(std::uint32_t known) { signalSet_ = known; }
    std::uint32_t signalSet() const { return signalSet_; }
    /// Writes the values at one instant.
    void instant(Mode<Real>& mode, const Vector<Real>& y, Tick t);
    /// Writes the way from y0 at t0 to y1 at t0 + length, the first point excluded.
    void way(Mode<Real>& mode, const Vector<Real>& y0, const Vector<Real>& y1, Tick t0, Tick length);
    /// Writes a point that is known to be needed. The ranges of the traces do not take note of it.
    void point(Mode<Real>& mode, const Real* y, Tick t);
    /// Writes several such points at once; their rows are of the width of rowWidth().
    void points(std::span<const PointRef> points, std::span<const double> numbers);
    /// Lets the swings of the traces know values of an instant.
    void see(const Mode<Real>& mode, const Real* y);
    /// Grows when the range of a trace has changed so much that lines which were straight enough may not be any more,
    /// or could be much longer.
    int generation() const { return generation_; }
    /// Whether rows hold the states and sources, the constant left out, and not the unknowns.
    bool ofStates() const { return !wide_; }
    std::uint32_t viewOf(Mode<Real>& mode) {
        if (mode.view < 0) makeView(mode);
        return static_cast<std::uint32_t>(mode.view);
    }

    /// Per unknown, the bend that a line may hide: a quarter of the difference of its slopes, times its length.
    void allowances(const Mode<Real>& mode, const Real* a, const Real* b, Vector<Real>& allowed);

    bool full() const { return full_; }
    /// Whether the sink wants points: else none is computed.
    bool stores() const { return stores_; }
    std::int64_t points() const { return points_; }
    std::int64_t bytes() const { return bytes_; }
    double seconds() const { return seconds_; }

private:
    /// States at an instant, with the unknowns and their slopes below each other.
    struct Sample {
        Vector<Real> y, values;
        Real* z() { return values.data(); }
        const Real* z() const { return values.data(); }
        const Real* rates() const { return values.data() + values.size() / 2; }
    };
    Sample& sample(int depth) { return samples_[static_cast<std::size_t>(depth)]; }
    void fill(Mode<Real>& mode, Sample& sample);
    void split(Mode<Real>& mode, const Sample& start, const Sample& end, Tick t0, Tick length, int depth);
    void write(Mode<Real>& mode, const Real* y, const Real* z, Tick t);
    void flush();
    void put(Mode<Real>& mode, const Real* y, const Real* z, Tick t);
    void makeView(Mode<Real>& mode);

    const StateLayout<Real>& layout_;
    RowLayout rowLayout_;
    RunSink& sink_;
    const CancelToken& cancel_;  ///< a way may need many points: it is left unfinished when the run is to stop
    Scales<Real>& scales_;
    TraceRanges<Real> ranges_;
    std::vector<Sample> samples_;  ///< by depth of splitting, both ends of the way first
    std::uint32_t filled_ = ~0u;   ///< the view of those that the end of the last way holds
    Vector<Real> unknowns_, slope_;
    std::vector<PointRef> list_;   ///< points of a way, which go to the sink together
    std::vector<double> numbers_;  ///< their rows
    int generation_ = 0;
    std::uint32_t signalSet_ = 0;
    bool wide_;    ///< rows hold the unknowns, not the states
    bool stores_;  ///< else nobody asks for points
    bool full_ = false;
    std::int64_t points_ = 0, bytes_ = 0;
    double seconds_ = 0.0;
};

}  // namespace hedgerow::exact
