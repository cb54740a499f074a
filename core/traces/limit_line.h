#pragma once
// A limit over frequency, as standards of conducted emission draw it: straight between points over the logarithm of the
// frequency.

#include <optional>
#include <string_view>
#include <utility>
#include <vector>

#include "base/result.h"

namespace hedgerow {

class LimitLine {
public:
    /// Reads "150k 66, 500k 56, 500k 56, 5M 56": frequency in Hz and limit, in rising order; equal frequencies make a
    /// step. At least two points.
    static Result<LimitLine> read(std::string_view text);

    /// Nothing outside the points. At a step the lower one.
    std::optional<double> at(double frequency) const;
    const std::vector<std::pair<double, double>>& points() const { return points_; }

private:
    std::vector<std::pair<double, double>> points_;
};

}  // namespace hedgerow
