#pragma once
// The switching loop that engines share: gates, timeouts, signals that the circuit drives, checks of the start,
// snapshots and the summary. An engine brings how it moves between events and how it finds a consistent configuration
// after one.
//
// Invariants
//  1. A gate turns, and a timeout acts, at the instant of the loop only, and each once.
//  2. `entered` of an element is the instant at which it came into the segment that it is in.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "network/clock.h"
#include "network/simulation.h"

namespace hedgerow {

class SwitchingLoop : public Simulation {
public:
    SwitchingLoop(std::string engine, const Network& network, const RunRequest& request, RunSink& sink,
                  const CancelToken& cancel);

    Status start() final;
    Status start(const Snapshot& from) final;
    RunEnd advance(Tick until) final;
    Tick now() const override { return t_; }
    std::int64_t events() const override { return events_; }
    Snapshot snapshot() const override { return snapshotIn(segments()); }
    Status goOnIn(const Network& next) final;
    void finish() final;
    RunSummary summary() const final;

protected:
    // What an engine brings.

    /// Finds the first consistent configuration at the present instant, from these states just before it. @return false
    /// after fail()
    virtual bool begin(const std::vector<double>& states, const std::vector<int>& segments) = 0;
    /// Stores the first point. @pre begin() was true and its states are what was given
    virtual void showStart() = 0;
    /// Goes some way towards an instant. It may end earlier, with or without an event.
    virtual void move(Tick until) = 0;
    /// Whether it can move at all without passing it: on a grid, the next instant may come later.
    virtual bool canMove(Tick /*until*/) const { return true; }
    /// Moves exactly to the instant that was asked for last: what is still to come may change from here on.
    virtual void stopHere(Tick /*asked*/) {}
    /// Takes up what it needs of network(), which is another one since the last call.
    virtual void takeNetwork() = 0;
    /// Values of all states at now().
    virtual std::vector<double> states() const = 0;
    virtual const std::vector<int>& segments() const = 0;
    /// An unknown at the instant up to which it has moved, as it was just before what happens there.
    virtual double read(int column) const = 0;
    /// The largest magnitude so far of what a state is, V or A.
    virtual double scaleOf(const StateInfo& state) const = 0;
    /// Of it, what a start value may be off by without being contradicted.
    virtual double startTolerance() const = 0;
    virtual bool full() const = 0;
    /// Gives up what lies between the present place and the next one, before it starts elsewhere.
    virtual void leave() {}
    /// Writes what is held back.
    virtual void flush() {}
    /// States in which nothing changes, of a network in which only a few are left.
    virtual Result<std::vector<double>> operatingPoint(const Network& network) const = 0;
    /// Adds counters and seconds.
    virtual void describe(RunSummary& summary) const = 0;

    // What they share.

    const Network& network() const { return *network_; }
    const RunRequest& request() const { return request_; }
    const CancelToken& cancelToken() const { return cancel_; }
    RunSink& sink() const { return sink_; }
    Clock& clock() { return *clock_; }
    const Clock& clock() const { return *clock_; }
    const Clock::Sense& sense() const { return sense_; }
    void fail(Error error) {
        if (!error_) error_ = std::move(error);
        stopped_ = true;
    }
    bool stopped() const { return stopped_; }
    void stop() { stopped_ = true; }
    const std::optional<Error>& error() const { return error_; }

    /// The next instant at which an element leaves its segment by itself.
    Tick nextTimeout() const;
    /// Brings signals up to date at the present instant, as long as there are any due. @return false after fail()
    bool advanceClock();
    /// An element whose gate turned.
    struct Turned {
        int element = -1;
        bool on = false;
    };
    /// Gates whose signal has changed; each element says what follows for it. @param wanted  in: present segments
    /// @return the first of them
    Turned turnGates(std::vector<int>& wanted);
    /// Whether a signal has changed whose gate has not turned yet.
    bool gatesWait() const;
    /// Elements whose time is up, those apart whose gate has just turned. @return the first of them, or -1
    int takeTimeouts(std::vector<int>& wanted);
    /// Takes note of the segments that elements have come into. @param before  in which they were
    void noteEntered(const std::vector<int>& before, const std::vector<int>& after);
    /// Elements that drive a signal show what they do now; what follows from it comes at the same instant.
    void showLogic();
    void countEvent(std::size_t element, std::int64_t count = 1) { eventsByElement_[element] += count; }
    std::int64_t eventsOf(std::size_t element) const { return eventsByElement_[element]; }
    /// Instants at which a source jumped.
    std::int64_t sourceBreaks() const { return earlierBreaks_ + clock_->sourceBreaks(); }
    bool hasTimeouts() const { return !timed_.empty(); }

    /// Everything of the loop at an instant, to go back there. @pre no block has a memory
    struct Spot {
        Tick t;
        std::vector<char> gateOn;
        std::vector<Tick> entered;
        std::vector<std::int64_t> eventsByElement;
        std::int64_t events, gateEvents, crossings, timeouts;
        Clock clock;
    };
    Spot mark() const;
    void goBack(const Spot& spot);

    Tick t_ = 0;                ///< the instant up to which it has moved
    std::vector<char> gateOn_;  ///< per element
    std::int64_t events_ = 0, gateEvents_ = 0, crossings_ = 0, timeouts_ = 0;
    Stopwatch watch_;

private:
    Status resume(const Snapshot& from);
    Snapshot snapshotIn(const std::vector<int>& segments) const;
    void take(const Network& network);
    Status status() const { return error_ ? Status(*error_) : Status(); }
    std::optional<Error> contradiction(const std::vector<double>& given) const;

    const std::string engine_;
    const Network* network_;
    const RunRequest request_;
    RunSink& sink_;
    const CancelToken cancel_;
    std::unique_ptr<Clock> clock_;
    const Clock::Sense sense_;
    std::vector<std::size_t> logic_;  ///< the elements that drive a signal
    std::vector<std::size_t> timed_;  ///< those that have a segment which ends by itself
    std::vector<Tick> entered_;       ///< per element: when it came into its segment
    std::vector<std::int64_t> eventsByElement_;
    std::int64_t earlierBreaks_ = 0;  ///< of clocks of other networks
    Tick asked_ = 0;                  ///< of advance() for last
    std::optional<Error> error_;
    bool stopped_ = false, begun_ = false;
};

}  // namespace hedgerow
