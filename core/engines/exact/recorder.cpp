#include "engines/exact/recorder.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::exact {

namespace {
constexpr int deepestSplit = 24;
/// From this depth of splitting on the middle of the chord is looked at as well: in a stiff circuit the slopes at the
/// ends are rounding noise, and only the values tell that the line is straight.
constexpr int noisySplit = 6;
/// Of the swing of a trace per point: it forgets what is further back than a few oscillations, which take the more
/// points the finer the tolerance is.
double forgettingFor(double tolerance) { return std::clamp(std::sqrt(tolerance) / 4, 1e-6, 1.0 / 64); }
/// A trace that hardly moves is not resolved finer than this part of the largest of its unit.
constexpr double quietPart = 1e-4;
}  // namespace

Recorder::Recorder(const Network& network, const RunRequest& request, RunSink& sink, Magnitudes& magnitudes,
                   const CancelToken& cancel)
    : network_(network),
      layout_(network),
      tolerance_(request.traceTolerance),
      forgetting_(forgettingFor(request.traceTolerance)),
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
    if (depth >= noisySplit && bow(start, middle, end) <= 0.25) {
        write(mode, middle.z, t0 + half);
        return write(mode, end.z, t0 + length);
    }
    split(mode, start, middle, t0, half, depth + 1);
    split(mode, middle, end, t0 + half, length - half, depth + 1);
}

/// How far a stored line of an unknown may stray, given the values at its ends.
double Recorder::allowed(int unknown, double a, double b) const {
    const auto column = static_cast<std::size_t>(unknown);
    const double swing = first_ ? std::abs(b - a) : std::max({high_[column], a, b}) - std::min({low_[column], a, b});
    const double largest = unknown < network_.nodeCount() ? magnitudes_.voltage() : magnitudes_.current();
    return tolerance_ * std::max(swing, quietPart * largest) + 1e-15 * largest + 1e-30;
}

/// Largest distance between the cubic through both ends and the chord, in units of what is allowed. The bound is exact
/// for a parabola.
double Recorder::deviation(const Sample& start, const Sample& end, double h) const {
    double worst = 0.0;
    for (int i = 0; i < start.z.size(); ++i) {
        const double rise = end.z(i) - start.z(i);
        const double bend = 0.25 * std::max(std::abs(h * start.rate(i) - rise), std::abs(h * end.rate(i) - rise));
        worst = std::max(worst, bend / allowed(i, start.z(i), end.z(i)));
    }
    return worst;
}

/// Distance of the middle from the chord, in the same units.
double Recorder::bow(const Sample& start, const Sample& middle, const Sample& end) const {
    double worst = 0.0;
    for (int i = 0; i < start.z.size(); ++i) {
        const double off = std::abs(middle.z(i) - 0.5 * (start.z(i) + end.z(i)));
        worst = std::max(worst, off / allowed(i, start.z(i), end.z(i)));
    }
    return worst;
}

void Recorder::write(const Mode& mode, const Vector& z, Tick t) {
    for (int i = 0; i < z.size(); ++i) {
        const auto column = static_cast<std::size_t>(i);
        row_[column] = z(i);
        i < network_.nodeCount() ? magnitudes_.seeVoltage(z(i)) : magnitudes_.seeCurrent(z(i));
        if (first_) low_[column] = high_[column] = z(i);
        low_[column] = std::min(z(i), low_[column] + forgetting_ * (z(i) - low_[column]));
        high_[column] = std::max(z(i), high_[column] + forgetting_ * (z(i) - high_[column]));
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
