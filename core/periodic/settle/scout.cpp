#include "periodic/settle/scout.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>

namespace hedgerow::settle {

namespace {

/// FNV-1a.
void mix(std::uint64_t& hash, bool bit) { hash = (hash ^ (bit ? 2U : 1U)) * 0x100000001b3u; }

}  // namespace

std::uint32_t Scout::addView(RowView view) {
    std::uint64_t hash = 0xcbf29ce484222325u;
    for (const std::uint8_t one : view.conducting) mix(hash, one != 0);
    views_.push_back(hash);
    return static_cast<std::uint32_t>(views_.size() - 1);
}

std::uint32_t Scout::addSignals(std::span<const double> values) {
    std::uint64_t hash = 0x84222325cbf29ce4u;
    for (const double one : values) mix(hash, one == 1.0);
    signals_.push_back(hash);
    return static_cast<std::uint32_t>(signals_.size() - 1);
}

bool Scout::append(std::span<const PointRef> points, std::span<const double>) {
    for (const PointRef& point : points) {
        const bool first = last_.t < 0;
        if (first || point.t == last_.t || point.view != last_.view || point.signalSet != last_.signalSet) {
            std::uint64_t key = point.view < views_.size() ? views_[point.view] : 0;
            if (point.signalSet < signals_.size()) key ^= signals_[point.signalSet] << 1;
            if (!events_.empty() && events_.back().t == point.t)
                events_.back().after = key;  // what it is after the last event of the instant
            else
                events_.push_back({point.t, key});
        }
        last_ = point;
    }
    return true;
}

Tick repetitionOf(const std::vector<Scout::Event>& events, double tolerance) {
    constexpr std::size_t repetitions = 3, mostEvents = 2000;  // in one of them: it must not take long to look
    const std::size_t n = events.size();
    for (std::size_t m = 1; m <= mostEvents && (repetitions + 1) * m < n; ++m) {
        bool same = true;
        for (std::size_t j = 0; same && j < repetitions * m; ++j)
            same = events[n - 1 - j].after == events[n - 1 - j - m].after;
        if (!same) continue;
        const Tick period = events[n - 1].t - events[n - 1 - m].t;
        for (std::size_t k = 1; same && k < repetitions; ++k) {
            const Tick other = events[n - 1 - k * m].t - events[n - 1 - (k + 1) * m].t;
            same = static_cast<double>(std::abs(other - period)) <= tolerance * static_cast<double>(period);
        }
        if (same && period > 0) return period;
    }
    return 0;
}

}  // namespace hedgerow::settle
