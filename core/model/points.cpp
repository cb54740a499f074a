#include "model/points.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>

#include "base/text.h"
#include "base/time.h"
#include "model/quantity.h"

namespace hedgerow {

namespace {

constexpr std::size_t mostPoints = 1'000'000;

/// "0 0, 1m 5": pairs of time and value.
Result<std::vector<TablePoint>> readPoints(const std::string& text, std::string_view unitBefore,
                                           std::string_view unit) {
    std::vector<TablePoint> points;
    std::size_t start = 0;
    while (start <= text.size()) {
        const std::size_t end = std::min(text.find_first_of(",;", start), text.size());
        std::string pair = text.substr(start, end - start);
        const std::size_t first = pair.find_first_not_of(" \t\n");
        start = end + 1;
        if (first == std::string::npos) {
            if (end == text.size() && !points.empty()) break;
            return Error{ErrorCode::syntax, "a pair of time and value was expected, as in '0 0, 1m 5'"};
        }
        const std::size_t gap = pair.find_first_of(" \t", first);
        if (gap == std::string::npos)
            return Error{ErrorCode::syntax, fmt::format("'{}' has no value behind the time", pair.substr(first))};
        auto t = evaluateField(pair.substr(first, gap - first), *findUnit(unitBefore), {});
        if (!t) return t.error();
        auto value = evaluateField(pair.substr(gap + 1), *findUnit(unit), {});
        if (!value) return value.error();
        points.push_back({*t, *value});
    }
    return points;
}

/// Lines of "time, value" with any further columns left out; one heading line is passed over.
Result<std::vector<TablePoint>> readTable(const std::string& name, const ProjectFolder& folder) {
    constexpr std::size_t mostBytes = std::size_t{64} << 20;
    auto text = folder.read(name, mostBytes);
    if (!text) return text.error();
    std::vector<TablePoint> points;
    std::size_t start = 0;
    for (int number = 1; start < text->size(); ++number) {
        const std::size_t end = std::min(text->find('\n', start), text->size());
        std::string line = text->substr(start, end - start);
        start = end + 1;
        std::replace(line.begin(), line.end(), ';', ',');
        if (line.find_first_not_of(" \t\r,") == std::string::npos) continue;
        const std::size_t comma = line.find(',');
        const std::string_view first = std::string_view(line).substr(0, comma),
                               second = comma == std::string::npos ? "" : std::string_view(line).substr(comma + 1);
        std::string_view rest;
        const auto t = numberIn(trimmed(first), &rest), value = numberIn(trimmed(second), &rest);
        if (!t || !value) {
            if (points.empty() && number == 1) continue;
            return Error{ErrorCode::syntax, fmt::format("{}, line {}: a time and a value were expected",
                                                        std::filesystem::path(name).filename().string(), number)};
        }
        points.push_back({*t, *value});
        if (points.size() > mostPoints)
            return Error{ErrorCode::resource, fmt::format("{} has more than {} lines", name, mostPoints)};
    }
    return points;
}

}  // namespace

Result<std::vector<TablePoint>> pointsOf(const std::string& text, std::string_view before, std::string_view unit,
                                         const ProjectFolder& folder) {
    auto points = text.ends_with(".csv") ? readTable(text, folder) : readPoints(text, before, unit);
    if (!points) return points.error();
    if (points->empty()) return Error{ErrorCode::range, "there are no points"};
    for (std::size_t i = 0; i < points->size(); ++i) {
        if (before == "s" && std::abs((*points)[i].t) > longestRunSeconds)
            return Error{ErrorCode::range, fmt::format("point {} lies outside of the longest run", i + 1)};
        if (i > 0 && (*points)[i].t < (*points)[i - 1].t)
            return Error{ErrorCode::range,
                         fmt::format("the first numbers must rise, but point {} comes before point {}", i + 1, i)};
    }
    return points;
}

}  // namespace hedgerow
