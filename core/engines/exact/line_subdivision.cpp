#include "engines/exact/line_subdivision.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::exact {

namespace {
constexpr int mostEven = 8;  ///< lines of equal length
constexpr std::size_t mostPoints = 63;
}  // namespace

template <class Real>
const Mark<Real>& LineSubdivision<Real>::mark(Tick at) {
    auto [place, fresh] = marks_.try_emplace(at);
    if (fresh) {
        const Matrix<Real>& generator = mode_.configuration().generator.full();
        place->second.difference = mode_.propagator().composed(at);
        place->second.slope = generator + multiply(generator, place->second.difference);
    }
    return place->second;
}

/// Adds the bends of one line. @return the largest of them from `start`
template <class Real>
Real LineSubdivision<Real>::bend(Tick from, Tick to, const Vector<Real>& start) {
    const Mark<Real>&a = mark(from), &b = mark(to);
    const Real step = secondsOf<Real>(to - from);
    const Real longer = to == length_ ? 1 + secondsOf<Real>(slack_) / step : Real(1);
    const Matrix<Real> rise = b.difference - a.difference;
    Real worst = 0;
    for (const Matrix<Real>* slope : {&a.slope, &b.slope}) {
        const Matrix<Real> bends = Real(0.25) * longer * longer * (step * *slope - rise),
                           rows = multiply(watch_, bends);
        for (Eigen::Index i = 0; i < rows.rows(); ++i) {
            // What cannot bend far enough is not asked for; should values grow, the recorder has all made anew.
            if (4 * rows.row(i).cwiseAbs().dot(sizes_) < 1) continue;
            bends_.push_back(rows.row(i));
            worst = std::max(worst, std::abs(rows.row(i).dot(start)));
        }
    }
    return worst;
}

template <class Real>
bool LineSubdivision<Real>::evenly(int count, const Vector<Real>& start, Real room, Real& worst) {
    points_.clear();
    bends_.clear();
    worst = 0;
    for (int k = 0; k < count; ++k) {
        const Tick from = k * (length_ / count), to = k + 1 == count ? length_ : (k + 1) * (length_ / count);
        worst = std::max(worst, bend(from, to, start));
        if (to < length_) points_.push_back(to);
    }
    return worst <= room;
}

template <class Real>
bool LineSubdivision<Real>::split(Tick from, Tick to, const Vector<Real>& start, Real room) {
    const std::size_t known = bends_.size();
    if (bend(from, to, start) <= room) {
        if (to < length_) points_.push_back(to);
        return points_.size() <= mostPoints;
    }
    bends_.resize(known);
    const Tick middle = from + (to - from) / 2;
    return middle > from && points_.size() <= mostPoints && split(from, middle, start, room) &&
           split(middle, to, start, room);
}

template <class Real>
bool LineSubdivision<Real>::divide(const Vector<Real>& start, Real room) {
    // A bend shrinks with the square of the number of lines.
    for (int count = 1; count <= mostEven;) {
        Real worst = 0;
        if (evenly(count, start, room, worst)) return true;
        if (!std::isfinite(worst)) return false;
        count = std::max(count + 1,
                         static_cast<int>(std::min(Real(100), std::sqrt(worst / room) * static_cast<Real>(count))));
    }
    points_.clear();
    bends_.clear();
    return split(0, length_, start, room);
}

template <class Real>
Matrix<Real> LineSubdivision<Real>::bends() const {
    Matrix<Real> rows(static_cast<Eigen::Index>(bends_.size()), sizes_.size());
    for (std::size_t i = 0; i < bends_.size(); ++i) rows.row(static_cast<Eigen::Index>(i)) = bends_[i].transpose();
    return rows;
}

template class LineSubdivision<double>;
template class LineSubdivision<long double>;

}  // namespace hedgerow::exact
