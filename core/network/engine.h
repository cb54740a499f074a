#pragma once
// What every engine offers, and where runs are written to.

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/cancel.h"
#include "base/result.h"
#include "network/network.h"

namespace hedgerow {

/// Where a run stands at an instant: enough for another network of the same shape to go on from there.
struct Standing {
    Tick t = 0;
    std::vector<double> states;                     ///< one per state
    std::vector<int> segments;                      ///< one per element
    std::vector<Tick> entered;                      ///< since when each element is in its segment
    std::vector<double> heldSignals;                ///< their values
    std::vector<MemoryRecord> memories;      ///< one per signal block
    std::vector<MemoryRecord> lasting = {};  ///< that part of them which a run from t = 0 may take up
};

/// How an engine with a fixed step works.
struct FixedStepping {
    double step = 0;          ///< s
    bool trapezoidal = true;  ///< damped: two half steps of backward Euler follow each event; else backward Euler only
    /// Whether what switches within a step does so where it does, on the straight line between the ends of the step;
    /// else it switches at the next instant of the grid.
    bool interpolate = true;
    int heatEvery = 1, controlEvery = 1;  ///< steps, after which temperatures and running signals move on
};

/// How a run is to be solved.
struct RunRequest {
    Tick end = 0;
    std::shared_ptr<const Standing> from = {};  ///< where to go on; null to start at t = 0
    double traceTolerance = 1e-4;               ///< of the stored straight lines, relative to the local swing
    std::vector<double> tolerances = {};        ///< per unknown, where they differ; empty for traceTolerance everywhere
    std::vector<double> startStates = {};       ///< one per state; empty for the given initial values
    std::vector<MemoryRecord> startMemories = {};         ///< lasting ones, per signal block; empty to start without
    /// Whether start values that contradict each other are evened out in no time, or refused.
    bool redistribute = false;
    /// Solves in long double, by finer steps and without shortcuts: to check another run against.
    bool reference = false;
    /// Whether another network goes on from the end: what samples at that instant then sees this one, as it is just
    /// before the other takes over.
    bool goesOn = false;
    std::vector<Tick> instants = {};  ///< rising: at each of them a point is stored
    FixedStepping fixed = {};         ///< for an engine with a fixed step
};

/// How the numbers of a stored row make up the unknowns, and which elements conduct meanwhile.
struct RowView {
    int width = 0;                         ///< numbers in a row
    std::vector<double> matrix;            ///< unknowns x (width + 1), row-major, the last column constant; empty when
                                           ///< the row holds the unknowns themselves
    std::vector<std::uint8_t> conducting;  ///< one 0/1 per switching element, in the order of RowLayout
};

/// A point to store: its row, of its view's width, begins at `offset` in the numbers that come with it.
struct PointRef {
    Tick t;
    std::uint32_t view, signalSet, offset;
};

/// Receives a run. All calls come from the thread of the engine.
///
/// Rows come in order of time; two rows of one instant are the values before and after a jump. Between rows a straight
/// line is the trace.
class RunSink {
public:
    virtual ~RunSink() = default;
    /// Makes a view known; rows refer to it by the number returned.
    virtual std::uint32_t addView(RowView view) = 0;
    /// Makes signalCount signal values known; rows refer to them by the number returned.
    virtual std::uint32_t addSignals(std::span<const double> values) = 0;
    /// Stores points in order of time; `numbers` holds their rows, which points may share. Returns false when there is
    /// no room for more: the engine then stops with RunEnd::memory.
    virtual bool append(std::span<const PointRef> points, std::span<const double> numbers) = 0;
    virtual void progress(Tick t) = 0;
};

enum class RunEnd { finished, stopped, memory, failed };
std::string_view describe(RunEnd end);
/// What a run ends with where an unknown is infinite or no number.
Error notFinite(const Network& network, int unknown, double value, Tick t);
/// How a run has ended: a stop that was asked for is no failure, and one asked for from outside no error.
RunEnd endOf(std::optional<Error>& error, bool stopped, bool full);

/// How a run went.
struct RunSummary {
    RunEnd end = RunEnd::failed;
    std::optional<Error> error;  ///< set when it failed
    Tick reached = 0;            ///< simulated time
    std::string engine;
    /// In the order of the interface: events, gate edges, located crossings, configurations, products, descents,
    /// stored points, ...
    std::vector<std::pair<std::string, std::int64_t>> counters;
    /// Wall-clock seconds by kind of work: configurations, propagation, events, storing; "total"; and, of an engine
    /// with a fixed step, "step of the grid" (simulated) and "longest step" (to compute).
    std::vector<std::pair<std::string, double>> seconds;
    std::map<std::string, std::int64_t> eventsByPart;
    Standing standing;  ///< at `reached`

    std::int64_t counter(std::string_view name) const;
    double second(std::string_view name) const;
    /// Of a run by a fixed step: what a step took to compute, in mean and at most, against its length; "" for others.
    std::string headroom() const;
    /// One line: why it ended, how far it came, how long it took.
    std::string brief() const;
    /// Several lines, with all counters and timings.
    std::string full() const;
};

class Engine {
public:
    virtual ~Engine() = default;
    virtual std::string_view name() const = 0;
    /// What stands in the way of solving this network with this engine, if anything.
    virtual Status accepts(const Network& network) const = 0;
    /// Whether it is also a good choice.
    virtual bool suits(const Network& network) const { return static_cast<bool>(accepts(network)); }
    /// States in which nothing changes while sources and gates stay as they are at t = 0, one per state.
    virtual Result<std::vector<double>> operatingPoint(const Network& network) const = 0;
    /// Solves. Never throws; a failure is in the summary.
    virtual RunSummary run(const Network& network, const RunRequest& request, RunSink& sink,
                           const CancelToken& cancel) const = 0;
};

/// The engines of this build, by name.
using EngineList = std::vector<std::unique_ptr<Engine>>;

/// The order in which the conducting states of elements are stored.
struct RowLayout {
    RowLayout() = default;
    explicit RowLayout(const Network& network);
    int unknowns = 0;
    std::vector<int> switching;       ///< indices of the elements with several segments
    std::vector<int> placeOfElement;  ///< index into `switching`; -1 for the others
};

}  // namespace hedgerow
