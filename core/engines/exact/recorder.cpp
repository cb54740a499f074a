#include "engines/exact/recorder.h"

namespace hedgerow::exact {

namespace {
constexpr int deepestSplit = 24;
/// From this depth of splitting on the middle of the chord is looked at as well: in a stiff circuit the slopes at the
/// ends are rounding noise, and only the values tell that the line is straight.
constexpr int noisySplit = 6;
/// Rows hold states, which are few, unless the matrices that make unknowns of them would be larger than this.
constexpr int largestView = 8192;
/// Samples of a mode before it gets a matrix that makes unknowns and slopes of states at once.
constexpr int worthSampling = 8;
constexpr std::size_t mostGathered = 4096;  ///< numbers of points that go to the sink together
}  // namespace

template <class Real>
Recorder<Real>::Recorder(const StateLayout<Real>& layout, const RunRequest& request, RunSink& sink,
                         Scales<Real>& scales, const CancelToken& cancel)
    : layout_(layout),
      rowLayout_(layout.network),
      sink_(sink),
      cancel_(cancel),
      scales_(scales),
      ranges_(layout, request, scales),
      samples_(deepestSplit + 3),
      unknowns_(layout.unknowns),
      slope_(layout.size()),
      wide_(layout.unknowns * layout.size() > largestView),
      stores_(sink.wantsPoints()) {}

template <class Real>
void Recorder<Real>::instant(Mode<Real>& mode, const Vector<Real>& y, Tick t) {
    const Stopwatch watch;
    mode.configuration().read(y.data(), unknowns_.data());
    write(mode, y.data(), unknowns_.data(), t);
    flush();
    seconds_ += watch.seconds();
}

template <class Real>
void Recorder<Real>::way(Mode<Real>& mode, const Vector<Real>& y0, const Vector<Real>& y1, Tick t0, Tick length) {
    if (length == 0 || !stores_) return;  // a crossing at the very start: the event writes its own points
    const Stopwatch watch;
    Sample &start = sample(0), &end = sample(1);
    if (filled_ == viewOf(mode) && end.y == y0) {
        start.y.swap(end.y);  // it goes on from where the last way ended
        start.values.swap(end.values);
    } else {
        start.y = y0;
        fill(mode, start);
    }
    end.y = y1;
    fill(mode, end);
    filled_ = viewOf(mode);
    split(mode, start, end, t0, length, 0);
    flush();
    seconds_ += watch.seconds();
}

template <class Real>
void Recorder<Real>::fill(Mode<Real>& mode, Sample& sample) {
    const Configuration<Real>& c = mode.configuration();
    const Eigen::Index unknowns = layout_.unknowns;
    sample.values.resize(2 * unknowns);
    if (mode.sampling.size() == 0 && !wide_ && ++mode.sampled > worthSampling) {
        const Matrix<Real>& readout = c.readout();
        mode.sampling.resize(2 * unknowns, readout.cols());
        mode.sampling << readout, multiply(readout, c.generator.full());
    }
    if (mode.sampling.size() > 0) return multiply(mode.sampling, sample.y.data(), sample.values.data());
    c.read(sample.y.data(), sample.values.data());
    c.rates(sample.y.data(), slope_.data());
    c.read(slope_.data(), sample.values.data() + unknowns);
}

template <class Real>
void Recorder<Real>::split(Mode<Real>& mode, const Sample& start, const Sample& end, Tick t0, Tick length, int depth) {
    if (full_ || cancel_.cancelled()) return;
    if (depth == deepestSplit || length <= 2 ||
        ranges_.straight(start.z(), start.rates(), end.z(), end.rates(), secondsOf<Real>(length)))
        return write(mode, end.y.data(), end.z(), t0 + length);
    const Tick half = mode.propagator().easyHalf(length);
    Sample& middle = sample(depth + 2);
    middle.y = start.y;
    mode.propagator().advance(middle.y, half);
    fill(mode, middle);
    if (depth >= noisySplit &&
        ranges_.hardlyBowed(start.z(), middle.z(), end.z(), static_cast<Real>(half) / static_cast<Real>(length))) {
        write(mode, middle.y.data(), middle.z(), t0 + half);
        return write(mode, end.y.data(), end.z(), t0 + length);
    }
    split(mode, start, middle, t0, half, depth + 1);
    // The first half may have used the places of all greater depths, but not this one.
    split(mode, middle, end, t0 + half, length - half, depth + 1);
}

template <class Real>
void Recorder<Real>::allowances(const Mode<Real>& mode, const Real* a, const Real* b, Vector<Real>& result) {
    Vector<Real> za(layout_.unknowns), zb(layout_.unknowns);
    mode.configuration().read(a, za.data());
    mode.configuration().read(b, zb.data());
    result.resize(layout_.unknowns);
    if (!stores_) return result.setConstant(Real(notWanted)), void();
    for (int i = 0; i < layout_.unknowns; ++i) result(i) = ranges_.allowed(i, za(i), zb(i));
}

template <class Real>
void Recorder<Real>::see(const Mode<Real>& mode, const Real* y) {
    mode.configuration().read(y, unknowns_.data());
    ranges_.see(unknowns_.data());
    if (ranges_.running()) scales_.seeSignals(y);
    if (ranges_.changedMuch()) ++generation_;
}

template <class Real>
void Recorder<Real>::makeView(Mode<Real>& mode) {
    RowView view;
    if (ranges_.running()) ranges_.madeOf(mode.configuration().readout());
    if (wide_) {
        view.width = layout_.unknowns;
    } else {
        // The constant source comes first behind the states: it becomes the last column.
        const Matrix<Real>& readout = mode.configuration().readout();
        view.width = layout_.size() - 1;
        view.matrix.reserve(static_cast<std::size_t>(readout.size()));
        for (int i = 0; i < layout_.unknowns; ++i) {
            for (int j = 0; j < layout_.size(); ++j)
                if (j != layout_.states) view.matrix.push_back(static_cast<double>(readout(i, j)));
            view.matrix.push_back(static_cast<double>(readout(i, layout_.states)));
        }
    }
    for (const int element : rowLayout_.switching) {
        const auto e = static_cast<std::size_t>(element);
        view.conducting.push_back(layout_.network.elements[e]->conducts(mode.segments[e]));
    }
    mode.view = static_cast<int>(sink_.addView(std::move(view)));
}

/// Adds a point to those that go to the sink together.
template <class Real>
void Recorder<Real>::put(Mode<Real>& mode, const Real* y, const Real* z, Tick t) {
    if (!stores_) return;
    list_.push_back({t, viewOf(mode), signalSet_, static_cast<std::uint32_t>(numbers_.size())});
    if (wide_) {
        for (int i = 0; i < layout_.unknowns; ++i) numbers_.push_back(static_cast<double>(z[i]));
        return;
    }
    for (int j = 0; j < layout_.states; ++j) numbers_.push_back(static_cast<double>(y[j]));
    for (int j = layout_.states + 1; j < layout_.size(); ++j) numbers_.push_back(static_cast<double>(y[j]));
}

template <class Real>
void Recorder<Real>::point(Mode<Real>& mode, const Real* y, Tick t) {
    if (!stores_) return;
    if (wide_) mode.configuration().read(y, unknowns_.data());
    put(mode, y, unknowns_.data(), t);
    flush();
}

template <class Real>
void Recorder<Real>::flush() {
    if (list_.empty()) return;
    points(list_, numbers_);
    list_.clear();
    numbers_.clear();
}

template <class Real>
void Recorder<Real>::points(std::span<const PointRef> list, std::span<const double> numbers) {
    points_ += static_cast<std::int64_t>(list.size());
    bytes_ += static_cast<std::int64_t>(numbers.size_bytes() + list.size_bytes());
    if (!sink_.append(list, numbers)) full_ = true;
}

template <class Real>
void Recorder<Real>::write(Mode<Real>& mode, const Real* y, const Real* z, Tick t) {
    ranges_.see(z);
    if (ranges_.running()) scales_.seeSignals(y);
    put(mode, y, z, t);
    if (numbers_.size() > mostGathered) flush();
}

template class Recorder<double>;
template class Recorder<long double>;

}  // namespace hedgerow::exact
