#include "engines/exact/configuration.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::exact {

namespace {

constexpr double rankThreshold = 1e-12;

Matrix dense(const std::vector<Triplet>& entries, int rows, int columns) {
    Matrix matrix = Matrix::Zero(rows, columns);
    for (const Triplet& entry : entries) matrix(entry.row, entry.column) += entry.value;
    return matrix;
}

Vector rowScales(const Matrix& matrix) {
    Vector scales = matrix.cwiseAbs().rowwise().maxCoeff();
    for (double& s : scales) s = s > 0 ? 1.0 / s : 1.0;
    return scales;
}

/// Sets entries to zero that are rounding noise of the product they come from.
void clean(Matrix& product, const Matrix& bound) {
    product = (product.array().abs() < 1e-11 * bound.array()).select(0.0, product);
}

/// Columns with their largest entry at one.
Matrix normalised(Matrix columns) {
    for (int j = 0; j < columns.cols(); ++j) columns.col(j) /= columns.col(j).cwiseAbs().maxCoeff();
    return columns;
}

/// Bases of the kernels of F and of its transpose, k columns each; k = 0 for a regular matrix.
struct Kernels {
    Matrix right, left;
};
Kernels kernelsOf(const Matrix& f, const Eigen::FullPivLU<Matrix>& lu) {
    Eigen::FullPivLU<Matrix> transposed;
    transposed.setThreshold(rankThreshold);
    transposed.compute(f.transpose());
    return {normalised(lu.kernel()), normalised(transposed.kernel())};
}

/// Splits the kernels by the rank of Q: what the derivative of the consistency condition fixes, and what is left.
struct Split {
    int rank = 0;
    Matrix left1, left2, right2;
};
Split splitByRank(const Matrix& q, const Kernels& kernels) {
    const Vector rows = rowScales(q);
    const Matrix scaledRows = rows.asDiagonal() * q;
    const Vector columns = rowScales(scaledRows.transpose());
    const Matrix scaled = scaledRows * columns.asDiagonal();
    const Eigen::JacobiSVD<Matrix> svd(scaled, Eigen::ComputeFullU | Eigen::ComputeFullV);
    Split split;
    const double largest = svd.singularValues().size() ? svd.singularValues()(0) : 0.0;
    for (const double value : svd.singularValues())
        if (value > 1e-10 * std::max(largest, 1e-300)) ++split.rank;
    const Matrix left = kernels.left * rows.asDiagonal() * svd.matrixU();
    const Matrix right = kernels.right * columns.asDiagonal() * svd.matrixV();
    const int rest = static_cast<int>(q.rows()) - split.rank;
    split.left1 = left.leftCols(split.rank);
    split.left2 = rest > 0 ? normalised(left.rightCols(rest)) : Matrix(left.rows(), 0);
    split.right2 = rest > 0 ? normalised(right.rightCols(rest)) : Matrix(right.rows(), 0);
    return split;
}

std::vector<int> largestEntries(const Vector& direction) {
    std::vector<int> found;
    const double largest = direction.cwiseAbs().maxCoeff();
    for (int i = 0; i < direction.size(); ++i)
        if (std::abs(direction(i)) > 0.1 * largest) found.push_back(i);
    return found;
}

}  // namespace

Frame::Frame(const Network& net)
    : network(net),
      states(static_cast<int>(net.states.size())),
      sources(net.sourceCount),
      unknowns(net.unknownCount()),
      sourceDynamics(Matrix::Zero(net.sourceCount, net.sourceCount)),
      stateScale(states) {
    for (int i = 0; i < states; ++i) stateScale(i) = std::sqrt(net.states[static_cast<std::size_t>(i)].storage);
    for (std::size_t i = 0; i < net.sources.size(); ++i) {
        const int n = net.sources[i]->size();
        std::vector<double> block(static_cast<std::size_t>(n) * static_cast<std::size_t>(n), 0.0);
        net.sources[i]->dynamics(block);
        for (int r = 0; r < n; ++r)
            for (int c = 0; c < n; ++c)
                sourceDynamics(net.sourceOffsets[i] + r, net.sourceOffsets[i] + c) =
                    block[static_cast<std::size_t>(r * n + c)];
    }
}

Configuration::Configuration(const Frame& frame, const std::vector<int>& segments) {
    LinearStamp stamp(frame.network.nodeCount());
    for (std::size_t i = 0; i < frame.network.elements.size(); ++i)
        frame.network.elements[i]->stamp(stamp, segments[i]);
    solve(frame, stamp);
    if (illPosedUnknowns.empty()) addGuards(frame, segments);
}

void Configuration::solve(const Frame& frame, const LinearStamp& stamp) {
    const int n = frame.size(), m = frame.unknowns, nx = frame.states;
    Matrix f = dense(stamp.f, m, m);
    Matrix h(m, n);
    h << dense(stamp.hx, m, nx), dense(stamp.bw, m, frame.sources);
    Matrix e = dense(stamp.e, m, m);
    const Matrix k = dense(stamp.k, nx, m);
    const Vector scales = rowScales(f);
    f = scales.asDiagonal() * f;
    h = scales.asDiagonal() * h;
    e = scales.asDiagonal() * e;

    Eigen::FullPivLU<Matrix> lu;
    lu.setThreshold(rankThreshold);
    lu.compute(f);
    Matrix raw = lu.solve(h);
    projector = Matrix::Identity(n, n);
    if (lu.dimensionOfKernel() > 0) {
        const Kernels kernels = kernelsOf(f, lu);
        const Matrix hx = h.leftCols(nx);
        Matrix q = kernels.left.transpose() * hx * k * kernels.right;
        clean(q, kernels.left.cwiseAbs().transpose() * hx.cwiseAbs() * k.cwiseAbs() * kernels.right.cwiseAbs());
        const Split split = splitByRank(q, kernels);
        const int rest = static_cast<int>(q.rows()) - split.rank;

        // Conditions on what F leaves open: the derivative of the consistency condition, then the vanishing
        // resistances.
        Matrix conditions(q.rows(), m), known(q.rows(), n);
        conditions << split.left1.transpose() * hx * k, split.left2.transpose() * e;
        known.setZero();
        known.topRightCorner(split.rank, frame.sources) =
            split.left1.transpose() * h.rightCols(frame.sources) * frame.sourceDynamics;
        known += conditions * raw;
        Matrix t = conditions * kernels.right;
        const Vector tScales = rowScales(t);
        Eigen::FullPivLU<Matrix> tLu;
        tLu.setThreshold(1e-10);
        tLu.compute(tScales.asDiagonal() * t);
        if (!tLu.isInvertible()) {
            illPosedUnknowns = largestEntries(kernels.right * tLu.kernel().col(0));
            return;
        }
        raw -= kernels.right * tLu.solve(tScales.asDiagonal() * known);

        if (split.rank > 0) {
            Matrix jump = Matrix::Zero(q.rows(), n);
            jump.topRows(split.rank) = split.left1.transpose() * h;
            Matrix bound = Matrix::Zero(q.rows(), n);
            bound.topRows(split.rank) = split.left1.cwiseAbs().transpose() * h.cwiseAbs();
            clean(jump, bound);
            impulse = -kernels.right * tLu.solve(tScales.asDiagonal() * jump);
            projector.topRows(nx) += k * impulse;
            projects = true;
        }
        if (rest > 0) {
            contradiction = split.left2.transpose() * h;
            clean(contradiction, split.left2.cwiseAbs().transpose() * h.cwiseAbs());
            if (contradiction.cwiseAbs().maxCoeff() == 0.0) {
                contradiction.resize(0, n);
                shared = split.right2;
            } else {
                const Matrix g = split.left2.transpose() * e * split.right2;
                infinite = split.right2 * g.fullPivLu().solve(Matrix::Identity(rest, rest));
            }
        }
    }
    Matrix free(n, n);
    free.setZero();
    free.topRows(nx) = k * raw;
    free.bottomRightCorner(frame.sources, frame.sources) = frame.sourceDynamics;
    readout = raw * projector;
    generator = projector * free * projector;
    readoutRate = readout * generator;
}

void Configuration::addGuards(const Frame& frame, const std::vector<int>& segments) {
    for (std::size_t i = 0; i < frame.network.elements.size(); ++i) {
        for (Guard& guard : frame.network.elements[i]->guards(segments[i])) {
            GuardRow row;
            row.element = static_cast<int>(i);
            row.next = guard.next;
            row.value = Eigen::RowVectorXd::Zero(frame.size());
            for (const auto& [column, factor] : guard.terms) row.value += factor * readout.row(column);
            row.value(frame.states) += guard.constant;
            row.rate = row.value * generator;
            row.reach = row.value.cwiseAbs();
            row.ofVoltage = guard.terms.empty() || guard.terms.front().first < frame.network.nodeCount();
            row.terms = std::move(guard.terms);
            guards.push_back(std::move(row));
        }
    }
}

}  // namespace hedgerow::exact
