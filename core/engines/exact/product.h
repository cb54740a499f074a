#pragma once
// Products of a matrix and a vector: most of what the exact engine computes.

#include <cstddef>

namespace hedgerow::exact {

/// out = m x, m stored by columns. The sum of each row runs from the first column to the last, so that the result is
/// the same to the last bit whatever the processor offers. out must not overlap m or x.
void product(const double* m, std::size_t rows, std::size_t columns, const double* x, double* out);
void product(const long double* m, std::size_t rows, std::size_t columns, const long double* x, long double* out);

}  // namespace hedgerow::exact
