#include "base/formula.h"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "base/text.h"

namespace hedgerow {

namespace {

constexpr int deepestNesting = 60;  ///< parentheses and signs
constexpr double leastDivisor = 1e-30, mostExponent = 300;

/// The value of a function and its slope.
struct Point {
    double value, slope;
};

double divisor(double y) { return std::abs(y) < leastDivisor ? std::copysign(leastDivisor, y) : y; }

Point exponential(double x) {
    if (x <= mostExponent) return {std::exp(x), std::exp(x)};
    const double top = std::exp(mostExponent);
    return {top * (1 + x - mostExponent), top};
}

Point logarithm(double x, double unit) {
    const double inside = std::max(x, std::numeric_limits<double>::min());
    return {std::log(inside) / unit, x > 0 ? 1 / (x * unit) : 0};
}

Point root(double x) { return x > 0 ? Point{std::sqrt(x), 0.5 / std::sqrt(x)} : Point{0, 0}; }

/// Inside of [-1, 1], where arc functions are.
double within(double x) { return std::clamp(x, -1.0, 1.0); }

struct Function {
    std::string_view name;
    double (*plain)(double);
    Point (*at)(double);  ///< defined everywhere
};

const std::vector<Function>& functions() {
    static const std::vector<Function> all = {
        {"ABS", std::fabs,
         [](double x) {
             return Point{std::abs(x), x < 0 ? -1.0 : 1.0};
         }},
        {"SQRT", std::sqrt, root},
        {"EXP", std::exp, exponential},
        {"LN", std::log, [](double x) { return logarithm(x, 1); }},
        {"LOG", std::log10, [](double x) { return logarithm(x, std::log(10)); }},
        {"LOG10", std::log10, [](double x) { return logarithm(x, std::log(10)); }},
        {"SIN", std::sin,
         [](double x) {
             return Point{std::sin(x), std::cos(x)};
         }},
        {"COS", std::cos,
         [](double x) {
             return Point{std::cos(x), -std::sin(x)};
         }},
        {"TAN", std::tan,
         [](double x) {
             return Point{std::tan(x), 1 + std::tan(x) * std::tan(x)};
         }},
        {"ASIN", std::asin,
         [](double x) {
             return Point{std::asin(within(x)), 1 / divisor(root(1 - x * x).value)};
         }},
        {"ACOS", std::acos,
         [](double x) {
             return Point{std::acos(within(x)), -1 / divisor(root(1 - x * x).value)};
         }},
        {"ATAN", std::atan,
         [](double x) {
             return Point{std::atan(x), 1 / (1 + x * x)};
         }},
        {"SINH", std::sinh,
         [](double x) {
             const Point up = exponential(x), down = exponential(-x);
             return Point{(up.value - down.value) / 2, (up.slope + down.slope) / 2};
         }},
        {"COSH", std::cosh,
         [](double x) {
             const Point up = exponential(x), down = exponential(-x);
             return Point{(up.value + down.value) / 2, (up.slope - down.slope) / 2};
         }},
        {"TANH", std::tanh,
         [](double x) {
             return Point{std::tanh(x), 1 - std::tanh(x) * std::tanh(x)};
         }},
        {"ASINH", std::asinh,
         [](double x) {
             return Point{std::asinh(x), 1 / std::hypot(1, x)};
         }},
        {"ACOSH", std::acosh,
         [](double x) {
             return Point{std::acosh(std::max(x, 1.0)), x > 1 ? 1 / std::sqrt(x * x - 1) : 0};
         }},
        {"ATANH", std::atanh,
         [](double x) {
             const double most = 1 - std::numeric_limits<double>::epsilon(), inside = std::clamp(x, -most, most);
             return Point{std::atanh(inside), 1 / (1 - inside * inside)};
         }},
        {"STEP", [](double x) { return x > 0 ? 1.0 : 0.0; },
         [](double x) {
             return Point{x > 0 ? 1.0 : 0.0, 0};
         }},
        {"RAMP", [](double x) { return std::max(x, 0.0); },
         [](double x) {
             return Point{std::max(x, 0.0), x > 0 ? 1.0 : 0.0};
         }},
    };
    return all;
}

using Value = Formula::Value;

/// f(a, b) with the slopes by both.
Value chained(double value, const Value& a, double byA, const Value& b = {}, double byB = 0) {
    Value result{value, {}};
    for (std::size_t k = 0; k < Formula::mostInputs; ++k) result.slopes[k] = byA * a.slopes[k] + byB * b.slopes[k];
    return result;
}

Value raised(const Value& a, const Value& b) {
    const bool whole = b.value == std::round(b.value);
    const double base = whole ? a.value : std::abs(a.value);
    if (base == 0 && b.value <= 0) return chained(b.value == 0 ? 1 : 1 / leastDivisor, a, 0);
    const double value = std::clamp(std::pow(base, b.value), -1e200, 1e200);
    const double side = whole || a.value >= 0 ? 1 : -1;
    const double byBase = base == 0 ? (b.value == 1 ? 1 : 0) : b.value * value / base;
    return chained(value, a, side * byBase, b, base > 0 ? value * std::log(base) : 0);
}

}  // namespace

/// From text to steps.
class FormulaReader {
public:
    FormulaReader(std::string_view text, const Formula::Names& names) : text_(text), names_(names) {}

    Result<Formula> all() {
        sum();
        skip();
        if (at_ < text_.size()) fail(fmt::format("'{}' is not understood", text_.substr(at_)));
        if (!error_.empty()) return Error{ErrorCode::syntax, error_};
        return std::move(formula_);
    }

private:
    using Op = Formula::Op;

    void fail(std::string why) {
        if (error_.empty()) error_ = std::move(why);
        at_ = text_.size();
    }
    void put(Formula::Step step) {
        const bool leaf = step.op == Op::constant || step.op == Op::input;
        const bool one = step.op == Op::negate || step.op == Op::function;
        height_ += leaf ? 1 : one ? 0 : -1;
        if (height_ > static_cast<int>(Formula::deepest)) fail("it is nested too deeply");
        formula_.steps_.push_back(step);
    }
    void skip() {
        while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_]))) ++at_;
    }
    bool take(std::string_view sign) {
        skip();
        if (!text_.substr(at_).starts_with(sign)) return false;
        at_ += sign.size();
        return true;
    }

    void sum() {
        product();
        for (;;) {
            const bool plus = take("+");
            if (!plus && !take("-")) return;
            product();
            put({plus ? Op::add : Op::subtract});
        }
    }
    void product() {
        power();
        for (;;) {
            skip();
            if (text_.substr(at_).starts_with("**")) return;
            const bool times = take("*");
            if (!times && !take("/")) return;
            power();
            put({times ? Op::multiply : Op::divide});
        }
    }
    void power() {
        if (++depth_ > deepestNesting) return fail("it is nested too deeply");
        if (take("-")) {
            power();
            put({Op::negate});
        } else if (take("+")) {
            power();
        } else {
            primary();
            if (take("**") || take("^")) {
                power();
                put({Op::power});
            }
        }
        --depth_;
    }
    void primary() {
        skip();
        if (at_ >= text_.size()) return fail("something is missing at its end");
        if (take("(")) {
            sum();
            if (!take(")")) fail("a parenthesis stays open");
            return;
        }
        const std::size_t start = at_;
        if (std::isdigit(static_cast<unsigned char>(text_[at_])) || text_[at_] == '.') return number();
        while (at_ < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[at_])) || text_[at_] == '_')) ++at_;
        if (at_ == start) return fail(fmt::format("'{}' is not understood", text_.substr(start)));
        const std::string name(text_.substr(start, at_ - start));
        if (take("(")) return call(name);
        if (const auto input = names_.input ? names_.input(name) : std::nullopt)
            put({Op::input, static_cast<unsigned char>(*input)});
        else if (const auto value = names_.constant ? names_.constant(name) : std::nullopt)
            put({Op::constant, 0, *value});
        else
            fail(fmt::format("'{}' has no value here", name));
    }
    void number() {
        const std::size_t start = at_;
        double digits = 0;
        const char* const begin = text_.data() + at_;
        at_ += static_cast<std::size_t>(std::from_chars(begin, text_.data() + text_.size(), digits).ptr - begin);
        while (at_ < text_.size() && std::isalpha(static_cast<unsigned char>(text_[at_]))) ++at_;
        const auto value = names_.number(text_.substr(start, std::max<std::size_t>(at_ - start, 1)));
        if (value)
            put({Op::constant, 0, *value});
        else
            fail(value.error().message);
    }
    /// Behind its opening parenthesis.
    void call(const std::string& name) {
        if (names_.probe) {
            const std::size_t end = text_.find(')', at_);
            const auto inside = text_.substr(at_, end == std::string_view::npos ? end : end - at_);
            if (const auto input = names_.probe(name, inside)) {
                if (!*input) return fail(input->error().message);
                if (end == std::string_view::npos) return fail("a parenthesis stays open");
                at_ = end + 1;
                return put({Op::input, static_cast<unsigned char>(**input)});
            }
        }
        std::size_t arguments = 0;
        do {
            sum();
            ++arguments;
        } while (take(","));
        if (!take(")")) return fail("a parenthesis stays open");
        const auto& all = functions();
        const std::string known = upperCase(name);
        const auto one = std::find_if(all.begin(), all.end(), [&](const Function& f) { return f.name == known; });
        if (one != all.end() && arguments == 1)
            return put({Op::function, static_cast<unsigned char>(one - all.begin())});
        static const std::map<std::string, Op> twos = {{"MIN", Op::least}, {"MAX", Op::most}, {"POW", Op::power}};
        if (const auto two = twos.find(known); two != twos.end() && arguments == 2) return put({two->second});
        fail(fmt::format("there is no function {} of {} here", name, arguments));
    }
    std::string_view text_;
    const Formula::Names& names_;
    std::size_t at_ = 0;
    int depth_ = 0, height_ = 0;
    std::string error_;
    Formula formula_;
};

Result<Formula> Formula::read(std::string_view text, const Names& names) { return FormulaReader(text, names).all(); }

Formula::Value Formula::at(const Slopes& inputs) const {
    std::array<Value, deepest> stack;
    std::size_t height = 0;
    for (const Step& step : steps_) {
        const auto binary = [&](auto&& f) {
            --height;
            stack[height - 1] = f(stack[height - 1], stack[height]);
        };
        switch (step.op) {
            case Op::constant:
                stack[height++] = {step.value, {}};
                break;
            case Op::input:
                stack[height] = {inputs[step.which], {}};
                stack[height++].slopes[step.which] = 1;
                break;
            case Op::add:
                binary([](const Value& a, const Value& b) { return chained(a.value + b.value, a, 1, b, 1); });
                break;
            case Op::subtract:
                binary([](const Value& a, const Value& b) { return chained(a.value - b.value, a, 1, b, -1); });
                break;
            case Op::multiply:
                binary(
                    [](const Value& a, const Value& b) { return chained(a.value * b.value, a, b.value, b, a.value); });
                break;
            case Op::divide:
                binary([](const Value& a, const Value& b) {
                    const double by = divisor(b.value), value = a.value / by;
                    return chained(value, a, 1 / by, b, by == b.value ? -value / by : 0);
                });
                break;
            case Op::power:
                binary(raised);
                break;
            case Op::least:
                binary([](const Value& a, const Value& b) { return a.value <= b.value ? a : b; });
                break;
            case Op::most:
                binary([](const Value& a, const Value& b) { return a.value >= b.value ? a : b; });
                break;
            case Op::negate:
                stack[height - 1] = chained(-stack[height - 1].value, stack[height - 1], -1);
                break;
            case Op::function: {
                const Point point = functions()[step.which].at(stack[height - 1].value);
                stack[height - 1] = chained(point.value, stack[height - 1], point.slope);
                break;
            }
        }
    }
    return height == 1 ? stack[0] : Value{};
}

double Formula::plain(const Slopes& inputs) const {
    std::array<double, deepest> stack;
    std::size_t height = 0;
    for (const Step& step : steps_) {
        if (step.op == Op::constant || step.op == Op::input) {
            stack[height++] = step.op == Op::input ? inputs[step.which] : step.value;
            continue;
        }
        double& top = stack[height - 1];
        if (step.op == Op::negate || step.op == Op::function) {
            top = step.op == Op::negate ? -top : functions()[step.which].plain(top);
            continue;
        }
        double& a = stack[--height - 1];
        const double b = stack[height];
        a = step.op == Op::add        ? a + b
            : step.op == Op::subtract ? a - b
            : step.op == Op::multiply ? a * b
            : step.op == Op::divide   ? a / b
            : step.op == Op::power    ? std::pow(a, b)
            : step.op == Op::least    ? std::fmin(a, b)
                                      : std::fmax(a, b);
    }
    return height == 1 ? stack[0] : std::numeric_limits<double>::quiet_NaN();
}

bool Formula::isConstant() const {
    return std::none_of(steps_.begin(), steps_.end(), [](const Step& step) { return step.op == Op::input; });
}

}  // namespace hedgerow
