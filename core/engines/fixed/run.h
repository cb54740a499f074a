#pragma once
// One run of one network by a fixed step: from one instant of the grid to the next.

#include <optional>

#include "engines/fixed/solvers.h"
#include "engines/implicit/recorder.h"
#include "network/clock.h"

namespace hedgerow::fixed {

using implicit::Instant;
using implicit::Outcome;
using implicit::Values;

class Run {
public:
    Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel);
    RunSummary solve();

private:
    bool start();
    bool startsAsGiven();
    bool currentsHaveWays(Solvers::Solver& solver);
    void follow(const std::vector<int>& before);
    /// To the next instant of the grid.
    void step();
    Tick nextOfGrid() const;
    /// A whole step from where the run stands.
    bool attempt();
    bool attemptAfterEvent(double alpha);
    struct Event {
        Tick at;
        int guard = -1;  ///< that ends there; -1 for an instant that was known
    };
    /// The first instant up to `horizon` at which something switches within the attempt.
    Event firstEvent(Tick horizon) const;
    /// Takes over signals and waits that have come to their instants.
    void takeInstants();
    void enter(std::vector<int> segments);
    std::vector<int> flipped(const Values& z, bool onlyFirst) const;
    /// Unknowns at a part of the attempt: straight lines through its middle, if it has one.
    void within(double part, std::span<double> z) const;
    void moveTo(Tick at);
    void showLogic();
    Tick nextTimeout() const;
    bool failStep(Outcome outcome, Solvers::Solver& solver);

    const Network& network_;
    const RunRequest& request_;
    const FixedStepping& stepping_;
    const Tick length_;  ///< of a step, rounded
    const CancelToken& cancel_;
    RunSink& sink_;
    implicit::Scales scales_;
    Solvers solvers_;
    implicit::Recorder recorder_;
    Clock clock_;
    double zero_;  ///< of its scale, what of a guard counts as none
    std::vector<int> segments_;
    std::vector<std::pair<std::size_t, Guard>> guards_;  ///< with their elements
    std::vector<char> gateOn_;
    std::vector<Tick> entered_;
    std::int64_t signalVersion_ = -1;
    Instant now_, middle_, end_;
    bool fresh_ = true, hasMiddle_ = false;  ///< fresh: the equations have changed since the last step
    bool changed_ = false;                   ///< what the circuit showed before the first step
    Tick t_ = 0, origin_ = 0;
    std::int64_t k_ = 0;  ///< steps of the grid
    std::size_t instant_ = 0;
    Values base_, slopes_, between_;
    std::int64_t events_ = 0, gateEvents_ = 0, located_ = 0, unsettled_ = 0;
    std::vector<std::int64_t> eventsByElement_;
    double secondsStoring_ = 0, longestStep_ = 0;
    std::optional<Error> error_;
    bool stopped_ = false;
    Stopwatch watch_;
};

}  // namespace hedgerow::fixed
