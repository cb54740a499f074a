#pragma once
// Maxima that cannot hide a number that is none.

#include <algorithm>
#include <cmath>
#include <limits>

namespace hedgerow {

/// The larger of two magnitudes; infinite where one of them is no number, which std::max would pass over.
inline double largestOf(double a, double b) {
    return std::isnan(a) || std::isnan(b) ? std::numeric_limits<double>::infinity() : std::max(a, b);
}

}  // namespace hedgerow
