#include "engines/exact/recorder.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::exact {

namespace {
constexpr int deepestSplit = 24;
/// The swing of a trace forgets what is further back than about this many points.
constexpr double forgetting = 1.0 / 256;
/// A trace that hardly moves is not resolved finer than this part of the largest of its unit.
constexpr double quietPart = 1e-4;
}  // namespace

Recorder::Recorder(const Network& network, const RunRequest& request, RunSink& sink, Magnitudes& magnitudes,
                   const CancelToken& cancel)
    : network_(network),
      layout_(network),
      tolerance_(request.traceTolerance),
      sink_(sink),
      cancel_(cancel),
      magnitudes_(magnitudes),
      row_(static_cast<std::size_t>(layout_.columns()), 0.0),
      low_(static_cast<std::size_t>(layout_.unknowns)),
      high_(static_cast<std::size_t>(layout_.unknowns)) {}

void Recorder::setSignals(std::span<const double> signals) {
    std::copy(signals.begin(), signals.end(), row_.begin() + layout_.unknowns);
}

void Recorder::instant(const Mode& mode, const Vector& y, Tick t) {
    const Stopwatch watch;
    write(mode, mode.configuration.readout * y, t);
    secondsOfInstants_ += watch.seconds();
}

void Recorder::way(Mode& mode, const Vector& y0, const Vector& y1, Tick t0, Tick length) {
    if (length == 0) return;  // a crossing at the very start: the event writes its own points
    const Stopwatch watch;
    split(mode, Sample(mode, y0), Sample(mode, y1), t0, length, 0);
    secondsOfWays_ += watch.seconds();
}

void Recorder::split(Mode& mode, const Sample& start, const Sample& end, Tick t0, Tick length, int depth) {
    if (full_ || cancel_.cancelled()) return;
    if (depth == deepestSplit || length <= 2 || deviation(start, end, toSeconds(length)) <= 1.0)
        return write(mode, end.z, t0 + length);
    const Tick half = length / 2;
    Vector states = start.y;
    mode.propagator.advance(states, half);
    const Sample middle(mode, std::move(states));
    split(mode, start, middle, t0, half, depth + 1);
    split(mode, middle, end, t0 + half, length - half, depth + 1);
}

/// Largest distance between the cubic through both ends and the chord, in units of what is allowed. The bound is exact
/// for a parabola.
double Recorder::deviation(const Sample& start, const Sample& end, double h) const {
    double worst = 0.0;
    for (int i = 0; i < start.z.size(); ++i) {
        const double rise = end.z(i) - start.z(i);
        const double bend = 0.25 * std::max(std::abs(h * start.rate(i) - rise), std::abs(h * end.rate(i) - rise));
        const auto column = static_cast<std::size_t>(i);
        const double swing =
            first_ ? std::abs(rise)
                   : std::max({high_[column], start.z(i), end.z(i)}) - std::min({low_[column], start.z(i), end.z(i)});
        const double largest = i < network_.nodeCount() ? magnitudes_.voltage() : magnitudes_.current();
        const double allowed = tolerance_ * std::max(swing, quietPart * largest) + 1e-15 * largest + 1e-30;
        worst = std::max(worst, bend / allowed);
    }
    return worst;
}

void Recorder::write(const Mode& mode, const Vector& z, Tick t) {
    for (int i = 0; i < z.size(); ++i) {
        const auto column = static_cast<std::size_t>(i);
        row_[column] = z(i);
        i < network_.nodeCount() ? magnitudes_.seeVoltage(z(i)) : magnitudes_.seeCurrent(z(i));
        if (first_) low_[column] = high_[column] = z(i);
        low_[column] = std::min(z(i), low_[column] + forgetting * (z(i) - low_[column]));
        high_[column] = std::max(z(i), high_[column] + forgetting * (z(i) - high_[column]));
    }
    for (const int element : layout_.switching) {
        const auto e = static_cast<std::size_t>(element);
        row_[static_cast<std::size_t>(layout_.columnOfElement[e])] =
            network_.elements[e]->conducts(mode.segments[e]) ? 1.0 : 0.0;
    }
    first_ = false;
    ++points_;
    if (!sink_.append(t, row_)) full_ = true;
}

}  // namespace hedgerow::exact
