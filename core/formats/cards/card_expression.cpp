#include "formats/cards/card_expression.h"

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

}  // namespace hedgerow
