#include "traces/limit_line.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "model/quantity.h"

namespace hedgerow {

Result<LimitLine> LimitLine::read(std::string_view text) {
    LimitLine line;
    while (!text.empty()) {
        const auto comma = std::min(text.find(','), text.size());
        std::string_view point = text.substr(0, comma);
        text.remove_prefix(std::min(text.size(), comma + 1));
        while (!point.empty() && point.front() == ' ') point.remove_prefix(1);
        while (!point.empty() && point.back() == ' ') point.remove_suffix(1);
        const auto space = point.rfind(' ');
        if (space == std::string_view::npos)
            return Error{ErrorCode::syntax, fmt::format("'{}' is no point: write frequency and limit, 150k 66", point)};
        const auto frequency = evaluateField(point.substr(0, space), *findUnit("Hz"));
        const auto limit = evaluate(point.substr(space + 1));
        if (!frequency) return frequency.error();
        if (!limit) return limit.error();
        if (!(*frequency > 0)) return Error{ErrorCode::range, "frequencies of a limit are above 0 Hz"};
        if (!line.points_.empty() && *frequency < line.points_.back().first)
            return Error{ErrorCode::range, "frequencies of a limit rise from point to point"};
        line.points_.emplace_back(*frequency, limit->value);
    }
    if (line.points_.size() < 2) return Error{ErrorCode::syntax, "a limit needs two points: 150k 66, 500k 56"};
    return line;
}

std::optional<double> LimitLine::at(double frequency) const {
    std::optional<double> least;
    for (std::size_t i = 0; i + 1 < points_.size(); ++i) {
        const auto [f0, a] = points_[i];
        const auto [f1, b] = points_[i + 1];
        if (frequency < f0 || frequency > f1) continue;
        const double here = f1 > f0 ? a + (b - a) * std::log(frequency / f0) / std::log(f1 / f0) : std::min(a, b);
        least = std::min(least.value_or(here), here);
    }
    return least;
}

}  // namespace hedgerow
