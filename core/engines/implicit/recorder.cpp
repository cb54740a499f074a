#include "engines/implicit/recorder.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::implicit {

namespace {
constexpr int mostPieces = 64;  ///< of one step
constexpr std::size_t mostHeld = 24;
constexpr double quiet = 1e-4;  ///< of the largest voltage or current: what counts as a swing at least
/// Turns of a trace in one stretch of its memory, which reaches back to the beginning of the stretch before: a few
/// oscillations of what is fastest in it, however many points they take.
constexpr int turnsRemembered = 8;
}  // namespace

Recorder::Recorder(const Network& network, const RunRequest& request, RunSink& sink)
    : network_(network),
      request_(request),
      sink_(sink),
      layout_(network),
      low_(static_cast<std::size_t>(network.unknownCount()), 0.0),
      high_(low_),
      between_(low_),
      sizes_(low_),
      courses_(low_.size()) {}

void Recorder::setSignals(std::span<const double> signals) { signals_ = sink_.addSignals(signals); }

void Recorder::setSegments(const std::vector<int>& segments) {
    if (const auto known = views_.find(segments); known != views_.end()) {
        view_ = known->second;
        return;
    }
    RowView view{layout_.unknowns, {}, {}};
    for (const int element : layout_.switching) {
        const auto i = static_cast<std::size_t>(element);
        view.conducting.push_back(network_.elements[i]->conducts(segments[i]) ? 1 : 0);
    }
    view_ = sink_.addView(std::move(view));
    views_.emplace(segments, view_);
}

/// @return whether these are numbers that can be stored
bool Recorder::see(Tick t, std::span<const double> z) {
    if (fault_) return false;
    for (std::size_t i = 0; i < z.size(); ++i) {
        if (!std::isfinite(z[i])) {
            fault_ = notFinite(network_, static_cast<int>(i), z[i], t);
            return false;
        }
        sizes_[i] = std::max(sizes_[i], std::abs(z[i]));
        remember(i, z[i]);
        double& all = largest_[static_cast<std::size_t>(network_.sortOf(static_cast<int>(i)))];
        all = std::max(all, std::abs(z[i]));
    }
    first_ = false;
    return true;
}

/// Widens the swing of an unknown, and forgets what lies two stretches back.
void Recorder::remember(std::size_t i, double z) {
    Course& c = courses_[i];
    if (first_) low_[i] = high_[i] = c.low = c.high = c.peak = z;
    c.low = std::min(c.low, z);
    c.high = std::max(c.high, z);
    low_[i] = std::min(low_[i], z);
    high_[i] = std::max(high_[i], z);
    const double back = c.rises ? c.peak - z : z - c.peak;
    if (back < 0) c.peak = z;
    if (back <= quiet * sizeOf(i)) return;  // less than what counts as a swing at all is no turn
    c.peak = z;
    c.rises = !c.rises;
    if (++c.turns < turnsRemembered) return;
    low_[i] = c.low, high_[i] = c.high;
    c.low = c.high = z;
    c.turns = 0;
}

/// The largest of its kind; a signal is a kind of its own.
double Recorder::sizeOf(std::size_t i) const {
    const UnknownSort sort = network_.sortOf(static_cast<int>(i));
    return sort == UnknownSort::signal ? sizes_[i] : largest_[static_cast<std::size_t>(sort)];
}

double Recorder::toleranceOf(std::size_t i) const {
    return request_.tolerances.empty() ? request_.traceTolerance : request_.tolerances[i];
}

double Recorder::allowed(std::size_t i) const {
    return toleranceOf(i) * std::max(high_[i] - low_[i], quiet * sizeOf(i)) + 1e-15;
}

void Recorder::allowances(std::span<double> all) const {
    for (std::size_t i = 0; i < all.size(); ++i) all[i] = allowed(i);
}

void Recorder::write(Tick t, std::span<const double> z) {
    if (!sink_.wantsPoints()) return;
    const PointRef point{t, view_, signals_, 0};
    full_ = full_ || !sink_.append(std::span(&point, 1), z);
    written_.t = t;
    written_.z.assign(z.begin(), z.end());
    ++points_;
}

bool Recorder::straightTo(Tick t, std::span<const double> z) const {
    const double length = static_cast<double>(t - written_.t);
    for (const Point& point : held_) {
        const double part = static_cast<double>(point.t - written_.t) / length;
        for (std::size_t i = 0; i < z.size(); ++i)
            if (std::abs(written_.z[i] + part * (z[i] - written_.z[i]) - point.z[i]) > 0.5 * allowed(i)) return false;
    }
    return true;
}

void Recorder::add(Tick t, std::span<const double> z) {
    if (!held_.empty() && (held_.size() >= mostHeld || !straightTo(t, z))) {
        write(held_.back().t, held_.back().z);
        held_.clear();
    }
    held_.push_back({t, Values(z.begin(), z.end())});
}

void Recorder::flush() {
    if (held_.empty()) return;
    write(held_.back().t, held_.back().z);
    held_.clear();
}

void Recorder::event(Tick t, std::span<const double> z) {
    if (!see(t, z)) return;
    if (!held_.empty() && held_.back().t == t) held_.pop_back();
    flush();
    write(t, z);
}

void Recorder::line(Tick t, std::span<const double> z) {
    if (see(t, z) && sink_.wantsPoints()) add(t, z);
}

void Recorder::way(const Within& within, Tick t, Tick length, std::span<const double> end) {
    if (!see(t + length, end) || !sink_.wantsPoints()) return;
    // The bow of the polynomial over the straight line tells how many pieces keep within the tolerance.
    const Values& start = held_.empty() ? written_.z : held_.back().z;
    double bow = 0;
    for (const double part : {0.25, 0.5, 0.75}) {
        within(part, between_);
        for (std::size_t i = 0; i < between_.size(); ++i) {
            const double line = start[i] + part * (end[i] - start[i]);
            bow = std::max(bow, std::abs(between_[i] - line) / (0.5 * allowed(i)));
        }
    }
    const int pieces = std::clamp(static_cast<int>(std::ceil(std::sqrt(bow))), 1, mostPieces);
    Tick last = t;
    for (int k = 1; k < pieces; ++k) {
        const double part = static_cast<double>(k) / pieces;
        const Tick at = t + static_cast<Tick>(part * static_cast<double>(length));
        if (at <= last || at >= t + length) continue;
        within(part, between_);
        add(at, between_);
        last = at;
    }
    add(t + length, end);
}

}  // namespace hedgerow::implicit
