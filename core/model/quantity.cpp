#include "model/quantity.h"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

namespace {

constexpr double pi = std::numbers::pi;

Dimension dimension(int metre, int kilogram, int second, int ampere, int kelvin = 0, int radian = 0) {
    const auto narrow = [](int e) { return static_cast<signed char>(e); };
    return {{narrow(metre), narrow(kilogram), narrow(second), narrow(ampere), narrow(kelvin), narrow(radian)}};
}

/// SI units (BIPM SI brochure, table 4) and the few others the trade types.
const std::vector<Unit>& units() {
    static const std::vector<Unit> all = {
        {"V", dimension(2, 1, -3, -1), 1},
        {"A", dimension(0, 0, 0, 1), 1},
        {"W", dimension(2, 1, -3, 0), 1},
        {"Ω", dimension(2, 1, -3, -2), 1},
        {"F", dimension(-2, -1, 4, 2), 1},
        {"H", dimension(2, 1, -2, -2), 1},
        {"s", dimension(0, 0, 1, 0), 1},
        {"Hz", dimension(0, 0, -1, 0), 1},
        {"C", dimension(0, 0, 1, 1), 1},
        {"J", dimension(2, 1, -2, 0), 1},
        {"K", dimension(0, 0, 0, 0, 1), 1},
        {"S", dimension(-2, -1, 3, 2), 1},
        {"Wb", dimension(2, 1, -2, -1), 1},
        {"N", dimension(1, 1, -2, 0), 1},
        {"Nm", dimension(2, 1, -2, 0), 1},
        {"rad", dimension(0, 0, 0, 0, 0, 1), 1},
        {"deg", dimension(0, 0, 0, 0, 0, 1), pi / 180},
        {"%", Dimension{}, 0.01},
    };
    return all;
}

struct Prefix {
    std::string_view symbol;
    double factor;
};
constexpr std::array<Prefix, 12> prefixes = {{{"f", 1e-15},
                                              {"p", 1e-12},
                                              {"n", 1e-9},
                                              {"u", 1e-6},
                                              {"µ", 1e-6},
                                              {"μ", 1e-6},
                                              {"m", 1e-3},
                                              {"k", 1e3},
                                              {"K", 1e3},
                                              {"M", 1e6},
                                              {"G", 1e9},
                                              {"T", 1e12}}};

const Prefix* findPrefix(std::string_view symbol) {
    for (const Prefix& prefix : prefixes)
        if (prefix.symbol == symbol) return &prefix;
    return nullptr;
}

bool isWordByte(char c) {
    return std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '%' || (c & 0x80) != 0;
}

/// Recursive descent over one expression.
class Parser {
public:
    struct Seen {
        std::string name;
        std::size_t at;  ///< byte
    };
    /// @param namesSeen  takes down the parameters instead of asking for their values
    Parser(std::string_view text, const ParameterLookup& lookup, std::vector<Seen>* namesSeen)
        : text_(text), lookup_(lookup), namesSeen_(namesSeen) {}

    Result<Quantity> whole() {
        skipBlanks();
        if (at_ == text_.size()) return fail(at_, "a value is missing");
        auto value = sum();
        if (!value) return value;
        if (at_ < text_.size()) return fail(at_, fmt::format("'{}' was not expected here", character(at_)));
        if (!std::isfinite(value->value)) return fail(0, "the value is not a finite number");
        return value;
    }

private:
    static constexpr int deepest = 200;

    Error fail(std::size_t at, std::string message, ErrorCode code = ErrorCode::syntax) const {
        Error error{code, std::move(message)};
        error.position = characterCount(text_, at);
        return error;
    }
    std::string character(std::size_t at) const {
        std::size_t end = at + 1;
        while (end < text_.size() && (text_[end] & 0xC0) == 0x80) ++end;
        return std::string(text_.substr(at, end - at));
    }
    void skipBlanks() {
        while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\t')) ++at_;
    }
    bool take(char c) {
        if (at_ >= text_.size() || text_[at_] != c) return false;
        ++at_;
        skipBlanks();
        return true;
    }
    std::string_view word() {
        const std::size_t start = at_;
        while (at_ < text_.size() && isWordByte(text_[at_])) ++at_;
        return text_.substr(start, at_ - start);
    }

    Result<Quantity> sum() {
        if (++depth_ > deepest) return fail(at_, "the expression is nested too deeply");
        auto left = product();
        while (left) {
            const std::size_t sign = at_;
            const bool plus = take('+');
            if (!plus && !take('-')) break;
            auto right = product();
            if (!right) return right;
            if (!namesSeen_ && !(left->dimension == right->dimension)) {
                const auto named = [](const Dimension& d) {
                    return d.plain() ? std::string("a plain number") : symbolOf(d);
                };
                return fail(sign,
                            fmt::format("{} and {} cannot be added", named(left->dimension), named(right->dimension)),
                            ErrorCode::unit);
            }
            left->value += plus ? right->value : -right->value;
        }
        --depth_;
        return left;
    }

    Result<Quantity> product() {
        auto left = signedPower();
        while (left) {
            const std::size_t sign = at_;
            const bool times = take('*');
            if (!times && !take('/')) break;
            auto right = signedPower();
            if (!right) return right;
            if (!times && right->value == 0.0) return fail(sign, "division by zero", ErrorCode::range);
            left->value = times ? left->value * right->value : left->value / right->value;
            left->dimension = times ? left->dimension * right->dimension : left->dimension / right->dimension;
        }
        return left;
    }

    Result<Quantity> signedPower() {
        if (++depth_ > deepest) return fail(at_, "the expression is nested too deeply");
        const bool minus = take('-');
        if (!minus) take('+');
        auto value =
            minus || (at_ < text_.size() && (text_[at_] == '-' || text_[at_] == '+')) ? signedPower() : power();
        if (value && minus) value->value = -value->value;
        --depth_;
        return value;
    }

    Result<Quantity> power() {
        auto base = primary();
        if (!base) return base;
        const std::size_t sign = at_;
        if (!take('^')) return base;
        auto exponent = signedPower();
        if (!exponent) return exponent;
        if (!exponent->dimension.plain()) return fail(sign, "an exponent has no unit", ErrorCode::unit);
        if (!base->dimension.plain()) {
            const double n = exponent->value;
            if (n != std::round(n) || std::abs(n) > 6)
                return fail(sign, "a value with a unit takes a whole exponent up to 6", ErrorCode::unit);
            Dimension raised;
            for (int i = 0; i < std::abs(static_cast<int>(n)); ++i)
                raised = n > 0 ? raised * base->dimension : raised / base->dimension;
            base->dimension = raised;
        }
        base->value = std::pow(base->value, exponent->value);
        return base;
    }

    Result<Quantity> primary() {
        if (at_ >= text_.size()) return fail(at_, "a value is missing at the end");
        const char c = text_[at_];
        if (c == '(') {
            const std::size_t open = at_;
            take('(');
            auto inner = sum();
            if (!inner) return inner;
            if (!take(')')) return fail(open, "this parenthesis is not closed");
            return inner;
        }
        if (std::isdigit(static_cast<unsigned char>(c)) || c == '.') return number();
        if (std::isalpha(static_cast<unsigned char>(c)) || c == '_') return nameOrCall();
        return fail(at_, fmt::format("'{}' was not expected here", character(at_)));
    }

    /// Digits, an optional exponent, then a prefix and a unit, in the forms 4.7k, 4k7, 10 mH, 5%.
    Result<Quantity> number() {
        const std::size_t start = at_;
        double value = 0;
        const auto read = std::from_chars(text_.data() + at_, text_.data() + text_.size(), value);
        if (read.ec != std::errc()) return fail(start, "this is not a number");
        at_ = static_cast<std::size_t>(read.ptr - text_.data());
        if (auto split = prefixAsPoint(start)) return *split;
        const std::size_t afterNumber = at_;
        skipBlanks();
        const std::size_t suffixAt = at_;
        const std::string_view suffix = word();
        if (suffix.empty()) {
            at_ = suffixAt;
            return Quantity{value, {}};
        }
        auto scaled = suffixed(value, suffix);
        if (!scaled) {
            if (suffixAt > afterNumber || !namesSeen_)
                return fail(suffixAt, fmt::format("'{}' is not a unit", suffix), ErrorCode::unit);
            return Quantity{value, {}};
        }
        skipBlanks();
        return *scaled;
    }

    /// 4k7 and 4R7 (IEC 60062): the letter stands where the decimal point was.
    std::optional<Quantity> prefixAsPoint(std::size_t start) {
        const std::string_view digits = text_.substr(start, at_ - start);
        if (!std::all_of(digits.begin(), digits.end(),
                         [](char c) { return std::isdigit(static_cast<unsigned char>(c)); }))
            return {};
        const std::size_t letterAt = at_;
        std::size_t next = letterAt;
        while (next < text_.size() && isWordByte(text_[next]) && !std::isdigit(static_cast<unsigned char>(text_[next])))
            ++next;
        const std::string_view letter = text_.substr(letterAt, next - letterAt);
        const Prefix* prefix = findPrefix(letter);
        if ((!prefix && letter != "R") || next >= text_.size() ||
            !std::isdigit(static_cast<unsigned char>(text_[next])))
            return {};
        std::size_t end = next;
        while (end < text_.size() && std::isdigit(static_cast<unsigned char>(text_[end]))) ++end;
        if (end < text_.size() && text_[end] == '.') return {};
        const std::string plain = std::string(digits) + "." + std::string(text_.substr(next, end - next));
        double value = 0;
        std::from_chars(plain.data(), plain.data() + plain.size(), value);
        at_ = end;
        const std::string_view suffix = word();
        Quantity quantity{value * (prefix ? prefix->factor : 1.0), {}};
        if (!suffix.empty()) {
            const auto unit = findUnit(suffix);
            if (!unit) {
                at_ = letterAt;
                return {};
            }
            quantity.dimension = unit->dimension;
            quantity.value *= unit->scale;
        }
        skipBlanks();
        return quantity;
    }

    static std::optional<Quantity> suffixed(double value, std::string_view suffix) {
        if (const auto unit = findUnit(suffix)) return Quantity{value * unit->scale, unit->dimension};
        for (const Prefix& prefix : prefixes) {
            if (!suffix.starts_with(prefix.symbol)) continue;
            const std::string_view rest = suffix.substr(prefix.symbol.size());
            if (rest.empty()) return Quantity{value * prefix.factor, {}};
            if (rest == "%") continue;
            if (const auto unit = findUnit(rest)) return Quantity{value * prefix.factor * unit->scale, unit->dimension};
        }
        return {};
    }

    Result<Quantity> nameOrCall() {
        const std::size_t start = at_;
        word();
        // Parameters of modules have names with dots.
        while (at_ + 1 < text_.size() && text_[at_] == '.' &&
               (std::isalpha(static_cast<unsigned char>(text_[at_ + 1])) || text_[at_ + 1] == '_')) {
            ++at_;
            word();
        }
        const std::string_view name = text_.substr(start, at_ - start);
        skipBlanks();
        if (at_ < text_.size() && text_[at_] == '(') return call(name, start);
        if (name == "pi") return Quantity{pi, {}};
        if (namesSeen_) {
            namesSeen_->push_back({std::string(name), start});
            return Quantity{1.0, {}};
        }
        if (!lookup_) return fail(start, fmt::format("'{}' is not a number", name), ErrorCode::name);
        auto value = lookup_(name);
        if (!value) {
            Error error = value.error();
            error.position = characterCount(text_, start);
            return error;
        }
        return value;
    }

    Result<Quantity> call(std::string_view name, std::size_t start) {
        take('(');
        std::vector<Quantity> arguments;
        do {
            auto argument = sum();
            if (!argument) return argument;
            arguments.push_back(*argument);
        } while (take(','));
        if (!take(')')) return fail(at_, "a closing parenthesis is missing");
        if (name == "min" || name == "max") {
            for (const Quantity& argument : arguments)
                if (!namesSeen_ && !(argument.dimension == arguments.front().dimension))
                    return fail(start, "the values of min and max need one unit", ErrorCode::unit);
            const auto less = [](const Quantity& a, const Quantity& b) { return a.value < b.value; };
            return name == "min" ? *std::min_element(arguments.begin(), arguments.end(), less)
                                 : *std::max_element(arguments.begin(), arguments.end(), less);
        }
        if (arguments.size() != 1) return fail(start, fmt::format("{} takes one value", name));
        return function(name, arguments.front(), start);
    }

    Result<Quantity> function(std::string_view name, Quantity x, std::size_t start) const {
        if (name == "abs") return Quantity{std::abs(x.value), x.dimension};
        if (name == "sqrt") {
            if (x.value < 0) return fail(start, "the root of a negative number", ErrorCode::range);
            Dimension half;
            for (std::size_t i = 0; i < half.exponents.size(); ++i) {
                if (x.dimension.exponents[i] % 2 != 0)
                    return fail(start, "the root of " + symbolOf(x.dimension) + " has no unit", ErrorCode::unit);
                half.exponents[i] = static_cast<signed char>(x.dimension.exponents[i] / 2);
            }
            return Quantity{std::sqrt(x.value), half};
        }
        using Function = double (*)(double);
        static const std::array<std::pair<std::string_view, Function>, 6> functions = {
            {{"exp", [](double v) { return std::exp(v); }},
             {"ln", [](double v) { return std::log(v); }},
             {"log10", [](double v) { return std::log10(v); }},
             {"sin", [](double v) { return std::sin(v); }},
             {"cos", [](double v) { return std::cos(v); }},
             {"tan", [](double v) { return std::tan(v); }}}};
        for (const auto& [known, apply] : functions) {
            if (known != name) continue;
            Dimension angle;
            angle.exponents[5] = x.dimension.exponents[5];
            if (!namesSeen_ && !(x.dimension == angle))
                return fail(start, fmt::format("{} takes a value without a unit", name), ErrorCode::unit);
            return Quantity{apply(x.value), {}};
        }
        return fail(start, fmt::format("there is no function '{}'", name), ErrorCode::name);
    }

    std::string_view text_;
    const ParameterLookup& lookup_;
    std::vector<Seen>* namesSeen_;
    std::size_t at_ = 0;
    int depth_ = 0;
};

}  // namespace

Dimension Dimension::operator*(const Dimension& other) const {
    Dimension result;
    for (std::size_t i = 0; i < exponents.size(); ++i)
        result.exponents[i] = static_cast<signed char>(exponents[i] + other.exponents[i]);
    return result;
}

Dimension Dimension::operator/(const Dimension& other) const {
    Dimension result;
    for (std::size_t i = 0; i < exponents.size(); ++i)
        result.exponents[i] = static_cast<signed char>(exponents[i] - other.exponents[i]);
    return result;
}

std::optional<Unit> findUnit(std::string_view symbol) {
    if (symbol.empty()) return Unit{};
    if (symbol == "ohm" || symbol == "Ohm" || symbol == "\u2126") symbol = "Ω";
    if (symbol == "°") symbol = "deg";
    for (const Unit& unit : units())
        if (unit.symbol == symbol) return unit;
    return {};
}

std::string symbolOf(const Dimension& wanted) {
    if (wanted.plain()) return "";
    for (const Unit& unit : units())
        if (unit.scale == 1.0 && unit.dimension == wanted) return unit.symbol;
    static constexpr std::array<std::string_view, 6> bases = {"m", "kg", "s", "A", "K", "rad"};
    std::vector<std::string> factors;
    for (std::size_t i = 0; i < bases.size(); ++i) {
        const int exponent = wanted.exponents[i];
        if (exponent == 1)
            factors.emplace_back(bases[i]);
        else if (exponent != 0)
            factors.push_back(fmt::format("{}^{}", bases[i], exponent));
    }
    return joined(factors, "·");
}

Result<Quantity> evaluate(std::string_view text, const ParameterLookup& lookup) {
    return Parser(text, lookup, nullptr).whole();
}

Result<double> evaluateField(std::string_view text, const Unit& unit, const ParameterLookup& lookup) {
    auto quantity = evaluate(text, lookup);
    if (!quantity) return quantity.error();
    if (quantity->dimension == unit.dimension && !unit.dimension.plain()) return quantity->value;
    if (!quantity->dimension.plain()) {
        return Error{ErrorCode::unit, fmt::format("this is in {}, the field takes {}", symbolOf(quantity->dimension),
                                                  unit.symbol.empty() ? "a plain number" : unit.symbol)};
    }
    // "%" is the one plain unit with a scale, and a plain field takes 0.3 and 30 % alike.
    return unit.dimension.plain() ? quantity->value : quantity->value * unit.scale;
}

namespace {
std::vector<Parser::Seen> namesIn(std::string_view text) {
    std::vector<Parser::Seen> names;
    const ParameterLookup none;
    Parser parser(text, none, &names);
    (void)parser.whole();
    return names;
}
}  // namespace

std::vector<std::string> parametersIn(std::string_view text) {
    std::vector<std::string> names;
    for (const Parser::Seen& seen : namesIn(text))
        if (std::find(names.begin(), names.end(), seen.name) == names.end()) names.push_back(seen.name);
    return names;
}

std::string withRenamed(std::string_view text, std::string_view from, std::string_view to) {
    std::string result(text);
    const auto seen = namesIn(text);
    for (auto name = seen.rbegin(); name != seen.rend(); ++name)
        if (name->name == from) result.replace(name->at, from.size(), to);
    return result;
}

std::optional<std::string> steppedValue(std::string_view typed, int steps, bool fine) {
    static constexpr std::array<int, 24> e24 = {100, 110, 120, 130, 150, 160, 180, 200, 220, 240, 270, 300,
                                                330, 360, 390, 430, 470, 510, 560, 620, 680, 750, 820, 910};
    if (typed.find_first_of("*/+()^") != std::string_view::npos || !parametersIn(typed).empty()) return {};
    const auto quantity = evaluate(typed);
    if (!quantity || quantity->value == 0) return {};
    // Each value by its place in an endless series: decade times the length of the series, plus the place in it.
    const int length = fine ? 96 : 24;
    const auto valueAt = [&](int place) {
        const int decade = place >= 0 ? place / length : -((length - 1 - place) / length), in = place - decade * length;
        const double mantissa = fine ? std::round(100 * std::pow(10.0, in / 96.0)) : e24[static_cast<std::size_t>(in)];
        return mantissa * std::pow(10.0, decade - 2);
    };
    const double size = std::abs(quantity->value);
    int place = static_cast<int>(std::floor(std::log10(size))) * length;
    while (valueAt(place + 1) <= size * (1 + 1e-9)) ++place;
    const bool between = valueAt(place) < size * (1 - 1e-9);
    place += steps + (between && steps < 0 ? 1 : 0);
    std::string text = formatPrefixed(std::copysign(valueAt(place), quantity->value), 3);
    std::erase(text, ' ');
    for (const auto& [from, to] : {std::pair<std::string, std::string>{"−", "-"}, {"µ", "u"}})
        if (const std::size_t at = text.find(from); at != std::string::npos) text.replace(at, from.size(), to);
    return text + symbolOf(quantity->dimension);
}

FormattedQuantity formatParts(double value, std::string_view unit, int digits) {
    if (!std::isfinite(value)) return {std::isnan(value) ? "–" : (value > 0 ? "∞" : "−∞"), std::string(unit)};
    static constexpr std::array<std::string_view, 11> steps = {"f", "p", "n", "µ", "m", "", "k", "M", "G", "T", "P"};
    if (unit == "%") value *= 100;
    if (unit == "deg") value *= 180 / pi;
    const bool handy = unit.empty() && std::abs(value) >= 0.999e-3 && std::abs(value) < 1e6;
    const bool prefixed = unit != "%" && unit != "deg" && !handy;
    int group = 0;
    double mantissa = value;
    if (value != 0 && prefixed) {
        // Rounding first, so that 999.96 does not become "1000".
        const double magnitude = std::abs(value);
        const double rounded = numberIn(fmt::format("{:.{}e}", magnitude, digits - 1)).value_or(magnitude);
        group = std::clamp(static_cast<int>(std::floor(std::log10(rounded) / 3 + 1e-12)), -5, 5);
        mantissa = value / std::pow(10.0, 3 * group);
    }
    if (std::abs(value) < 1e-18) mantissa = 0, group = 0;
    const int whole = mantissa == 0 || (handy && std::abs(value) < 1)
                          ? static_cast<int>(std::floor(std::log10(std::abs(mantissa == 0 ? 1 : mantissa)) + 1e-12)) + 1
                          : std::max(1, static_cast<int>(std::floor(std::log10(std::abs(mantissa)) + 1e-12)) + 1);
    std::string number = fmt::format("{:.{}f}", std::abs(mantissa), std::max(0, digits - whole));
    if (number.find('.') != std::string::npos) {
        while (number.back() == '0') number.pop_back();
        if (number.back() == '.') number.pop_back();
    }
    if (mantissa < 0 && number != "0") number = "−" + number;
    return {number, std::string(steps[static_cast<std::size_t>(group + 5)]) + std::string(unit == "deg" ? "°" : unit)};
}

std::string formatQuantity(double value, std::string_view unit, int digits) {
    const FormattedQuantity parts = formatParts(value, unit, digits);
    return parts.unit.empty() ? parts.number : parts.number + " " + parts.unit;
}

std::string formatPrefixed(double value, int digits) {
    const FormattedQuantity parts = formatParts(value, "V", digits);
    const std::string prefix = parts.unit.substr(0, parts.unit.size() - 1);
    return prefix.empty() ? parts.number : parts.number + " " + prefix;
}

}  // namespace hedgerow
