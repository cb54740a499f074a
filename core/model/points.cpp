#include "model/points.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <iterator>
#include <sstream>

#include <fmt/format.h>

#include "base/text.h"
#include "base/time.h"
#include "model/quantity.h"

namespace hedgerow {

namespace {

constexpr std::size_t mostPoints = 1'000'000;

std::vector<std::string> words(const std::string& text) {
    std::istringstream in(text);
    return {std::istream_iterator<std::string>(in), {}};
}
bool allNumbers(const std::vector<std::string>& words) {
    return std::all_of(words.begin(), words.end(), [](const std::string& word) {
        return static_cast<bool>(evaluateField(word, Unit{}, {}));
    });
}

/// "0 0, 1m 5": pairs of time and value, or a time with a value in each column.
Result<std::vector<TablePoint>> readPoints(const std::string& text, std::string_view unitBefore, std::string_view unit,
                                           int column) {
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
        std::string typed = pair.substr(gap + 1);
        // One value may be an expression with spaces; of several, each stands by itself.
        if (const auto columns = words(typed); columns.size() > 1 && (column > 1 || allNumbers(columns))) {
            if (columns.size() < static_cast<std::size_t>(column))
                return Error{ErrorCode::range,
                             fmt::format("point {} has no value in column {}", points.size() + 1, column)};
            typed = columns[static_cast<std::size_t>(column - 1)];
        } else if (column > 1) {
            return Error{ErrorCode::range, fmt::format("point {} has no value in column {}", points.size() + 1, column)};
        }
        auto value = evaluateField(typed, *findUnit(unit), {});
        if (!value) return value.error();
        points.push_back({*t, *value});
    }
    return points;
}

/// Lines of "time, value, value ..."; one heading line is passed over.
Result<std::vector<TablePoint>> readTable(const std::string& name, const ProjectFolder& folder, int column) {
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
        const std::string_view first = std::string_view(line).substr(0, comma);
        std::string_view behind = comma == std::string::npos ? "" : std::string_view(line).substr(comma + 1);
        for (int k = 1; k < column; ++k) {
            const std::size_t next = behind.find(',');
            behind = next == std::string_view::npos ? "" : behind.substr(next + 1);
        }
        std::string_view rest;
        const auto t = numberIn(trimmed(first), &rest), value = numberIn(trimmed(behind), &rest);
        if (!t || !value) {
            if (points.empty() && number == 1) continue;
            const std::string where = fmt::format("{}, line {}", std::filesystem::path(name).filename().string(), number);
            return Error{ErrorCode::syntax,
                         column > 1 ? fmt::format("{}: a time and a value in column {} were expected", where, column)
                                    : where + ": a time and a value were expected"};
        }
        points.push_back({*t, *value});
        if (points.size() > mostPoints)
            return Error{ErrorCode::resource, fmt::format("{} has more than {} lines", name, mostPoints)};
    }
    return points;
}

}  // namespace

Result<std::vector<TablePoint>> pointsOf(const std::string& text, std::string_view before, std::string_view unit,
                                         const ProjectFolder& folder, int column) {
    auto points = text.ends_with(".csv") ? readTable(text, folder, column) : readPoints(text, before, unit, column);
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
