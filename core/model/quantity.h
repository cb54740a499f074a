#pragma once
// Numbers with units, as engineers type and read them: `47u`, `4k7`, `10 mH`, `1/fsw`.

#include <array>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace hedgerow {

/// Exponents of metre, kilogram, second, ampere, kelvin and radian.
struct Dimension {
    std::array<signed char, 6> exponents{};

    bool plain() const { return exponents == std::array<signed char, 6>{}; }
    friend bool operator==(const Dimension&, const Dimension&) = default;
    Dimension operator*(const Dimension& other) const;
    Dimension operator/(const Dimension& other) const;
};

/// A unit by its symbol. `scale` turns a number in this unit into SI (1 except for degrees, percent and minutes).
struct Unit {
    std::string symbol;
    Dimension dimension;
    double scale = 1.0;
};

/// Finds a unit by symbol ("V", "ohm" or "Ω", "Hz", "deg", "%", "" for plain numbers).
std::optional<Unit> findUnit(std::string_view symbol);
/// The symbol of a known unit with this dimension, or a product of base units ("kg·m²" style), "" when plain.
std::string symbolOf(const Dimension& dimension);

/// A number in SI with its dimension.
struct Quantity {
    double value = 0.0;
    Dimension dimension;
};

/// Gives the value of a named parameter, or why it has none.
using ParameterLookup = std::function<Result<Quantity>(std::string_view name)>;

/// Evaluates an expression: numbers with SI prefixes and units, + - * / ^, parentheses, pi, the functions
/// sqrt abs exp ln log10 sin cos tan min max, and parameters found by `lookup`.
/// Errors carry `position`, the 0-based character that is wrong.
Result<Quantity> evaluate(std::string_view text, const ParameterLookup& lookup = {});

/// Evaluates `text` for a field measured in `unit`. A number without a unit takes the field's unit; any other unit
/// is an error. Returns SI.
Result<double> evaluateField(std::string_view text, const Unit& unit, const ParameterLookup& lookup = {});

/// Names of the parameters an expression uses, in order of appearance, each once. Empty when it cannot be read.
std::vector<std::string> parametersIn(std::string_view text);
/// The expression with one of its parameters renamed.
std::string withRenamed(std::string_view text, std::string_view from, std::string_view to);

/// The typed number moved along the E24 series of preferred values (IEC 60063), or E96 when `fine`; its unit stays.
/// Nothing when the text is not a plain number, or zero.
std::optional<std::string> steppedValue(std::string_view typed, int steps, bool fine = false);

/// Engineering notation with SI spacing: "47 µH", "3.3 kΩ", "−12 A". `digits` significant digits (1 to 15), trailing
/// zeros dropped. Plain numbers (no unit) take a prefix only below 0.001 and from a million. Not-a-number is shown as
/// "–".
std::string formatQuantity(double value, std::string_view unit, int digits = 4);
/// As formatQuantity without the letters of the unit: "412 m" for 0.412 V in a column headed V.
std::string formatPrefixed(double value, int digits = 4);
/// The mantissa and the prefixed unit apart, for aligned columns.
struct FormattedQuantity {
    std::string number;
    std::string unit;
};
FormattedQuantity formatParts(double value, std::string_view unit, int digits = 4);

}  // namespace hedgerow
