#pragma once
// Sources along points.

#include <algorithm>
#include <vector>

#include "base/time.h"
#include "model/points.h"
#include "network/network.h"

namespace hedgerow::parts {

/// (value, slope) along the points.
class PointsGenerator final : public SourceGenerator {
public:
    /// @param period  0 for once
    PointsGenerator(std::vector<TablePoint> points, bool straight, double period)
        : points_(std::move(points)), straight_(straight), period_(period > 0 ? toFinePeriod(static_cast<long double>(period)) : FineTime{0}) {
        for (const TablePoint& p : points_) offsets_.push_back(toFine(static_cast<long double>(p.t)));
    }
    int size() const override { return 2; }
    void dynamics(std::span<double> s) const override { s[1] = 1.0; }
    void valueAt(Tick t, std::span<double> w) const override {
        const FineTime start = startOf(t);
        const std::size_t next = firstAfter(t, start);
        w[1] = 0;
        if (next == 0) {
            w[0] = points_.front().value;
            return;
        }
        w[0] = points_[next - 1].value;
        if (!straight_ || next == points_.size()) return;
        const TablePoint &a = points_[next - 1], &b = points_[next];
        w[1] = (b.value - a.value) / (b.t - a.t);
        w[0] += w[1] * toSeconds(t - toTick(start + offsets_[next - 1]));
    }
    Tick nextBreak(Tick t) const override {
        const FineTime start = startOf(t);
        const std::size_t next = firstAfter(t, start);
        if (next < points_.size()) return toTick(start + offsets_[next]);
        return period_ > 0 ? toTick(start + period_ + std::max<FineTime>(offsets_.front(), 0)) : neverTick;
    }

private:
    FineTime startOf(Tick t) const { return period_ > 0 ? toFine(t) / period_ * period_ : FineTime{0}; }
    std::size_t firstAfter(Tick t, FineTime start) const {
        return static_cast<std::size_t>(
            std::partition_point(offsets_.begin(), offsets_.end(), [&](FineTime o) { return toTick(start + o) <= t; }) -
            offsets_.begin());
    }
    std::vector<TablePoint> points_;
    std::vector<FineTime> offsets_;
    bool straight_;
    FineTime period_;
};

}  // namespace hedgerow::parts
