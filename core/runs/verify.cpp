#include "runs/verify.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include <fmt/format.h>

#include "base/largest.h"

namespace hedgerow {

namespace {

/// A quantity that stays below this part of the largest of its unit is rounding noise.
constexpr double quietPart = 1e-6;

/// A stored instant at which parts change: the points just before and after.
struct ConductionChange {
    std::size_t before, after;
};

class Points {
public:
    explicit Points(const TraceStore& store) : chunks_(store.chunks()), views_(store.views()), count_(store.count()) {}
    std::size_t count() const { return count_; }
    Tick time(std::size_t i) const { return chunk(i).times[i % PointChunk::size]; }
    const std::vector<std::uint8_t>& conducting(std::size_t i) const {
        return views_[chunk(i).views[i % PointChunk::size]]->conducting;
    }
    std::vector<ConductionChange> jumps() const {
        std::vector<ConductionChange> found;
        for (std::size_t i = 1; i < count_; ++i)
            if (conducting(i) != conducting(i - 1)) found.push_back({i - 1, i});
        return found;
    }

private:
    const PointChunk& chunk(std::size_t i) const { return *chunks_[i / PointChunk::size]; }
    TraceStore::Chunks chunks_;
    PointStore::Views views_;
    std::size_t count_;
};

}  // namespace

Result<Verification> verify(const Run& run, const CancelToken& cancel) {
    const Points points(run.store());
    SolveOptions request{.reference = true};
    for (std::size_t i = 1; i + 1 < points.count(); ++i)
        if (points.time(i) != points.time(i - 1) && points.time(i) != points.time(i + 1))
            request.instants.push_back(points.time(i));
    std::vector<Tick> middles;  // of the stored lines
    for (std::size_t i = 1; i < points.count(); ++i)
        if (points.time(i) - points.time(i - 1) > 2)
            middles.push_back(points.time(i - 1) + (points.time(i) - points.time(i - 1)) / 2);
    request.instants.insert(request.instants.end(), middles.begin(), middles.end());
    std::sort(request.instants.begin(), request.instants.end());

    Verification result;
    auto store = std::make_shared<TraceStore>(run.frame().signalCount(), std::size_t{8} << 30);
    result.reference = run.solve(request, *store, cancel);
    if (result.reference.end != RunEnd::finished)
        return result.reference.error.value_or(
            Error{ErrorCode::resource, fmt::format("the second run {}", describe(result.reference.end))});

    const Points others(*store);
    const std::vector<ConductionChange> jumps = points.jumps(), otherJumps = others.jumps();
    result.events = static_cast<std::int64_t>(jumps.size());
    result.referenceEvents = static_cast<std::int64_t>(otherJumps.size());
    result.sameEvents = jumps.size() == otherJumps.size();
    for (std::size_t k = 0; k < jumps.size() && result.sameEvents; ++k) {
        result.sameEvents = points.conducting(jumps[k].after) == others.conducting(otherJumps[k].after);
        result.largestShift = std::max(
            result.largestShift, std::abs(toSeconds(points.time(jumps[k].after) - others.time(otherJumps[k].after))));
    }

    std::map<std::string, double> largestOfUnit;
    for (const QuantityInfo& quantity : run.quantities()) {
        if (quantity.sort != QuantityInfo::Sort::linear && quantity.sort != QuantityInfo::Sort::product) continue;
        Trace first(run.storePointer(), quantity, run.layout()), second(store, quantity, run.layout());
        first.update();
        second.update();
        Verification::Difference difference{quantity.name, quantity.unit, 0.0, 0.0};
        double size = 0.0;
        const auto compare = [&](double a, double b) {
            if (std::isnan(a) && std::isnan(b)) return;  // a gap in both
            if (std::isfinite(a)) size = std::max(size, std::abs(a));
            difference.largest = largestOf(difference.largest, std::abs(a - b));
        };
        for (std::size_t i = 1; i + 1 < points.count(); ++i)
            if (points.time(i) != points.time(i - 1) && points.time(i) != points.time(i + 1))
                compare(first.value(i), second.at(points.time(i)).value_or(NAN));
        for (std::size_t k = 0; k < jumps.size() && result.sameEvents; ++k) {
            compare(first.value(jumps[k].before), second.value(otherJumps[k].before));
            compare(first.value(jumps[k].after), second.value(otherJumps[k].after));
        }
        if (points.count() > 0) compare(first.value(points.count() - 1), second.value(second.size() - 1));
        double low = std::numeric_limits<double>::infinity(), high = -low, apart = 0;
        for (std::size_t i = 0; i < points.count(); ++i)
            low = std::min(low, first.value(i)), high = std::max(high, first.value(i));
        for (const Tick t : middles)
            if (const auto a = first.at(t), b = second.at(t); a || b)  // else a gap in both
                apart = largestOf(apart, std::abs(a.value_or(NAN) - b.value_or(NAN)));
        // What hardly moves has no swing to speak of.
        const double swing = std::max(high - low, quietPart * size);
        difference.between = apart == 0 ? 0 : apart / swing;
        difference.relative = size;
        double& known = largestOfUnit[quantity.unit];
        known = std::max(known, size);
        result.differences.push_back(std::move(difference));
    }
    for (Verification::Difference& difference : result.differences) {
        const double size = std::max(difference.relative, quietPart * largestOfUnit[difference.unit]);
        difference.relative = size > 0 ? difference.largest / size : 0.0;
    }
    std::stable_sort(result.differences.begin(), result.differences.end(),
                     [](const auto& a, const auto& b) { return a.relative > b.relative; });
    return result;
}

}  // namespace hedgerow
