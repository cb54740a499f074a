// Transfer functions in s and filters. Without a task they run as equations of the network; in a task they become
// difference equations.

#include <cmath>
#include <complex>
#include <numbers>
#include <optional>

#include <fmt/format.h>
#include <Eigen/Dense>

#include "base/text.h"
#include "model/quantity.h"
#include "parts/control/signal_part.h"

namespace hedgerow {

using namespace parts;

namespace {

using Row = SignalPiece::Row;
constexpr double turn = 2 * std::numbers::pi;

/// x' = A x + B u, y = C x + D u.
struct Linear {
    Eigen::MatrixXd a;
    Eigen::VectorXd b, c;
    double d = 0;
    Eigen::VectorXd initial = {};  ///< x at the start; all 0 where it is empty
};

/// The states in which the output rests at `y0`: x' = 0 with the input that keeps it there, or with none where the
/// system integrates. Nothing where the output always rests at 0.
std::optional<Eigen::VectorXd> restAt(const Linear& system, double y0) {
    const Eigen::Index n = system.b.size();
    if (y0 == 0) return Eigen::VectorXd::Zero(n);
    if (n == 0) return {};
    Eigen::MatrixXd rest(n + 1, n + 1);
    rest << system.a, system.b, system.c.transpose(), system.d;
    Eigen::VectorXd wanted = Eigen::VectorXd::Zero(n + 1);
    wanted(n) = y0;
    const Eigen::VectorXd found = rest.fullPivLu().solve(wanted);
    const double scale = rest.cwiseAbs().maxCoeff() * found.cwiseAbs().maxCoeff() + std::abs(y0);
    if (!found.allFinite() || (rest * found - wanted).cwiseAbs().maxCoeff() > 1e-9 * scale ||
        std::abs(system.c.dot(found.head(n)) + system.d * found(n) - y0) > 1e-6 * std::abs(y0))
        return {};
    return found.head(n);
}

/// Controllable canonical form of a quotient of polynomials in s, highest power first, in the time scale of its poles.
/// K. Ogata, Modern Control Engineering, 5th ed., 9-2.
Result<Linear> transferFunction(std::vector<double> above, std::vector<double> below) {
    while (below.size() > 1 && below.front() == 0) below.erase(below.begin());
    while (above.size() > 1 && above.front() == 0) above.erase(above.begin());
    if (below.front() == 0) return Error{ErrorCode::range, "the denominator is zero", {}, {}, "den"};
    if (above.size() > below.size())
        return Error{ErrorCode::range,
                     "the numerator has a higher power than the denominator: it would differentiate "
                     "steps; add poles",
                     {},
                     {},
                     "num"};
    const std::size_t order = below.size() - 1;
    const double first = below.front();
    for (double& value : below) value /= first;
    for (double& value : above) value /= first;
    above.insert(above.begin(), below.size() - above.size(), 0.0);
    Linear system{Eigen::MatrixXd::Zero(static_cast<int>(order), static_cast<int>(order)),
                  Eigen::VectorXd::Zero(static_cast<int>(order)), Eigen::VectorXd::Zero(static_cast<int>(order)),
                  above.front()};
    double scale = 0;  // of time: the largest mean distance of poles from zero
    for (std::size_t i = 1; i <= order; ++i)
        scale = std::max(scale, std::pow(std::abs(below[i]), 1.0 / static_cast<double>(i)));
    if (scale == 0) scale = 1;
    for (std::size_t i = 0; i < order; ++i) {
        const auto row = static_cast<int>(i), last = static_cast<int>(order) - 1;
        if (row < last) system.a(row, row + 1) = scale;
        const double power = std::pow(scale, static_cast<double>(order - i) - 1);  // of x_i against the plain form
        system.a(last, row) = -below[order - i] / power;
        system.c(row) = (above[order - i] - above.front() * below[order - i]) / power;
    }
    if (order > 0) system.b(static_cast<int>(order) - 1) = 1;
    return system;
}

std::vector<double> startOf(const Linear& system) {
    std::vector<double> states(static_cast<std::size_t>(system.b.size()), 0.0);
    std::copy(system.initial.begin(), system.initial.end(), states.begin());
    return states;
}

PieceLaw running(const Linear& system) {
    const auto order = static_cast<std::size_t>(system.b.size());
    PieceLaw law{1, {SignalPiece{{Row(order + 2, 0.0)}}}, startOf(system)};
    SignalPiece& piece = law.pieces.front();
    piece.outputs[0][0] = system.d;
    piece.rates.assign(order, Row(order + 2, 0.0));
    for (std::size_t i = 0; i < order; ++i) {
        const auto row = static_cast<int>(i);
        piece.outputs[0][i + 1] = system.c(row);
        piece.rates[i][0] = system.b(row);
        for (std::size_t j = 0; j < order; ++j) piece.rates[i][j + 1] = system.a(row, static_cast<int>(j));
    }
    return law;
}

/// The trapezoidal rule: s = (z - 1) / (z + 1) / alpha, with alpha = T / 2, or such that one frequency keeps its gain.
/// G. F. Franklin, J. D. Powell, M. Workman, Digital Control of Dynamic Systems, 3rd ed., 6.1.
class LinearStep final : public SampledStep {
public:
    LinearStep(const Linear& system, double period, double kept, double output)
        : states_(startOf(system)), initial_(output) {
        system_ = system;
        if (states_.empty()) return;
        const double alpha = kept > 0 ? std::tan(kept * period / 2) / kept : period / 2;
        const auto identity = Eigen::MatrixXd::Identity(system.a.rows(), system.a.cols());
        const Eigen::MatrixXd m = (identity - alpha * system.a).inverse();
        system_.a = m * (identity + alpha * system.a);
        system_.b = 2 * alpha * m * system.b;
        system_.c = m.transpose() * system.c;
        system_.d = system.d + alpha * system_.c.dot(system.b);
    }
    void before(std::span<double> out) const override { out[0] = initial_; }
    Status output(std::span<const double> in, std::span<double> out) override {
        Eigen::Map<Eigen::VectorXd> x(states_.data(), static_cast<Eigen::Index>(states_.size()));
        out[0] = system_.c.dot(x) + system_.d * in[0];
        x = (system_.a * x + system_.b * in[0]).eval();
        return {};
    }

    void memory(Memory& all) override { all.numbers("states", states_); }

private:
    std::vector<double> states_;
    double initial_;
    Linear system_;
};

using MakeLinear = std::function<Linear(const NetworkBuilder& b)>;

void addLinear(PartLibrary& library, SignalKind kind, MakeLinear make) {
    kind.parameters.push_back(number("keep", "frequency kept exact at samples", "f_w", "0", "Hz"));
    kind.parameters.push_back(atStart(number("y0", "output at the start, at rest", "y_0", "0")));
    kind.help += " It starts at rest with the output y0.";
    const auto started = [make = std::move(make)](const NetworkBuilder& b) {
        Linear system = make(b);
        auto rest = restAt(system, b.value("y0"));
        if (rest)
            system.initial = *rest;
        else
            b.refuse("y0", "at rest the output is always zero, it cannot start elsewhere");
        return system;
    };
    library.add(std::make_unique<LawPart>(
        kind, [started](const NetworkBuilder& b) { return running(started(b)); }, LawPart::Output::runs,
        [started](const NetworkBuilder& b) -> StepMaker {
            return [system = started(b), kept = 2 * std::numbers::pi * b.value("keep"), y0 = b.value("y0")](
                       double period) { return std::make_unique<LinearStep>(system, period, kept, y0); };
        }));
}

Linear transferOf(const NetworkBuilder& b, const std::vector<double>& above, const std::vector<double>& below) {
    auto system = transferFunction(above, below);
    if (system) return *system;
    b.refuse(system.error().field, system.error().message);
    return {Eigen::MatrixXd(0, 0), Eigen::VectorXd(0), Eigen::VectorXd(0), 1};
}

/// "-10, -5+20j, -5-20j" in rad/s as the coefficients of a polynomial. Complex ones come in pairs.
Result<std::vector<double>> polynomial(const std::string& text) {
    std::vector<std::complex<double>> product = {1.0};
    for (std::size_t start = 0; start < text.size();) {
        const std::size_t end = std::min(text.find_first_of(",;", start), text.size());
        std::string root(trimmed(text.substr(start, end - start)));
        start = end + 1;
        if (root.empty()) continue;
        std::string imaginary = "0";
        if (root.ends_with('j')) {
            root.pop_back();
            std::size_t sign = root.find_last_of("+-");
            if (sign != std::string::npos && sign > 0 && (root[sign - 1] == 'e' || root[sign - 1] == 'E'))
                sign = root.find_last_of("+-", sign - 1);
            if (sign == std::string::npos) sign = 0;
            imaginary = root.substr(sign);
            if (imaginary.starts_with('+')) imaginary.erase(0, 1);
            root = root.substr(0, sign);
            if (root.empty()) root = "0";
        }
        const auto re = evaluate(root), im = evaluate(imaginary);
        if (!re || !im) return Error{ErrorCode::syntax, fmt::format("'{}' is no root: write -5+20j", root)};
        std::vector<std::complex<double>> next(product.size() + 1, 0.0);
        for (std::size_t i = 0; i < product.size(); ++i) {
            next[i] += product[i];
            next[i + 1] -= product[i] * std::complex(re->value, im->value);
        }
        product = std::move(next);
    }
    std::vector<double> real;
    for (const auto& value : product) {
        if (std::abs(value.imag()) > 1e-9 * std::abs(value))
            return Error{ErrorCode::range, "complex roots come in pairs: -5+20j, -5-20j"};
        real.push_back(value.real());
    }
    return real;
}

std::vector<double> polynomialOf(const NetworkBuilder& b, const char* key) {
    auto coefficients = polynomial(b.text(key));
    if (coefficients) return *coefficients;
    b.refuse(key, coefficients.error().message);
    return {1.0};
}

}  // namespace

void registerFilters(PartLibrary& library) {
    addLinear(library,
              {"transfer-s",
               "Transfer function in s",
               "H",
               {"laplace", "transfer function", "rational"},
               "A quotient of polynomials in s",
               "Coefficients, highest power first, separated by commas: '1, 0' over '1, 100' is s / (s + 100). In a "
               "task it follows by the trapezoidal rule, which keeps the gain at one frequency exact where that is "
               "given.",
               {"u"},
               {"y"},
               "H(s)",
               {expressionsOf("num", "numerator", "1", true), expressionsOf("den", "denominator", "1m, 1", true)},
               "Y = N(s)/D(s) U",
               "K. Ogata, Modern Control Engineering, 5th ed., 9-2"},
              [](const NetworkBuilder& b) { return transferOf(b, b.numbers("num"), b.numbers("den")); });
    addLinear(library,
              {"zeros-poles",
               "Zeros and poles",
               "H",
               {"zpk", "poles"},
               "A transfer function by its zeros and poles",
               "Zeros and poles in rad/s, separated by commas, complex ones in pairs: '-5+20j, -5-20j'. The gain is "
               "that of the highest powers: k (s − z_1)... / (s − p_1)...",
               {"u"},
               {"y"},
               "H(s)",
               {number("k", "gain", "k", "1k", "", true), textOf("zeros", "zeros", "", true),
                textOf("poles", "poles", "-1k", true)},
               "Y = k Π(s − z)/Π(s − p) U",
               "definition"},
              [](const NetworkBuilder& b) {
                  std::vector<double> above = polynomialOf(b, "zeros");
                  for (double& value : above) value *= b.value("k");
                  return transferOf(b, above, polynomialOf(b, "poles"));
              });
    addLinear(
        library,
        {"low-pass",
         "Low-pass filter",
         "LP",
         {"lowpass", "filter"},
         "First or second order",
         "Passes what is slow against its corner. The second order has the given damping: 0.707 has the flattest "
         "gain.",
         {"u"},
         {"y"},
         "LP",
         {positive("f", "corner frequency", "f_c", "1k", "Hz", true), choiceOf("order", "order", {"first", "second"}),
          positive("damping", "damping, of the second order", "ζ", "0.7071")},
         "first: 1/(1 + s/ω_c), second: 1/(1 + 2ζ s/ω_c + s²/ω_c²)"},
        [](const NetworkBuilder& b) {
            const double w = turn * b.value("f");
            if (b.choice("order") == "first") return transferOf(b, {w}, {1, w});
            return transferOf(b, {w * w}, {1, 2 * b.value("damping") * w, w * w});
        });
    addLinear(library,
              {"notch",
               "Notch filter",
               "NF",
               {"band stop"},
               "Stops one frequency",
               "Passes everything but a band around its frequency, which is as wide as the damping says.",
               {"u"},
               {"y"},
               "notch",
               {positive("f", "frequency", "f_0", "100", "Hz", true), positive("damping", "damping", "ζ", "0.5")},
               "(s² + ω_0²)/(s² + 2ζ ω_0 s + ω_0²)"},
              [](const NetworkBuilder& b) {
                  const double w = turn * b.value("f");
                  return transferOf(b, {1, 0, w * w}, {1, 2 * b.value("damping") * w, w * w});
              });
    addLinear(library,
              {"lead-lag",
               "Lead-lag",
               "LL",
               {"lead", "lag", "compensator"},
               "One zero and one pole",
               "Leads where the zero lies below the pole, and lags where it lies above.",
               {"u"},
               {"y"},
               "lead",
               {number("k", "gain at rest", "k", "1", "", true), positive("fz", "zero", "f_z", "1k", "Hz", true),
                positive("fp", "pole", "f_p", "10k", "Hz", true)},
               "k (1 + s/ω_z)/(1 + s/ω_p)"},
              [](const NetworkBuilder& b) {
                  const double z = turn * b.value("fz"), p = turn * b.value("fp");
                  return transferOf(b, {b.value("k") * p / z, b.value("k") * p}, {1, p});
              });
    addLinear(library,
              {"resonant",
               "Resonant regulator",
               "PR",
               {"pr", "resonator", "proportional resonant"},
               "Infinite or high gain at one frequency",
               "A proportional share and a resonance, which regulates a sine of its frequency without error. With a "
               "width above zero the resonance is damped.",
               {"e"},
               {"y"},
               "PR",
               {number("kp", "proportional gain", "k_p", "1", "", true),
                number("kr", "resonant gain, per second", "k_r", "100", "", true),
                positive("f", "frequency", "f_0", "50", "Hz", true), number("width", "half width", "f_w", "0", "Hz")},
               "k_p + 2 k_r s/(s² + 2 ω_w s + ω_0²)",
               "D. N. Zmood, D. G. Holmes, Stationary frame current regulation, IEEE Trans. Power Electron. 18, 2003"},
              [](const NetworkBuilder& b) {
                  const double w = turn * b.value("f"), c = turn * b.value("width");
                  const double kp = b.value("kp"), kr = b.value("kr");
                  return transferOf(b, {kp, 2 * (kp * c + kr), kp * w * w}, {1, 2 * c, w * w});
              });
}

}  // namespace hedgerow
