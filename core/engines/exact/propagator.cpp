#include "engines/exact/propagator.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <complex>
#include <limits>

#include <Eigen/Eigenvalues>

namespace hedgerow::exact {

namespace {

constexpr double baseStepNorm = 2e-3;        ///< norm of M times the base step
constexpr Tick longestBase = Tick{1} << 44;  ///< about 1 ms, for circuits without dynamics
constexpr Tick longestTop = Tick{1} << 50;   ///< about 60 ms
constexpr Tick intervalGrain = 64;  ///< lengths are cached in multiples of this, the rest is a tiny Taylor step
constexpr Tick shortestCached = Tick{1} << 12;
constexpr std::size_t mostIntervals = 256;
constexpr std::size_t mostModes = 160;    ///< of states that hang together, that are computed one by one
constexpr int smallSize = 12;             ///< up to this size a doubling table costs next to nothing
constexpr double mostTaylorSteps = 40.0;  ///< of unit norm in one advance, else a doubling table is built where it pays
constexpr int mostDoubled = 1000;  ///< size from which on no doubling table is built: it takes minutes and gigabytes
constexpr double mostWork = 3e7;   ///< multiplications in one advance then, so that a run can be stopped

/// The states of a square matrix in groups between which it has nothing but zeros.
std::vector<std::vector<int>> hangingTogether(const Eigen::MatrixXd& matrix) {
    const auto n = static_cast<std::size_t>(matrix.rows());
    std::vector<std::vector<int>> groups;
    std::vector<char> taken(n, 0);
    for (std::size_t first = 0; first < n; ++first) {
        if (std::exchange(taken[first], 1)) continue;
        std::vector<int> group{static_cast<int>(first)};
        for (std::size_t k = 0; k < group.size(); ++k)
            for (std::size_t other = 0; other < n; ++other) {
                const auto row = static_cast<Eigen::Index>(group[k]), column = static_cast<Eigen::Index>(other);
                if (taken[other] || (matrix(row, column) == 0 && matrix(column, row) == 0)) continue;
                taken[other] = 1;
                group.push_back(static_cast<int>(other));
            }
        std::sort(group.begin(), group.end());
        groups.push_back(std::move(group));
    }
    return groups;
}

/// Order after which a Taylor series at norm * h = 2e-3 (1) has lost all significance for the number type.
template <class Real>
constexpr int baseOrder = std::numeric_limits<Real>::digits > 53 ? 16 : 12;
template <class Real>
constexpr int unitOrder = std::numeric_limits<Real>::digits > 53 ? 26 : 22;

/// The same for one step of up to the base step, on a vector.
template <class Real>
constexpr int shortOrder = std::numeric_limits<Real>::digits > 53 ? 7 : 5;

/// The same for 32 base steps.
template <class Real>
constexpr int reachOrder = std::numeric_limits<Real>::digits > 53 ? 11 : 9;
/// What a remainder may be, of the values themselves.
template <class Real>
constexpr Real lastDigit = std::numeric_limits<Real>::epsilon() / 1024;

/// What no imaginary part of a mode exceeds (I. Bendixson, Acta Math. 25 (1902), 359): the norm of the skew part, in
/// the energy norm that of the exchange between windings and capacitors alone; by the power method.
double fastestBound(const Eigen::SparseMatrix<double>& generator) {
    const Eigen::SparseMatrix<double> transposed = generator.transpose(), skew = 0.5 * (generator - transposed);
    Eigen::VectorXd v(generator.rows());
    for (Eigen::Index i = 0; i < v.size(); ++i) v(i) = 1.0 / static_cast<double>(1 + i % 7);
    double norm = 0;
    for (int i = 0; i < 60; ++i) {
        const double length = v.norm();
        if (length == 0) return 0;
        v = skew * Eigen::VectorXd(v / length);
        norm = v.norm();
    }
    return 1.1 * norm;  // it comes from below
}

template <class Real>
Matrix<Real> series(const Matrix<Real>& mh, int order) {
    Matrix<Real> term = mh, sum = mh;
    for (int j = 2; j <= order; ++j) {
        term = multiply(term, mh) / static_cast<Real>(j);
        sum += term;
    }
    return sum;
}

}  // namespace

template <class Real>
Propagator<Real>::Propagator(const StateLayout<Real>& layout, const Configuration<Real>& configuration)
    : layout_(layout), configuration_(configuration), scratch_(layout.size()), scratch2_(layout.size()) {
    const int nx = layout.states;
    for (const auto& source : layout.network.sources)
        norm_ = std::max(norm_, static_cast<Real>(source->angularFrequency()));
    Vector<Real> byColumn = Vector<Real>::Zero(nx), byRow = byColumn;
    const Sparse<Real>& slopes = configuration.generator.entries();
    for (Eigen::Index i = 0; i < std::min<Eigen::Index>(nx, slopes.rows()); ++i)
        for (typename Sparse<Real>::InnerIterator of(slopes, i); of && of.col() < nx; ++of) {
            const Real size = std::abs(of.value()) * layout.stateScale(i) / layout.stateScale(of.col());
            byColumn(of.col()) += size;
            byRow(i) += size;
        }
    if (nx > 0) norm_ = std::max(norm_, std::sqrt(byColumn.maxCoeff() * byRow.maxCoeff()));
    base_ = longestBase;
    while (base_ > 1 && norm_ * secondsOf<Real>(base_) > Real(baseStepNorm)) base_ /= 2;
}

/// The generator over the states, in the energy norm.
template <class Real>
Eigen::SparseMatrix<double> Propagator<Real>::inEnergy() const {
    const int nx = layout_.states;
    std::vector<Eigen::Triplet<double>> entries;
    for (Eigen::Index i = 0; i < nx; ++i)
        for (typename Sparse<Real>::InnerIterator of(configuration_.generator.entries(), i); of; ++of)
            if (of.col() < nx)
                entries.emplace_back(
                    static_cast<int>(i), static_cast<int>(of.col()),
                    static_cast<double>(of.value() * layout_.stateScale(i) / layout_.stateScale(of.col())));
    Eigen::SparseMatrix<double> scaled(nx, nx);
    scaled.setFromTriplets(entries.begin(), entries.end());
    return scaled;
}

template <class Real>
const std::vector<std::complex<double>>& Propagator<Real>::modes() {
    if (modes_) return *modes_;
    modes_.emplace();
    if (layout_.states == 0) return *modes_;
    const Eigen::MatrixXd scaled = inEnergy();
    if (!scaled.allFinite()) return *modes_;
    // States that do not act on each other, as those of converters at one stiff source, are taken apart.
    const std::vector<std::vector<int>> groups = hangingTogether(scaled);
    for (const std::vector<int>& group : groups)
        if (group.size() > mostModes) return *modes_;
    for (const std::vector<int>& group : groups) {
        const Eigen::EigenSolver<Eigen::MatrixXd> solver(scaled(group, group), false);
        if (solver.info() != Eigen::Success) return modes_->clear(), *modes_;
        modes_->insert(modes_->end(), solver.eigenvalues().begin(), solver.eigenvalues().end());
    }
    return *modes_;
}

template <class Real>
Tick Propagator<Real>::topStep(Tick wanted) {
    if (top_ == 0) {
        if (wanted <= longestTop && norm_ * secondsOf<Real>(wanted) <= 1) return wanted;
        const int nx = layout_.states;
        double fastest = 0.0;
        for (const auto& source : layout_.network.sources) fastest = std::max(fastest, source->angularFrequency());
        if (nx > 0) {
            if (modes().empty()) fastest = std::max(fastest, fastestBound(inEnergy()));
            for (const std::complex<double> mode : modes())  // those that are lightly damped
                if (std::abs(mode.imag()) > 0.2 * std::abs(mode.real())) fastest = std::max(fastest, std::abs(mode));
        }
        top_ = longestTop;
        while (top_ > base_ && fastest * toSeconds(top_) > 1.0) top_ /= 2;
        const double work = unitOrder<Real> * configuration_.generator.cost() * static_cast<double>(norm_);
        while (layout_.size() > mostDoubled && top_ > base_ && work * toSeconds(top_) > mostWork) top_ /= 2;
    }
    return std::min(wanted, top_);
}

template <class Real>
std::size_t Propagator<Real>::bytes() const {
    const auto matrix = static_cast<std::size_t>(layout_.size() * layout_.size()) * sizeof(Real);
    std::size_t cached = 0;
    for (const auto& [length, interval] : intervals_) cached += interval.difference.size() > 0;
    return (doubled_.size() + cached) * matrix + intervals_.size() * sizeof(Interval);
}

template <class Real>
void Propagator<Real>::apply(Vector<Real>& y, const Matrix<Real>& difference) {
    multiply(difference, y.data(), scratch_.data());
    y += scratch_;
    ++products_;
}

template <class Real>
void Propagator<Real>::writeSines(Matrix<Real>& difference, Real h) const {
    for (std::size_t i = 0; i < layout_.network.sources.size(); ++i) {
        const Real omega = layout_.network.sources[i]->angularFrequency();
        if (omega == 0) continue;
        const int at = layout_.states + layout_.network.sourceOffsets[i];
        const Real half = std::sin(omega * h / 2);
        difference(at, at) = difference(at + 1, at + 1) = -2 * half * half;
        difference(at, at + 1) = std::sin(omega * h);
        difference(at + 1, at) = -difference(at, at + 1);
    }
}

template <class Real>
const Matrix<Real>& Propagator<Real>::level(int k) {
    if (doubled_.empty()) {
        // Below one tick of base step the series starts from a fraction of a tick.
        int halvings = 0;
        while (norm_ * std::ldexp(secondsOf<Real>(base_), -halvings) > Real(baseStepNorm)) ++halvings;
        const Real h = std::ldexp(secondsOf<Real>(base_), -halvings);
        Matrix<Real> sum = series(Matrix<Real>(configuration_.generator.full() * h), baseOrder<Real>);
        writeSines(sum, h);
        for (int j = halvings; j > 0; --j) {
            sum = 2 * sum + multiply(sum, sum);
            writeSines(sum, std::ldexp(secondsOf<Real>(base_), -(j - 1)));
        }
        doubled_.push_back(std::move(sum));
    }
    while (static_cast<int>(doubled_.size()) <= k) {
        const Matrix<Real>& last = doubled_.back();
        Matrix<Real> next = 2 * last + multiply(last, last);
        writeSines(next, secondsOf<Real>(base_ << doubled_.size()));
        doubled_.push_back(std::move(next));
    }
    return doubled_[static_cast<std::size_t>(k)];
}

template <class Real>
int Propagator<Real>::levelWithin(Tick length) const {
    int k = -1;
    while (k < 52 && (base_ << (k + 1)) <= length) ++k;
    return k;
}

template <class Real>
Tick Propagator<Real>::easyStep(Tick length) const {
    if (length < base_) return length;
    const Tick grain = ladderStep(std::max(0, levelWithin(length) - 5));
    return length / grain * grain;
}

/// Whether the doubling table alone leads there in one or two products.
template <class Real>
bool Propagator<Real>::fewClimbs(Tick length) const {
    const Tick steps = length / base_;
    return steps * base_ == length && std::popcount(static_cast<std::uint64_t>(steps)) <= 2;
}

template <class Real>
Tick Propagator<Real>::easyHalf(Tick length) const {
    const int k = levelWithin(length / 4);
    return k < 0 ? length / 2 : ((length >> k) >= 5 * base_ ? 3 : 2) * ladderStep(k);
}

template <class Real>
void Propagator<Real>::climb(Vector<Real>& y, int k) {
    apply(y, level(k));
}

template <class Real>
void Propagator<Real>::shortStep(Vector<Real>& y, Real h) {
    if (h == 0) return;
    int order = 1;
    for (Real remainder = norm_ * h * norm_ * h / 2; remainder > Real(1e-20) && order < shortOrder<Real>;
         remainder *= norm_ * h / static_cast<Real>(order + 1))
        ++order;
    scratch_ = y;
    for (int j = 1; j <= order; ++j) {
        configuration_.rates(scratch_.data(), scratch2_.data());
        scratch_ = scratch2_ * (h / static_cast<Real>(j));
        y += scratch_;
        ++products_;
    }
}

/// Without a doubling table: Taylor steps on the vector, of norm * h at most one.
template <class Real>
void Propagator<Real>::taylorSteps(Vector<Real>& y, Real seconds) {
    const int steps = std::max(1, static_cast<int>(std::ceil(static_cast<double>(norm_ * seconds))));
    const Real h = seconds / static_cast<Real>(steps);
    for (int step = 0; step < steps; ++step) {
        scratch_ = y;
        const Real floor = std::numeric_limits<Real>::epsilon() / 16 * y.cwiseAbs().maxCoeff();
        Real remainder = norm_ * h;
        for (int j = 1; j <= unitOrder<Real> && remainder > std::numeric_limits<Real>::epsilon() / 16; ++j) {
            configuration_.rates(scratch_.data(), scratch2_.data());
            scratch_ = scratch2_ * (h / static_cast<Real>(j));
            y += scratch_;
            remainder *= norm_ * h / static_cast<Real>(j + 1);
            ++products_;
            if (!layout_.rehearsal) ++unladdered_;
            if (scratch_.cwiseAbs().maxCoeff() <= floor * Real(1e-3)) break;
        }
    }
}

/// Whether Taylor steps are the better way: while they have not cost as much as a doubling table, and always where the
/// generator is so sparse that they cost less than its steps.
template <class Real>
bool Propagator<Real>::bySeries(Tick length) const {
    const auto norm = static_cast<double>(norm_ * secondsOf<Real>(length));
    const double n = layout_.size(), series = configuration_.generator.cost();
    if (layout_.size() > mostDoubled || (layout_.rehearsal && doubled_.empty())) return true;
    if (norm >= mostTaylorSteps && norm * series > n * n * n) return false;
    // 22 products of matrices make a doubling table of ten steps.
    if (doubled_.empty() && static_cast<double>(unladdered_) * series < 22 * n * n * n) return true;
    const auto climbs = static_cast<double>(std::popcount(static_cast<std::uint64_t>(length / base_)));
    return unitOrder<Real> * std::max(norm, 0.2) * series < climbs * n * n;
}

template <class Real>
void Propagator<Real>::advance(Vector<Real>& y, Tick length) {
    if (layout_.size() > smallSize && bySeries(length)) return taylorSteps(y, secondsOf<Real>(length));
    if (length >= shortestCached && !fewClimbs(length)) {
        const Tick key = length / intervalGrain;
        if (const Matrix<Real>* difference = differenceOf(key)) {
            apply(y, *difference);
            length -= key * intervalGrain;
        }
    }
    for (int k = levelWithin(length); k >= 0; --k) {
        while (ladderStep(k) <= length) {
            climb(y, k);
            length -= ladderStep(k);
        }
    }
    shortStep(y, secondsOf<Real>(length));
}

/// The matrix of a length that came often enough, or nullptr.
template <class Real>
const Matrix<Real>* Propagator<Real>::differenceOf(Tick key) {
    if (layout_.rehearsal) {
        const auto known = intervals_.find(key);
        return known != intervals_.end() && known->second.difference.size() > 0 ? &known->second.difference : nullptr;
    }
    if (intervals_.size() >= mostIntervals && !intervals_.contains(key)) intervals_.clear();
    Interval& interval = intervals_[key];
    if (interval.difference.size() == 0 &&
        ++interval.sights >= std::max(3, layout_.size()))  // until then the doubling table costs less
        interval.difference = composed(key * intervalGrain);
    return interval.difference.size() > 0 ? &interval.difference : nullptr;
}

template <class Real>
Matrix<Real> Propagator<Real>::composed(Tick length) {
    const Real whole = secondsOf<Real>(length);
    Matrix<Real> total = Matrix<Real>::Zero(layout_.size(), layout_.size());
    const auto compose = [&](const Matrix<Real>& step) { total += step + multiply(step, total); };
    for (int k = levelWithin(length); k >= 0; --k) {
        while (ladderStep(k) <= length) {
            compose(level(k));
            length -= ladderStep(k);
        }
    }
    if (length > 0) compose(series(Matrix<Real>(configuration_.generator.full() * secondsOf<Real>(length)), 8));
    writeSines(total, whole);
    return total;
}

template <class Real>
Eigen::Map<const Matrix<Real>> Propagator<Real>::taylor(const Vector<Real>& y, Tick length) {
    coefficients_.resize(y.size(), reachOrder<Real> + 1);
    coefficients_.col(0) = y;
    const Real reach = norm_ * secondsOf<Real>(length);
    int order = 0;
    for (Real remainder = reach; order < reachOrder<Real> && (order < 2 || remainder > lastDigit<Real>);
         remainder *= reach / static_cast<Real>(order + 1)) {
        ++order;
        configuration_.rates(coefficients_.col(order - 1).data(), coefficients_.col(order).data());
        coefficients_.col(order) /= static_cast<Real>(order);
        ++products_;
    }
    return {coefficients_.data(), y.size(), order + 1};
}

template class Propagator<double>;
template class Propagator<long double>;

}  // namespace hedgerow::exact
