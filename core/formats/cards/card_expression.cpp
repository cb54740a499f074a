#include "formats/cards/card_expression.h"

#include <algorithm>
#include <cctype>
#include <cmath>

#include <fmt/format.h>

#include "base/formula.h"
#include "base/text.h"
#include "formats/cards/card_file.h"

namespace hedgerow {

Result<double> cardValue(std::string_view text, const CardParameters& parameters) {
    text = trimmed(text);
    if (auto number = cardNumber(text)) return number;
    const bool braces = text.size() >= 2 && text.front() == '{' && text.back() == '}';
    const std::string_view inside = braces ? text.substr(1, text.size() - 2) : text;
    const auto fault = [&](const std::string& why) {
        return Error{ErrorCode::syntax, fmt::format("'{}' is no number: {}", inside, why)};
    };
    const auto formula =
        Formula::read(inside, {.number = cardNumber, .constant = [&](const std::string& name) {
                                   const auto found = parameters.find(upperCase(name));
                                   return found == parameters.end() ? std::optional<double>() : found->second;
                               }});
    if (!formula) return fault(formula.error().message);
    const double value = formula->plain({});
    return std::isfinite(value) ? Result<double>(value) : fault("its value is not finite");
}

std::string rewrittenExpression(std::string_view text, const CardParameters& parameters,
                                const std::function<std::string(char, const std::vector<std::string>&)>& probe) {
    const auto isDigit = [](char c) { return std::isdigit(static_cast<unsigned char>(c)) || c == '.'; };
    const auto isWord = [](char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '_'; };
    std::string result;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t start = at;
        if (isDigit(text[at])) {
            while (at < text.size() && (isDigit(text[at]) || isWord(text[at]) ||
                                        ((text[at] == '-' || text[at] == '+') &&
                                         lowerCase(text.substr(at - 1, 1)) == "e" && isDigit(text[at - 2]))))
                ++at;
            const auto value = cardNumber(text.substr(start, at - start));
            result += value ? fmt::format("{:.17g}", *value) : std::string(text.substr(start, at - start));
        } else if (isWord(text[at])) {
            while (at < text.size() && isWord(text[at])) ++at;
            const std::string word(text.substr(start, at - start)), small = lowerCase(word);
            std::size_t open = at;
            while (open < text.size() && std::isspace(static_cast<unsigned char>(text[open]))) ++open;
            const bool call = open < text.size() && text[open] == '(';
            const std::size_t close = call ? text.find(')', open) : std::string_view::npos;
            if (close != std::string_view::npos && (small == "v" || small == "i")) {
                std::string inside(text.substr(open + 1, close - open - 1));
                std::replace(inside.begin(), inside.end(), ',', ' ');
                result += probe(small.front(), words(inside));
                at = close + 1;
            } else if (const auto found = parameters.find(upperCase(word)); found != parameters.end() && !call) {
                result += fmt::format("({:.17g})", found->second);
            } else {
                result += call && small == "u" ? "step" : call && small == "uramp" ? "ramp" : word;
            }
        } else {
            result += text[at++];
        }
    }
    return result;
}

}  // namespace hedgerow
