#pragma once
// Expressions on makers' cards: constants as "{2*ron + 1m}", and formulas of voltages and currents.

#include <functional>
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace hedgerow {

/// Values by names in capitals.
using CardParameters = std::map<std::string, double>;

/// A number with its factor, or an expression, with or without braces around it: + - * / ^ (also **), parentheses,
/// names of parameters, abs sqrt exp ln log10 sin cos tan atan min max pow. The error says what stands in the way.
Result<double> cardValue(std::string_view text, const CardParameters& parameters);

/// An expression as a Formula reads it: every number written out, every known parameter as its value, u and uramp by
/// our names for them, and each v(...) and i(...) as `probe` gives it.
/// @param probe  'v' or 'i', and the names between the parentheses
std::string rewrittenExpression(std::string_view text, const CardParameters& parameters,
                                const std::function<std::string(char, const std::vector<std::string>&)>& probe);

}  // namespace hedgerow
