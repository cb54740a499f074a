#pragma once
// Rows of equations from what elements have stamped.

#include <vector>

#include "engines/exact/sparse.h"

namespace hedgerow::exact {

/// Multiplies a row of [F H], and the same row of E if there is one, by a power of two that brings its largest entry of
/// F close to one. Nothing is rounded: states that cancel each other still do so behind an off-resistance.
/// @param unknowns  columns of F
template <class Real>
void equilibrate(SparseRow<Real>& row, SparseRow<Real>* e, int unknowns);

/// Rows of [F Hx Bw]. @param placeOf  of each row of the network among `count`, or -1 for none
/// @param e  the same rows of E, which are equilibrated with them
template <class Real>
std::vector<SparseRow<Real>> equationRows(const LinearStamp& stamp, const std::vector<int>& placeOf, int count,
                                          const StateLayout<Real>& layout, std::vector<SparseRow<Real>>* e = nullptr);

/// Rows of E.
template <class Real>
std::vector<SparseRow<Real>> relaxationRows(const LinearStamp& stamp, const std::vector<int>& placeOf, int count);

}  // namespace hedgerow::exact
