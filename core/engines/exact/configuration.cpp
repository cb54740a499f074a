#include "engines/exact/configuration.h"

#include <algorithm>
#include <cmath>
#include <optional>

namespace hedgerow::exact {

namespace {

constexpr Eigen::Index worthSparse = 4096;  ///< entries of the readout from which on zeros are looked for
constexpr Eigen::Index leastZeros = 4;      ///< entries to one that is not zero

/// Matrices of subnetworks side by side, or below each other, at the places of their subnetworks.
template <class Real>
void append(Matrix<Real>& to, const Matrix<Real>& block, bool below) {
    if (block.size() == 0) return;
    if (to.size() == 0) {
        to = block;
        return;
    }
    const Eigen::Index rows = to.rows(), columns = to.cols();
    if (below) {
        to.conservativeResize(rows + block.rows(), columns);
        to.bottomRows(block.rows()) = block;
    } else {
        to.conservativeResize(rows, columns + block.cols());
        to.rightCols(block.cols()) = block;
    }
}

template <class Real>
using SubnetworkList = std::vector<std::shared_ptr<const SubnetworkState<Real>>>;

/// Rows of subnetworks at the places of their unknowns, of all of which there are `count`.
template <class Real>
Sparse<Real> gathered(const SubnetworkList<Real>& states, Sparse<Real> SubnetworkState<Real>::*member,
                      const std::vector<Subnetwork>& subnetworks, Eigen::Index count, Eigen::Index columns) {
    std::vector<std::pair<const Sparse<Real>*, Eigen::Index>> rowOf(static_cast<std::size_t>(count), {nullptr, 0});
    for (std::size_t s = 0; s < states.size(); ++s) {
        const Sparse<Real>& rows = (*states[s]).*member;
        for (Eigen::Index i = 0; i < rows.rows(); ++i)
            rowOf[static_cast<std::size_t>(subnetworks[s].open[static_cast<std::size_t>(i)])] = {&rows, i};
    }
    return byRows<Real>(count, columns, [&](Eigen::Index i, SparseRow<Real>& row) {
        const auto& [from, at] = rowOf[static_cast<std::size_t>(i)];
        if (!from) return;
        appendRow(*from, at, row);
    });
}

/// The interfaceRows of subnetworks fix torn potentials and what is in no subnetwork. @param open  of the subnetworks,
/// u by y and torn potentials @return u by y, or nothing where they do not fix them
template <class Real>
std::optional<Sparse<Real>> joined(const StaticReduction<Real>& reduction, const Sparse<Real>& open) {
    const auto& interfaceRows = reduction.interfaceRows();
    const Eigen::Index n = reduction.stateLayout().size(), torn = reduction.torn(), first = reduction.open() - torn,
                       count = interfaceRows.byOpen.rows();
    if (count != static_cast<Eigen::Index>(interfaceRows.open.size())) return {};
    // interfaceRows.open are those in no subnetwork, then the torn potentials.
    std::vector<Eigen::Index> placeOf(static_cast<std::size_t>(reduction.open()), -1);
    for (std::size_t k = 0; k < interfaceRows.open.size(); ++k)
        placeOf[static_cast<std::size_t>(interfaceRows.open[k])] = static_cast<Eigen::Index>(k);
    Matrix<Real> left = Matrix<Real>::Zero(count, count), right = interfaceRows.byY;
    for (Eigen::Index i = 0; i < count; ++i)
        for (typename Sparse<Real>::InnerIterator of(interfaceRows.byOpen, i); of; ++of) {
            if (const Eigen::Index at = placeOf[static_cast<std::size_t>(of.col())]; at >= 0) left(i, at) += of.value();
            for (typename Sparse<Real>::InnerIterator by(open, of.col()); by; ++by) {
                if (by.col() < n)
                    right(i, by.col()) -= of.value() * by.value();
                else
                    left(i, placeOf[static_cast<std::size_t>(first + by.col() - n)]) += of.value() * by.value();
            }
        }
    for (Eigen::Index i = 0; i < count; ++i) {
        const Real size = left.row(i).cwiseAbs().maxCoeff();
        if (size == 0) return {};
        left.row(i) /= size;
        right.row(i) /= size;
    }
    Eigen::FullPivLU<Matrix<Real>> lu;
    lu.setThreshold(Real(1e-10));
    lu.compute(left);
    if (!lu.isInvertible()) return {};
    const Sparse<Real> fixed = Matrix<Real>(lu.solve(right)).sparseView(Real(0), Real(0));
    RowSum<Real> sum(static_cast<int>(n));
    return byRows<Real>(open.rows(), n, [&](Eigen::Index u, SparseRow<Real>& row) {
        if (const Eigen::Index at = placeOf[static_cast<std::size_t>(u)]; at >= 0) sum.addRow(fixed, at, 1);
        for (typename Sparse<Real>::InnerIterator of(open, u); of; ++of) {
            if (of.col() < n)
                sum.add(static_cast<int>(of.col()), of.value());
            else
                sum.addRow(fixed, placeOf[static_cast<std::size_t>(first + of.col() - n)], of.value());
        }
        sum.take(row);
    });
}

}  // namespace

template <class Real>
Configuration<Real>::Configuration(const StaticReduction<Real>& reduction, SubnetworkStates<Real>& known,
                                   const Segments& segments)
    : reduction_(&reduction) {
    States states = known.find(segments);
    if (states.empty() || !compose(states)) {
        states = {known.whole(segments)};
        open_ = states.front()->open;
        impulse_ = states.front()->impulse;
    }
    std::vector<Triplet> rates;
    for (const auto& state : states) {
        illPosedUnknowns.insert(illPosedUnknowns.end(), state->illPosedUnknowns.begin(), state->illPosedUnknowns.end());
        append(contradiction, state->contradiction, true);
        append(infinite, state->infinite, false);
        append(shared, state->shared, false);
        rates.insert(rates.end(), state->rates.begin(), state->rates.end());
    }
    if (!illPosedUnknowns.empty()) return;
    takeJumps(states);
    finish(rates);
}

template <class Real>
Configuration<Real>::Configuration(const Configuration& whole, Matrix<Real> readout, const Matrix<Real>& motion)
    : generator(Rows<Real>(Sparse<Real>(motion.sparseView(Real(0), Real(0))), true)),
      contradiction(whole.contradiction),
      infinite(whole.infinite),
      shared(whole.shared),
      reduction_(whole.reduction_),
      open_(0, readout.cols()),
      given_(true),
      readout_(std::move(readout)) {}

/// Puts subnetworks together. @return false where they must be solved as a whole
template <class Real>
bool Configuration<Real>::compose(const States& states) {
    const auto n = static_cast<Eigen::Index>(reduction_->stateLayout().size()), count = reduction_->kernel().cols();
    open_ = gathered(states, &SubnetworkState<Real>::open, reduction_->subnetworks(), count, n + reduction_->torn());
    impulse_ = gathered(states, &SubnetworkState<Real>::impulse, reduction_->subnetworks(), count, n);
    if (reduction_->interfaceRows().byOpen.rows() == 0) return true;
    // What flows through an interface row in the instant of entering concerns more than one subnetwork.
    if (multiply(reduction_->interfaceRows().byOpen, impulse_).nonZeros() > 0) return false;
    auto open = joined(*reduction_, open_);
    if (!open) return false;
    open_ = std::move(*open);
    return true;
}

/// Jumps of subnetworks do not touch each other: side by side they make one projection of low rank.
template <class Real>
void Configuration<Real>::takeJumps(const States& states) {
    std::vector<Eigen::Triplet<Real>> lift;
    Eigen::Index rank = 0;
    for (const auto& state : states) {
        for (Eigen::Index i = 0; i < state->lift.rows(); ++i)
            for (typename Sparse<Real>::InnerIterator of(state->lift, i); of; ++of)
                lift.emplace_back(i, rank + of.col(), of.value());
        if (state->jump.rows() > 0) jump_ = rank > 0 ? stacked(jump_, state->jump) : state->jump;
        rank += state->jump.rows();
    }
    projects = rank > 0;
    if (!projects) return;
    lift_.resize(reduction_->stateLayout().size(), rank);
    lift_.setFromTriplets(lift.begin(), lift.end());
}

/// Makes the generator, and full matrices where those are the faster ones. @param rates  of changing elements
template <class Real>
void Configuration<Real>::finish(const std::vector<Triplet>& rates) {
    const auto n = static_cast<Eigen::Index>(reduction_->stateLayout().size()), m = reduction_->kernel().rows();
    Sparse<Real> slopes = addProduct(reduction_->slopes(), Real(1), reduction_->slopesByOpen(), open_);
    if (!rates.empty()) {
        const Sparse<Real> own = fromTriplets<Real>(n, m, rates);
        slopes = addProduct(slopes, Real(1), own, reduction_->solution());
        slopes = addProduct(slopes, Real(1), multiply(own, reduction_->kernel()), open_);
    }
    const Eigen::Index entries = reduction_->solution().nonZeros() + reduction_->kernel().nonZeros() + open_.nonZeros();
    full_ = m * n < worthSparse || entries * leastZeros > m * n;
    if (projects) {
        for (int i = 0; i < n; ++i)
            if (lift_.outerIndexPtr()[i + 1] > lift_.outerIndexPtr()[i]) jumping.push_back(i);
        jumps = Rows<Real>(multiply(chosen(lift_, jumping), jump_), full_);
        slopes = addProduct(slopes, Real(1), multiply(slopes, lift_), jump_);
        slopes = addProduct(slopes, Real(1), lift_, multiply(jump_, slopes));
    }
    generator = Rows<Real>(std::move(slopes), full_);
}

template <class Real>
const Matrix<Real>& Configuration<Real>::readout() const {
    if (readout_.size() == 0) {
        Sparse<Real> rows = addProduct(reduction_->solution(), Real(1), reduction_->kernel(), open_);
        if (projects) rows = addProduct(rows, Real(1), multiply(rows, lift_), jump_);
        readout_ = rows;
    }
    return readout_;
}

template <class Real>
void Configuration<Real>::read(const Real* y, Real* z) const {
    if (full_) return multiply(readout(), y, z);
    if (projects) {
        consistent_ = Eigen::Map<const Vector<Real>>(y, open_.cols());
        project(consistent_.data());
        y = consistent_.data();
    }
    u_.resize(open_.rows());
    multiply(open_, y, u_.data());
    multiply(reduction_->solution(), y, z);
    for (Eigen::Index i = 0; i < reduction_->kernel().rows(); ++i)
        for (typename Sparse<Real>::InnerIterator of(reduction_->kernel(), i); of; ++of)
            z[i] += of.value() * u_(of.col());
}

template <class Real>
Real Configuration<Real>::read(int unknown, const Vector<Real>& y) const {
    if (full_) return readout().row(unknown).dot(y);
    const Real* at = y.data();
    if (projects) {
        consistent_ = y;
        project(consistent_.data());
        at = consistent_.data();
    }
    Real sum = 0;
    for (typename Sparse<Real>::InnerIterator of(reduction_->solution(), unknown); of; ++of)
        sum += of.value() * at[of.col()];
    for (typename Sparse<Real>::InnerIterator of(reduction_->kernel(), unknown); of; ++of)
        for (typename Sparse<Real>::InnerIterator by(open_, of.col()); by; ++by)
            sum += of.value() * by.value() * at[by.col()];
    return sum;
}

/// @param add  adds what an unknown with its factor contributes to a row
template <class Real>
template <class Add>
Rows<Real> Configuration<Real>::collected(const std::vector<Terms>& forms, Add&& add) const {
    RowSum<Real> sum(static_cast<int>(open_.cols()));
    Sparse<Real> rows = byRows<Real>(static_cast<Eigen::Index>(forms.size()), open_.cols(), [&](auto i, auto& row) {
        for (const auto& [unknown, factor] : forms[static_cast<std::size_t>(i)])
            add(sum, unknown, static_cast<Real>(factor));
        sum.take(row);
    });
    return Rows<Real>(std::move(rows), full_);
}

template <class Real>
Rows<Real> Configuration<Real>::rows(const std::vector<Terms>& forms, const std::vector<double>& constants) const {
    const int constant = reduction_->stateLayout().states;
    Rows<Real> rows = collected(forms, [&](RowSum<Real>& sum, int unknown, Real factor) {
        if (given_) {
            for (Eigen::Index j = 0; j < readout_.cols(); ++j)
                sum.add(static_cast<int>(j), factor * readout_(unknown, j));
            return;
        }
        sum.addRow(reduction_->solution(), unknown, factor);
        for (typename Sparse<Real>::InnerIterator of(reduction_->kernel(), unknown); of; ++of)
            sum.addRow(open_, of.col(), factor * of.value());
    });
    Sparse<Real> entries = rows.entries();
    if (projects) entries = addProduct(entries, Real(1), multiply(entries, lift_), jump_);
    for (std::size_t i = 0; i < constants.size(); ++i)
        if (constants[i] != 0) entries.coeffRef(static_cast<Eigen::Index>(i), constant) += constants[i];
    entries.makeCompressed();
    return Rows<Real>(std::move(entries), full_);
}

template <class Real>
Rows<Real> Configuration<Real>::impulseRows(const std::vector<Terms>& forms) const {
    return collected(forms, [&](RowSum<Real>& sum, int unknown, Real factor) {
        for (typename Sparse<Real>::InnerIterator of(reduction_->kernel(), unknown); of; ++of)
            sum.addRow(impulse_, of.col(), factor * of.value());
    });
}

template <class Real>
void Configuration<Real>::project(Real* y) const {
    jumped_.resize(jumps.rows());
    jumps.apply(y, jumped_.data());
    for (std::size_t k = 0; k < jumping.size(); ++k) y[jumping[k]] += jumped_.data()[k];
}

template <class Real>
std::size_t Configuration<Real>::bytes() const {
    const auto full =
        static_cast<std::size_t>(contradiction.size() + infinite.size() + shared.size() + readout_.size());
    const auto entries =
        static_cast<std::size_t>(open_.nonZeros() + impulse_.nonZeros() + lift_.nonZeros() + jump_.nonZeros());
    return sizeof(Real) * full + (sizeof(Real) + sizeof(int)) * entries + generator.bytes() + jumps.bytes() +
           sizeof(int) * static_cast<std::size_t>(2 * open_.rows() + 2 * lift_.rows());
}

template struct Configuration<double>;
template struct Configuration<long double>;

}  // namespace hedgerow::exact
