#include "engines/exact/configuration.h"

#include <algorithm>
#include <cmath>

#include <Eigen/SparseCore>

namespace hedgerow::exact {

namespace {

template <class Real>
using Sparse = Eigen::SparseMatrix<Real>;

/// Puts triplets into rows, their columns shifted, and adds up what falls on one place.
template <class Real>
void addEntries(std::vector<SparseRow<Real>>& rows, const std::vector<Triplet>& entries, int shift) {
    for (const Triplet& entry : entries)
        rows[static_cast<std::size_t>(entry.row)].push_back({entry.column + shift, static_cast<Real>(entry.value)});
}

template <class Real>
void sortRows(std::vector<SparseRow<Real>>& rows) {
    for (SparseRow<Real>& row : rows) {
        std::stable_sort(row.begin(), row.end(), [](const auto& a, const auto& b) { return a.column < b.column; });
        std::size_t kept = 0;
        for (std::size_t i = 0; i < row.size(); ++i) {
            if (kept > 0 && row[kept - 1].column == row[i].column)
                row[kept - 1].value += row[i].value;
            else
                row[kept++] = row[i];
        }
        row.resize(kept);
        std::erase_if(row, [](const auto& entry) { return entry.value == 0; });
    }
}

/// Divides every row of [F H], and the same row of E, by its largest entry of F.
template <class Real>
void equilibrate(std::vector<SparseRow<Real>>& rows, std::vector<SparseRow<Real>>& e, int unknowns) {
    for (std::size_t r = 0; r < rows.size(); ++r) {
        Real largest = 0;
        for (const auto& entry : rows[r])
            if (entry.column < unknowns) largest = std::max(largest, std::abs(entry.value));
        if (largest == 0) continue;
        for (auto& entry : rows[r]) entry.value /= largest;
        for (auto& entry : e[r]) entry.value /= largest;
    }
}

template <class Real>
Vector<Real> rowScales(const Matrix<Real>& matrix) {
    Vector<Real> scales = matrix.cwiseAbs().rowwise().maxCoeff();
    for (Real& s : scales) s = s > 0 ? 1 / s : Real(1);
    return scales;
}

/// Sets entries to zero that are rounding noise of the product they come from.
template <class Real>
void clean(Matrix<Real>& product, const Matrix<Real>& bound) {
    product = (product.array().abs() < Real(1e-11) * bound.array()).select(Real(0), product);
}

/// Splits the kernels by the rank of Q: what the derivative of the consistency condition fixes, and what is left.
template <class Real>
struct Split {
    int rank = 0;
    Matrix<Real> left1, left2, right2;  ///< combinations of the rows, and of the columns, of Q
};

template <class Real>
Split<Real> splitByRank(const Matrix<Real>& q) {
    const Vector<Real> rows = rowScales(q);
    const Matrix<Real> scaledRows = rows.asDiagonal() * q;
    const Vector<Real> columns = rowScales(Matrix<Real>(scaledRows.transpose()));
    const Eigen::JacobiSVD<Matrix<Real>> svd(Matrix<Real>(scaledRows * columns.asDiagonal()),
                                             Eigen::ComputeFullU | Eigen::ComputeFullV);
    Split<Real> split;
    const Real largest = svd.singularValues().size() ? svd.singularValues()(0) : Real(0);
    for (const Real value : svd.singularValues())
        if (value > Real(1e-10) * std::max(largest, Real(1e-300))) ++split.rank;
    const Matrix<Real> left = rows.asDiagonal() * svd.matrixU(), right = columns.asDiagonal() * svd.matrixV();
    const int rest = static_cast<int>(q.rows()) - split.rank;
    split.left1 = left.leftCols(split.rank);
    split.left2 = left.rightCols(rest);
    split.right2 = right.rightCols(rest);
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
Configuration<Real>::Configuration(const Frame<Real>& frame, const std::vector<int>& segments) {
    LinearStamp stamp(frame.network.nodeCount());
    for (std::size_t i = 0; i < frame.network.elements.size(); ++i)
        frame.network.elements[i]->stamp(stamp, segments[i]);
    const int n = frame.size(), m = frame.unknowns, nx = frame.states;

    std::vector<SparseRow<Real>> rows(static_cast<std::size_t>(m)), e(static_cast<std::size_t>(m));
    addEntries(rows, stamp.f, 0);
    addEntries(rows, stamp.hx, m);
    addEntries(rows, stamp.bw, m + nx);
    addEntries(e, stamp.e, 0);
    sortRows(rows);
    sortRows(e);
    equilibrate(rows, e, m);
    std::vector<Eigen::Triplet<Real>> rates;
    for (const Triplet& entry : stamp.k) rates.emplace_back(entry.row, entry.column, static_cast<Real>(entry.value));
    Sparse<Real> sparseK(nx, m);
    sparseK.setFromTriplets(rates.begin(), rates.end());

    const Elimination<Real> elimination(std::move(rows), m, n);
    Matrix<Real> kernel;
    elimination.solve(readout, kernel);
    projector = Matrix<Real>::Identity(n, n);
    Projection projection;
    if (elimination.freeCount() > 0)
        complete(frame, elimination, kernel, Matrix<Real>(sparseK), std::move(e), projection);
    if (!illPosedUnknowns.empty()) return;

    generator = Matrix<Real>::Zero(n, n);
    generator.topRows(nx) = sparseK * readout;
    generator.bottomRightCorner(frame.sources, frame.sources) = frame.sourceDynamics;
    if (projects) {
        projection.applyRight(readout);
        projection.applyLeft(generator);
        projection.applyRight(generator);
    }
    readoutRows_.look(readout);
    generatorRows_.look(generator);
}

/// Fixes what F leaves open, and finds what it asks of the states.
template <class Real>
void Configuration<Real>::complete(const Frame<Real>& frame, const Elimination<Real>& elimination,
                                   const Matrix<Real>& kernel, const Matrix<Real>& k, std::vector<SparseRow<Real>> e,
                                   Projection& projection) {
    const int n = frame.size(), m = frame.unknowns, nx = frame.states, free = elimination.freeCount();
    const Matrix<Real> h = elimination.consistency(), hx = h.leftCols(nx);
    Matrix<Real> q = hx * k * kernel;
    clean(q, Matrix<Real>(hx.cwiseAbs() * k.cwiseAbs() * kernel.cwiseAbs()));
    const Split<Real> split = splitByRank(q);
    const int rest = free - split.rank;

    // Conditions on what is open: the derivative of the consistency condition, then the vanishing resistances.
    Matrix<Real> conditions(free, m), known = Matrix<Real>::Zero(free, n), relaxed;
    conditions.topRows(split.rank) = split.left1.transpose() * hx * k;
    if (rest > 0) {
        relaxed = split.left2.transpose() * elimination.leftOf(std::move(e));
        conditions.bottomRows(rest) = relaxed;
    }
    known.topRightCorner(split.rank, frame.sources) =
        split.left1.transpose() * h.rightCols(frame.sources) * frame.sourceDynamics;
    known += conditions * readout;
    const Matrix<Real> t = conditions * kernel;
    const Vector<Real> tScales = rowScales(t);
    Eigen::FullPivLU<Matrix<Real>> tLu;
    tLu.setThreshold(Real(1e-10));
    tLu.compute(Matrix<Real>(tScales.asDiagonal() * t));
    if (!tLu.isInvertible()) {
        illPosedUnknowns = largestEntries(Vector<Real>(kernel * tLu.kernel().col(0)));
        return;
    }
    readout -= kernel * tLu.solve(Matrix<Real>(tScales.asDiagonal() * known));

    if (split.rank > 0) {
        Matrix<Real> jump = Matrix<Real>::Zero(free, n), bound = jump;
        jump.topRows(split.rank) = split.left1.transpose() * h;
        bound.topRows(split.rank) = split.left1.cwiseAbs().transpose() * h.cwiseAbs();
        clean(jump, bound);
        projection.jump = tLu.solve(Matrix<Real>(tScales.asDiagonal() * jump));
        projection.lift = -(k * kernel);
        impulse = -kernel * projection.jump;
        projector.topRows(nx) += projection.lift * projection.jump;
        projects = true;
    }
    if (rest > 0) {
        contradiction = split.left2.transpose() * h;
        clean(contradiction, Matrix<Real>(split.left2.cwiseAbs().transpose() * h.cwiseAbs()));
        const Matrix<Real> directions = kernel * split.right2;
        if (contradiction.cwiseAbs().maxCoeff() == 0) {
            contradiction.resize(0, n);
            shared = directions;
            for (int j = 0; j < shared.cols(); ++j) shared.col(j) /= shared.col(j).cwiseAbs().maxCoeff();
        } else {
            const Matrix<Real> g = relaxed * directions;
            infinite = directions * g.fullPivLu().solve(Matrix<Real>::Identity(rest, rest));
        }
    }
}

template <class Real>
std::size_t Configuration<Real>::bytes() const {
    return readoutRows_.bytes() + generatorRows_.bytes() +
           sizeof(Real) *
               static_cast<std::size_t>(readout.size() + projector.size() + impulse.size() + contradiction.size() +
                                        infinite.size() + shared.size() + generator.size());
}

template struct Configuration<double>;
template struct Configuration<long double>;

}  // namespace hedgerow::exact
