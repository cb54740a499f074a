#pragma once
// Constant expressions on makers' cards: "{2*ron + 1m}".

#include <map>
#include <string>
#include <string_view>

#include "base/result.h"

namespace hedgerow {

/// Values by names in capitals.
using CardParameters = std::map<std::string, double>;

/// A number with its factor, or an expression, with or without braces around it: + - * / ^ (also **), parentheses,
/// names of parameters, abs sqrt exp ln log10 sin cos tan atan min max pow. The error says what stands in the way.
Result<double> cardValue(std::string_view text, const CardParameters& parameters);

}  // namespace hedgerow
