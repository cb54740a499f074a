// Formulas: what they mean, their slopes, and what they refuse.

#include <cmath>
#include <random>

#include "base/formula.h"
#include "formats/cards/card_expression.h"
#include "formats/cards/card_file.h"

#include <gtest/gtest.h>

namespace hedgerow {
namespace {

Formula::Names names() {
    return {.number = cardNumber,
            .constant = [](const std::string& name) -> std::optional<double> {
                return name == "k" ? std::optional(3.0) : std::nullopt;
            },
            .input = [](const std::string& name) -> std::optional<std::size_t> {
                return name == "x"   ? std::optional<std::size_t>(0)
                       : name == "y" ? std::optional<std::size_t>(1)
                       : name == "z" ? std::optional<std::size_t>(2)
                                     : std::nullopt;
            }};
}

Formula formula(const char* text) {
    auto read = Formula::read(text, names());
    EXPECT_TRUE(read) << text << ": " << (read ? "" : read.error().message);
    return read ? *read : Formula();
}

struct Known {
    const char* text;
    double (*value)(double x, double y, double z);
};

const std::vector<Known>& known() {
    using std::pow;
    static const std::vector<Known> all = {
        {"x + y*z", [](double x, double y, double z) { return x + y * z; }},
        {"(x - y)/z", [](double x, double y, double z) { return (x - y) / z; }},
        {"x - y - z", [](double x, double y, double z) { return x - y - z; }},
        {"x/y/z", [](double x, double y, double z) { return x / y / z; }},
        {"-x^2", [](double x, double, double) { return -x * x; }},
        {"x^y", [](double x, double y, double) { return pow(x, y); }},
        {"x**2**0.5", [](double x, double, double) { return pow(x, std::sqrt(2)); }},
        {"pow(y, 3) * 2k", [](double, double y, double) { return y * y * y * 2000; }},
        {"k*x + 10meg", [](double x, double, double) { return 3 * x + 10e6; }},
        {"EXP(x) - Ln(y)", [](double x, double y, double) { return std::exp(x) - std::log(y); }},
        {"log(y) + log10(z)", [](double, double y, double z) { return std::log10(y) + std::log10(z); }},
        {"sin(x)*cos(y)*tan(z)", [](double x, double y, double z) { return std::sin(x) * std::cos(y) * std::tan(z); }},
        {"asin(x/4) + acos(y/4) + atan(z)",
         [](double x, double y, double z) { return std::asin(x / 4) + std::acos(y / 4) + std::atan(z); }},
        {"sinh(x) + cosh(y) + tanh(z)",
         [](double x, double y, double z) { return std::sinh(x) + std::cosh(y) + std::tanh(z); }},
        {"asinh(x) + acosh(1 + y) + atanh(z/4)",
         [](double x, double y, double z) { return std::asinh(x) + std::acosh(1 + y) + std::atanh(z / 4); }},
        {"sqrt(x*x + y*y) + abs(-z)", [](double x, double y, double z) { return std::hypot(x, y) + z; }},
        {"min(x, y) + max(y, z)", [](double x, double y, double z) { return std::min(x, y) + std::max(y, z); }},
        {"ramp(x - 1) * step(y)", [](double x, double, double) { return std::max(x - 1, 0.0); }},
        {"+x - -y", [](double x, double y, double) { return x + y; }},
        {"1 / (1 + exp(-(x - 1.5)/100m))",
         [](double x, double, double) { return 1 / (1 + std::exp(-(x - 1.5) / 0.1)); }},
    };
    return all;
}

TEST(Formulas, MeanWhatMathematicsSays) {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> between(0.3, 3.0);
    for (const Known& one : known()) {
        const Formula f = formula(one.text);
        for (int n = 0; n < 20; ++n) {
            const Formula::Slopes at = {between(random), between(random), between(random)};
            const double expected = one.value(at[0], at[1], at[2]);
            EXPECT_NEAR(f.at(at).value, expected, 1e-12 * std::max(1.0, std::abs(expected))) << one.text;
            EXPECT_NEAR(f.plain(at), expected, 1e-12 * std::max(1.0, std::abs(expected))) << one.text;
        }
    }
}

// Central differences: their error is that of the third derivative times h^2, and of rounding over h.
TEST(Formulas, SlopesAreThoseOfFiniteDifferences) {
    std::mt19937 random(4);
    std::uniform_real_distribution<double> between(0.4, 2.9);
    const double h = 1e-5;
    for (const Known& one : known()) {
        const Formula f = formula(one.text);
        for (int n = 0; n < 20; ++n) {
            const Formula::Slopes at = {between(random), between(random), between(random)};
            if (std::abs(at[0] - at[1]) < 1e-3 || std::abs(at[1] - at[2]) < 1e-3 || std::abs(at[0] - 1) < 1e-3)
                continue;
            const Formula::Value here = f.at(at);
            for (std::size_t k = 0; k < Formula::mostInputs; ++k) {
                Formula::Slopes up = at, down = at;
                up[k] += h, down[k] -= h;
                const double slope = (f.at(up).value - f.at(down).value) / (2 * h);
                const double rounding = 1e-16 * std::abs(here.value) / h;
                EXPECT_NEAR(here.slopes[k], slope, 1e-5 * std::max(1.0, std::abs(slope)) + 4 * rounding)
                    << one.text << " by " << k;
            }
        }
    }
}

TEST(Formulas, AreDefinedEverywhere) {
    const double far[] = {0, -0.0, 1e-300, -1, 1, -1e6, 1e6, 1e300, -1e300};
    for (const char* text : {"sqrt(x)",  "ln(x)",    "log(x)",  "1/x",     "x/y",       "exp(x)",  "sinh(x)",
                             "cosh(x)",  "x^0.5",    "x^-1",    "x^y",     "pow(x, 2)", "asin(x)", "acos(x)",
                             "acosh(x)", "atanh(x)", "tanh(x)", "step(x)", "ramp(x)",   "abs(x)"}) {
        const Formula f = formula(text);
        for (const double x : far)
            for (const double y : far) {
                const Formula::Value value = f.at({x, y, 0});
                EXPECT_FALSE(std::isnan(value.value)) << text << " at " << x << ", " << y;
                if (std::abs(x) > 1e6 || std::abs(y) > 1e6) continue;  // products of what is that far may overflow
                EXPECT_TRUE(std::isfinite(value.value)) << text << " at " << x << ", " << y;
                EXPECT_FALSE(std::isnan(value.slopes[0])) << text << " at " << x << ", " << y;
            }
    }
    EXPECT_EQ(formula("sqrt(x)").at({-4, 0, 0}).value, 0);
    EXPECT_TRUE(std::isnan(formula("sqrt(x)").plain({-4, 0, 0})));
    EXPECT_EQ(formula("x^1.5").at({-4, 0, 0}).value, 8);
    EXPECT_EQ(formula("x^3").at({-2, 0, 0}).value, -8);
}

TEST(Formulas, SayWhatStandsInTheWay) {
    const std::pair<const char*, const char*> wrong[] = {
        {"", "something is missing at its end"},
        {"x +", "something is missing at its end"},
        {"(x", "a parenthesis stays open"},
        {"sin(x", "a parenthesis stays open"},
        {"sin(x, y)", "there is no function sin of 2 here"},
        {"frob(x)", "there is no function frob of 1 here"},
        {"x y", "'y' is not understood"},
        {"q*2", "'q' has no value here"},
        {"x # y", "'# y' is not understood"},
        {"2..5", "'.5' is not understood"},
    };
    for (const auto& [text, why] : wrong) {
        const auto read = Formula::read(text, names());
        ASSERT_FALSE(read) << text;
        EXPECT_EQ(read.error().message, why) << text;
    }
    for (const std::string& deep : {std::string(5000, '('), std::string(5000, '-') + "x", [] {
                                        std::string text;
                                        for (int i = 0; i < 300; ++i) text += "x + (";
                                        return text + "x" + std::string(300, ')');
                                    }()})
        EXPECT_FALSE(Formula::read(deep, names()));
}

TEST(Formulas, KnowWhetherTheyDependOnAnything) {
    EXPECT_TRUE(formula("2*k + 1").isConstant());
    EXPECT_FALSE(formula("2*k + 0*x").isConstant());
    EXPECT_EQ(formula("2*k + 1").plain({}), 7);
}

TEST(Formulas, ReadInputsThatLookLikeCalls) {
    Formula::Names all = names();
    std::vector<std::string> asked;
    all.probe = [&](const std::string& name, std::string_view inside) -> std::optional<Result<std::size_t>> {
        if (name != "v") return {};
        asked.emplace_back(inside);
        if (inside == "none") return Result<std::size_t>(Error{ErrorCode::syntax, "there is no such net"});
        return Result<std::size_t>(asked.size() - 1);
    };
    const auto read = Formula::read("2*v(a, b) + exp(v(c))", all);
    ASSERT_TRUE(read);
    EXPECT_EQ(asked, (std::vector<std::string>{"a, b", "c"}));
    EXPECT_NEAR(read->at({5, 1, 0}).value, 10 + std::exp(1), 1e-12);
    EXPECT_EQ(Formula::read("v(none)", all).error().message, "there is no such net");
}

TEST(Formulas, RandomTextNeverCrashes) {
    std::mt19937 random(5);
    const char* const pieces[] = {"x",    "y",  "(",      ")",    "+", "-", "*", "/", "^", "**",    ",",   "sin(",
                                  "pow(", "1k", "2.5e-3", "min(", " ", "k", "{", ".", "e", "step(", "abs("};
    int good = 0;
    for (int n = 0; n < 20000; ++n) {
        std::string text;
        for (int i = static_cast<int>(random() % 14); i >= 0; --i) text += pieces[random() % std::size(pieces)];
        const auto read = Formula::read(text, names());
        if (!read) {
            EXPECT_FALSE(read.error().message.empty());
            continue;
        }
        ++good;
        EXPECT_FALSE(std::isnan(read->at({1.5, -2, 0}).value)) << text;
    }
    EXPECT_GT(good, 200);
}

TEST(CardValues, AreNumbersOnlyWhereTheyAreDefined) {
    const CardParameters parameters = {{"RON", 0.02}, {"VT", 3}};
    EXPECT_DOUBLE_EQ(*cardValue("{2*ron + 1m}", parameters), 0.041);
    EXPECT_DOUBLE_EQ(*cardValue("vt^2", parameters), 9);
    EXPECT_DOUBLE_EQ(*cardValue("4.7k", parameters), 4700);
    for (const char* bad : {"{1/0}", "{sqrt(-1)}", "{ln(0)}", "{2*none}", "{exp(1000)}", "{v(a)}"})
        EXPECT_FALSE(cardValue(bad, parameters)) << bad;
}

}  // namespace
}  // namespace hedgerow
