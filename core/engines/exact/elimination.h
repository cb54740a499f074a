#pragma once
// Solving F z = H y for sparse F of any rank: z = solution y + kernel u, with u free, and the rows of H that must
// vanish. Gaussian elimination with pivots of few entries that are not small in their row and column (I. S. Duff,
// A. M. Erisman, J. K. Reid, Direct Methods for Sparse Matrices, 2nd ed. 2017, ch. 5 and 7).

#include <map>
#include <set>
#include <vector>

#include "engines/exact/sparse.h"

namespace hedgerow::exact {

template <class Real>
class Elimination {
public:
    /// @param rows  any number of rows of [F H]: columns below `unknowns` are those of F, the others those of H
    Elimination(std::vector<SparseRow<Real>> rows, int unknowns, int rightColumns);

    /// The number of free directions: the dimension of the kernel of F.
    int freeCount() const { return static_cast<int>(free_.size()); }
    /// The dimension of the kernel of the transpose of F; the same where F is square.
    int vanishedCount() const { return static_cast<int>(vanished_.size()); }
    /// L^T H, vanishedCount x rightColumns, for a basis L of the kernel of the transpose of F: the consistency
    /// condition.
    Sparse<Real> consistency() const;
    /// L^T M for a matrix M with as many rows as F.
    Sparse<Real> leftOf(std::vector<SparseRow<Real>> m, int columns) const;
    /// One solution, unknowns x rightColumns, and a basis of the kernel of F, unknowns x freeCount.
    void solve(Sparse<Real>& solution, Sparse<Real>& kernel) const;

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
    void recount(int row, int count);

    Sparse<Real> vanished(const std::vector<SparseRow<Real>>& rows, int from, int columns) const;

    int unknowns_, rightColumns_;
    std::vector<SparseRow<Real>> rows_;
    std::vector<char> active_, pivoted_;  ///< per row; per column
    std::vector<int> rowCount_, columnCount_;
    /// Active rows that are not empty, by their counts: kept for many rows only, of which looking through all would
    /// take longer than the elimination.
    std::map<int, std::set<int>> byCount_;
    bool many_ = false;
    std::vector<std::vector<int>> rowsOfColumn_;  ///< active rows with an entry, and some that have lost it
    std::vector<Pivot> pivots_;
    std::vector<Operation> operations_;
    std::vector<int> free_, vanished_;  ///< columns without pivot; rows without
    SparseRow<Real> scratch_;
};

}  // namespace hedgerow::exact
