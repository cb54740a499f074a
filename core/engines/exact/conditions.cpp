#include "engines/exact/conditions.h"

namespace hedgerow::exact {

namespace {
constexpr int freeMoves = 40;      ///< of the box, before it is asked whether it is worth its while
constexpr int visitsPerMove = 16;  ///< what it must be worth then
constexpr double stride = 4.0;     ///< reach of the box over the last change of a value

template <class Real>
void append(Matrix<Real>& to, const Matrix<Real>& rows) {
    if (rows.rows() == 0) return;
    const Eigen::Index before = to.rows();
    to.conservativeResize(before + rows.rows(), rows.cols());
    to.bottomRows(rows.rows()) = rows;
}
}  // namespace

template <class Real>
void Conditions<Real>::demand(const Matrix<Real>& rows, const std::vector<Real>& least) {
    append(demands_, rows);
    least_.insert(least_.end(), least.begin(), least.end());
}

template <class Real>
void Conditions<Real>::limit(const Matrix<Real>& rows) {
    append(limits_, rows);
}

template <class Real>
void Conditions<Real>::follow(const Conditions& other, const Matrix<Real>& whole) {
    demand(multiply(other.demands_, whole), other.least_);
    limit(multiply(other.limits_, whole));
}

template <class Real>
void Conditions<Real>::followStart(const Conditions& other, Eigen::Index count, const Matrix<Real>& whole) {
    if (count == 0) return;
    demand(multiply(Matrix<Real>(other.demands_.topRows(count)), whole),
           {other.least_.begin(), other.least_.begin() + count});
}

template <class Real>
bool Conditions<Real>::hold(const Vector<Real>& y) {
    ++visits_;
    if (boxed_ && !inside(y)) centre(y);
    const std::size_t demands = askedLeast_.size(), count = static_cast<std::size_t>(asked_.rows());
    if (count == 0) return true;
    multiply(asked_, y.data(), values_.data());
    // Each as "not the opposite": what is not a number fails.
    for (std::size_t i = 0; i < demands; ++i)
        if (!(values_[i] > askedLeast_[i])) return false;
    for (std::size_t i = demands; i < count; ++i)
        if (!(std::abs(values_[i]) <= 1)) return false;
    return true;
}

template <class Real>
bool Conditions<Real>::inside(const Vector<Real>& y) const {
    if (centre_.size() == 0) return false;
    bool inside = true;
    for (Eigen::Index i = 0; i < y.size(); ++i) inside &= std::abs(y(i) - centre_(i)) <= reach_(i);
    return inside;
}

/// Puts the box around y, as wide as the last changes ask for.
template <class Real>
void Conditions<Real>::centre(const Vector<Real>& y) {
    if (centre_.size() == 0)
        reach_ = Vector<Real>::Zero(y.size());
    else
        reach_ = (Real(stride) * (y - centre_).cwiseAbs()).cwiseMax(Real(0.5) * reach_);
    centre_ = y;
    boxed_ = ++moves_ <= freeMoves + visits_ / visitsPerMove;
    askedLeast_.clear();
    std::vector<Eigen::Index> demands, limits;
    for (Eigen::Index i = 0; i < demands_.rows(); ++i) {
        const Real lowest = demands_.row(i).dot(y) - demands_.row(i).cwiseAbs().dot(reach_);
        if (boxed_ && lowest > least_[static_cast<std::size_t>(i)]) continue;
        demands.push_back(i);
        askedLeast_.push_back(least_[static_cast<std::size_t>(i)]);
    }
    for (Eigen::Index i = 0; i < limits_.rows(); ++i)
        if (!boxed_ || !(std::abs(limits_.row(i).dot(y)) + limits_.row(i).cwiseAbs().dot(reach_) <= 1))
            limits.push_back(i);
    asked_.resize(static_cast<Eigen::Index>(demands.size() + limits.size()), y.size());
    // A map without any demands, or limits, has not even columns of them.
    if (!demands.empty()) asked_.topRows(static_cast<Eigen::Index>(demands.size())) = demands_(demands, Eigen::all);
    if (!limits.empty()) asked_.bottomRows(static_cast<Eigen::Index>(limits.size())) = limits_(limits, Eigen::all);
    values_.resize(static_cast<std::size_t>(asked_.rows()));
}

template class Conditions<double>;
template class Conditions<long double>;

}  // namespace hedgerow::exact
