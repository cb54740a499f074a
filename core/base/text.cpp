#include "base/text.h"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>

namespace hedgerow {

namespace {
bool isBlank(char c) { return c == ' ' || c == '\t' || c == '\n' || c == '\r'; }
}  // namespace

std::string lowerCase(std::string_view text) {
    std::string lower(text);
    for (char& c : lower)
        if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
    return lower;
}

std::string upperCase(std::string_view text) {
    std::string upper(text);
    for (char& c : upper)
        if (c >= 'a' && c <= 'z') c = static_cast<char>(c - 'a' + 'A');
    return upper;
}

std::string_view trimmed(std::string_view text) {
    while (!text.empty() && isBlank(text.front())) text.remove_prefix(1);
    while (!text.empty() && isBlank(text.back())) text.remove_suffix(1);
    return text;
}

std::vector<std::string> words(std::string_view text) {
    std::vector<std::string> found;
    std::size_t at = 0;
    while (at < text.size()) {
        while (at < text.size() && isBlank(text[at])) ++at;
        const std::size_t start = at;
        while (at < text.size() && !isBlank(text[at])) ++at;
        if (at > start) found.emplace_back(text.substr(start, at - start));
    }
    return found;
}

std::string joined(const std::vector<std::string>& pieces, std::string_view separator) {
    std::string all;
    for (std::size_t i = 0; i < pieces.size(); ++i) {
        if (i > 0) all += separator;
        all += pieces[i];
    }
    return all;
}

std::string listed(const std::vector<std::string>& names) {
    if (names.empty()) return {};
    if (names.size() == 1) return names.front();
    const std::vector<std::string> head(names.begin(), names.end() - 1);
    return joined(head, ", ") + " and " + names.back();
}

std::optional<double> numberIn(std::string_view text, std::string_view* rest) {
    if (text.starts_with('+') && !text.starts_with("+-")) text.remove_prefix(1);
    double value = 0;
    const auto read = std::from_chars(text.data(), text.data() + text.size(), value);
    text.remove_prefix(static_cast<std::size_t>(read.ptr - text.data()));
    if (read.ec != std::errc() || !std::isfinite(value) || (!rest && !text.empty())) return {};
    if (rest) *rest = text;
    return value;
}

bool isIdentifier(std::string_view text) {
    if (text.empty() || std::isdigit(static_cast<unsigned char>(text.front()))) return false;
    return std::all_of(text.begin(), text.end(),
                       [](char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '_'; });
}

int characterCount(std::string_view text, std::size_t offset) {
    const std::string_view head = text.substr(0, std::min(offset, text.size()));
    return static_cast<int>(std::count_if(head.begin(), head.end(), [](char c) { return (c & 0xC0) != 0x80; }));
}

}  // namespace hedgerow
