#pragma once
// One execution of a run: its epochs, one after the other.

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <vector>

#include "base/cancel.h"
#include "periodic/settle/settle.h"
#include "runs/epochs.h"

namespace hedgerow {

/// What differs from the plan in one execution of it.
struct SolveOptions {
    bool reference = false;           ///< as in RunRequest
    std::vector<Tick> instants = {};  ///< as in RunRequest
    /// Lines of these only are made as fine as the plan asks for; empty for all.
    std::vector<std::string> wanted = {};
};

/// What it needs to know, and whom it tells.
struct CourseSetting {
    const Project& project;
    const RunPlan& plan;
    const RunFrame& frame;
    const SolveOptions& options;
    std::optional<Snapshot> start = {};  ///< where to begin, instead of the start values
    std::optional<double> period = {};   ///< s, typed, of settled spans
    std::function<void(const SettleProgress&)> searching = {};
};

class Course {
public:
    Course(const CourseSetting& setting, RunSink& sink, const CancelToken& cancel);
    /// Goes through the whole plan. A failure is in the summary.
    RunSummary run();
    /// What settled spans found for last; nothing before.
    const std::optional<Settled>& settled() const { return settled_; }

private:
    /// A simulation that is on its way, or may be taken up again.
    struct Active {
        std::size_t way = 0;
        const EpochCircuit* circuit = nullptr;
        std::unique_ptr<FrameSink> sink;
        std::unique_ptr<Simulation> simulation;
        Tick end = 0;  ///< of its request
    };
    bool runSpan(std::size_t index);
    bool runSettle(const ReadySpan& span);
    bool runPiece(std::size_t way, Tick until, std::size_t outcome);
    bool runUntilHolds(const ReadySpan& span, std::size_t outcome);
    bool runUntilSettled(const ReadySpan& span, std::size_t outcome);
    /// Brings the circuit of a way at the present instant to where the run stands.
    bool take(std::size_t way, Tick until, std::size_t outcome);
    bool advance(Tick until);
    void leave();
    void handOver(std::size_t outcome, const Active& to, const std::vector<double>& before, const Network* network);
    bool ended(RunEnd end);
    bool fail(Error error);
    RunRequest requestOf(const EpochCircuit& circuit, Tick end) const;
    std::size_t outcomeOf(std::size_t span);
    void account(std::size_t outcome);
    RunSummary merged() const;
    void retire(const Active& simulation);
    std::string ruledBy(std::map<std::string, std::int64_t> steps) const;

    const CourseSetting& setting_;
    const RunPlan& plan_;
    RunSink& sink_;
    const CancelToken& cancel_;
    std::vector<std::unique_ptr<Active>> simulations_;
    Active* active_ = nullptr;
    std::optional<Snapshot> here_;
    Tick now_ = 0;
    bool gap_ = false;  ///< the stored points end with a gap
    RunEnd end_ = RunEnd::finished;
    std::optional<Error> error_;
    std::optional<Settled> settled_;
    const Network* settledNetwork_ = nullptr;  ///< of the state that a settled span has left
    RunSummary retired_;
    std::map<std::size_t, std::map<std::string, std::int64_t>> steps_;  ///< of these, by way and part
    std::vector<SpanOutcome> outcomes_;
    std::map<std::size_t, std::size_t> outcomeOfSpan_;
    // What was counted when the present piece began.
    struct Counted {
        double seconds = 0;
        std::int64_t points = 0, events = 0;
    } counted_;
    Stopwatch watch_;
    double searching_ = 0;  ///< s, for periodic states
};

}  // namespace hedgerow
