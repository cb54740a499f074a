#include "traces/expression.h"

#include <algorithm>
#include <cmath>
#include <optional>

#include <fmt/format.h>

namespace hedgerow {

namespace {

constexpr int deepest = 200;

/// A value over all points, or one number.
struct Column {
    std::vector<double> values;       ///< one per point; one alone when `constant`
    std::vector<double> factor = {};  ///< of a product of two lines: the other one
    Dimension dimension = {};
    bool constant = false;
    bool holds = false;

    double at(std::size_t i) const { return constant ? values[0] : factor.empty() ? values[i] : values[i] * factor[i]; }
};

Dimension dimensionOf(std::string_view symbol) {
    const auto unit = findUnit(symbol);
    return unit ? unit->dimension : Dimension{};
}

const Dimension seconds = dimensionOf("s");

/// Reads and computes in one go: every step works on whole columns.
class Evaluator {
public:
    Evaluator(std::string_view text, const TraceLookup& quantities, const ParameterLookup& parameters)
        : text_(text), quantities_(quantities), parameters_(parameters) {}

    Result<std::shared_ptr<Trace>> whole() {
        auto column = sum();
        if (!column) return column.error();
        skipBlanks();
        if (at_ < text_.size()) return fail(fmt::format("'{}' was not expected here", text_.substr(at_, 1))).error();
        if (!times_) return fail("it names no quantity of the run").error();
        if (column->constant) column->values.assign(times_->size(), column->values[0]);
        auto points =
            std::make_unique<ColumnPoints>(times_, std::move(column->values), std::move(column->factor), column->holds);
        return std::make_shared<Trace>(std::move(points), std::string(text_), symbolOf(column->dimension));
    }

private:
    Result<Column> fail(std::string message, ErrorCode code = ErrorCode::syntax) const {
        Error error{code, std::move(message)};
        error.position = static_cast<int>(at_);
        return error;
    }
    void skipBlanks() {
        while (at_ < text_.size() && text_[at_] == ' ') ++at_;
    }
    bool take(char c) {
        skipBlanks();
        if (at_ >= text_.size() || text_[at_] != c) return false;
        ++at_;
        return true;
    }
    static bool nameByte(char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '_' || (c & 0x80); }

    /// Value by value; a number meets every value of a column.
    template <class Operation>
    static Column combined(const Column& a, const Column& b, Operation operation) {
        Column result;
        result.constant = a.constant && b.constant;
        const std::size_t count = result.constant ? 1 : a.constant ? b.values.size() : a.values.size();
        result.values.resize(count);
        for (std::size_t i = 0; i < count; ++i) result.values[i] = operation(a.at(i), b.at(i));
        result.holds = (a.constant || a.holds) && (b.constant || b.holds) && !result.constant;
        return result;
    }

    Result<Column> sum() {
        auto left = product();
        while (left) {
            const bool plus = take('+');
            if (!plus && !take('-')) return left;
            auto right = product();
            if (!right) return right;
            if (!(left->dimension == right->dimension))
                return fail(fmt::format("{} and {} cannot be added", nameOf(left->dimension), nameOf(right->dimension)),
                            ErrorCode::unit);
            const Dimension dimension = left->dimension;
            left = combined(*left, *right, [plus](double x, double y) { return plus ? x + y : x - y; });
            left->dimension = dimension;
        }
        return left;
    }

    static std::string nameOf(const Dimension& dimension) {
        return dimension.plain() ? "a plain number" : symbolOf(dimension);
    }

    Result<Column> product() {
        auto left = power();
        while (left) {
            const bool times = take('*');
            if (!times && !take('/')) return left;
            auto right = power();
            if (!right) return right;
            const Dimension dimension = times ? left->dimension * right->dimension : left->dimension / right->dimension;
            const bool twoLines = times && !left->constant && !right->constant && left->factor.empty() &&
                                  right->factor.empty() && !left->holds && !right->holds;
            if (twoLines) {
                left->factor = std::move(right->values);
            } else if (right->constant && !left->factor.empty()) {
                const double by = times ? right->values[0] : 1 / right->values[0];
                for (double& value : left->values) value *= by;
            } else {
                left = combined(*left, *right, [times](double x, double y) { return times ? x * y : x / y; });
            }
            left->dimension = dimension;
        }
        return left;
    }

    Result<Column> power() {
        if (take('-')) {
            auto value = power();
            if (value)
                for (double& x : value->values) x = -x;
            return value;
        }
        auto base = primary();
        if (!base || !take('^')) return base;
        auto exponent = power();
        if (!exponent) return exponent;
        if (!exponent->constant || !exponent->dimension.plain())
            return fail("the exponent must be a plain number", ErrorCode::unit);
        const double n = exponent->values[0];
        Dimension dimension;
        if (!base->dimension.plain()) {
            if (n != std::round(n) || std::abs(n) > 4)
                return fail("a quantity with a unit takes a whole exponent from -4 to 4", ErrorCode::unit);
            for (int k = 0; k < std::abs(static_cast<int>(n)); ++k)
                dimension = n > 0 ? dimension * base->dimension : dimension / base->dimension;
        }
        auto result = combined(*base, *exponent, [](double x, double y) { return std::pow(x, y); });
        result.dimension = dimension;
        return result;
    }

    Result<Column> primary() {
        skipBlanks();
        if (++depth_ > deepest) return fail("it is nested too deep");
        if (at_ >= text_.size()) return fail("a value is missing at the end");
        if (take('(')) {
            auto inner = sum();
            if (inner && !take(')')) return fail("a parenthesis is not closed");
            --depth_;
            return inner;
        }
        --depth_;
        const char c = text_[at_];
        if (std::isdigit(static_cast<unsigned char>(c)) || c == '.') return number();
        if (std::isalpha(static_cast<unsigned char>(c)) || c == '_') return name();
        return fail(fmt::format("'{}' was not expected here", c));
    }

    /// As in fields: 4.7k, 10 mV, 1e-3.
    Result<Column> number() {
        const std::size_t start = at_;
        const auto digits = [&] {
            while (at_ < text_.size() && (std::isdigit(static_cast<unsigned char>(text_[at_])) || text_[at_] == '.'))
                ++at_;
        };
        digits();
        if (at_ + 1 < text_.size() && (text_[at_] == 'e' || text_[at_] == 'E') &&
            (std::isdigit(static_cast<unsigned char>(text_[at_ + 1])) || text_[at_ + 1] == '-' ||
             text_[at_ + 1] == '+')) {
            at_ += 2;
            digits();
        }
        std::size_t end = at_;
        skipBlanks();
        while (at_ < text_.size() && nameByte(text_[at_])) end = ++at_;
        at_ = end;
        auto value = evaluate(text_.substr(start, end - start));
        if (!value) return fail(value.error().message, value.error().code);
        return Column{{value->value}, {}, value->dimension, true};
    }

    Result<Column> name() {
        const std::size_t start = at_;
        while (at_ < text_.size() && (nameByte(text_[at_]) || text_[at_] == '.')) ++at_;
        const std::string_view word = text_.substr(start, at_ - start);
        if (take('(')) return call(word);
        if (word.find('.') != std::string_view::npos)
            if (const auto trace = quantities_(word)) return columnOf(*trace);
        if (word == "pi") return Column{{3.141592653589793}, {}, {}, true};
        if (parameters_)
            if (const auto value = parameters_(word)) return Column{{value->value}, {}, value->dimension, true};
        at_ = start;
        return fail(fmt::format("there is no quantity and no parameter '{}'", word), ErrorCode::name);
    }

    Column columnOf(const Trace& trace) {
        if (!times_) {
            auto times = std::make_shared<std::vector<Tick>>(trace.size());
            for (std::size_t i = 0; i < trace.size(); ++i) (*times)[i] = trace.time(i);
            times_ = std::move(times);
        }
        Column column;
        column.dimension = dimensionOf(trace.unit());
        column.holds = trace.holds();
        const std::size_t count = times_->size();
        column.values.resize(count);
        for (std::size_t i = 0; i < count; ++i) column.values[i] = trace.first(std::min(i, trace.size() - 1));
        if (trace.product()) {
            column.factor.resize(count);
            for (std::size_t i = 0; i < count; ++i) column.factor[i] = trace.second(std::min(i, trace.size() - 1));
        }
        return column;
    }

    Result<Column> call(std::string_view function) {
        std::vector<Column> arguments;
        do {
            auto argument = sum();
            if (!argument) return argument;
            arguments.push_back(std::move(*argument));
        } while (take(','));
        if (!take(')')) return fail("a parenthesis is not closed");
        if (arguments.size() == 1)
            if (auto plain = plainFunction(function, arguments[0])) return std::move(*plain);
        if (arguments.size() == 2 && (function == "min" || function == "max")) {
            if (!(arguments[0].dimension == arguments[1].dimension))
                return fail(fmt::format("{} takes two values of one unit", function), ErrorCode::unit);
            const bool least = function == "min";
            auto result = combined(arguments[0], arguments[1],
                                   [least](double x, double y) { return least ? std::min(x, y) : std::max(x, y); });
            result.dimension = arguments[0].dimension;
            return result;
        }
        return overTime(function, arguments);
    }

    std::optional<Result<Column>> plainFunction(std::string_view function, const Column& x) const {
        static const std::pair<const char*, double (*)(double)> known[] = {{"exp", [](double v) { return std::exp(v); }},
                                                                           {"ln", [](double v) { return std::log(v); }},
                                                                           {"log10", [](double v) { return std::log10(v); }},
                                                                           {"sin", [](double v) { return std::sin(v); }},
                                                                           {"cos", [](double v) { return std::cos(v); }},
                                                                           {"dB", [](double v) { return 20 * std::log10(std::abs(v)); }},
                                                                           {"abs", [](double v) { return std::abs(v); }},
                                                                           {"sqrt", [](double v) { return std::sqrt(v); }}};
        for (const auto& [name, compute] : known) {
            if (function != name) continue;
            Column result = combined(x, x, [compute = compute](double v, double) { return compute(v); });
            if (function == "abs") result.dimension = x.dimension;
            if (function == "sqrt") {
                for (std::size_t k = 0; k < x.dimension.exponents.size(); ++k) {
                    if (x.dimension.exponents[k] % 2 != 0)
                        return Result<Column>(fail("the root of this unit is none", ErrorCode::unit));
                    result.dimension.exponents[k] = static_cast<signed char>(x.dimension.exponents[k] / 2);
                }
            } else if (function != "abs" && function != "dB" && !x.dimension.plain()) {
                return Result<Column>(fail(fmt::format("{} takes a plain number", function), ErrorCode::unit));
            }
            return Result<Column>(std::move(result));
        }
        return {};
    }

    double length(std::size_t i) const { return toSeconds((*times_)[i + 1] - (*times_)[i]); }
    /// The integral along the line that starts at point i.
    double area(const Column& x, std::size_t i) const {
        if (x.holds) return length(i) * x.values[i];
        if (x.factor.empty()) return length(i) * (x.values[i] + x.values[i + 1]) / 2;
        const double a = x.values[i], b = x.values[i + 1], c = x.factor[i], d = x.factor[i + 1];
        return length(i) * (2 * a * c + a * d + b * c + 2 * b * d) / 6;
    }

    Result<Column> overTime(std::string_view function, std::vector<Column>& arguments) {
        const std::size_t wanted = function == "d" || function == "int"          ? 1
                                   : function == "mean" || function == "lowpass" ? 2
                                                                                 : 0;
        if (wanted == 0) return fail(fmt::format("there is no function '{}'", function), ErrorCode::name);
        if (arguments.size() != wanted)
            return fail(fmt::format("{} takes {}", function, wanted == 1 ? "one value" : "a quantity and a number"));
        const Column& x = arguments[0];
        if (x.constant) return fail(fmt::format("{} takes a quantity of the run", function));
        if (function == "d") return derivative(x);
        if (function == "int") return integral(x);
        const Column& setting = arguments[1];
        const bool mean = function == "mean";
        const Dimension unit = mean ? seconds : Dimension{} / seconds;
        if (!setting.constant || !(setting.dimension == unit || setting.dimension.plain()) || !(setting.values[0] > 0))
            return fail(mean ? "the second value of mean is a time above 0"
                             : "the second value of lowpass is a frequency above 0",
                        ErrorCode::unit);
        return mean ? movingMean(x, setting.values[0]) : lowpass(x, setting.values[0]);
    }

    /// The slope of the line that starts at each point; it holds until the next.
    Result<Column> derivative(const Column& x) const {
        Column result;
        result.dimension = x.dimension / seconds;
        result.holds = true;
        result.values.assign(x.values.size(), 0.0);
        for (std::size_t i = 0; i + 1 < x.values.size(); ++i)
            if (length(i) > 0)
                result.values[i] = x.holds ? 0.0 : (x.at(i + 1) - x.at(i)) / length(i);
            else
                result.values[i] = i > 0 ? result.values[i - 1] : 0.0;
        if (result.values.size() > 1) result.values.back() = result.values[result.values.size() - 2];
        return result;
    }

    Result<Column> integral(const Column& x) const {
        Column result;
        result.dimension = x.dimension * seconds;
        result.values.assign(x.values.size(), 0.0);
        for (std::size_t i = 0; i + 1 < x.values.size(); ++i) result.values[i + 1] = result.values[i] + area(x, i);
        return result;
    }

    /// Before the first period is over, the mean since the start.
    Result<Column> movingMean(const Column& x, double period) const {
        const Column whole = *integral(x);
        Column result;
        result.dimension = x.dimension;
        result.values.resize(x.values.size());
        std::size_t behind = 0;
        for (std::size_t i = 0; i < x.values.size(); ++i) {
            const double now = toSeconds((*times_)[i]), start = now - period, first = toSeconds(times_->front());
            if (now == first) {
                result.values[i] = x.at(i);
                continue;
            }
            if (start <= first) {
                result.values[i] = whole.values[i] / (now - first);
                continue;
            }
            while (behind + 1 < i && toSeconds((*times_)[behind + 1]) <= start) ++behind;
            const double part = length(behind) > 0 ? (start - toSeconds((*times_)[behind])) / length(behind) : 0.0;
            const double v0 = x.at(behind), v1 = x.holds ? v0 : x.at(behind + 1);
            const double before = whole.values[behind] + length(behind) * part * (v0 + part * (v1 - v0) / 2);
            result.values[i] = (whole.values[i] - before) / period;
        }
        return result;
    }

    /// y' = w (x - y), from y = x at the start; exact where x runs along a line.
    Result<Column> lowpass(const Column& x, double frequency) const {
        const double w = 2 * 3.141592653589793 * frequency;
        Column result;
        result.dimension = x.dimension;
        result.values.resize(x.values.size());
        if (x.values.empty()) return result;
        result.values[0] = x.at(0);
        for (std::size_t i = 0; i + 1 < x.values.size(); ++i) {
            const double h = length(i), x0 = x.at(i), x1 = x.holds ? x0 : x.at(i + 1);
            const double slope = h > 0 ? (x1 - x0) / h : 0.0, decay = std::exp(-w * h);
            // The line, late by 1/w, and what is left of the difference at the start.
            result.values[i + 1] =
                h > 0 ? x1 - slope / w + decay * (result.values[i] - (x0 - slope / w)) : result.values[i];
        }
        return result;
    }

    std::string_view text_;
    const TraceLookup& quantities_;
    const ParameterLookup& parameters_;
    ColumnPoints::Times times_;
    std::size_t at_ = 0;
    int depth_ = 0;
};

}  // namespace

Result<std::shared_ptr<Trace>> traceOf(std::string_view expression, const TraceLookup& quantities,
                                       const ParameterLookup& parameters) {
    return Evaluator(expression, quantities, parameters).whole();
}

}  // namespace hedgerow
