#include "traces/trace.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace hedgerow {

namespace {
constexpr double infinity = std::numeric_limits<double>::infinity();
}

Trace::Trace(std::shared_ptr<const TraceStore> store, const QuantityInfo& quantity, const RowLayout& layout)
    : Trace(std::make_unique<StorePoints>(std::move(store), quantity, layout), quantity.name, quantity.unit,
            mayBeLogic(quantity)) {}

Trace::Trace(std::unique_ptr<PointSource> points, std::string name, std::string unit, bool logic)
    : points_(std::move(points)), name_(std::move(name)), unit_(std::move(unit)), logic_(logic) {}

bool Trace::mayBeLogic(const QuantityInfo& quantity) {
    return quantity.sort == QuantityInfo::Sort::conducting ||
           (quantity.sort == QuantityInfo::Sort::signal && quantity.unit.empty());
}

bool Trace::logic() const {
    for (; logic_ && judged_ < size(); ++judged_) {
        const double now = value(judged_);
        logic_ = now == 0.0 || now == 1.0;
    }
    return logic_;
}

bool Trace::update(std::size_t most) {
    const std::size_t before = size();
    const bool all = points_->update(most);
    if (size() > before && !levels_.empty()) buildPyramid();
    return all;
}

void Trace::buildPyramid() const {
    // A block is complete when the point after its last one is known: the lines need both ends.
    if (levels_.empty()) levels_.emplace_back();
    addLowestBlocks();
    for (std::size_t level = 1; levels_[level - 1].size() >= fan; ++level) {
        if (levels_.size() <= level) levels_.emplace_back();
        const auto& below = levels_[level - 1];
        for (std::size_t j = levels_[level].size(); (j + 1) * fan <= below.size(); ++j) {
            Block sum = below[j * fan];
            for (std::size_t k = 1; k < fan; ++k) {
                const Block& part = below[j * fan + k];
                sum = {std::min(sum.min, part.min), std::max(sum.max, part.max), sum.integral + part.integral,
                       sum.squares + part.squares};
            }
            levels_[level].push_back(sum);
        }
    }
}

std::size_t Trace::firstAtOrAfter(Tick t) const {
    std::size_t low = 0, high = size();
    while (low < high) {
        const std::size_t middle = (low + high) / 2;
        if (time(middle) < t)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

/// Those of the points that are new, read many at a time.
void Trace::addLowestBlocks() const {
    constexpr std::size_t together = 512;  // blocks
    std::vector<Tick> times(together * fan + 1);
    std::vector<double> a(together * fan + 1), b(together * fan + 1, 1.0);
    const bool product = points_->product(), holds = points_->holds();
    const std::size_t complete = size() == 0 ? 0 : (size() - 1) / fan;
    levels_[0].reserve(complete);
    while (levels_[0].size() < complete) {
        const std::size_t first = levels_[0].size() * fan, blocks = std::min(together, complete - levels_[0].size());
        points_->read(first, first + blocks * fan + 1, times.data(), a.data(), b.data());
        for (std::size_t block = 0; block < blocks; ++block) {
            Block sum{infinity, -infinity, 0, 0};
            for (std::size_t i = block * fan; i < (block + 1) * fan; ++i) {
                const double value = a[i] * b[i];
                sum.min = std::min(sum.min, value);
                sum.max = std::max(sum.max, value);
                if (times[i + 1] <= times[i]) continue;
                const double length = toSeconds(times[i + 1] - times[i]);
                const double a1 = holds ? a[i] : a[i + 1], b1 = holds ? b[i] : b[i + 1];
                addWholeLine(length, a[i], a1, b[i], b1, product, sum);
            }
            levels_[0].push_back(sum);
        }
    }
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
    if (after == size() || time(after - 1) == t) return value(after - 1);
    return between(t, after - 1);
}

/// Over the line along which a factor goes from a0 to a1 and the other from b0 to b1: powers of the line in closed
/// form.
void Trace::addWholeLine(double length, double a0, double a1, double b0, double b1, bool product, Block& sum) {
    if (!product) {
        sum.integral += length * (a0 + a1) / 2;
        sum.squares += length * (a0 * a0 + a0 * a1 + a1 * a1) / 3;
        return;
    }
    const double da = a1 - a0, db = b1 - b0;
    const double k0 = a0 * b0, k1 = a0 * db + b0 * da, k2 = da * db;  // of the value, a polynomial of the way along
    sum.integral += length * (k0 + k1 / 2 + k2 / 3);
    sum.squares += length * (k0 * k0 + k0 * k1 + (2 * k0 * k2 + k1 * k1) / 3 + k1 * k2 / 2 + k2 * k2 / 5);
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
    if (span == 1) return addWholeLine(length, a0, a1, b0, b1, points_->product(), sum);
    for (int k = 0; k < 3; ++k) {
        const double part = start + span * nodes[k];
        const double v = (a0 + part * (a1 - a0)) * (b0 + part * (b1 - b0));
        sum.integral += weights[k] * v * length;
        sum.squares += weights[k] * v * v * length;
    }
}

void Trace::addPoints(std::size_t first, std::size_t last, Block& sum) const {
    for (std::size_t i = first; i < last; ++i) {
        const double v = value(i);
        sum.min = std::min(sum.min, v);
        sum.max = std::max(sum.max, v);
        if (i + 1 < size()) addLine(i, time(i), time(i + 1), sum);
    }
}

/// Points [first, last) and the lines that start at them, from as few blocks as possible.
void Trace::collect(std::size_t first, std::size_t last, Block& sum) const {
    while (first < last) {
        std::size_t span = 1, level = 0;
        const Block* block = nullptr;
        for (std::size_t candidate = fan; level < levels_.size(); candidate *= fan, ++level) {
            if (first % candidate != 0 || first + candidate > last || first / candidate >= levels_[level].size()) break;
            block = &levels_[level][first / candidate];
            span = candidate;
        }
        if (block) {
            sum = {std::min(sum.min, block->min), std::max(sum.max, block->max), sum.integral + block->integral,
                   sum.squares + block->squares};
        } else {
            addPoints(first, first + 1, sum);
        }
        first += span;
    }
}

std::pair<double, double> Trace::range(std::size_t first, std::size_t last) const {
    buildPyramid();
    Block sum{infinity, -infinity, 0, 0};
    collect(first, last, sum);
    return {sum.min, sum.max};
}

std::optional<Measures> Trace::measure(Tick from, Tick to) const {
    if (size() == 0) return {};
    from = std::max(from, time(0));
    to = std::min(to, time(size() - 1));
    if (from >= to) return {};
    buildPyramid();
    const std::size_t first = firstAtOrAfter(from);   // first point inside
    const std::size_t last = firstAtOrAfter(to + 1);  // one past the last point inside
    Block sum{infinity, -infinity, 0, 0};
    const auto include = [&](double v) { sum.min = std::min(sum.min, v), sum.max = std::max(sum.max, v); };
    if (first > 0 && time(first) > from) {
        include(between(from, first - 1));
        addLine(first - 1, from, std::min(to, time(first)), sum);
    }
    if (first < last) {
        collect(first, last - 1, sum);
        include(value(last - 1));
        if (last < size() && time(last - 1) < to) {
            addLine(last - 1, time(last - 1), to, sum);
            include(between(to, last - 1));
        }
    } else if (first > 0) {
        include(between(to, first - 1));
    }
    const double length = toSeconds(to - from);
    return Measures{sum.min, sum.max, sum.integral / length, std::sqrt(std::max(0.0, sum.squares / length))};
}

}  // namespace hedgerow
