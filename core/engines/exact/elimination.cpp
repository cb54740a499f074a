#include "engines/exact/elimination.h"

#include <array>
#include <limits>

namespace hedgerow::exact {

namespace {

constexpr double roundings = 64;         ///< times the rounding in a difference: what is below is nothing else
constexpr double cancelled = 1e-14;      ///< of the two terms of a difference
constexpr std::size_t manyRows = 2000;   ///< beyond which rows are kept by their counts
constexpr double pivotThreshold = 0.01;  ///< of the largest entry of its row and of its column

template <class Real>
auto find(const SparseRow<Real>& row, int column) {
    return std::lower_bound(row.begin(), row.end(), column,
                            [](const SparseEntry<Real>& entry, int c) { return entry.column < c; });
}

template <class Real>
Real valueAt(const SparseRow<Real>& row, int column) {
    const auto place = find(row, column);
    return place != row.end() && place->column == column ? place->value : Real(0);
}

/// target - factor * source, without what cancels to rounding. Every entry carries the rounding in it: a small one, an
/// off-conductance beside a one, is as good as a large one.
template <class Real>
void combine(const SparseRow<Real>& target, const SparseRow<Real>& source, Real factor, SparseRow<Real>& result) {
    constexpr Real digit = std::numeric_limits<Real>::epsilon();
    result.clear();
    auto a = target.begin();
    auto b = source.begin();
    while (a != target.end() || b != source.end()) {
        if (b == source.end() || (a != target.end() && a->column < b->column)) {
            result.push_back(*a++);
        } else if (a == target.end() || b->column < a->column) {
            result.push_back({b->column, -factor * b->value, std::abs(factor) * b->error});
            ++b;
        } else {
            const Real product = factor * b->value, difference = a->value - product,
                       sizes = std::abs(a->value) + std::abs(product),
                       error = a->error + std::abs(factor) * b->error + digit * sizes;
            if (std::abs(difference) > std::max(Real(roundings) * error, Real(cancelled) * sizes))
                result.push_back({a->column, difference, error});
            ++a, ++b;
        }
    }
}

}  // namespace

template <class Real>
Elimination<Real>::Elimination(std::vector<SparseRow<Real>> rows, int unknowns, int rightColumns)
    : unknowns_(unknowns),
      rightColumns_(rightColumns),
      rows_(std::move(rows)),
      active_(rows_.size(), 1),
      pivoted_(static_cast<std::size_t>(unknowns), 0),
      rowCount_(rows_.size(), 0),
      columnCount_(static_cast<std::size_t>(unknowns), 0),
      many_(rows_.size() > manyRows),
      rowsOfColumn_(static_cast<std::size_t>(unknowns)) {
    for (std::size_t r = 0; r < rows_.size(); ++r) {
        rowCount_[r] = activeEntries(static_cast<int>(r));
        if (many_ && rowCount_[r] > 0) byCount_[rowCount_[r]].insert(static_cast<int>(r));
        for (int i = 0; i < rowCount_[r]; ++i) {
            const SparseEntry<Real>& entry = rows_[r][static_cast<std::size_t>(i)];
            ++columnCount_[static_cast<std::size_t>(entry.column)];
            rowsOfColumn_[static_cast<std::size_t>(entry.column)].push_back(static_cast<int>(r));
        }
    }
    for (Pivot pivot; choosePivot(pivot);) eliminate(pivot);
    for (int c = 0; c < unknowns_; ++c)
        if (!pivoted_[static_cast<std::size_t>(c)]) free_.push_back(c);
    for (std::size_t r = 0; r < rows_.size(); ++r)
        if (active_[r]) vanished_.push_back(static_cast<int>(r));
}

template <class Real>
int Elimination<Real>::activeEntries(int row) const {
    const SparseRow<Real>& entries = rows_[static_cast<std::size_t>(row)];
    return static_cast<int>(find(entries, unknowns_) - entries.begin());
}

/// Among the rows with the fewest entries, the entry with the fewest others in its column.
template <class Real>
bool Elimination<Real>::choosePivot(Pivot& best) const {
    constexpr std::size_t candidates = 4;
    int fewest = std::numeric_limits<int>::max();
    std::array<std::size_t, candidates> chosen{};
    std::size_t seen = 0;
    if (many_) {
        if (byCount_.empty()) return false;
        fewest = byCount_.begin()->first;
        for (const int r : byCount_.begin()->second) {
            chosen[seen++] = static_cast<std::size_t>(r);
            if (seen == candidates) break;
        }
    } else {
        for (std::size_t r = 0; r < rows_.size(); ++r)
            if (active_[r] && rowCount_[r] > 0) fewest = std::min(fewest, rowCount_[r]);
        if (fewest == std::numeric_limits<int>::max()) return false;
        for (std::size_t r = 0; r < rows_.size() && seen < candidates; ++r)
            if (active_[r] && rowCount_[r] == fewest) chosen[seen++] = r;
    }
    int bestCount = std::numeric_limits<int>::max();
    Real bestQuality = 0;
    for (std::size_t k = 0; k < seen; ++k) {
        const std::size_t r = chosen[k];
        Real largest = 0;
        for (int i = 0; i < fewest; ++i)
            largest = std::max(largest, std::abs(rows_[r][static_cast<std::size_t>(i)].value));
        for (int i = 0; i < fewest; ++i) {
            const SparseEntry<Real>& entry = rows_[r][static_cast<std::size_t>(i)];
            const auto column = static_cast<std::size_t>(entry.column);
            Real tallest = 0;
            for (const int other : rowsOfColumn_[column])
                if (active_[static_cast<std::size_t>(other)])
                    tallest =
                        std::max(tallest, std::abs(valueAt(rows_[static_cast<std::size_t>(other)], entry.column)));
            const Real quality = std::min(Real(pivotThreshold), std::abs(entry.value) / std::max(largest, tallest));
            if (quality < bestQuality || (quality == bestQuality && columnCount_[column] >= bestCount)) continue;
            bestQuality = quality;
            bestCount = columnCount_[column];
            best = {static_cast<int>(r), entry.column, entry.value};
        }
    }
    return true;
}

template <class Real>
void Elimination<Real>::eliminate(const Pivot& pivot) {
    const auto row = static_cast<std::size_t>(pivot.row), column = static_cast<std::size_t>(pivot.column);
    pivots_.push_back(pivot);
    active_[row] = 0;
    pivoted_[column] = 1;
    recount(pivot.row, 0);
    for (int i = 0; i < rowCount_[row]; ++i)
        --columnCount_[static_cast<std::size_t>(rows_[row][static_cast<std::size_t>(i)].column)];
    for (const int other : rowsOfColumn_[column]) {
        if (!active_[static_cast<std::size_t>(other)]) continue;
        const Real value = valueAt(rows_[static_cast<std::size_t>(other)], pivot.column);
        if (value != 0) subtract(other, pivot.row, value / pivot.value);
    }
    rowsOfColumn_[column].clear();
}

/// @param count  what an active row has now; 0 for one that is no longer looked at, whose own count stays
template <class Real>
void Elimination<Real>::recount(int row, int count) {
    const auto r = static_cast<std::size_t>(row);
    if (many_ && rowCount_[r] > 0) {
        const auto before = byCount_.find(rowCount_[r]);
        before->second.erase(row);
        if (before->second.empty()) byCount_.erase(before);
    }
    if (active_[r]) rowCount_[r] = count;
    if (many_ && count > 0) byCount_[count].insert(row);
}

template <class Real>
void Elimination<Real>::subtract(int target, int source, Real factor) {
    const auto t = static_cast<std::size_t>(target), s = static_cast<std::size_t>(source);
    operations_.push_back({target, source, factor});
    for (int i = 0; i < rowCount_[t]; ++i)
        --columnCount_[static_cast<std::size_t>(rows_[t][static_cast<std::size_t>(i)].column)];
    combine(rows_[t], rows_[s], factor, scratch_);
    const int pivotColumn = pivots_.back().column;
    std::erase_if(scratch_, [&](const SparseEntry<Real>& entry) { return entry.column == pivotColumn; });
    for (const SparseEntry<Real>& entry : scratch_) {
        if (entry.column >= unknowns_) break;
        auto& list = rowsOfColumn_[static_cast<std::size_t>(entry.column)];
        if (valueAt(rows_[t], entry.column) == 0) list.push_back(target);
    }
    rows_[t].swap(scratch_);
    recount(target, activeEntries(target));
    for (int i = 0; i < rowCount_[t]; ++i)
        ++columnCount_[static_cast<std::size_t>(rows_[t][static_cast<std::size_t>(i)].column)];
}

/// The columns from `from` on of the rows that have vanished.
template <class Real>
Sparse<Real> Elimination<Real>::vanished(const std::vector<SparseRow<Real>>& rows, int from, int columns) const {
    return byRows<Real>(vanishedCount(), columns, [&](Eigen::Index i, SparseRow<Real>& row) {
        for (const SparseEntry<Real>& entry : rows[static_cast<std::size_t>(vanished_[static_cast<std::size_t>(i)])])
            if (entry.column >= from) row.push_back({entry.column - from, entry.value});
    });
}

template <class Real>
Sparse<Real> Elimination<Real>::consistency() const {
    return vanished(rows_, unknowns_, rightColumns_);
}

template <class Real>
Sparse<Real> Elimination<Real>::leftOf(std::vector<SparseRow<Real>> m, int columns) const {
    SparseRow<Real> scratch;
    for (const Operation& o : operations_) {
        const SparseRow<Real>& source = m[static_cast<std::size_t>(o.source)];
        if (source.empty()) continue;
        combine(m[static_cast<std::size_t>(o.target)], source, o.factor, scratch);
        m[static_cast<std::size_t>(o.target)].swap(scratch);
    }
    return vanished(m, 0, columns);
}

template <class Real>
void Elimination<Real>::solve(Sparse<Real>& solution, Sparse<Real>& kernel) const {
    // Row by row from the last pivot to the first; right-hand columns and free directions side by side.
    std::vector<SparseRow<Real>> z(static_cast<std::size_t>(unknowns_));
    for (int i = 0; i < freeCount(); ++i)
        z[static_cast<std::size_t>(free_[static_cast<std::size_t>(i)])] = {{rightColumns_ + i, Real(1)}};
    RowSum<Real> sum(rightColumns_ + freeCount());
    for (auto pivot = pivots_.rbegin(); pivot != pivots_.rend(); ++pivot) {
        for (const SparseEntry<Real>& entry : rows_[static_cast<std::size_t>(pivot->row)]) {
            if (entry.column == pivot->column) continue;
            if (entry.column >= unknowns_)
                sum.add(entry.column - unknowns_, entry.value);
            else
                for (const SparseEntry<Real>& other : z[static_cast<std::size_t>(entry.column)])
                    sum.add(other.column, -entry.value * other.value);
        }
        SparseRow<Real>& row = z[static_cast<std::size_t>(pivot->column)];
        sum.take(row);
        for (SparseEntry<Real>& entry : row) entry.value /= pivot->value;
    }
    const auto columns = [&](int from, int to) {
        return byRows<Real>(unknowns_, to - from, [&](Eigen::Index i, SparseRow<Real>& row) {
            for (const SparseEntry<Real>& entry : z[static_cast<std::size_t>(i)])
                if (entry.column >= from && entry.column < to) row.push_back({entry.column - from, entry.value});
        });
    };
    solution = columns(0, rightColumns_);
    kernel = columns(rightColumns_, rightColumns_ + freeCount());
}

template class Elimination<double>;
template class Elimination<long double>;

}  // namespace hedgerow::exact
