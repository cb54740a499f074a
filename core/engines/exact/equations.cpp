#include "engines/exact/equations.h"

#include <algorithm>
#include <cmath>

namespace hedgerow::exact {

namespace {

/// Puts triplets into rows, their columns shifted.
template <class Real>
void addEntries(std::vector<SparseRow<Real>>& rows, const std::vector<Triplet>& entries, int shift,
                const std::vector<int>& placeOf) {
    for (const Triplet& entry : entries)
        if (const int place = placeOf[static_cast<std::size_t>(entry.row)]; place >= 0)
            rows[static_cast<std::size_t>(place)].push_back({entry.column + shift, static_cast<Real>(entry.value)});
}

/// Adds up what falls on one place.
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

}  // namespace

template <class Real>
void equilibrate(SparseRow<Real>& row, SparseRow<Real>* e, int unknowns) {
    Real largest = 0;
    for (const auto& entry : row)
        if (entry.column < unknowns) largest = std::max(largest, std::abs(entry.value));
    if (largest == 0) return;
    const Real scale = std::ldexp(Real(1), -std::ilogb(largest));
    for (auto& entry : row) entry.value *= scale, entry.error *= scale;
    if (!e) return;
    for (auto& entry : *e) entry.value *= scale;
}

template <class Real>
std::vector<SparseRow<Real>> equationRows(const LinearStamp& stamp, const std::vector<int>& placeOf, int count,
                                          const StateLayout<Real>& layout, std::vector<SparseRow<Real>>* e) {
    std::vector<SparseRow<Real>> rows(static_cast<std::size_t>(count));
    addEntries(rows, stamp.f, 0, placeOf);
    addEntries(rows, stamp.hx, layout.unknowns, placeOf);
    addEntries(rows, stamp.bw, layout.unknowns + layout.states, placeOf);
    sortRows(rows);
    for (std::size_t r = 0; r < rows.size(); ++r) equilibrate(rows[r], e ? &(*e)[r] : nullptr, layout.unknowns);
    return rows;
}

template <class Real>
std::vector<SparseRow<Real>> relaxationRows(const LinearStamp& stamp, const std::vector<int>& placeOf, int count) {
    std::vector<SparseRow<Real>> rows(static_cast<std::size_t>(count));
    addEntries(rows, stamp.e, 0, placeOf);
    sortRows(rows);
    return rows;
}

template void equilibrate(SparseRow<double>&, SparseRow<double>*, int);
template void equilibrate(SparseRow<long double>&, SparseRow<long double>*, int);
template std::vector<SparseRow<double>> equationRows(const LinearStamp&, const std::vector<int>&, int,
                                                     const StateLayout<double>&, std::vector<SparseRow<double>>*);
template std::vector<SparseRow<long double>> equationRows(const LinearStamp&, const std::vector<int>&, int,
                                                          const StateLayout<long double>&,
                                                          std::vector<SparseRow<long double>>*);
template std::vector<SparseRow<double>> relaxationRows(const LinearStamp&, const std::vector<int>&, int);
template std::vector<SparseRow<long double>> relaxationRows(const LinearStamp&, const std::vector<int>&, int);

}  // namespace hedgerow::exact
