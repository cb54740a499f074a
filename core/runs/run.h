#pragma once
// One run from project to traces: what the application and the command line share.

#include <atomic>
#include <filesystem>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "base/cancel.h"
#include "periodic/settle/settle.h"
#include "model/project.h"
#include "network/elaborate.h"
#include "network/engine.h"
#include "network/scene.h"
#include "runs/course.h"
#include "runs/epochs.h"
#include "runs/readings.h"
#include "runs/run_record.h"
#include "runs/settling.h"
#include "traces/trace.h"
#include "traces/trace_store.h"

namespace hedgerow {

/// How much a run may store unless told otherwise: half of what this process may still take, by the machine, by its
/// container (cgroup) and by its own limits (RLIMIT_AS, RLIMIT_DATA).
std::size_t memoryBudget();

/// What to run and how, where it differs from the project.
struct RunSettings {
    std::string scene = {};                                            ///< "" for the first
    std::string plan = {};                                             ///< "" for the first
    std::string end = {};                                              ///< typed, "" for the plan's
    std::string start = {};                                            ///< as in Plan, "" for the plan's
    bool evenOut = false;                                              ///< even when the plan does not say so
    std::vector<std::pair<std::string, std::string>> parameters = {};  ///< project parameters set for this run
    std::size_t memoryLimit = memoryBudget();
    std::string engine = {};  ///< as in Plan, "" for the plan's
    /// Of the engine with a fixed step, "" for the plan's.
    std::string step = {}, method = {};
    bool roundEdges = false;  ///< to the grid, whatever the plan says
    /// The run begins in the periodic state and lasts some periods.
    bool settle = false;
    std::string periods = {}, period = {};  ///< as in Plan, "" for the plan's
    /// As lines (model/span_text.h), instead of the plan's.
    std::vector<std::string> spans = {};
};

/// What a plan says to start in the periodic state.
inline constexpr std::string_view settledStart = "settled";

/// A run with everything that made it. prepare() fills it, execute() solves it; the traces may be read meanwhile.
class Run final : public RunRecord {
public:
    /// Checks, elaborates and sets up; errors name parts, nets and fields.
    static Result<std::shared_ptr<Run>> prepare(std::shared_ptr<const Project> project,
                                                const RunSettings& settings = {});

    /// What it is expected to cost, s of computing: each span of the plan, and all. Call before it is executed.
    void expect(std::vector<double> spans, double all) { expectedSpans_ = std::move(spans), expected_ = all; }
    /// Solves in the calling thread; call once. The summary is complete when it returns.
    void execute() { execute(cancel_); }
    void execute(const CancelToken& cancel);
    /// Solves without storing points: the measures of some quantities are made while it goes on. Lines of others are not
    /// made as fine as the plan asks for. Call instead of execute(); there are no traces afterwards.
    /// @param from, to  the window, ticks  @return the measures, in the order of the names; an error names what is unknown
    Result<std::vector<std::optional<Measures>>> executeMeasured(const std::vector<std::string>& quantities, Tick from,
                                                                 Tick to, const CancelToken& cancel);
    /// Solves once more, into another sink, from the same periodic state where it begins in one.
    RunSummary solve(const SolveOptions& options, RunSink& sink, const CancelToken& cancel) const;
    /// The instants of the events of the scene, s, that come within the run, each with what it does.
    const std::vector<std::pair<double, std::string>>& events() const { return events_; }
    void cancel() const { cancel_.cancel(); }
    const CancelToken& cancelToken() const { return cancel_; }

    const Project& project() const override { return *project_; }
    const std::shared_ptr<const Project>& sharedProject() const { return project_; }
    /// Of the circuit it begins with.
    const Elaboration& elaboration() const { return *runPlan_.first().elaboration; }
    const RowLayout& layout() const { return frame_.layout(); }
    const RunFrame& frame() const { return frame_; }
    const RunPlan& epochs() const { return runPlan_; }
    const TraceStore& store() const { return *store_; }
    std::shared_ptr<const TraceStore> storePointer() const { return store_; }
    Tick end() const override { return end_; }
    /// Whether it begins in the periodic state, which is searched first.
    bool settles() const { return settles_; }
    /// Of the periodic state, s, where it was typed.
    std::optional<double> typedPeriod() const { return period_; }
    /// Where that search stands. Any thread may ask.
    SettleProgress searched() const;
    /// What it found; nothing before, or where it failed.
    const std::optional<Settled>& settled() const { return settled_; }
    Tick reached() const override { return store_->reached(); }
    /// Of the circuit it begins with.
    const RunRequest& request() const { return request_; }
    const Engine& engine() const { return *runPlan_.first().engine; }
    /// That circuit, to be settled.
    SettleCircuit toSettle() const;
    const std::string& plan() const override { return plan_; }
    const std::string& scene() const override { return scene_; }
    const RunSummary& summary() const override { return summary_; }
    const std::vector<QuantityInfo>& quantities() const override { return frame_.quantities(); }
    const std::vector<RatingInfo>& ratings() const override { return frame_.ratings(); }
    std::size_t points() const override { return store_->count(); }
    std::size_t bytes() const override { return store_->bytes(); }
    /// Gate edges and source breaks in the whole run, by counting the first ones; -1 when there are none to count.
    std::int64_t expectedEdges() const;

    std::unique_ptr<Trace> trace(std::string_view quantity, std::size_t most = SIZE_MAX) const override;
    std::vector<std::pair<std::string, std::string>> provenance() const override;
    /// The part of it that is known while the run goes on.
    std::vector<std::pair<std::string, std::string>> origin() const;

private:
    void solveInto(const SolveOptions& options, RunSink& sink, const CancelToken& cancel);
    std::optional<Error> settle(const CancelToken& cancel);
    Status setStart(const Plan& plan, const RunSettings& settings);
    Status setSettling(const PlanTexts& texts, const RunSettings& settings);
    void judgeJumps();
    Run() = default;

    std::shared_ptr<const Project> project_;
    RunPlan runPlan_;
    RunFrame frame_;
    Changes changes_;  ///< of the circuit it begins with
    std::vector<std::pair<double, std::string>> events_;
    RunRequest request_;
    std::string plan_, scene_;
    bool settles_ = false;
    int settledPeriods_ = 0;        ///< 0 for the end of the plan
    std::optional<double> period_;  ///< s, typed
    std::optional<Settled> settled_;
    std::atomic<Tick> end_ = 0;
    mutable std::atomic<int> searchedPeriods_ = 0, searchedIterations_ = 0;
    mutable std::atomic<double> searchedResidual_ = 0;
    void tell(const SettleProgress& progress) const;
    CancelToken cancel_;
    std::shared_ptr<TraceStore> store_;
    RunSummary summary_;
    std::vector<double> expectedSpans_;
    double expected_ = 0;
};

/// Writes the named quantities of a finished run, or expressions of them; all quantities when none are named.
Status exportRun(const RunRecord& run, std::string_view format, const std::filesystem::path& path,
                 const std::vector<std::string>& quantities = {}, const CancelToken& cancel = {},
                 const Extract& extract = {});
/// The files that an export of this name writes: the pair of a text COMTRADE, for instance.
std::vector<std::filesystem::path> filesOfExport(const std::filesystem::path& path);

}  // namespace hedgerow
