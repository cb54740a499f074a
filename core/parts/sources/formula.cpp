// Sources whose voltage or current is a formula of voltages elsewhere: what no other part describes.

#include <array>
#include <cmath>
#include <memory>

#include "base/formula.h"
#include "parts/two_terminal.h"

namespace hedgerow {

using namespace parts;

namespace {

constexpr std::array<const char*, Formula::mostInputs> inputs = {"x", "y", "z"}, points = {"x0", "y0", "z0"};

struct NodePair {
    int from, to;
};
using Inputs = std::array<NodePair, Formula::mostInputs>;

/// The tangent at a point: v = c + k_x x + k_y y + k_z z, or i.
class TangentElement final : public StiffBranch {
public:
    TangentElement(std::string part, int branch, const NodePair& at, bool voltage, const Inputs& from,
                   const Formula::Value& tangent)
        : StiffBranch(std::move(part), branch, at.from, at.to, voltage), inputs_(from), tangent_(tangent) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = stampStiff(s);
        s.source(row, 0, tangent_.value);
        for (std::size_t k = 0; k < inputs_.size(); ++k)
            s.voltage(row, inputs_[k].from, inputs_[k].to, -tangent_.slopes[k]);
    }

private:
    Inputs inputs_;
    Formula::Value tangent_;
};

class FormulaElement final : public StiffBranch {
public:
    FormulaElement(std::string part, int branch, const NodePair& at, bool voltage, const Inputs& from, Formula formula)
        : StiffBranch(std::move(part), branch, at.from, at.to, voltage), inputs_(from), formula_(std::move(formula)) {}
    bool smooth() const override { return true; }
    void stamp(LinearStamp& s, int) const override { stampStiff(s); }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const Formula::Value result = formula_.at(inputsAt(at));
        const int row = out.branchRow(branch());
        out.flow(row, -result.value);
        for (std::size_t k = 0; k < inputs_.size(); ++k) {
            out.byUnknown(row, inputs_[k].from, -result.slopes[k]);
            out.byUnknown(row, inputs_[k].to, result.slopes[k]);
        }
    }

    /// Halves the step while the formula bends more along it than a polynomial of the eighth degree: the distance from
    /// the tangent at its end is then more than 2^8 times that at its middle. Exponentials do.
    void tame(std::span<const double> before, std::span<double> after) const override {
        constexpr int mostHalves = 30;
        const Formula::Slopes from = inputsAt({before, {}}), to = inputsAt({after, {}});
        const Formula::Value start = formula_.at(from);
        const auto bent = [&](double share) {
            Formula::Slopes here = from;
            double straight = start.value;
            for (std::size_t k = 0; k < here.size(); ++k) {
                here[k] += share * (to[k] - from[k]);
                straight += share * (to[k] - from[k]) * start.slopes[k];
            }
            return std::abs(formula_.at(here).value - straight);
        };
        double share = 1;
        for (int n = 0; n < mostHalves; ++n) {
            const double middle = bent(share / 2);
            if (middle == 0 || !(bent(share) > 256 * middle)) break;
            share /= 2;
        }
        if (share == 1) return;
        for (std::size_t i = 0; i < after.size(); ++i) after[i] = before[i] + share * (after[i] - before[i]);
    }

private:
    Formula::Slopes inputsAt(const SmoothPoint& at) const {
        Formula::Slopes values{};
        for (std::size_t k = 0; k < inputs_.size(); ++k)
            values[k] = at.potential(inputs_[k].from) - at.potential(inputs_[k].to);
        return values;
    }

    Inputs inputs_;
    Formula formula_;
};

class FormulaSource final : public PartType {
public:
    explicit FormulaSource(bool voltage) : voltage_(voltage) {}

    PartKind kind() const override {
        const std::string what = voltage_ ? "v" : "i";
        PartKind k;
        k.id = voltage_ ? "voltage-by-formula" : "current-by-formula";
        k.title = voltage_ ? "Voltage by formula" : "Current by formula";
        k.prefix = voltage_ ? "E" : "G";
        k.synonyms = {voltage_ ? "formula" : "nonlinear conductor"};
        k.summary = what + " is a formula of up to three voltages elsewhere";
        k.help =
            "x is the voltage of xp against xn, from which no current is drawn, y and z alike; an open input is at "
            "0 V. The formula has + - * / ^, parentheses, numbers with factors (4.7k), parameters of the project, "
            "and abs, sqrt, exp, ln, log (to ten), sin, cos, tan, asin, acos, atan, sinh, cosh, tanh, asinh, acosh, "
            "atanh, step (0 up to 0, then 1), ramp (0 below 0), min, max and pow. Where mathematics leaves it "
            "undefined it "
            "goes on: roots and logarithms of negative numbers are those of zero. ";
        k.help += voltage_ ? "v is the potential of p against n."
                           : "The current flows inside from p to n: with xp on p and xn on n it is a conductor with "
                             "that curve.";
        k.pins = {{"p", {64, -32}}, {"n", {64, 32}}};
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            const int y = -80 + 64 * static_cast<int>(i);
            for (const char* end : {"p", "n"})
                k.pins.push_back(
                    {std::string(inputs[i]) + end, {-32, y + (*end == 'n' ? 32 : 0)}, PinSort::power, true});
        }
        k.parameters = {{.key = "formula",
                         .label = "formula of x, y, z",
                         .symbol = what,
                         .unit = "",
                         .standard = "x",
                         .shownOnSheet = true,
                         .text = true}};
        for (std::size_t i = 0; i < points.size(); ++i)
            k.parameters.push_back({.key = points[i],
                                    .label = std::string("where the tangent touches, ") + inputs[i],
                                    .symbol = std::string(inputs[i]) + "_0",
                                    .unit = "V",
                                    .standard = "0"});
        k.rungs = {{1, "the tangent at a point", what + " = f(x_0, y_0, z_0) + f_x (x − x_0) + f_y (y − y_0) + …",
                    "Taylor's theorem, first order", 1.0},
                   {4, "the formula itself", what + " = f(x, y, z)", "definition", 9}};
        k.symbol = {{"M 64 -32 L 48 -32 L 48 -18 M 48 18 L 48 32 L 64 32"},
                    {"M 48 -18 L 62 0 L 48 18 L 34 0 Z"},
                    {"M -24 -92 L -24 92 L 24 92 L 24 -92 Z", Stroke::Weight::thin},
                    {"M 24 0 L 34 0", Stroke::Weight::thin},
                    voltage_ ? Stroke{"M 48 -18 L 48 18"} : Stroke{"M 48 10 L 48 -10 M 48 10 L 44 3 M 48 10 L 52 3"}};
        k.placedAt = 4;
        k.mark = "f";
        for (const PinKind& pin : k.pins)
            if (pin.at.x < 0)
                k.symbol.push_back(
                    {"M -32 " + std::to_string(pin.at.y) + " L -24 " + std::to_string(pin.at.y), Stroke::Weight::thin});
        k.labelAt = {68, -8};
        k.group = "Sources";
        return k;
    }

    void elaborate(NetworkBuilder& b) const override {
        const NodePair at{b.node("p"), b.node("n")};
        Inputs from;
        for (std::size_t i = 0; i < inputs.size(); ++i)
            from[i] = {b.node(std::string(inputs[i]) + "p"), b.node(std::string(inputs[i]) + "n")};
        const int branch = b.addBranch();
        const auto formula = formulaOf(b);
        if (!formula) return b.refuse("formula", formula.error().message);
        if (b.rung() < 4) {
            Formula::Slopes touch{};
            for (std::size_t i = 0; i < points.size(); ++i) touch[i] = b.value(points[i]);
            Formula::Value tangent = formula->at(touch);
            for (std::size_t i = 0; i < points.size(); ++i) tangent.value -= tangent.slopes[i] * touch[i];
            b.addElement(std::make_unique<TangentElement>(b.partName(), branch, at, voltage_, from, tangent));
        } else {
            b.addElement(std::make_unique<FormulaElement>(b.partName(), branch, at, voltage_, from, *formula));
        }
        b.offerBranch(branch, at.from, at.to);
    }

private:
    static Result<Formula> formulaOf(const NetworkBuilder& b) {
        return Formula::read(
            b.text("formula"),
            {.number = [&](std::string_view text) { return Result<double>(b.number("formula", text)); },
             .constant = [&](const std::string& name) -> std::optional<double> { return b.number("formula", name); },
             .input = [](const std::string& name) -> std::optional<std::size_t> {
                 for (std::size_t i = 0; i < inputs.size(); ++i)
                     if (name == inputs[i]) return i;
                 return {};
             }});
    }

    bool voltage_;
};

}  // namespace

void registerFormulaSources(PartLibrary& library) {
    for (const bool voltage : {true, false}) library.add(std::make_unique<FormulaSource>(voltage));
}

}  // namespace hedgerow
