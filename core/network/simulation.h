#pragma once
// Simulations: what runs are made of. One is begun once, advanced as often as wanted, looked at, changed and taken up
// again.

#include <cstdint>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/cancel.h"
#include "base/result.h"
#include "network/network.h"
#include "network/snapshot.h"

namespace hedgerow {

/// How an engine with a fixed step works.
struct FixedStepping {
    double step = 0;          ///< s
    bool trapezoidal = true;  ///< damped: two half steps of backward Euler follow each event; else backward Euler only
    /// Whether what switches within a step does so where it does, on the straight line between the ends of the step;
    /// else it switches at the next instant of the grid.
    bool interpolate = true;
    int heatEvery = 1, controlEvery = 1;  ///< steps, after which temperatures and running signals move on
};

/// The tolerance of a line that nobody asks for.
inline constexpr double notWanted = 1e30;

/// How a run is to be solved.
struct RunRequest {
    Tick end = 0;
    double traceTolerance = 1e-4;  ///< of the stored straight lines, relative to the local swing
    /// Per unknown, where they differ; empty for traceTolerance everywhere. `notWanted` for one whose line nobody asks
    /// for: it is in the points that others need, and asks for none.
    std::vector<double> tolerances = {};
    std::vector<double> startStates = {};          ///< one per state; empty for the given initial values
    std::vector<MemoryRecord> startMemories = {};  ///< lasting ones, per signal block; empty to start without
    /// Whether start values that contradict each other are evened out in no time, or refused.
    bool redistribute = false;
    /// Solves in long double, by finer steps and without shortcuts: to check another run against.
    bool reference = false;
    std::vector<Tick> instants = {};  ///< rising: at each of them a point is stored
    FixedStepping fixed = {};         ///< for an engine with a fixed step
};

/// How the numbers of a stored row make up the unknowns, and which elements conduct meanwhile.
struct RowView {
    int width = 0;                         ///< numbers in a row
    std::vector<double> matrix;            ///< unknowns x (width + 1), row-major, the last column constant; empty when
                                           ///< the row holds the unknowns themselves
    /// One 0/1 per switching element, in the order of RowLayout; 2 for one that there is not.
    std::vector<std::uint8_t> conducting;
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
    /// Whether it wants points at all. Without, engines compute none between events.
    virtual bool wantsPoints() const { return true; }
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

/// What happened to a quantity where one span of a run hands over to the next.
struct Jump {
    std::string quantity = {}, unit = {};
    double before = 0, after = 0;
    bool caution = false;  ///< larger than the plan allows
};

/// How one span of a run went.
struct SpanOutcome {
    std::string text = {};    ///< as typed, in a line
    Tick from = 0, to = 0;    ///< of all its time
    std::string engine = {};
    int times = 1;            ///< it came so often
    double seconds = 0;       ///< of computing
    double priced = 0;        ///< s, expected beforehand; 0 where nobody asked
    std::int64_t points = 0, events = 0;
    std::string ruled = {};   ///< the part whose states ruled most steps, with how many; "" without steps
    std::string ended = {};   ///< what it waited for and got, or did not get; "" where it just ended
    // Where it took over:
    std::vector<Jump> jumps = {};  ///< the largest first
    double energyBefore = 0, energyAfter = 0;  ///< J, in all storages
    double energyGone = 0, energyNew = 0;      ///< J, of storages that are no longer there, and of new ones
    std::vector<std::string> gone = {}, added = {};  ///< these storages
    /// In lines: how it went, what ended it, what was handed over to it.
    std::vector<std::string> words() const;
    bool takesOver() const { return !gone.empty() || !added.empty() || !jumps.empty() || energyBefore != energyAfter; }
};

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
    /// Of an engine with steps: how many were as short as they were because of a state of this part.
    std::map<std::string, std::int64_t> stepsByPart;
    Snapshot snapshot;  ///< at `reached`
    /// Of a run that began in the periodic state: what the search for it found, in words; else empty.
    std::vector<std::pair<std::string, std::string>> settled;
    std::vector<SpanOutcome> spans;  ///< of a run by a plan of several spans
    double priced = 0;               ///< s of computing, expected beforehand; 0 where nobody asked

    std::int64_t counter(std::string_view name) const;
    double second(std::string_view name) const;
    /// Of a run by a fixed step: what a step took to compute, in mean and at most, against its length; "" for others.
    std::string headroom() const;
    /// What brief() begins with, of a run that began in the periodic state.
    static constexpr std::string_view settledMark = "settled, ";
    /// One line: why it ended, how far it came, how long it took.
    std::string brief() const;
    /// Several lines, with all counters and timings.
    std::string full() const;
};

/// One network that one engine moves through time. It refers to the network and the sink, which must stay.
///
/// Invariants
///  1. advance() in two calls is advance() in one: the same states and the same stored points, to the last bit.
///  2. Whatever ends it, the snapshot tells where it stands, and a simulation can start from there.
class Simulation {
public:
    Simulation() = default;
    Simulation(const Simulation&) = delete;
    Simulation& operator=(const Simulation&) = delete;
    virtual ~Simulation() = default;

    /// From the start values of the request, at t = 0.
    virtual Status start() = 0;
    /// From where a simulation stood. What the snapshot lacks starts in equilibrium. It may be called again, after an
    /// error too: the simulation then goes on from another place, with all that was built so far. What it stores must go
    /// on in time.
    virtual Status start(const Snapshot& from) = 0;
    /// Goes on to an instant, which is at most the end of the request, with all that was built so far. What comes at
    /// that instant is still to come. An engine with a fixed step stays at the last instant of its grid before it.
    /// @return finished when it got there. @pre started
    virtual RunEnd advance(Tick until) = 0;
    virtual Tick now() const = 0;
    /// Those so far: gates, crossings, timeouts.
    virtual std::int64_t events() const = 0;
    virtual Snapshot snapshot() const = 0;
    /// From now on with the values of another network, which has the same parts with the same pieces and states. What
    /// the other values do not touch is kept. What comes at this instant acts in the other network; what samples at it
    /// sees this one. @param next  must stay, as the networks before it
    virtual Status goOnIn(const Network& next) = 0;
    /// Comes to stand at the present instant, on no grid but there, and stores what is held back.
    virtual void finish() = 0;
    /// How it went so far. Never fails: an error is in it.
    virtual RunSummary summary() const = 0;
};

}  // namespace hedgerow
