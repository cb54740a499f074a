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
double forgettingFor(double tolerance) { return std::clamp(std::sqrt(tolerance) / 16, 1e-6, 1.0 / 1024); }
/// However many points a value stands for, a few periods of them are remembered.
constexpr double mostForgotten = 1.0 / 64;
/// A trace that hardly moves is not resolved finer than this part of the largest of its unit.
constexpr double quietPart = 1e-4;
/// Rows hold states, which are few, unless the matrices that make unknowns of them would be larger than this.
constexpr int largestView = 8192;
}  // namespace

template <class Real>
Recorder<Real>::Sample::Sample(const Mode<Real>& mode, Vector<Real> states)
    : y(std::move(states)), z(mode.configuration().readout.rows()), rate(z.size()) {
    const Configuration<Real>& c = mode.configuration();
    Vector<Real> slope(y.size());
    multiply(c.readout, y.data(), z.data());
    multiply(c.generator, y.data(), slope.data());
    multiply(c.readout, slope.data(), rate.data());
}

template <class Real>
Recorder<Real>::Recorder(const Frame<Real>& frame, const RunRequest& request, RunSink& sink,
                         Magnitudes<Real>& magnitudes, const CancelToken& cancel)
    : frame_(frame),
      layout_(frame.network),
      sink_(sink),
      cancel_(cancel),
      magnitudes_(magnitudes),
      low_(static_cast<std::size_t>(frame.unknowns)),
      high_(static_cast<std::size_t>(frame.unknowns)),
      swing_(static_cast<std::size_t>(frame.unknowns), Real(0)),
      unknowns_(frame.unknowns),
      wide_(frame.unknowns * frame.size() > largestView) {
    row_.resize(static_cast<std::size_t>(wide_ ? frame.unknowns : frame.size() - 1));
    for (int i = 0; i < frame.unknowns; ++i) {
        const double tolerance =
            request.tolerances.empty() ? request.traceTolerance : request.tolerances[static_cast<std::size_t>(i)];
        tolerance_.push_back(tolerance);
        forgetting_.push_back(forgettingFor(tolerance));
        potential_.push_back(frame.network.isPotential(i));
    }
}

template <class Real>
void Recorder<Real>::instant(Mode<Real>& mode, const Vector<Real>& y, Tick t) {
    const Stopwatch watch;
    multiply(mode.configuration().readout, y.data(), unknowns_.data());
    write(mode, y.data(), unknowns_.data(), t);
    seconds_ += watch.seconds();
}

template <class Real>
void Recorder<Real>::way(Mode<Real>& mode, const Vector<Real>& y0, const Vector<Real>& y1, Tick t0, Tick length) {
    if (length == 0) return;  // a crossing at the very start: the event writes its own points
    const Stopwatch watch;
    split(mode, Sample(mode, y0), Sample(mode, y1), t0, length, 0);
    seconds_ += watch.seconds();
}

template <class Real>
void Recorder<Real>::split(Mode<Real>& mode, const Sample& start, const Sample& end, Tick t0, Tick length, int depth) {
    if (full_ || cancel_.cancelled()) return;
    if (depth == deepestSplit || length <= 2 || deviation(start, end, secondsOf<Real>(length)) <= 1)
        return write(mode, end.y.data(), end.z.data(), t0 + length);
    const Tick half = length / 2;
    Vector<Real> states = start.y;
    mode.propagator().advance(states, half);
    const Sample middle(mode, std::move(states));
    if (depth >= noisySplit && bow(start, middle, end) <= Real(0.25)) {
        write(mode, middle.y.data(), middle.z.data(), t0 + half);
        return write(mode, end.y.data(), end.z.data(), t0 + length);
    }
    split(mode, start, middle, t0, half, depth + 1);
    split(mode, middle, end, t0 + half, length - half, depth + 1);
}

/// How far a stored line of an unknown may stray, given the values at its ends.
template <class Real>
Real Recorder<Real>::allowed(int unknown, Real a, Real b) const {
    const auto column = static_cast<std::size_t>(unknown);
    const Real swing = first_ ? std::abs(b - a) : std::max({high_[column], a, b}) - std::min({low_[column], a, b});
    const Real largest = potential_[column] ? magnitudes_.voltage() : magnitudes_.current();
    return tolerance_[column] * std::max(swing, Real(quietPart) * largest) + Real(1e-15) * largest + Real(1e-30);
}

template <class Real>
void Recorder<Real>::allowances(const Mode<Real>& mode, const Real* a, const Real* b, Vector<Real>& result) {
    const Matrix<Real>& readout = mode.configuration().readout;
    Vector<Real> za(readout.rows()), zb(readout.rows());
    multiply(readout, a, za.data());
    multiply(readout, b, zb.data());
    result.resize(readout.rows());
    for (int i = 0; i < result.size(); ++i) result(i) = allowed(i, za(i), zb(i));
}

/// Largest distance between the cubic through both ends and the chord, in units of what is allowed. The bound is exact
/// for a parabola.
template <class Real>
Real Recorder<Real>::deviation(const Sample& start, const Sample& end, Real h) const {
    Real worst = 0;
    for (int i = 0; i < start.z.size(); ++i) {
        const Real rise = end.z(i) - start.z(i);
        const Real bend = Real(0.25) * std::max(std::abs(h * start.rate(i) - rise), std::abs(h * end.rate(i) - rise));
        worst = std::max(worst, bend / allowed(i, start.z(i), end.z(i)));
    }
    return worst;
}

/// Distance of the middle from the chord, in the same units.
template <class Real>
Real Recorder<Real>::bow(const Sample& start, const Sample& middle, const Sample& end) const {
    Real worst = 0;
    for (int i = 0; i < start.z.size(); ++i) {
        const Real off = std::abs(middle.z(i) - Real(0.5) * (start.z(i) + end.z(i)));
        worst = std::max(worst, off / allowed(i, start.z(i), end.z(i)));
    }
    return worst;
}

template <class Real>
void Recorder<Real>::seeUnknowns(const Real* z, Real points) {
    for (int i = 0; i < frame_.unknowns; ++i) {
        const auto column = static_cast<std::size_t>(i);
        potential_[column] ? magnitudes_.seeVoltage(z[i]) : magnitudes_.seeCurrent(z[i]);
        if (first_) low_[column] = high_[column] = z[i];
        const Real forget = std::min(Real(mostForgotten), points * forgetting_[column]);
        low_[column] = std::min(z[i], low_[column] + forget * (z[i] - low_[column]));
        high_[column] = std::max(z[i], high_[column] + forget * (z[i] - high_[column]));
    }
    first_ = false;
}

template <class Real>
void Recorder<Real>::see(const Mode<Real>& mode, const Real* y, int weight) {
    multiply(mode.configuration().readout, y, unknowns_.data());
    seeUnknowns(unknowns_.data(), static_cast<Real>(weight));
    bool changed = false;
    for (std::size_t i = 0; i < swing_.size() && !changed; ++i) {
        const Real quiet = Real(quietPart) * (potential_[i] ? magnitudes_.voltage() : magnitudes_.current());
        const Real now = std::max(high_[i] - low_[i], quiet), then = std::max(swing_[i], quiet);
        changed = now < Real(0.5) * then || now > Real(3) * then;
    }
    if (!changed) return;
    ++generation_;
    for (std::size_t i = 0; i < swing_.size(); ++i) swing_[i] = high_[i] - low_[i];
}

template <class Real>
void Recorder<Real>::makeView(Mode<Real>& mode) {
    RowView view;
    const Matrix<Real>& readout = mode.configuration().readout;
    if (wide_) {
        view.width = frame_.unknowns;
    } else {
        // The constant source comes first behind the states: it becomes the last column.
        view.width = frame_.size() - 1;
        view.matrix.reserve(static_cast<std::size_t>(readout.size()));
        for (int i = 0; i < frame_.unknowns; ++i) {
            for (int j = 0; j < frame_.size(); ++j)
                if (j != frame_.states) view.matrix.push_back(static_cast<double>(readout(i, j)));
            view.matrix.push_back(static_cast<double>(readout(i, frame_.states)));
        }
    }
    for (const int element : layout_.switching) {
        const auto e = static_cast<std::size_t>(element);
        view.conducting.push_back(frame_.network.elements[e]->conducts(mode.segments[e]));
    }
    mode.view = static_cast<int>(sink_.addView(std::move(view)));
}

template <class Real>
void Recorder<Real>::point(Mode<Real>& mode, const Real* y, Tick t) {
    if (wide_) {
        multiply(mode.configuration().readout, y, unknowns_.data());
        for (int i = 0; i < frame_.unknowns; ++i) row_[static_cast<std::size_t>(i)] = static_cast<double>(unknowns_(i));
    } else {
        double* place = row_.data();
        for (int j = 0; j < frame_.states; ++j) *place++ = static_cast<double>(y[j]);
        for (int j = frame_.states + 1; j < frame_.size(); ++j) *place++ = static_cast<double>(y[j]);
    }
    const PointRef reference{t, viewOf(mode), signalSet_, 0};
    points({&reference, 1}, row_);
}

template <class Real>
void Recorder<Real>::points(std::span<const PointRef> list, std::span<const double> numbers) {
    points_ += static_cast<std::int64_t>(list.size());
    bytes_ += static_cast<std::int64_t>(numbers.size_bytes() + list.size_bytes());
    if (!sink_.append(list, numbers)) full_ = true;
}

template <class Real>
void Recorder<Real>::write(Mode<Real>& mode, const Real* y, const Real* z, Tick t) {
    seeUnknowns(z, 1);
    point(mode, y, t);
}

template class Recorder<double>;
template class Recorder<long double>;

}  // namespace hedgerow::exact
