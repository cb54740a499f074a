#include "formats/cards/card_expression.h"

#include <cctype>
#include <charconv>
#include <cmath>
#include <functional>
#include <vector>

#include <fmt/format.h>

#include "base/text.h"
#include "formats/cards/card_file.h"

namespace hedgerow {

namespace {

constexpr int deepest = 60;  ///< nested parentheses and signs

class Reader {
public:
    Reader(std::string_view text, const CardParameters& parameters) : text_(text), parameters_(parameters) {}

    Result<double> all() {
        const double value = sum();
        skip();
        if (at_ < text_.size()) fail(fmt::format("'{}' is not understood", text_.substr(at_)));
        if (error_.empty() && !std::isfinite(value)) fail("its value is not finite");
        if (!error_.empty()) return Error{ErrorCode::syntax, fmt::format("'{}' is no number: {}", text_, error_)};
        return value;
    }

private:
    double fail(std::string why) {
        if (error_.empty()) error_ = std::move(why);
        at_ = text_.size();
        return 0;
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

    double sum() {
        double value = product();
        for (;;) {
            if (take("+"))
                value += product();
            else if (take("-"))
                value -= product();
            else
                return value;
        }
    }
    double product() {
        double value = power();
        for (;;) {
            skip();
            if (text_.substr(at_).starts_with("**")) return value;
            if (take("*"))
                value *= power();
            else if (take("/"))
                value /= power();
            else
                return value;
        }
    }
    /// From right to left; a sign before it counts last: -2^2 = -4.
    double power() {
        if (++depth_ > deepest) return fail("it is nested too deeply");
        double value = 0;
        if (take("-")) {
            value = -power();
        } else if (take("+")) {
            value = power();
        } else {
            value = primary();
            if (take("**") || take("^")) value = std::pow(value, power());
        }
        --depth_;
        return value;
    }
    double primary() {
        skip();
        if (at_ >= text_.size()) return fail("something is missing at its end");
        if (take("(")) {
            const double value = sum();
            return take(")") ? value : fail("a parenthesis stays open");
        }
        const std::size_t start = at_;
        const auto isWord = [&] {
            return at_ < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[at_])) || text_[at_] == '_');
        };
        if (std::isdigit(static_cast<unsigned char>(text_[at_])) || text_[at_] == '.') {
            double digits = 0;
            const char* const begin = text_.data() + at_;
            at_ += static_cast<std::size_t>(std::from_chars(begin, text_.data() + text_.size(), digits).ptr - begin);
            while (at_ < text_.size() && std::isalpha(static_cast<unsigned char>(text_[at_]))) ++at_;
            const auto value = cardNumber(text_.substr(start, std::max<std::size_t>(at_ - start, 1)));
            return value ? *value : fail(value.error().message);
        }
        while (isWord()) ++at_;
        if (at_ == start) return fail(fmt::format("'{}' is not understood", text_.substr(start)));
        const std::string name = upper(text_.substr(start, at_ - start));
        if (take("(")) return call(name);
        const auto found = parameters_.find(name);
        return found != parameters_.end() ? found->second : fail(fmt::format("'{}' has no value here", name));
    }
    double call(const std::string& name) {
        std::vector<double> arguments;
        do arguments.push_back(sum());
        while (take(","));
        if (!take(")")) return fail("a parenthesis stays open");
        using One = double (*)(double);
        using Two = double (*)(double, double);
        static const std::map<std::string, One> ones = {{"ABS", std::fabs}, {"SQRT", std::sqrt},   {"EXP", std::exp},
                                                        {"LN", std::log},   {"LOG10", std::log10}, {"SIN", std::sin},
                                                        {"COS", std::cos},  {"TAN", std::tan},     {"ATAN", std::atan}};
        static const std::map<std::string, Two> twos = {{"MIN", std::fmin}, {"MAX", std::fmax}, {"POW", std::pow}};
        if (const auto one = ones.find(name); one != ones.end() && arguments.size() == 1)
            return one->second(arguments[0]);
        if (const auto two = twos.find(name); two != twos.end() && arguments.size() == 2)
            return two->second(arguments[0], arguments[1]);
        return fail(fmt::format("there is no function {} of {} here", name, arguments.size()));
    }
    static std::string upper(std::string_view text) {
        std::string result(text);
        for (char& c : result) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
        return result;
    }

    std::string_view text_;
    const CardParameters& parameters_;
    std::size_t at_ = 0;
    int depth_ = 0;
    std::string error_;
};

}  // namespace

Result<double> cardValue(std::string_view text, const CardParameters& parameters) {
    text = trimmed(text);
    if (text.size() >= 2 && text.front() == '{' && text.back() == '}')
        return Reader(text.substr(1, text.size() - 2), parameters).all();
    if (auto number = cardNumber(text)) return number;
    return Reader(text, parameters).all();
}

}  // namespace hedgerow
