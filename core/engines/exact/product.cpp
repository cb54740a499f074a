#include "engines/exact/product.h"

#include <cstring>

#include "engines/exact/wide.h"

namespace hedgerow::exact {

namespace {

constexpr std::size_t most = 8;

/// `Count` blocks of rows at once, so that their sums stay in registers; the last one begins at row `last`.
template <std::size_t Count>
[[gnu::always_inline]] inline void blocks(const double* m, std::size_t rows, std::size_t columns, std::size_t last,
                                          const double* x, double* out) {
    Lanes sum[Count] = {};
    for (std::size_t j = 0; j < columns; ++j, m += rows) {
#pragma GCC unroll 8
        for (std::size_t i = 0; i < Count; ++i) {
            Lanes part;
            std::memcpy(&part, m + (i + 1 < Count ? i * lanes : last), sizeof part);
            sum[i] += part * x[j];
        }
    }
    for (std::size_t i = 0; i < Count; ++i)
        std::memcpy(out + (i + 1 < Count ? i * lanes : last), &sum[i], sizeof(Lanes));
}

}  // namespace

HEDGEROW_WIDE void longProduct(const double* m, std::size_t rows, std::size_t columns, const double* x, double* out) {
    const std::size_t all = rows;
    for (; rows > lanes * most; rows -= lanes * most, m += lanes * most, out += lanes * most)
        blocks<most>(m, all, columns, lanes * (most - 1), x, out);
    // The last block overlaps the one before it where the rows do not fill it.
    const std::size_t last = rows - lanes;
    switch ((rows + lanes - 1) / lanes) {
        case 1:
            return blocks<1>(m, all, columns, last, x, out);
        case 2:
            return blocks<2>(m, all, columns, last, x, out);
        case 3:
            return blocks<3>(m, all, columns, last, x, out);
        case 4:
            return blocks<4>(m, all, columns, last, x, out);
        case 5:
            return blocks<5>(m, all, columns, last, x, out);
        case 6:
            return blocks<6>(m, all, columns, last, x, out);
        case 7:
            return blocks<7>(m, all, columns, last, x, out);
        case 8:
            return blocks<8>(m, all, columns, last, x, out);
    }
}

void longProduct(const long double* m, std::size_t rows, std::size_t columns, const long double* x, long double* out) {
    for (std::size_t i = 0; i < rows; ++i) out[i] = 0;
    for (std::size_t j = 0; j < columns; ++j)
        for (std::size_t i = 0; i < rows; ++i) out[i] += m[j * rows + i] * x[j];
}

}  // namespace hedgerow::exact
