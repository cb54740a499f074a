// Parts of the control whose outputs follow their inputs at once.

#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "parts/control/signal_part.h"
#include "parts/points.h"

namespace hedgerow {

using namespace parts;

namespace {

using Row = SignalPiece::Row;

PieceLaw sumOf(const NetworkBuilder& b) {
    const std::string signs = b.choice("signs");
    Row row(4, 0.0);
    for (std::size_t i = 0; i < signs.size(); ++i) row[i] = signs[i] == '-' ? -1 : 1;
    return linear({row});
}

/// The least of the connected inputs, or the greatest.
PieceLaw extremeOf(const NetworkBuilder& b, int sign) {
    std::vector<std::size_t> used;
    const std::vector<std::string> pins = {"a", "b", "c"};
    for (std::size_t i = 0; i < pins.size(); ++i)
        if (connected(b, pins[i])) used.push_back(i);
    PieceLaw law{3, {}};
    for (const std::size_t i : used) {
        SignalPiece piece{{Row(4, 0.0)}};
        piece.outputs[0][i] = 1;
        for (std::size_t j = 0; j < used.size(); ++j) {
            if (used[j] == i) continue;
            Row row(4, 0.0);
            row[used[j]] = -sign, row[i] = sign;
            piece.bounds.push_back({row, static_cast<int>(j)});
        }
        law.pieces.push_back(std::move(piece));
    }
    if (law.pieces.empty()) law.pieces.push_back({{Row(4, 0.0)}});
    return law;
}

/// Straight lines through points (x, y) that rise in x; beyond the ends the value stays.
PieceLaw along(const std::vector<TablePoint>& points) {
    PieceLaw law{1, {{{{0, points.front().value}}}}};
    law.pieces[0].bounds = {{{-1, points.front().t}, 1}};
    for (std::size_t i = 0; i + 1 < points.size(); ++i) {
        const TablePoint &a = points[i], &b = points[i + 1];
        if (b.t == a.t) continue;
        const double slope = (b.value - a.value) / (b.t - a.t);
        const int here = static_cast<int>(law.pieces.size());
        law.pieces.push_back({{{slope, a.value - slope * a.t}}, {}, {{{1, -a.t}, here - 1}, {{-1, b.t}, here + 1}}});
    }
    law.pieces.push_back(
        {{{0, points.back().value}}, {}, {{{1, -points.back().t}, static_cast<int>(law.pieces.size()) - 1}}});
    return law;
}

PieceLaw limiter(double low, double high) {
    return {1,
            {{{{1, 0}}, {}, {{{-1, high}, 1}, {{1, -low}, 2}}},
             {{{0, high}}, {}, {{{1, -high}, 0}}},
             {{{0, low}}, {}, {{{-1, low}, 0}}}}};
}

PieceLaw deadBand(double half) {
    return {1,
            {{{{0, 0}}, {}, {{{-1, half}, 1}, {{1, half}, 2}}},
             {{{1, -half}}, {}, {{{1, -half}, 0}}},
             {{{1, half}}, {}, {{{-1, -half}, 0}}}}};
}

PieceLaw absolute() { return {1, {{{{1, 0}}, {}, {{{1, 0}, 1}}}, {{{-1, 0}}, {}, {{{-1, 0}, 0}}}}}; }

/// 1 once a - b has risen above half the width, 0 once it has fallen below minus that.
PieceLaw comparator(double width) {
    // Without hysteresis a is not above b where both are the same, and stay so.
    constexpr double above = 1e-10;
    const double on = width > 0 ? width / 2 : above, off = width > 0 ? width / 2 : -above;
    return {2,
            {{{{0, 0, 0}}, {}, {{{-1, 1, on}, 1}}}, {{{0, 0, 1}}, {}, {{{1, -1, off}, 0}}}},
            {},
            true,
            width > 0};
}

PieceLaw selector() {
    return {3, {{{{1, 0, 0, 0}}, {}, {{{0, 0, -1, 0.5}, 1}}}, {{{0, 1, 0, 0}}, {}, {{{0, 0, 1, -0.5}, 0}}}}};
}

SmoothLaw product(const NetworkBuilder& b) {
    const bool third = connected(b, "c");
    return {3, 1, [third](std::span<const double> u, std::span<double> y, std::span<double> jacobian) {
                const double c = third ? u[2] : 1.0;
                y[0] = u[0] * u[1] * c;
                if (jacobian.empty()) return;
                jacobian[0] = u[1] * c, jacobian[1] = u[0] * c, jacobian[2] = third ? u[0] * u[1] : 0.0;
            }};
}

/// a / b, with the magnitude of b no smaller than `least`.
SmoothLaw quotient(double least) {
    return {2, 1, [least](std::span<const double> u, std::span<double> y, std::span<double> jacobian) {
                const bool small = std::abs(u[1]) < least;
                const double b = small ? std::copysign(least, u[1]) : u[1];
                y[0] = u[0] / b;
                if (!jacobian.empty()) jacobian[0] = 1 / b, jacobian[1] = small ? 0.0 : -y[0] / b;
            }};
}

/// Truth of up to three logic inputs.
SmoothLaw gate(const std::string& how, bool second, bool third) {
    return {
        3, 1, [=](std::span<const double> u, std::span<double> y, std::span<double>) {
            const std::vector<bool> in = [&] {
                std::vector<bool> list = {u[0] > 0.5};
                if (second) list.push_back(u[1] > 0.5);
                if (third) list.push_back(u[2] > 0.5);
                return list;
            }();
            const auto on = static_cast<std::size_t>(std::count(in.begin(), in.end(), true));
            const bool all = on == in.size(), any = on > 0;
            y[0] = how == "and" ? all : how == "or" ? any : how == "xor" ? on % 2 == 1 : how == "nand" ? !all : !any;
        }};
}

/// A function of x and y on a grid: between its points along x and y in straight lines (bilinear), constant outside.
struct Grid {
    std::vector<double> x, y, values;  ///< values[j * x.size() + i]
};

Result<Grid> gridOf(const std::vector<double>& x, const std::vector<double>& y, const std::vector<double>& values) {
    const auto rises = [](const std::vector<double>& list) {
        return list.size() >= 2 && std::adjacent_find(list.begin(), list.end(), std::greater_equal<>()) == list.end();
    };
    if (!rises(x)) return Error{ErrorCode::range, "two or more rising numbers are needed", {}, {}, "x"};
    if (!rises(y)) return Error{ErrorCode::range, "two or more rising numbers are needed", {}, {}, "y"};
    if (values.size() != x.size() * y.size())
        return Error{ErrorCode::range,
                     fmt::format("{} numbers are needed, one for each x and y, but there are {}", x.size() * y.size(),
                                 values.size()),
                     {},
                     {},
                     "values"};
    return Grid{x, y, values};
}

SmoothLaw overGrid(const Grid& grid) {
    return {2, 1, [grid](std::span<const double> u, std::span<double> y, std::span<double> jacobian) {
                const auto place = [](const std::vector<double>& list, double at) {
                    const auto next = std::upper_bound(list.begin() + 1, list.end() - 1, at);
                    const auto i = static_cast<std::size_t>(next - list.begin()) - 1;
                    const double part = (at - list[i]) / (list[i + 1] - list[i]);
                    const bool inside = part >= 0 && part <= 1;
                    return std::tuple(i, std::clamp(part, 0.0, 1.0), inside ? 1 / (list[i + 1] - list[i]) : 0.0);
                };
                const auto [i, p, dp] = place(grid.x, u[0]);
                const auto [j, q, dq] = place(grid.y, u[1]);
                const double* low = &grid.values[j * grid.x.size() + i];
                const double* high = low + grid.x.size();
                const double below = low[0] + p * (low[1] - low[0]), above = high[0] + p * (high[1] - high[0]);
                y[0] = below + q * (above - below);
                if (jacobian.empty()) return;
                jacobian[0] = dp * ((1 - q) * (low[1] - low[0]) + q * (high[1] - high[0]));
                jacobian[1] = dq * (above - below);
            }};
}

}  // namespace

void registerArithmetic(PartLibrary& library) {
    const auto add = [&](const SignalKind& kind, LawPart::MakeLaw law,
                         LawPart::Output output = LawPart::Output::follows, LawPart::Check check = {}) {
        library.add(std::make_unique<LawPart>(kind, std::move(law), output, LawPart::MakeStep{}, std::move(check)));
    };
    const LawPart::Check ordered = [](const std::function<double(std::string_view)>& value) -> Status {
        if (value("low") < value("high")) return {};
        return Error{ErrorCode::range, "the lower limit must be below the upper one", {}, {}, "low"};
    };
    add({"gain",
         "Gain",
         "G",
         {"amplifier", "factor"},
         "y = k u",
         "The input times a factor.",
         {"u"},
         {"y"},
         "k",
         {number("k", "gain", "k", "1", "", true), number("offset", "offset", "y_0", "0")},
         "y = k u + y_0"},
        [](const NetworkBuilder& b) {
            return linear({{b.value("k"), b.value("offset")}});
        });
    add({"sum",
         "Sum",
         "SUM",
         {"difference", "add", "subtract", "error"},
         "y = a − b, or with other signs",
         "Adds its inputs with the chosen signs, in the order a, b, c. All three should have the same unit.",
         {"a", "b?", "c?"},
         {"y"},
         "Σ",
         {choiceOf("signs", "signs of a, b, c", {"+-", "++", "+++", "++-", "+--"})},
         "y = ± a ± b ± c"},
        sumOf);
    add({"product",
         "Product",
         "MUL",
         {"multiply", "multiplier"},
         "y = a b c",
         "The product of its inputs; c may stay open. Two running inputs make a circuit that only the adaptive "
         "engine solves; give the part a task to compute at samples.",
         {"a", "b", "c?"},
         {"y"},
         "×",
         {},
         "y = a b c"},
        product);
    add({"quotient",
         "Quotient",
         "DIV",
         {"divide", "divider", "ratio"},
         "y = a / b",
         "a divided by b, where the magnitude of b counts as no smaller than the given least one.",
         {"a", "b"},
         {"y"},
         "÷",
         {positive("least", "least magnitude of b", "b_min", "1u")},
         "y = a / b"},
        [](const NetworkBuilder& b) { return quotient(b.value("least")); });
    add({"minimum",
         "Minimum",
         "MIN",
         {"least", "lesser"},
         "The least of its inputs",
         "The least of those inputs that are connected.",
         {"a", "b", "c?"},
         {"y"},
         "min",
         {},
         "y = min(a, b, c)"},
        [](const NetworkBuilder& b) { return extremeOf(b, -1); });
    add({"maximum",
         "Maximum",
         "MAX",
         {"greatest", "greater"},
         "The greatest of its inputs",
         "The greatest of those inputs that are connected.",
         {"a", "b", "c?"},
         {"y"},
         "max",
         {},
         "y = max(a, b, c)"},
        [](const NetworkBuilder& b) { return extremeOf(b, 1); });
    add({"magnitude",
         "Magnitude",
         "ABS",
         {"absolute value", "rectify"},
         "y = |u|",
         "The magnitude of its input.",
         {"u"},
         {"y"},
         "|u|",
         {},
         "y = |u|"},
        [](const NetworkBuilder&) { return absolute(); });
    add(
        {"limiter",
         "Limiter",
         "LIM",
         {"saturation", "limit"},
         "Holds a signal between two limits",
         "The input, as long as it lies between the limits, else the limit.",
         {"u"},
         {"y"},
         "limit",
         limits("0", "1"),
         "y = min(max(u, y_min), y_max)"},
        [](const NetworkBuilder& b) { return limiter(b.value("low"), b.value("high")); }, LawPart::Output::follows,
        ordered);
    add({"dead-band",
         "Dead band",
         "DB",
         {"dead zone"},
         "Nothing near zero, a straight line beyond",
         "Zero while the magnitude of the input is below half the width; beyond, what it exceeds that by.",
         {"u"},
         {"y"},
         "dead",
         {positive("width", "width", "w", "0.1", "", true)},
         "y = 0 for |u| < w/2, else u ∓ w/2"},
        [](const NetworkBuilder& b) { return deadBand(b.value("width") / 2); });
    add(
        {"comparator",
         "Comparator",
         "CMP",
         {"compare", "hysteresis", "hysteretic"},
         "On while a is above b",
         "Its output turns on when a rises above b by half the hysteresis and off when it falls below b by as much; b "
         "counts as zero where it is open. With running inputs both edges come at the exact instant, so that it can "
         "switch a gate: peak-current and hysteretic control are made with it.",
         {"a", "b?"},
         {"q"},
         "a > b",
         {number("hysteresis", "hysteresis", "h", "0", "", true)},
         "q = 1 when a − b > h/2, 0 when a − b < −h/2"},
        [](const NetworkBuilder& b) { return comparator(b.value("hysteresis")); }, LawPart::Output::logic,
        [](const std::function<double(std::string_view)>& value) -> Status {
            if (value("hysteresis") >= 0) return {};
            return Error{ErrorCode::range, "the hysteresis must not be negative", {}, {}, "hysteresis"};
        });
    add({"selector",
         "Selector",
         "SEL",
         {"multiplexer", "switch signal"},
         "a while s is off, b while it is on",
         "Passes one of two signals on.",
         {"a", "b", "s"},
         {"y"},
         "a/b",
         {},
         "y = a for s < 1/2, else b"},
        [](const NetworkBuilder&) { return selector(); });
    add({"curve",
         "Look-up table",
         "TAB",
         {"lookup", "table 1d", "characteristic"},
         "A curve through points",
         "Straight lines through points, typed as pairs: '0 0, 1 2, 3 2.5', rising in the first number. Outside of "
         "them the value stays. The name of a CSV file may stand here instead.",
         {"u"},
         {"y"},
         "y(u)",
         {textOf("points", "points, or a CSV file", "0 0, 1 1")},
         "y by straight lines"},
        [](const NetworkBuilder& b) {
            auto points = pointsOf(b.text("points"), "", "", b.folder());
            if (points) return along(*points);
            b.refuse("points", points.error().message);
            return linear({{1, 0}});
        });
    add({"surface",
         "Look-up table of two inputs",
         "TAB",
         {"lookup 2d", "map", "table 2d"},
         "A surface through a grid",
         "Values on a grid of x and y, with straight lines between them along both (bilinear); outside it stays at "
         "the edge. The values come row by row: all x for the first y, then for the second.",
         {"x", "y"},
         {"z"},
         "z(x,y)",
         {expressionsOf("x", "x", "0, 1"), expressionsOf("y", "y", "0, 1"),
          expressionsOf("values", "values", "0, 1, 1, 2")},
         "z bilinear in x and y"},
        [](const NetworkBuilder& b) {
            auto grid = gridOf(b.numbers("x"), b.numbers("y"), b.numbers("values"));
            if (grid) return overGrid(*grid);
            b.refuse(grid.error().field, grid.error().message);
            return overGrid({{0, 1}, {0, 1}, {0, 0, 0, 0}});
        });
    add(
        {"logic",
         "Logic gate",
         "LOG",
         {"and", "or", "xor", "nand", "nor", "not"},
         "and, or, xor, nand, nor",
         "Combines logic signals; above one half counts as on. Open inputs do not count. Of one input, nand and nor "
         "are its opposite.",
         {"a", "b?", "c?"},
         {"q"},
         "logic",
         {choiceOf("how", "how", {"and", "or", "xor", "nand", "nor"})},
         "q = a and b and c, ..."},
        [](const NetworkBuilder& b) { return gate(b.choice("how"), connected(b, "b"), connected(b, "c")); },
        LawPart::Output::logic);
}

}  // namespace hedgerow
