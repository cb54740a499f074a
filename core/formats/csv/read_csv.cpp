#include "formats/csv/read_csv.h"

#include <algorithm>
#include <cmath>

#include <limits>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow {

namespace {

Error fault(int line, std::string message) {
    Error error{ErrorCode::file, fmt::format("line {}: {}", line, message)};
    error.line = line;
    return error;
}

/// The next line without its end; the text loses it.
std::string_view takeLine(std::string_view& text) {
    const std::size_t end = text.find('\n');
    std::string_view line = text.substr(0, end);
    text = end == std::string_view::npos ? std::string_view{} : text.substr(end + 1);
    if (line.ends_with('\r')) line.remove_suffix(1);
    return line;
}

/// Fields in double quotes may hold the separator (RFC 4180).
std::vector<std::string> fieldsOf(std::string_view line, char separator) {
    std::vector<std::string> fields(1);
    bool quoted = false;
    for (std::size_t i = 0; i < line.size(); ++i) {
        const char c = line[i];
        if (quoted && c == '"' && i + 1 < line.size() && line[i + 1] == '"')
            fields.back() += line[++i];
        else if (c == '"')
            quoted = !quoted;
        else if (c == separator && !quoted)
            fields.emplace_back();
        else
            fields.back() += c;
    }
    for (std::string& field : fields) field = std::string(trimmed(field));
    return fields;
}

/// A field is a number with a point or, where it cannot separate, a comma.
bool number(std::string field, char separator, double& value) {
    if (separator != ',') std::replace(field.begin(), field.end(), ',', '.');
    const auto read = numberIn(field);
    value = read.value_or(0);
    return read.has_value();
}

char separatorOf(std::string_view line) {
    for (const char candidate : {';', '\t', ','})
        if (line.find(candidate) != std::string_view::npos) return candidate;
    return ' ';
}

/// "out.v [mV]" or "out.v (mV)" as name and unit.
std::pair<std::string, std::string> nameAndUnit(const std::string& field) {
    for (const auto& [open, close] : {std::pair{'[', ']'}, {'(', ')'}})
        if (const std::size_t at = field.rfind(open); at != std::string::npos && field.ends_with(close) && at > 0)
            return {std::string(trimmed(field.substr(0, at))), field.substr(at + 1, field.size() - at - 2)};
    return {field, ""};
}

/// What one of a unit is in SI, and the symbol of that.
std::pair<double, std::string> unitOf(const std::string& typed) {
    if (typed.empty()) return {1.0, ""};
    const auto one = evaluate("1 " + typed);
    if (!one) return {1.0, typed};
    return {one->value, symbolOf(one->dimension)};
}

}  // namespace

Result<MeasuredData> readCsv(std::string_view text) {
    if (text.starts_with("\xef\xbb\xbf")) text.remove_prefix(3);
    MeasuredData data;
    std::vector<std::string> names, units;
    std::vector<double> scales;
    char separator = 0;
    bool numbersBegan = false;
    std::vector<std::vector<std::string>> heads;
    for (int line = 1; !text.empty(); ++line) {
        const std::string_view row = takeLine(text);
        if (trimmed(row).empty() || row.starts_with('#')) continue;
        if (!numbersBegan) separator = separatorOf(row);
        const std::vector<std::string> fields = separator == ' ' ? words(row) : fieldsOf(row, separator);
        double value = 0;
        if (!numbersBegan && !number(fields.front(), separator, value)) {
            if (heads.size() >= 8)
                return fault(line, "rows of numbers were expected below at most eight rows of names");
            heads.push_back(fields);
            continue;
        }
        if (!numbersBegan) {
            numbersBegan = true;
            const std::size_t columns = fields.size();
            if (columns < 2) return fault(line, "a time and at least one value were expected");
            if (columns > 10'000) return fault(line, "there are more than 10000 columns");
            names.assign(columns, "");
            units.assign(columns, "");
            std::erase_if(heads, [&](const auto& head) { return head.size() != columns; });
            // The last two heads that fit are names and units, or names with units in them.
            const std::vector<std::string>* unitRow = heads.size() >= 2 ? &heads.back() : nullptr;
            const std::vector<std::string>* nameRow = heads.empty() ? nullptr
                                                      : unitRow     ? &heads[heads.size() - 2]
                                                                    : &heads.back();
            for (std::size_t i = 0; i < columns; ++i) {
                std::tie(names[i], units[i]) =
                    nameRow ? nameAndUnit((*nameRow)[i]) : std::pair<std::string, std::string>{};
                if (unitRow)
                    units[i] = nameAndUnit("x " + (*unitRow)[i]).second.empty()
                                   ? (*unitRow)[i]
                                   : nameAndUnit("x " + (*unitRow)[i]).second;
                if (names[i].empty()) names[i] = fmt::format("column{}", i + 1);
                const auto [scale, symbol] = unitOf(units[i]);
                scales.push_back(scale);
                units[i] = symbol;
            }
            for (std::size_t i = 1; i < columns; ++i) data.columns.push_back({names[i], units[i], {}});
        }
        if (fields.size() != names.size())
            return fault(line, fmt::format("{} fields were expected here, there are {}", names.size(), fields.size()));
        for (std::size_t i = 0; i < fields.size(); ++i) {
            if (i > 0 && fields[i].empty())
                value = std::numeric_limits<double>::quiet_NaN();  // a gap
            else if (!number(fields[i], separator, value))
                return fault(line, fmt::format("'{}' in column {} is not a number", fields[i], i + 1));
            if (i == 0)
                data.times.push_back(value * scales[0]);
            else
                data.columns[i - 1].values.push_back(value * scales[i]);
        }
        if (data.times.size() > 1 && data.times.back() < data.times[data.times.size() - 2])
            return fault(line, "the time in the first column must not fall");
    }
    if (data.times.size() < 2) return fault(1, "at least two rows of numbers were expected");
    return data;
}

}  // namespace hedgerow
