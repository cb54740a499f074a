#include "engines/exact/recorder.h"

#include <algorithm>
#include <cmath>
#include <limits>

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
      tolerance_(Numbers::Constant(frame.unknowns, static_cast<Real>(request.traceTolerance))),
      forgetting_(frame.unknowns),
      potential_(frame.unknowns),
      current_(frame.unknowns),
      signalSize_(Numbers::Zero(frame.unknowns)),
      sink_(sink),
      cancel_(cancel),
      magnitudes_(magnitudes),
      low_(Numbers::Constant(frame.unknowns, std::numeric_limits<Real>::max())),
      high_(-low_),
      swing_(Numbers::Zero(frame.unknowns)),
      unknowns_(frame.unknowns),
      wide_(frame.unknowns * frame.size() > largestView) {
    row_.resize(static_cast<std::size_t>(wide_ ? frame.unknowns : frame.size() - 1));
    for (int i = 0; i < frame.unknowns; ++i) {
        if (!request.tolerances.empty()) tolerance_(i) = request.tolerances[static_cast<std::size_t>(i)];
        forgetting_(i) = forgettingFor(static_cast<double>(tolerance_(i)));
        const UnknownSort sort = frame.network.sortOf(i);
        potential_(i) = sort == UnknownSort::voltage ? 1 : 0;
        current_(i) = sort == UnknownSort::current ? 1 : 0;
        running_ = running_ || sort == UnknownSort::signal;
    }
}

template <class Real>
void Recorder<Real>::instant(Mode<Real>& mode, const Vector<Real>& y, Tick t) {
    const Stopwatch watch;
    multiply(mode.configuration().readout, y.data(), unknowns_.data());
    write(mode, y, unknowns_, t);
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
    if (depth == deepestSplit || length <= 2 || straight(start, end, secondsOf<Real>(length)))
        return write(mode, end.y, end.z, t0 + length);
    const Tick half = mode.propagator().easyHalf(length);
    Vector<Real> states = start.y;
    mode.propagator().advance(states, half);
    const Sample middle(mode, std::move(states));
    if (depth >= noisySplit && hardlyBowed(start, middle, end, static_cast<Real>(half) / static_cast<Real>(length))) {
        write(mode, middle.y, middle.z, t0 + half);
        return write(mode, end.y, end.z, t0 + length);
    }
    split(mode, start, middle, t0, half, depth + 1);
    split(mode, middle, end, t0 + half, length - half, depth + 1);
}

/// How far the stored lines of all unknowns may stray, given the values at their ends.
template <class Real>
auto Recorder<Real>::allowed(const Numbers& a, const Numbers& b) {
    if (sizesVersion_ != magnitudes_.version()) {
        sizesVersion_ = magnitudes_.version();
        quiet_ = Real(quietPart) * largest();
        floor_ = Real(1e-15) * largest() + Real(1e-30);
    }
    return tolerance_ * (high_.max(a).max(b) - low_.min(a).min(b)).max(quiet_) + floor_;
}

template <class Real>
void Recorder<Real>::allowances(const Mode<Real>& mode, const Real* a, const Real* b, Vector<Real>& result) {
    const Matrix<Real>& readout = mode.configuration().readout;
    Numbers za(readout.rows()), zb(readout.rows());
    multiply(readout, a, za.data());
    multiply(readout, b, zb.data());
    result = allowed(za, zb);
}

/// Whether the cubic through both ends stays as near to the chord as it should. The bound is exact for a parabola.
template <class Real>
bool Recorder<Real>::straight(const Sample& start, const Sample& end, Real h) {
    bends_ = Real(0.25) * (h * start.rate - (end.z - start.z)).abs().max((h * end.rate - (end.z - start.z)).abs());
    return (bends_ <= allowed(start.z, end.z)).all();
}

/// Whether a point between both ends, at this part of the way, is four times as near to the chord as it should be.
template <class Real>
bool Recorder<Real>::hardlyBowed(const Sample& start, const Sample& middle, const Sample& end, Real part) {
    bends_ = 4 * (middle.z - start.z - part * (end.z - start.z)).abs();
    return (bends_ <= allowed(start.z, end.z)).all();
}

/// Per unknown, the largest of its kind that was seen.
template <class Real>
typename Recorder<Real>::Numbers Recorder<Real>::largest() const {
    return potential_ * magnitudes_.voltage() + current_ * magnitudes_.current() + signalSize_;
}

template <class Real>
void Recorder<Real>::seeUnknowns(const Numbers& z, Real points) {
    if (z.size() == 0) return;
    magnitudes_.seeVoltage((z.abs() * potential_).maxCoeff());
    magnitudes_.seeCurrent((z.abs() * current_).maxCoeff());
    if (running_) {
        const Numbers seen = z.abs() * (1 - potential_ - current_);
        if ((seen > Real(1.1) * signalSize_).any()) sizesVersion_ = -1;
        signalSize_ = signalSize_.max(seen);
    }
    if (first_) low_ = high_ = z;
    first_ = false;
    low_ = z.min(low_ + (points * forgetting_).min(Real(mostForgotten)) * (z - low_));
    high_ = z.max(high_ + (points * forgetting_).min(Real(mostForgotten)) * (z - high_));
}

template <class Real>
void Recorder<Real>::see(const Mode<Real>& mode, const Real* y, int weight) {
    multiply(mode.configuration().readout, y, unknowns_.data());
    seeUnknowns(unknowns_, static_cast<Real>(weight));
    if (running_) magnitudes_.seeSignals(y);
    const Numbers quiet = Real(quietPart) * largest();
    const Numbers now = (high_ - low_).max(quiet), then = swing_.max(quiet);
    if (!(now < Real(0.5) * then || now > Real(3) * then).any()) return;
    ++generation_;
    swing_ = high_ - low_;
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
void Recorder<Real>::write(Mode<Real>& mode, const Vector<Real>& y, const Numbers& z, Tick t) {
    seeUnknowns(z, 1);
    if (running_) magnitudes_.seeSignals(y.data());
    point(mode, y.data(), t);
}

template class Recorder<double>;
template class Recorder<long double>;

}  // namespace hedgerow::exact
