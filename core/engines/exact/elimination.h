#pragma once
// Solving F z = H y for sparse F of any rank: z = solution y + kernel u, with u free, and the rows of H that must
// vanish. Gaussian elimination with pivots of few entries that are not small in their row and column (I. S. Duff,
// A. M. Erisman, J. K. Reid, Direct Methods for Sparse Matrices, 2nd ed. 2017, ch. 5 and 7).

#include <vector>

#include "engines/exact/frame.h"

namespace hedgerow::exact {

template <class Real>
struct SparseEntry {
    int column;
    Real value;
};
/// Entries by rising column.
template <class Real>
using SparseRow = std::vector<SparseEntry<Real>>;

template <class Real>
class Elimination {
public:
    /// @param rows  unknowns rows of [F H]: columns below `unknowns` are those of F, the others those of H
    Elimination(std::vector<SparseRow<Real>> rows, int unknowns, int rightColumns);

    /// The number of free directions: the dimension of the kernel of F and of that of its transpose.
    int freeCount() const { return static_cast<int>(free_.size()); }
    /// L^T H, freeCount x rightColumns, for a basis L of the kernel of the transpose of F: the consistency condition.
    Matrix<Real> consistency() const;
    /// L^T M for a matrix M of `unknowns` rows and columns.
    Matrix<Real> leftOf(std::vector<SparseRow<Real>> m) const;
    /// One solution, unknowns x rightColumns, and a basis of the kernel of F, unknowns x freeCount.
    void solve(Matrix<Real>& solution, Matrix<Real>& kernel) const;

private:
    struct Operation {
        int target, source;  ///< row of target -= factor * row of source
        Real factor;
    };
    struct Pivot {
        int row, column;
        Real value;
    };
    bool choosePivot(Pivot& pivot) const;
    void eliminate(const Pivot& pivot);
    void subtract(int target, int source, Real factor);
    int activeEntries(int row) const;

    int unknowns_, rightColumns_;
    std::vector<SparseRow<Real>> rows_;
    std::vector<Real> size_;              ///< per row: the largest number that was ever part of it
    std::vector<char> active_, pivoted_;  ///< per row; per column
    std::vector<int> rowCount_, columnCount_;
    std::vector<std::vector<int>> rowsOfColumn_;  ///< active rows with an entry, and some that have lost it
    std::vector<Pivot> pivots_;
    std::vector<Operation> operations_;
    std::vector<int> free_, vanished_;  ///< columns without pivot; rows without
    SparseRow<Real> scratch_;
};

}  // namespace hedgerow::exact
