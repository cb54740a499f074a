#include "engines/exact/configuration.h"

#include <algorithm>
#include <cmath>
#include <optional>

namespace hedgerow::exact {

namespace {

constexpr Eigen::Index worthSparse = 4096;  ///< entries of the readout from which on zeros are looked for
constexpr Eigen::Index leastZeros = 4;      ///< entries to one that is not zero

/// Matrices of sections side by side, or below each other, at the places of their sections.
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
using SectionList = std::vector<std::shared_ptr<const SectionState<Real>>>;

/// Rows of sections at the places of their unknowns, of all of which there are `count`.
template <class Real>
Sparse<Real> gathered(const SectionList<Real>& states, Sparse<Real> SectionState<Real>::*member,
                      const std::vector<Section>& sections, Eigen::Index count, Eigen::Index columns) {
    std::vector<std::pair<const Sparse<Real>*, Eigen::Index>> rowOf(static_cast<std::size_t>(count), {nullptr, 0});
    for (std::size_t s = 0; s < states.size(); ++s) {
        const Sparse<Real>& rows = (*states[s]).*member;
        for (Eigen::Index i = 0; i < rows.rows(); ++i)
            rowOf[static_cast<std::size_t>(sections[s].open[static_cast<std::size_t>(i)])] = {&rows, i};
    }
    return byRows<Real>(count, columns, [&](Eigen::Index i, SparseRow<Real>& row) {
        const auto& [from, at] = rowOf[static_cast<std::size_t>(i)];
        if (!from) return;
        appendRow(*from, at, row);
    });
}

/// The joints of sections fix torn potentials and what is in no section. @param open  of the sections, u by y and torn
/// potentials @return u by y, or nothing where they do not fix them
template <class Real>
std::optional<Sparse<Real>> joined(const Skeleton<Real>& skeleton, const Sparse<Real>& open) {
    const auto& joints = skeleton.joints();
    const Eigen::Index n = skeleton.frame().size(), torn = skeleton.torn(), first = skeleton.open() - torn,
                       count = joints.byOpen.rows();
    if (count != static_cast<Eigen::Index>(joints.open.size())) return {};
    // joints.open are those in no section, then the torn potentials.
    std::vector<Eigen::Index> placeOf(static_cast<std::size_t>(skeleton.open()), -1);
    for (std::size_t k = 0; k < joints.open.size(); ++k)
        placeOf[static_cast<std::size_t>(joints.open[k])] = static_cast<Eigen::Index>(k);
    Matrix<Real> left = Matrix<Real>::Zero(count, count), right = joints.byY;
    for (Eigen::Index i = 0; i < count; ++i)
        for (typename Sparse<Real>::InnerIterator of(joints.byOpen, i); of; ++of) {
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
Configuration<Real>::Configuration(const Skeleton<Real>& skeleton, SectionStates<Real>& known, const Segments& segments)
    : skeleton_(&skeleton) {
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
      skeleton_(whole.skeleton_),
      open_(0, readout.cols()),
      given_(true),
      readout_(std::move(readout)) {}

/// Puts sections together. @return false where they must be solved as a whole
template <class Real>
bool Configuration<Real>::compose(const States& states) {
    const auto n = static_cast<Eigen::Index>(skeleton_->frame().size()), count = skeleton_->kernel().cols();
    open_ = gathered(states, &SectionState<Real>::open, skeleton_->sections(), count, n + skeleton_->torn());
    impulse_ = gathered(states, &SectionState<Real>::impulse, skeleton_->sections(), count, n);
    if (skeleton_->joints().byOpen.rows() == 0) return true;
    // What flows through a joint in the instant of entering concerns more than one section.
    if (multiply(skeleton_->joints().byOpen, impulse_).nonZeros() > 0) return false;
    auto open = joined(*skeleton_, open_);
    if (!open) return false;
    open_ = std::move(*open);
    return true;
}

/// Jumps of sections do not touch each other: side by side they make one projection of low rank.
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
    lift_.resize(skeleton_->frame().size(), rank);
    lift_.setFromTriplets(lift.begin(), lift.end());
}

/// Makes the generator, and full matrices where those are the faster ones. @param rates  of changing elements
template <class Real>
void Configuration<Real>::finish(const std::vector<Triplet>& rates) {
    const auto n = static_cast<Eigen::Index>(skeleton_->frame().size()), m = skeleton_->kernel().rows();
    Sparse<Real> slopes = addProduct(skeleton_->slopes(), Real(1), skeleton_->slopesByOpen(), open_);
    if (!rates.empty()) {
        const Sparse<Real> own = fromTriplets<Real>(n, m, rates);
        slopes = addProduct(slopes, Real(1), own, skeleton_->solution());
        slopes = addProduct(slopes, Real(1), multiply(own, skeleton_->kernel()), open_);
    }
    const Eigen::Index entries = skeleton_->solution().nonZeros() + skeleton_->kernel().nonZeros() + open_.nonZeros();
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
        Sparse<Real> rows = addProduct(skeleton_->solution(), Real(1), skeleton_->kernel(), open_);
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
    multiply(skeleton_->solution(), y, z);
    for (Eigen::Index i = 0; i < skeleton_->kernel().rows(); ++i)
        for (typename Sparse<Real>::InnerIterator of(skeleton_->kernel(), i); of; ++of)
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
    for (typename Sparse<Real>::InnerIterator of(skeleton_->solution(), unknown); of; ++of)
        sum += of.value() * at[of.col()];
    for (typename Sparse<Real>::InnerIterator of(skeleton_->kernel(), unknown); of; ++of)
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
    const int constant = skeleton_->frame().states;
    Rows<Real> rows = collected(forms, [&](RowSum<Real>& sum, int unknown, Real factor) {
        if (given_) {
            for (Eigen::Index j = 0; j < readout_.cols(); ++j)
                sum.add(static_cast<int>(j), factor * readout_(unknown, j));
            return;
        }
        sum.addRow(skeleton_->solution(), unknown, factor);
        for (typename Sparse<Real>::InnerIterator of(skeleton_->kernel(), unknown); of; ++of)
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
        for (typename Sparse<Real>::InnerIterator of(skeleton_->kernel(), unknown); of; ++of)
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
