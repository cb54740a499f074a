#pragma once
// One quantity of a run over time: values, envelopes for drawing, and measures, at a cost that does not grow with the
// length of the run.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "traces/point_source.h"
#include "traces/pyramid.h"
#include "traces/trace_store.h"

namespace hedgerow {

/// What is read off a window of a trace. Mean and RMS are integrals over the stored straight lines, exact for them.
struct Measures {
    double min = 0, max = 0, mean = 0, rms = 0;
    double seconds = 0;  ///< of the window in which it has values
    double peakToPeak() const { return max - min; }
};

/// A quantity over points that may still grow. For one reading thread; update() takes in new points. The pyramid is
/// built when an envelope or a measure is first asked for: reading single values needs none.
class Trace {
public:
    Trace(std::shared_ptr<const TraceStore> store, const QuantityInfo& quantity, const RowLayout& layout);
    Trace(std::unique_ptr<PointSource> points, std::string name, std::string unit, bool logic = false);

    /// Another reader of the points that this one has, for another thread.
    std::shared_ptr<Trace> another() const { return std::make_shared<Trace>(points_->another(), name_, unit_, logic_); }
    /// Conducting states, and signals without a unit: gates, unless their values tell otherwise.
    static bool mayBeLogic(const QuantityInfo& quantity);
    const std::string& name() const { return name_; }
    const std::string& unit() const { return unit_; }
    /// True for gates and conducting states, drawn as steps: quantities that may be logic and have been nothing but 0
    /// and 1 so far. Once false it stays so.
    bool logic() const;

    /// Takes in what was stored since the last call, at most so many points. @return whether that was all
    bool update(std::size_t most = SIZE_MAX);
    std::size_t size() const { return points_->size(); }
    Tick time(std::size_t i) const { return points_->time(i); }
    double value(std::size_t i) const { return first(i) * second(i); }
    /// Whether values hold until the next point instead of running along a line to it.
    bool holds() const { return points_->holds(); }
    /// Whether the points are samples of something smooth, and not the corners of lines.
    bool samples() const { return points_->samples(); }
    /// The factors of a value, each a straight line between points.
    double first(std::size_t i) const { return points_->first(i); }
    double second(std::size_t i) const { return points_->second(i); }
    bool product() const { return points_->product(); }
    /// The first point at or after `t`; size() when none.
    std::size_t firstAtOrAfter(Tick t) const;
    /// The value at an instant; at a jump the one after it. Nothing outside the recorded time, and in its gaps.
    std::optional<double> at(Tick t) const;
    /// Least and greatest value of the points [first, last). @pre first < last <= size()
    std::pair<double, double> range(std::size_t first, std::size_t last) const;
    /// Over [from, to], cut to the recorded time without its gaps; nothing when that is empty.
    std::optional<Measures> measure(Tick from, Tick to) const;
    /// What the points [first, last) and the lines that start at them come to.
    Block sum(std::size_t first, std::size_t last) const;

    // ---- for drawing very many points: only what is at hand is read (Pyramid)

    bool inMemory() const { return points_->inMemory(); }
    bool detailed(std::size_t chunk) const;
    void detail(std::size_t chunk) const { pyramid_.detail(*points_, chunk); }
    std::size_t near(Tick t) const;
    /// Least and greatest value from one instant to before another, or more: of chunks that are not detailed those of
    /// the whole. Nothing where no point is near.
    std::optional<std::pair<double, double>> rangeNear(Tick from, Tick to) const;

private:
    Pyramid& pyramid() const;
    double between(Tick t, std::size_t i) const;
    void addLine(std::size_t i, Tick from, Tick to, Block& sum) const;

    std::unique_ptr<PointSource> points_;
    std::string name_, unit_;
    mutable bool logic_;
    mutable std::size_t judged_ = 0;  ///< points that logic() has looked at
    mutable Pyramid pyramid_;
};

}  // namespace hedgerow
