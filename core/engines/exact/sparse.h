#pragma once
// Matrices of mostly zeros. What cancels to rounding in a sum is left out of it, so that zeros stay zeros.

#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>
#include <vector>

#include <Eigen/SparseCore>

#include "engines/exact/state_layout.h"

namespace hedgerow::exact {

/// A matrix of mostly zeros, row by row. It is moved where it can be, which that of the library is not.
template <class Real>
class Sparse : public Eigen::SparseMatrix<Real, Eigen::RowMajor> {
    using Base = Eigen::SparseMatrix<Real, Eigen::RowMajor>;

public:
    using Base::Base;
    using Base::operator=;
    Sparse() = default;
    Sparse(const Sparse&) = default;
    Sparse(Sparse&& other) { Base::swap(other); }
    Sparse& operator=(const Sparse&) = default;
    Sparse& operator=(Sparse&& other) {
        Base::swap(other);
        return *this;
    }
};

template <class Real>
struct SparseEntry {
    int column;
    Real value;
    Real error = 0;  ///< rounding in it, beyond that of the number itself
};
/// Entries by rising column.
template <class Real>
using SparseRow = std::vector<SparseEntry<Real>>;

/// Adds up a row whose entries come in any order.
template <class Real>
class RowSum {
public:
    explicit RowSum(int columns) {
        spare().swap(room_);
        if (room_.places.size() < static_cast<std::size_t>(columns))
            room_.places.resize(static_cast<std::size_t>(columns));
    }
    ~RowSum() { room_.swap(spare()); }
    RowSum(const RowSum&) = delete;
    RowSum& operator=(const RowSum&) = delete;

    void add(int column, Real value) {
        if (value == 0) return;
        Place& place = room_.places[static_cast<std::size_t>(column)];
        if (place.bound == 0) room_.touched.push_back(column);
        place.value += value;
        place.bound += std::abs(value);
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
    static constexpr Real rounding = 32 * std::numeric_limits<Real>::epsilon();
    /// Appends the sum to a row, and is zero again. Left out is what has cancelled to less than `noise`, or than a part
    /// of its terms.
    void take(SparseRow<Real>& row, Real noise = 0, Real part = rounding) {
        std::vector<int>& touched = room_.touched;
        if (!std::is_sorted(touched.begin(), touched.end())) std::sort(touched.begin(), touched.end());
        for (const int column : touched) {
            Place& place = room_.places[static_cast<std::size_t>(column)];
            const Real size = std::abs(place.value);
            if (size == place.bound)
                row.push_back({column, place.value});
            else if (size > std::max(noise, part * place.bound))
                row.push_back({column, place.value, std::numeric_limits<Real>::epsilon() * place.bound});
            place = {};
        }
        touched.clear();
    }

private:
    struct Place {
        Real value = 0, bound = 0;  ///< bound: the sum of absolute values
    };
    struct Room {
        std::vector<Place> places;  ///< all zero between two sums
        std::vector<int> touched;
        void swap(Room& other) {
            places.swap(other.places);
            touched.swap(other.touched);
        }
    };
    /// Kept from one sum to the next: matrices are small, and many.
    static Room& spare() {
        thread_local Room kept;
        return kept;
    }
    Room room_;
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

/// Makes a matrix row by row. @param appendRow  appends the entries of a row to those of the rows before it
template <class Real, class AppendRow>
Sparse<Real> byRows(Eigen::Index rows, Eigen::Index columns, AppendRow&& appendRow) {
    thread_local SparseRow<Real> kept;
    SparseRow<Real> entries;
    entries.swap(kept);
    entries.clear();
    Sparse<Real> result(rows, columns);
    for (Eigen::Index i = 0; i < rows; ++i) {
        appendRow(i, entries);
        result.outerIndexPtr()[i + 1] = static_cast<int>(entries.size());
    }
    result.resizeNonZeros(static_cast<Eigen::Index>(entries.size()));
    for (std::size_t k = 0; k < entries.size(); ++k) {
        result.innerIndexPtr()[k] = entries[k].column;
        result.valuePtr()[k] = entries[k].value;
    }
    entries.swap(kept);
    return result;
}

template <class Real>
Sparse<Real> fromTriplets(Eigen::Index rows, Eigen::Index columns, const std::vector<Triplet>& entries) {
    std::vector<Eigen::Triplet<Real>> list;
    for (const Triplet& t : entries) list.emplace_back(t.row, t.column, static_cast<Real>(t.value));
    Sparse<Real> result(rows, columns);
    result.setFromTriplets(list.begin(), list.end());
    return result;
}

/// Appends some columns of a row of a matrix, shifted.
template <class Real>
void appendPart(const Sparse<Real>& of, Eigen::Index i, Eigen::Index from, Eigen::Index to, Eigen::Index shift,
                SparseRow<Real>& row) {
    for (typename Sparse<Real>::InnerIterator at(of, i); at; ++at)
        if (at.col() >= from && at.col() < to) row.push_back({static_cast<int>(at.col() - from + shift), at.value()});
}
template <class Real>
void appendRow(const Sparse<Real>& of, Eigen::Index i, SparseRow<Real>& row) {
    appendPart(of, i, 0, of.cols(), 0, row);
}

/// Some rows of a matrix.
template <class Real>
Sparse<Real> chosen(const Sparse<Real>& from, const std::vector<int>& rows) {
    return byRows<Real>(static_cast<Eigen::Index>(rows.size()), from.cols(), [&](Eigen::Index i, SparseRow<Real>& row) {
        appendRow(from, rows[static_cast<std::size_t>(i)], row);
    });
}

/// a b. @param rounding  of the terms of a sum: what cancels to less is left out
template <class Real>
Sparse<Real> multiply(const Sparse<Real>& a, const Sparse<Real>& b, Real rounding = RowSum<Real>::rounding) {
    RowSum<Real> sum(static_cast<int>(b.cols()));
    return byRows<Real>(a.rows(), b.cols(), [&](Eigen::Index i, SparseRow<Real>& row) {
        sum.addProduct(a, i, b);
        sum.take(row, 0, rounding);
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
        const bool first = i < above.rows();
        appendRow(first ? above : below, first ? i : i - above.rows(), row);
    });
}

/// A matrix that products go by in full, or by its entries where most of them are zeros.
template <class Real>
class Rows {
public:
    Rows() = default;
    Rows(Sparse<Real> entries, bool inFull) : entries_(std::move(entries)), inFull_(inFull) {
        if (inFull_) full_ = entries_;
    }
    Eigen::Index rows() const { return entries_.rows(); }
    Eigen::Index columns() const { return entries_.cols(); }
    Eigen::Index size() const { return entries_.size(); }
    const Sparse<Real>& entries() const { return entries_; }
    /// Made when it is asked for.
    const Matrix<Real>& full() const {
        if (full_.size() == 0) full_ = entries_;
        return full_;
    }
    /// out = rows x.
    void apply(const Real* x, Real* out) const { inFull_ ? multiply(full_, x, out) : multiply(entries_, x, out); }
    Rows above(const Rows& other) const { return {stacked(entries_, other.entries_), inFull_}; }
    Rows times(const Rows& other) const { return {multiply(entries_, other.entries_), inFull_}; }
    /// What that costs, in multiplications.
    double cost() const { return static_cast<double>(inFull_ ? size() : 2 * entries_.nonZeros()); }
    std::size_t bytes() const {
        return sizeof(Real) * static_cast<std::size_t>(full_.size()) +
               (sizeof(Real) + sizeof(int)) * static_cast<std::size_t>(entries_.nonZeros()) +
               sizeof(int) * static_cast<std::size_t>(rows());
    }

private:
    Sparse<Real> entries_;
    mutable Matrix<Real> full_;
    bool inFull_ = true;
};

}  // namespace hedgerow::exact
