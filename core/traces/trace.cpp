#include "traces/trace.h"

#include <algorithm>
#include <cmath>

namespace hedgerow {

Trace::Trace(std::shared_ptr<const TraceStore> store, const QuantityInfo& quantity, const RowLayout& layout)
    : Trace(std::make_unique<StorePoints>(std::move(store), quantity, layout), quantity.name, quantity.unit,
            mayBeLogic(quantity)) {}

Trace::Trace(std::unique_ptr<PointSource> points, std::string name, std::string unit, bool logic)
    : points_(std::move(points)), name_(std::move(name)), unit_(std::move(unit)), logic_(logic) {
    if (const auto digest = points_->digest()) {
        logic_ = digest->logic;
        judged_ = SIZE_MAX;
    }
}

bool Trace::mayBeLogic(const QuantityInfo& quantity) {
    return quantity.sort == QuantityInfo::Sort::conducting ||
           (quantity.sort == QuantityInfo::Sort::signal && quantity.unit.empty());
}

bool Trace::logic() const {
    for (; logic_ && judged_ < size(); ++judged_) {
        const double now = value(judged_);
        logic_ = now == 0.0 || now == 1.0 || std::isnan(now);  // where it has no value it is neither
    }
    return logic_;
}

bool Trace::update(std::size_t most) {
    const bool all = points_->update(most);
    if (!pyramid_.empty()) pyramid_.extend(*points_);
    return all;
}

Pyramid& Trace::pyramid() const {
    if (pyramid_.empty()) pyramid_.extend(*points_);
    return pyramid_;
}

std::size_t Trace::firstAtOrAfter(Tick t) const {
    const std::size_t chunk = PointSource::chunk;
    const std::size_t next = firstChunkFrom(*points_, (size() + chunk - 1) / chunk, t);
    if (next == 0) return 0;
    std::size_t low = (next - 1) * chunk + 1, high = std::min(size(), next * chunk);
    while (low < high) {
        const std::size_t middle = (low + high) / 2;
        if (time(middle) < t)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

/// On the line from point i to point i + 1.
double Trace::between(Tick t, std::size_t i) const {
    const Tick t0 = time(i), t1 = time(i + 1);
    if (t1 == t0 || t <= t0) return value(i);
    const double part = static_cast<double>(t - t0) / static_cast<double>(t1 - t0);
    if (points_->holds()) return value(i);
    return ((1 - part) * first(i) + part * first(i + 1)) * ((1 - part) * second(i) + part * second(i + 1));
}

std::optional<double> Trace::at(Tick t) const {
    if (size() == 0 || t < time(0) || t > time(size() - 1)) return {};
    const std::size_t after = firstAtOrAfter(t + 1);
    if (after == 0) return value(0);
    const double value = after == size() || time(after - 1) == t ? this->value(after - 1) : between(t, after - 1);
    return std::isnan(value) ? std::optional<double>() : value;
}

/// Integrals over part of the line from point i, by three-point Gauss quadrature: exact for products of two lines and
/// their squares (degree 4 of the 5 it integrates).
void Trace::addLine(std::size_t i, Tick from, Tick to, Block& sum) const {
    const Tick t0 = time(i), t1 = time(i + 1);
    if (to <= from || t1 <= t0) return;
    static constexpr double nodes[3] = {0.1127016653792583, 0.5, 0.8872983346207417};
    static constexpr double weights[3] = {5.0 / 18, 8.0 / 18, 5.0 / 18};
    const double length = toSeconds(to - from), whole = static_cast<double>(t1 - t0);
    const double start = static_cast<double>(from - t0) / whole, span = static_cast<double>(to - from) / whole;
    const double a0 = first(i), a1 = points_->holds() ? a0 : first(i + 1);
    const double b0 = second(i), b1 = points_->holds() ? b0 : second(i + 1);
    if (span == 1) return sum.addLine(length, a0, a1, b0, b1, points_->product());
    if (std::isnan((a0 + a1) + (b0 + b1))) return;
    sum.seconds += length;
    for (int k = 0; k < 3; ++k) {
        const double part = start + span * nodes[k];
        const double v = (a0 + part * (a1 - a0)) * (b0 + part * (b1 - b0));
        sum.integral += weights[k] * v * length;
        sum.squares += weights[k] * v * v * length;
    }
}

Block Trace::sum(std::size_t first, std::size_t last) const {
    Block sum;
    pyramid().add(*points_, first, last, sum);
    return sum;
}

std::pair<double, double> Trace::range(std::size_t first, std::size_t last) const {
    const Block all = sum(first, last);
    return {all.min, all.max};
}

bool Trace::detailed(std::size_t chunk) const { return pyramid().detailed(chunk); }

std::size_t Trace::near(Tick t) const { return pyramid().near(*points_, t); }

std::optional<std::pair<double, double>> Trace::rangeNear(Tick from, Tick to) const {
    constexpr std::size_t chunk = PointSource::chunk;
    const std::size_t first = near(from), last = near(to);
    Block sum;
    if (last > first) pyramid_.addNear(*points_, first, last, sum);
    // What begins inside of a chunk of which only the whole is known has the whole in it.
    if (first > 0 && !detailed((first - 1) / chunk))
        pyramid_.addNear(*points_, (first - 1) / chunk * chunk, first, sum);
    if (sum.min > sum.max) return {};
    return std::pair(sum.min, sum.max);
}

std::optional<Measures> Trace::measure(Tick from, Tick to) const {
    if (size() == 0) return {};
    from = std::max(from, time(0));
    to = std::min(to, time(size() - 1));
    if (from >= to) return {};
    const std::size_t first = firstAtOrAfter(from);   // first point inside
    const std::size_t last = firstAtOrAfter(to + 1);  // one past the last point inside
    Block sum;
    const auto include = [&](double v) { sum.include(v); };
    if (first > 0 && time(first) > from) {
        include(between(from, first - 1));
        addLine(first - 1, from, std::min(to, time(first)), sum);
    }
    if (first < last) {
        pyramid().add(*points_, first, last - 1, sum);
        include(value(last - 1));
        if (last < size() && time(last - 1) < to) {
            addLine(last - 1, time(last - 1), to, sum);
            include(between(to, last - 1));
        }
    } else if (first > 0) {
        include(between(to, first - 1));
    }
    if (!(sum.seconds > 0)) return {};
    return Measures{.min = sum.min,
                    .max = sum.max,
                    .mean = sum.integral / sum.seconds,
                    .rms = std::sqrt(std::max(0.0, sum.squares / sum.seconds)),
                    .seconds = sum.seconds};
}

}  // namespace hedgerow
