#pragma once
// Products of a matrix and a vector: most of what the exact engine computes. Matrices are stored by columns. The sum of
// each row runs from the first column to the last, so that the result is the same to the last bit whatever the
// processor offers.

#include <cstddef>

namespace hedgerow::exact {

/// @pre of doubles at least four rows
void longProduct(const double* m, std::size_t rows, std::size_t columns, const double* x, double* out);
void longProduct(const long double* m, std::size_t rows, std::size_t columns, const long double* x, long double* out);

/// Of so few rows that a call would cost more than the sums.
template <std::size_t Rows, class Real>
inline void shortProduct(const Real* m, std::size_t columns, const Real* x, Real* out) {
    Real sum[Rows] = {};
    for (std::size_t j = 0; j < columns; ++j, m += Rows)
        for (std::size_t i = 0; i < Rows; ++i) sum[i] += m[i] * x[j];
    for (std::size_t i = 0; i < Rows; ++i) out[i] = sum[i];
}

/// out = m x. out must not overlap m or x.
template <class Real>
inline void product(const Real* m, std::size_t rows, std::size_t columns, const Real* x, Real* out) {
    switch (rows) {
        case 0:
            return;
        case 1:
            return shortProduct<1>(m, columns, x, out);
        case 2:
            return shortProduct<2>(m, columns, x, out);
        case 3:
            return shortProduct<3>(m, columns, x, out);
        case 4:
            return shortProduct<4>(m, columns, x, out);
    }
    longProduct(m, rows, columns, x, out);
}

}  // namespace hedgerow::exact
