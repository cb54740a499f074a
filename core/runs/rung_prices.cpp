#include "runs/rung_prices.h"

#include <optional>

#include "runs/price.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

constexpr double trialSeconds = 0.15;

/// Seconds of computing for the whole run; nothing when it does not run.
std::optional<double> secondsOf(const std::shared_ptr<const Project>& project, const RunSettings& settings,
                                const CancelToken& cancel) {
    const auto run = Run::prepare(project, settings);
    if (!run) return {};
    const auto price = priceOf(**run, PriceBook(), trialSeconds, cancel);
    return price ? std::optional(price->seconds) : std::nullopt;
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
