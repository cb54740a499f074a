#include "engines/exact/configuration.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::exact {

namespace {

constexpr Eigen::Index worthSparse = 4096;  ///< from which size on zeros are looked for
constexpr Eigen::Index leastZeros = 4;      ///< entries to one that is not zero

template <class Real>
bool mostlyZeros(const Sparse<Real>& m) {
    return m.size() >= worthSparse && m.nonZeros() * leastZeros <= m.size();
}

template <class Real>
Vector<Real> rowScales(const Matrix<Real>& matrix) {
    Vector<Real> scales = matrix.cwiseAbs().rowwise().maxCoeff();
    for (Real& s : scales) s = s > 0 ? 1 / s : Real(1);
    return scales;
}

/// Left out are entries that are rounding noise of the product they come from.
template <class Real>
Sparse<Real> clean(const Sparse<Real>& product, const Sparse<Real>& bound) {
    Sparse<Real> result = product;
    result.prune([&](Eigen::Index i, Eigen::Index j, Real value) {
        return value != 0 && std::abs(value) >= Real(1e-11) * bound.coeff(i, j);
    });
    return result;
}

/// Splits the kernels by the rank of Q: what the derivative of the consistency condition fixes, and what is left.
template <class Real>
struct Split {
    int rank = 0;
    Sparse<Real> left1, left2;  ///< combinations of the rows of Q, one in each row
    Sparse<Real> right2;        ///< of the columns, one in each column
};

/// Rows and columns of a matrix that have nothing to do with the others.
struct Block {
    std::vector<int> rows, columns;
};
template <class Real>
std::vector<Block> blocksOf(const Sparse<Real>& q) {
    const auto count = static_cast<std::size_t>(q.rows());
    std::vector<std::size_t> leader(2 * count);  // rows, then columns
    for (std::size_t i = 0; i < leader.size(); ++i) leader[i] = i;
    const auto find = [&](std::size_t i) {
        while (leader[i] != i) i = leader[i] = leader[leader[i]];
        return i;
    };
    for (Eigen::Index i = 0; i < q.rows(); ++i)
        for (typename Sparse<Real>::InnerIterator of(q, i); of; ++of)
            leader[find(static_cast<std::size_t>(i))] = find(count + static_cast<std::size_t>(of.col()));
    std::vector<int> place(leader.size(), -1);
    std::vector<Block> blocks;
    for (std::size_t i = 0; i < leader.size(); ++i) {
        int& at = place[find(i)];
        if (at < 0) {
            at = static_cast<int>(blocks.size());
            blocks.emplace_back();
        }
        Block& block = blocks[static_cast<std::size_t>(at)];
        i < count ? block.rows.push_back(static_cast<int>(i)) : block.columns.push_back(static_cast<int>(i - count));
    }
    return blocks;
}

template <class Real>
Split<Real> splitByRank(const Sparse<Real>& q) {
    std::vector<Eigen::Triplet<Real>> left1, left2, right2;
    Split<Real> split;
    int rest1 = 0, rest2 = 0;
    for (const Block& block : blocksOf(q)) {
        const auto height = static_cast<Eigen::Index>(block.rows.size()),
                   width = static_cast<Eigen::Index>(block.columns.size());
        Matrix<Real> part(height, width);
        for (Eigen::Index i = 0; i < height; ++i)
            for (Eigen::Index j = 0; j < width; ++j)
                part(i, j) =
                    q.coeff(block.rows[static_cast<std::size_t>(i)], block.columns[static_cast<std::size_t>(j)]);
        Matrix<Real> left = Matrix<Real>::Identity(height, height), right = Matrix<Real>::Identity(width, width);
        int rank = 0;
        if (height == 1 && width == 1) {
            rank = 1;
            left(0, 0) = 1 / std::abs(part(0, 0));
        } else if (height > 0 && width > 0) {
            const Vector<Real> rows = rowScales(part);
            const Matrix<Real> scaledRows = rows.asDiagonal() * part;
            const Vector<Real> columns = rowScales(Matrix<Real>(scaledRows.transpose()));
            const Eigen::JacobiSVD<Matrix<Real>> svd(Matrix<Real>(scaledRows * columns.asDiagonal()),
                                                     Eigen::ComputeFullU | Eigen::ComputeFullV);
            for (const Real value : svd.singularValues())
                if (value > Real(1e-10) * svd.singularValues()(0)) ++rank;
            left = rows.asDiagonal() * svd.matrixU();
            right = columns.asDiagonal() * svd.matrixV();
        }
        for (Eigen::Index k = 0; k < height; ++k)
            for (Eigen::Index i = 0; i < height; ++i) {
                const int row = block.rows[static_cast<std::size_t>(i)], at = static_cast<int>(k);
                if (k < rank)
                    left1.emplace_back(split.rank + at, row, left(i, k));
                else
                    left2.emplace_back(rest1 + at - rank, row, left(i, k));
            }
        for (Eigen::Index k = rank; k < width; ++k)
            for (Eigen::Index j = 0; j < width; ++j)
                right2.emplace_back(block.columns[static_cast<std::size_t>(j)], rest2 + static_cast<int>(k) - rank,
                                    right(j, k));
        split.rank += rank;
        rest1 += static_cast<int>(height) - rank;
        rest2 += static_cast<int>(width) - rank;
    }
    split.left1.resize(split.rank, q.rows());
    split.left2.resize(rest1, q.rows());
    split.right2.resize(q.cols(), rest2);
    split.left1.setFromTriplets(left1.begin(), left1.end());
    split.left2.setFromTriplets(left2.begin(), left2.end());
    split.right2.setFromTriplets(right2.begin(), right2.end());
    return split;
}

template <class Real>
std::vector<int> largestEntries(const Vector<Real>& direction) {
    std::vector<int> found;
    const Real largest = direction.cwiseAbs().maxCoeff();
    for (int i = 0; i < direction.size(); ++i)
        if (std::abs(direction(i)) > Real(0.1) * largest) found.push_back(i);
    return found;
}

}  // namespace

template <class Real>
Configuration<Real>::Configuration(const Skeleton<Real>& skeleton, const std::vector<int>& segments) {
    typename Skeleton<Real>::Rest rest = skeleton.rest(segments);
    const Sparse<Real> rates = rest.rates;
    const Elimination<Real> elimination(std::move(rest.rows), skeleton.open(), skeleton.frame().size());
    Sparse<Real> open, kernel;
    elimination.solve(open, kernel);
    readout = addProduct(skeleton.solution(), Real(1), skeleton.kernel(), open);
    if (elimination.freeCount() > 0)
        complete(skeleton, elimination, multiply(skeleton.kernel(), kernel), std::move(rest));
    if (!illPosedUnknowns.empty()) return;

    if (projects) readout = addProduct(readout, Real(1), multiply(readout, lift_), jump_);
    Sparse<Real> slopes = addProduct(skeleton.sourceDynamics(), Real(1), rates, readout);
    if (projects) slopes = addProduct(slopes, Real(1), lift_, multiply(jump_, slopes));
    generator = slopes;
    if (mostlyZeros(slopes)) sparseGenerator_ = std::move(slopes);
    if (!mostlyZeros(readout)) fullReadout_ = readout;
    if (projects && !mostlyZeros(projection)) fullProjection_ = projection;
}

/// Fixes what F leaves open, and finds what it asks of the states. @param kernel  of F, unknowns x free directions
template <class Real>
void Configuration<Real>::complete(const Skeleton<Real>& skeleton, const Elimination<Real>& elimination,
                                   const Sparse<Real>& kernel, typename Skeleton<Real>::Rest rest) {
    const auto n = static_cast<Eigen::Index>(skeleton.frame().size()), m = kernel.rows(), free = kernel.cols();
    const Sparse<Real>& k = rest.rates;
    const Sparse<Real> h = stacked(skeleton.consistency(), elimination.consistency()), hk = multiply(h, k);
    const auto absolute = [](const Sparse<Real>& of) -> Sparse<Real> { return of.cwiseAbs(); };
    const Sparse<Real> q = clean(multiply(hk, kernel), multiply(multiply(absolute(h), absolute(k)), absolute(kernel)));
    const Split<Real> split = splitByRank(q);
    const Eigen::Index relaxing = free - split.rank;

    // Conditions on what is open: the derivative of the consistency condition, then the vanishing resistances.
    Sparse<Real> relaxed(relaxing, m);
    if (relaxing > 0)
        relaxed = multiply(split.left2, stacked(Sparse<Real>(skeleton.consistency().rows(), m),
                                                elimination.leftOf(std::move(rest.e), static_cast<int>(m))));
    const Sparse<Real> conditions = stacked(multiply(split.left1, hk), relaxed);
    const Sparse<Real> known =
        addProduct(stacked(multiply(split.left1, multiply(h, skeleton.sourceDynamics())), Sparse<Real>(relaxing, n)),
                   Real(1), conditions, readout);
    const Matrix<Real> t = multiply(conditions, kernel);
    const Vector<Real> tScales = rowScales(t);
    Eigen::FullPivLU<Matrix<Real>> tLu;
    tLu.setThreshold(Real(1e-10));
    tLu.compute(Matrix<Real>(tScales.asDiagonal() * t));
    if (!tLu.isInvertible()) {
        illPosedUnknowns = largestEntries(Vector<Real>(kernel * Vector<Real>(tLu.kernel().col(0))));
        return;
    }
    const auto fixed = [&](const Sparse<Real>& of) -> Sparse<Real> {
        return tLu.solve(Matrix<Real>(tScales.asDiagonal() * Matrix<Real>(of))).sparseView(Real(0), Real(0));
    };
    readout = addProduct(readout, Real(-1), kernel, fixed(known));

    if (split.rank > 0) {
        const Sparse<Real> asked = clean(multiply(split.left1, h), multiply(absolute(split.left1), absolute(h)));
        jump_ = fixed(stacked(asked, Sparse<Real>(relaxing, n)));
        lift_ = -multiply(k, kernel);
        impulse = -multiply(kernel, jump_);
        projection = multiply(lift_, jump_);
        projects = true;
    }
    if (relaxing > 0) {
        contradiction = clean(multiply(split.left2, h), multiply(absolute(split.left2), absolute(h)));
        const Matrix<Real> directions = multiply(kernel, split.right2);
        if (contradiction.cwiseAbs().maxCoeff() == 0) {
            contradiction.resize(0, n);
            shared = directions;
            for (int j = 0; j < shared.cols(); ++j) shared.col(j) /= shared.col(j).cwiseAbs().maxCoeff();
        } else {
            const Matrix<Real> g = relaxed * directions;
            infinite = directions * g.fullPivLu().solve(Matrix<Real>::Identity(relaxing, relaxing));
        }
    }
}

template <class Real>
std::size_t Configuration<Real>::bytes() const {
    const auto full = static_cast<std::size_t>(contradiction.size() + infinite.size() + shared.size() +
                                               generator.size() + fullReadout_.size() + fullProjection_.size());
    const auto entries = static_cast<std::size_t>(readout.nonZeros() + projection.nonZeros() + impulse.nonZeros() +
                                                  sparseGenerator_.nonZeros() + lift_.nonZeros() + jump_.nonZeros());
    return sizeof(Real) * full + (sizeof(Real) + sizeof(int)) * entries +
           sizeof(int) * static_cast<std::size_t>(3 * readout.rows());
}

template struct Configuration<double>;
template struct Configuration<long double>;

}  // namespace hedgerow::exact
