#pragma once
// Formulas as people type them, "2*ron + x^2": numbers with factors, names, functions; with exact derivatives.

#include <array>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace hedgerow {

class Formula {
public:
    static constexpr std::size_t mostInputs = 3;
    using Slopes = std::array<double, mostInputs>;
    struct Value {
        double value = 0;
        Slopes slopes{};  ///< by each input
    };

    /// What the text may name besides functions; all but `number` may be empty. Names come as they are typed.
    struct Names {
        /// "4.7k": a number with what is written behind it.
        std::function<Result<double>(std::string_view)> number = {};
        /// A constant by its name.
        std::function<std::optional<double>(const std::string&)> constant = {};
        /// An input by its name, 0 to mostInputs - 1.
        std::function<std::optional<std::size_t>(const std::string&)> input = {};
        /// An input that is written like a call: name, and what stands between its parentheses. Nothing:
        /// it is a function.
        std::function<std::optional<Result<std::size_t>>(const std::string&, std::string_view)> probe = {};
    };

    /// + - * / ^ (also **), from right to left; a sign before a power counts last: -2^2 = -4. Functions, in small
    /// letters or capitals: abs sqrt exp ln log (to ten, also log10) sin cos tan asin acos atan sinh cosh tanh asinh
    /// acosh atanh step (0 up to zero, else 1) ramp (x above zero, else 0), min max pow of two. The error says what
    /// stands in the way.
    static Result<Formula> read(std::string_view text, const Names& names);

    /// Defined for all inputs, so that no iteration breaks off: square roots and logarithms end at zero, exponentials
    /// go on straight beyond e^300, nothing is divided by less than 1e-30, and the power of a negative base with a
    /// broken exponent is that of its magnitude.
    /// @param inputs  mostInputs of them
    Value at(const Slopes& inputs) const;
    /// As mathematics has it: no number where it is not defined.
    double plain(const Slopes& inputs) const;
    /// Whether inputs matter: else it is a constant.
    bool isConstant() const;

private:
    enum class Op : unsigned char {
        constant,
        input,
        add,
        subtract,
        multiply,
        divide,
        power,
        negate,
        least,
        most,
        function
    };
    struct Step {
        Op op;
        unsigned char which = 0;  ///< of the inputs, or of the functions
        double value = 0;
    };
    friend class FormulaReader;

    std::vector<Step> steps_;  ///< in reverse Polish order; never needs more than `deepest` values at once
    static constexpr std::size_t deepest = 64;
};

}  // namespace hedgerow
