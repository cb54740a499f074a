#pragma once
// One run of one network by a fixed step: from one instant of the grid to the next.

#include <optional>

#include "engines/fixed/solvers.h"
#include "engines/implicit/recorder.h"
#include "network/switching_loop.h"

namespace hedgerow::fixed {

using implicit::Instant;
using implicit::Outcome;
using implicit::Values;

/// Moves by whole steps of the grid. Where other values come between two of its instants, the step ends there and the grid
/// begins anew.
class Run final : public SwitchingLoop {
public:
    Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel);

private:
    /// What is made for the equations of a network.
    struct Machinery {
        Machinery(const Network& network, const RunRequest& request, RunSink& sink);
        implicit::Scales scales;
        Solvers solvers;
        implicit::Recorder recorder;
    };

    // What the loop asks for.
    bool begin(const std::vector<double>& states, const std::vector<int>& segments) override;
    void showStart() override;
    void move(Tick until) override;
    bool canMove(Tick until) const override { return until >= request().end || nextOfGrid() <= until; }
    void stopHere(Tick asked) override;
    void takeNetwork() override;
    std::vector<double> states() const override { return showsFirst_ ? middle_.x : now_.x; }
    const std::vector<int>& segments() const override { return segments_; }
    double read(int column) const override { return now_.z[static_cast<std::size_t>(column)]; }
    double scaleOf(const StateInfo& state) const override;
    double startTolerance() const override { return 1e-3; }  // what parasitics take is no contradiction
    bool full() const override { return recorder().full(); }
    void flush() override;
    Result<std::vector<double>> operatingPoint(const Network& of) const override;
    void describe(RunSummary& summary) const override;

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
    bool failStep(Outcome outcome, Solvers::Solver& solver);

    implicit::Scales& scales() const { return machinery_->scales; }
    Solvers& solvers() const { return machinery_->solvers; }
    implicit::Recorder& recorder() const { return machinery_->recorder; }

    const FixedStepping stepping_;
    const Tick length_;  ///< of a step, rounded
    std::unique_ptr<Machinery> machinery_;
    double zero_ = 0;  ///< of its scale, what of a guard counts as none
    std::vector<int> segments_;
    std::vector<std::pair<std::size_t, Guard>> guards_;  ///< with their elements
    std::int64_t signalVersion_ = -1;
    Instant now_, middle_, end_;
    bool fresh_ = true, hasMiddle_ = false;  ///< fresh: the equations have changed since the last step
    bool changed_ = false;                   ///< what the circuit showed before the first step
    bool showsFirst_ = false;                ///< middle_ ends the first moment of the run
    Tick origin_ = 0;                        ///< of the grid
    std::int64_t k_ = 0;                     ///< steps of the grid since then
    Tick cut_ = neverTick;                   ///< where a step ends in any case
    std::size_t instant_ = 0;
    Values base_, slopes_, between_;
    std::int64_t steps_ = 0, located_ = 0, unsettled_ = 0;
    struct Counts {
        std::int64_t configurations = 0, iterations = 0, factorisations = 0, points = 0;
    };
    Counts counts() const;
    Counts earlier_;  ///< of machineries of other networks
    double secondsStoring_ = 0, longestStep_ = 0;
};

}  // namespace hedgerow::fixed
