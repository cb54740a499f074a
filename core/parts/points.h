#pragma once
// Sources along points.

#include <algorithm>
#include <optional>
#include <vector>

#include "base/time.h"
#include "model/points.h"
#include "network/periodic.h"

namespace hedgerow::parts {

/// (value, slope) along points.
class PointsGenerator final : public SourceGenerator {
public:
    struct Shape {
        std::vector<TablePoint> points;  ///< rising in time; at least one
        bool straight = true;            ///< lines between points; else each value is held until the next
        double period = 0;               ///< s, 0 for once: points from 0 to the period repeat
    };
    explicit PointsGenerator(Shape shape) : points_(std::move(shape.points)), straight_(shape.straight) {
        if (shape.period > 0) {
            periods_ = Periods::of(shape.period, 0);
            cut(shape.period);
        }
        for (const TablePoint& p : points_) {
            FineTime offset = toFine(static_cast<long double>(p.t));
            if (periods_) offset = p.t == shape.period ? periods_->period : std::min(offset, periods_->period);
            offsets_.push_back(offset);
        }
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
        return periods_ ? toTick(start + periods_->period) : neverTick;
    }
    Recurrences recurrences() const override {
        if (points_.size() < 2) return {};
        return {periods_ ? Recurrence::every(periods_->period) : Recurrence::up(toTick(offsets_.back()))};
    }

private:
    /// Leaves what lies in one period: a line that leads out of it ends with it.
    void cut(double period) {
        std::vector<TablePoint> kept;
        for (std::size_t i = 0; i < points_.size(); ++i) {
            const TablePoint& p = points_[i];
            const TablePoint* const before = i > 0 ? &points_[i - 1] : nullptr;
            const auto between = [&](double t) {
                return straight_ ? before->value + (p.value - before->value) * (t - before->t) / (p.t - before->t)
                                 : before->value;
            };
            if (before && before->t < 0 && p.t > 0) kept.push_back({0, between(0)});
            if (before && before->t < period && p.t > period && straight_) kept.push_back({period, between(period)});
            if (p.t >= 0 && p.t <= period) kept.push_back(p);
        }
        if (kept.empty()) kept.push_back({0, points_.back().t < 0 ? points_.back().value : points_.front().value});
        points_ = std::move(kept);
    }
    FineTime startOf(Tick t) const { return periods_ ? periods_->begin(t) : FineTime{0}; }
    std::size_t firstAfter(Tick t, FineTime start) const {
        return static_cast<std::size_t>(
            std::partition_point(offsets_.begin(), offsets_.end(), [&](FineTime o) { return toTick(start + o) <= t; }) -
            offsets_.begin());
    }
    std::vector<TablePoint> points_;
    std::vector<FineTime> offsets_;
    bool straight_;
    std::optional<Periods> periods_;
};

}  // namespace hedgerow::parts
