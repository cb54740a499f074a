#pragma once
// Products of a matrix that may be mostly zeros.

#include <vector>

#include "engines/exact/frame.h"

namespace hedgerow::exact {

/// The entries of a matrix that are not zero, row by row: kept where that makes products cheaper. The sum of each row
/// runs from the first column to the last, so that the result has the bits of the full product.
template <class Real>
class SparseRows {
public:
    /// Takes note of the matrix, which must live as long. @param worth  from which size on zeros are looked for
    void look(const Matrix<Real>& matrix, Eigen::Index worth = 4096) {
        starts_.clear();
        if (matrix.size() < worth) return;
        const auto filled = (matrix.array() != Real(0)).count();
        if (filled * leastZeros > matrix.size()) return;
        starts_.push_back(0);
        columns_.clear();
        values_.clear();
        columns_.reserve(static_cast<std::size_t>(filled));
        values_.reserve(static_cast<std::size_t>(filled));
        starts_.reserve(static_cast<std::size_t>(matrix.rows()) + 1);
        for (Eigen::Index i = 0; i < matrix.rows(); ++i) {
            for (Eigen::Index j = 0; j < matrix.cols(); ++j) {
                if (matrix(i, j) == Real(0)) continue;
                columns_.push_back(static_cast<int>(j));
                values_.push_back(matrix(i, j));
            }
            starts_.push_back(values_.size());
        }
    }
    bool sparse() const { return !starts_.empty(); }
    std::size_t filled() const { return values_.size(); }
    std::size_t bytes() const {
        return values_.size() * (sizeof(Real) + sizeof(int)) + starts_.size() * sizeof(std::size_t);
    }
    /// out = matrix x.
    void multiply(const Matrix<Real>& matrix, const Real* x, Real* out) const {
        if (!sparse()) return exact::multiply(matrix, x, out);
        for (std::size_t i = 0; i + 1 < starts_.size(); ++i) {
            Real sum = 0;
            for (std::size_t k = starts_[i]; k < starts_[i + 1]; ++k)
                sum += values_[k] * x[static_cast<std::size_t>(columns_[k])];
            out[i] = sum;
        }
    }

private:
    static constexpr Eigen::Index leastZeros = 4;  ///< entries to one that is not zero
    std::vector<std::size_t> starts_;
    std::vector<int> columns_;
    std::vector<Real> values_;
};

}  // namespace hedgerow::exact
