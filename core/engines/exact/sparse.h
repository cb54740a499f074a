#pragma once
// Matrices of mostly zeros. What cancels to rounding in a sum is left out of it, so that zeros stay zeros.

#include <algorithm>
#include <cmath>
#include <limits>
#include <vector>

#include <Eigen/SparseCore>

#include "engines/exact/frame.h"

namespace hedgerow::exact {

/// A matrix of mostly zeros, row by row.
template <class Real>
using Sparse = Eigen::SparseMatrix<Real, Eigen::RowMajor>;

template <class Real>
struct SparseEntry {
    int column;
    Real value;
};
/// Entries by rising column.
template <class Real>
using SparseRow = std::vector<SparseEntry<Real>>;

/// Adds up a row whose entries come in any order.
template <class Real>
class RowSum {
public:
    explicit RowSum(int columns)
        : values_(static_cast<std::size_t>(columns), Real(0)), bounds_(static_cast<std::size_t>(columns), Real(0)) {}

    void add(int column, Real value) {
        if (value == 0) return;
        const auto c = static_cast<std::size_t>(column);
        if (bounds_[c] == 0) touched_.push_back(column);
        values_[c] += value;
        bounds_[c] += std::abs(value);
    }
    /// factor * row i of m.
    void addRow(const Sparse<Real>& m, Eigen::Index i, Real factor) {
        for (typename Sparse<Real>::InnerIterator of(m, i); of; ++of)
            add(static_cast<int>(of.col()), factor * of.value());
    }
    /// factor * row i of a b.
    void addProduct(const Sparse<Real>& a, Eigen::Index i, const Sparse<Real>& b, Real factor = 1) {
        for (typename Sparse<Real>::InnerIterator of(a, i); of; ++of) addRow(b, of.col(), factor * of.value());
    }
    /// The sum, and zero again. Left out is what has cancelled to rounding, or to less than `noise`.
    void take(SparseRow<Real>& row, Real noise = 0) {
        std::sort(touched_.begin(), touched_.end());
        row.clear();
        for (const int column : touched_) {
            Real &value = values_[static_cast<std::size_t>(column)], &bound = bounds_[static_cast<std::size_t>(column)];
            const Real size = std::abs(value);
            if (size == bound || size > std::max(noise, 32 * std::numeric_limits<Real>::epsilon() * bound))
                row.push_back({column, value});
            value = bound = 0;
        }
        touched_.clear();
    }

private:
    std::vector<Real> values_, bounds_;  ///< bounds_: sums of absolute values
    std::vector<int> touched_;
};

/// out = m x. The sum of each row runs from the first column to the last.
template <class Real>
inline void multiply(const Sparse<Real>& m, const Real* x, Real* out) {
    const auto* const starts = m.outerIndexPtr();
    for (Eigen::Index i = 0; i < m.rows(); ++i) {
        Real sum = 0;
        for (auto k = starts[i]; k < starts[i + 1]; ++k) sum += m.valuePtr()[k] * x[m.innerIndexPtr()[k]];
        out[i] = sum;
    }
}

/// Writes the rows of a matrix one after the other.
template <class Real, class WriteRow>
Sparse<Real> byRows(Eigen::Index rows, Eigen::Index columns, WriteRow&& writeRow) {
    Sparse<Real> result(rows, columns);
    SparseRow<Real> row;
    for (Eigen::Index i = 0; i < rows; ++i) {
        result.startVec(i);
        writeRow(i, row);
        for (const SparseEntry<Real>& entry : row) result.insertBack(i, entry.column) = entry.value;
    }
    result.finalize();
    return result;
}

/// a b.
template <class Real>
Sparse<Real> multiply(const Sparse<Real>& a, const Sparse<Real>& b) {
    RowSum<Real> sum(static_cast<int>(b.cols()));
    return byRows<Real>(a.rows(), b.cols(), [&](Eigen::Index i, SparseRow<Real>& row) {
        sum.addProduct(a, i, b);
        sum.take(row);
    });
}

/// a + factor b c.
template <class Real>
Sparse<Real> addProduct(const Sparse<Real>& a, Real factor, const Sparse<Real>& b, const Sparse<Real>& c) {
    RowSum<Real> sum(static_cast<int>(a.cols()));
    return byRows<Real>(a.rows(), a.cols(), [&](Eigen::Index i, SparseRow<Real>& row) {
        sum.addRow(a, i, 1);
        sum.addProduct(b, i, c, factor);
        sum.take(row);
    });
}

/// One matrix above the other, of as many columns.
template <class Real>
Sparse<Real> stacked(const Sparse<Real>& above, const Sparse<Real>& below) {
    return byRows<Real>(above.rows() + below.rows(), above.cols(), [&](Eigen::Index i, SparseRow<Real>& row) {
        row.clear();
        const bool first = i < above.rows();
        for (typename Sparse<Real>::InnerIterator of(first ? above : below, first ? i : i - above.rows()); of; ++of)
            row.push_back({static_cast<int>(of.col()), of.value()});
    });
}

}  // namespace hedgerow::exact
