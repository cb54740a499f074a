#include "runs/rung_prices.h"

#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <mutex>
#include <optional>
#include <thread>

#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr double mostSeconds = 3.0;     ///< that one rung may take
constexpr double enoughSeconds = 0.05;  ///< below it a run is repeated: the machine has other things to do
constexpr int repeats = 3;

/// Stops a run after a time, or when all is to stop.
class Deadline {
public:
    Deadline(const CancelToken& run, const CancelToken& all)
        : thread_([this, &run, &all] {
              std::unique_lock lock(mutex_);
              const auto end = std::chrono::steady_clock::now() + std::chrono::duration<double>(mostSeconds);
              while (!done_ && !all.cancelled() && std::chrono::steady_clock::now() < end)
                  over_.wait_for(lock, std::chrono::milliseconds(20));
              if (!done_) run.cancel();
          }) {}
    ~Deadline() {
        {
            const std::lock_guard lock(mutex_);
            done_ = true;
        }
        over_.notify_all();
        thread_.join();
    }

private:
    std::mutex mutex_;
    std::condition_variable over_;
    bool done_ = false;
    std::thread thread_;
};

/// Seconds of computing for the whole run; nothing when it does not run.
std::optional<double> secondsOf(const std::shared_ptr<const Project>& project, const RunSettings& settings,
                                const CancelToken& cancel) {
    std::optional<double> best;
    for (int k = 0; k < repeats && !cancel.cancelled(); ++k) {
        auto run = Run::prepare(project, settings);
        if (!run) return {};
        {
            const CancelToken token;
            const Deadline deadline(token, cancel);
            (*run)->execute(token);
        }
        const RunSummary& summary = (*run)->summary();
        const double part = toSeconds(summary.reached) / toSeconds((*run)->end());
        if (summary.end == RunEnd::failed || !(part > 0)) return best;
        const double seconds = summary.second("total") / part;
        best = std::min(best.value_or(seconds), seconds);
        if (summary.second("total") > enoughSeconds) break;
    }
    return best;
}

}  // namespace

Result<std::vector<RungPrice>> measurePrices(const Project& project, const RunSettings& settings, int part,
                                             const CancelToken& cancel) {
    const Part* const found = project.findPart(part);
    if (!found) return Error{ErrorCode::range, "the part is no longer there"};
    const PartKind* const kind = partLibrary().catalogue().find(found->kind);
    if (!kind) return Error{ErrorCode::range, "it has no rungs", found->name};
    std::vector<RungPrice> prices;
    double unit = 0;
    for (const RungKind& rung : kind->rungs) {
        auto changed = std::make_shared<Project>(project);
        changed->findPart(part)->rung = rung.rung;
        const auto seconds = secondsOf(changed, settings, cancel);
        if (cancel.cancelled()) return Error{ErrorCode::stop, "stopped", found->name};
        if (!seconds) continue;
        if (unit == 0) unit = *seconds;
        prices.push_back({rung.rung, *seconds / unit});
    }
    if (prices.empty()) return Error{ErrorCode::numeric, "the project runs on none of its rungs", found->name};
    return prices;
}

}  // namespace hedgerow
