// Parts of the control with states: integrator, regulators, transfer functions in s, filters. Without a task they run
// as equations of the network; in a task they become difference equations.

#include <cmath>
#include <complex>
#include <numbers>

#include <Eigen/Dense>
#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"
#include "parts/control/signal_part.h"

namespace hedgerow {

using namespace parts;

namespace {

using Row = SignalPiece::Row;

/// y = clamp(unclamped, low, high), where x, the integral, is held between the limits too (clamped anti-windup).
struct Limited {
    int inputs;
    std::vector<double> initial;  ///< of the states; the first is the integral
    Row unclamped;                ///< over u, x, 1
    std::vector<Row> rates;       ///< of the states while the integral is free
    double low, high;
    int enable = -1;  ///< index of the input that lets it work; -1 without
    int track = -1;   ///< of the input that the output takes meanwhile; -1 for 0
    double tracking = 1e-4;  ///< s, how fast the integral follows while it does not work
};

PieceLaw limited(const Limited& s) {
    PieceLaw law{s.inputs, {}, s.initial};
    const std::size_t width = static_cast<std::size_t>(s.inputs) + s.initial.size() + 1;
    const auto integral = static_cast<std::size_t>(s.inputs);
    const auto below = [&](Row row, double limit) {  // limit - row >= 0
        for (double& value : row) value = -value;
        row.back() += limit;
        return row;
    };
    const auto above = [&](Row row, double limit) { return row.back() -= limit, row; };
    const auto negated = [&](Row row) { return below(std::move(row), 0); };
    Row x(width, 0.0);
    x[integral] = 1;
    enum { free, atHigh, atLow };
    const auto number = [](int ofIntegral, int ofOutput) { return 3 * ofIntegral + ofOutput; };
    for (int i = free; i <= atLow; ++i)
        for (int o = free; o <= atLow; ++o) {
            SignalPiece piece;
            Row limit(width, 0.0);
            limit.back() = o == atHigh ? s.high : s.low;
            piece.outputs = {o == free ? s.unclamped : limit};
            piece.rates = s.rates;
            if (i != free) piece.rates[0] = Row(width, 0.0);
            if (i == free) {
                piece.bounds.push_back({below(x, s.high), number(atHigh, o)});
                piece.bounds.push_back({above(x, s.low), number(atLow, o)});
            } else {
                piece.bounds.push_back({i == atHigh ? s.rates[0] : negated(s.rates[0]), number(free, o)});
            }
            if (o == free) {
                piece.bounds.push_back({below(s.unclamped, s.high), number(i, atHigh)});
                piece.bounds.push_back({above(s.unclamped, s.low), number(i, atLow)});
            } else {
                piece.bounds.push_back({o == atHigh ? above(s.unclamped, s.high) : below(s.unclamped, s.low), number(i, free)});
            }
            law.pieces.push_back(std::move(piece));
        }
    if (s.enable < 0) return law;
    Row on(width, 0.0), tracked(width, 0.0);
    on[static_cast<std::size_t>(s.enable)] = 1;
    if (s.track >= 0) tracked[static_cast<std::size_t>(s.track)] = 1;
    for (SignalPiece& piece : law.pieces) piece.bounds.push_back({above(on, 0.5), 9});
    SignalPiece off{{tracked}, s.rates, {{below(on, 0.5), 0}}};
    for (std::size_t i = 0; i < width; ++i) off.rates[0][i] = (tracked[i] - s.unclamped[i]) / s.tracking;
    law.pieces.push_back(std::move(off));
    return law;
}

/// Regulator at samples: y = kp e + x + kd (e - f) / tf, x the sum of ki T e (backward Euler), f the filtered error.
class RegulatorStep final : public NumbersStep {
public:
    struct Setting {
        double kp = 0, ki = 0, kd = 0, tf = 1, low, high, initial = 0;
        bool enable = false;
    };
    RegulatorStep(const Setting& setting, double period)
        : NumbersStep({setting.initial, 0.0}), set_(setting), period_(period) {}
    void before(std::span<double> out) const override { out[0] = std::clamp(set_.initial, set_.low, set_.high); }
    Status output(std::span<const double> in, std::span<double> out) override {
        const double e = in[0];
        double &x = numbers_[0], &filtered = numbers_[1];
        filtered += period_ / (set_.tf + period_) * (e - filtered);
        const double rest = set_.kp * e + set_.kd * (e - filtered) / set_.tf;
        if (set_.enable && in[1] <= 0.5) {
            out[0] = in[2];
            x = std::clamp(in[2] - rest, set_.low, set_.high);
            return {};
        }
        x = std::clamp(x + set_.ki * period_ * e, set_.low, set_.high);
        out[0] = std::clamp(rest + x, set_.low, set_.high);
        return {};
    }

private:
    Setting set_;
    double period_;
};

bool connected(const NetworkBuilder& b, std::string_view pin) {
    const SignalInput input = b.input(pin);
    return input.signal >= 0 || input.column >= 0;
}

RegulatorStep::Setting regulatorSetting(const NetworkBuilder& b, bool derivative) {
    RegulatorStep::Setting set;
    set.kp = b.value("kp"), set.ki = b.value("ki");
    if (derivative) set.kd = b.value("kd"), set.tf = b.value("tf");
    set.low = b.value("low"), set.high = b.value("high"), set.initial = b.value("y0");
    set.enable = connected(b, "on");
    return set;
}

PieceLaw regulator(const NetworkBuilder& b, bool derivative) {
    const RegulatorStep::Setting set = regulatorSetting(b, derivative);
    Limited system{3, {set.initial}, {}, {}, set.low, set.high, set.enable ? 1 : -1, set.enable ? 2 : -1, b.value("tt")};
    if (derivative) {
        system.initial.push_back(0);
        system.unclamped = {set.kp + set.kd / set.tf, 0, 0, 1, -set.kd / set.tf, 0};
        system.rates = {{set.ki, 0, 0, 0, 0, 0}, {1 / set.tf, 0, 0, 0, -1 / set.tf, 0}};
    } else {
        system.unclamped = {set.kp, 0, 0, 1, 0};
        system.rates = {{set.ki, 0, 0, 0, 0}};
    }
    return limited(system);
}

PieceLaw integrator(const NetworkBuilder& b) {
    const double k = b.value("k"), low = b.value("low"), high = b.value("high"), start = b.value("y0");
    PieceLaw law{2, {}, {start}};
    const Row held = {0, 0, 0, 0}, x = {0, 0, 1, 0};
    law.pieces = {{{x}, {{k, 0, 0, 0}}, {{{0, 0, -1, high}, 1}, {{0, 0, 1, -low}, 2}}},
                  {{x}, {held}, {{{k, 0, 0, 0}, 0}}},
                  {{x}, {held}, {{{-k, 0, 0, 0}, 0}}}};
    if (!connected(b, "reset")) return law;
    const double quick = 1 / b.value("tt");
    for (SignalPiece& piece : law.pieces) piece.bounds.push_back({{0, -1, 0, 0.5}, 3});
    law.pieces.push_back({{{0, 0, 0, start}}, {{0, 0, -quick, quick * start}}, {{{0, 1, 0, -0.5}, 0}}});
    return law;
}

class IntegratorStep final : public NumbersStep {
public:
    IntegratorStep(double gain, double low, double high, double initial)
        : NumbersStep({initial}), gain_(gain), low_(low), high_(high), initial_(initial) {}
    void before(std::span<double> out) const override { out[0] = initial_; }
    Status output(std::span<const double> in, std::span<double> out) override {
        double& x = numbers_[0];
        x = in[1] > 0.5 ? initial_ : std::clamp(x + gain_ * in[0], low_, high_);
        out[0] = x;
        return {};
    }

private:
    double gain_, low_, high_, initial_;
};

/// x' = A x + B u, y = C x + D u.
struct Linear {
    Eigen::MatrixXd a;
    Eigen::VectorXd b, c;
    double d = 0;
};

/// Controllable canonical form of a quotient of polynomials in s, highest power first, in the time scale of its poles.
/// K. Ogata, Modern Control Engineering, 5th ed., 9-2.
Result<Linear> transferFunction(std::vector<double> above, std::vector<double> below) {
    while (below.size() > 1 && below.front() == 0) below.erase(below.begin());
    while (above.size() > 1 && above.front() == 0) above.erase(above.begin());
    if (below.front() == 0) return Error{ErrorCode::range, "the denominator is zero", {}, {}, "den"};
    if (above.size() > below.size())
        return Error{ErrorCode::range, "the numerator has a higher power than the denominator: it would differentiate "
                                       "steps; add poles", {}, {}, "num"};
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

PieceLaw running(const Linear& system) {
    const auto order = static_cast<std::size_t>(system.b.size());
    PieceLaw law{1, {SignalPiece{{Row(order + 2, 0.0)}}}, std::vector<double>(order, 0.0)};
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
class LinearStep final : public NumbersStep {
public:
    LinearStep(const Linear& system, double period, double kept)
        : NumbersStep(std::vector<double>(static_cast<std::size_t>(system.b.size()), 0.0)) {
        system_ = system;
        if (numbers_.empty()) return;
        const double alpha = kept > 0 ? std::tan(kept * period / 2) / kept : period / 2;
        const auto identity = Eigen::MatrixXd::Identity(system.a.rows(), system.a.cols());
        const Eigen::MatrixXd m = (identity - alpha * system.a).inverse();
        system_.a = m * (identity + alpha * system.a);
        system_.b = 2 * alpha * m * system.b;
        system_.c = m.transpose() * system.c;
        system_.d = system.d + alpha * system_.c.dot(system.b);
    }
    Status output(std::span<const double> in, std::span<double> out) override {
        Eigen::Map<Eigen::VectorXd> x(numbers_.data(), static_cast<Eigen::Index>(numbers_.size()));
        out[0] = system_.c.dot(x) + system_.d * in[0];
        x = (system_.a * x + system_.b * in[0]).eval();
        return {};
    }

private:
    Linear system_;
};

using MakeLinear = std::function<Linear(const NetworkBuilder& b)>;

void addLinear(PartLibrary& library, SignalKind kind, MakeLinear make) {
    kind.parameters.push_back(number("keep", "frequency kept exact at samples", "f_w", "0", "Hz"));
    library.add(std::make_unique<LawPart>(
        kind, [make](const NetworkBuilder& b) { return running(make(b)); }, LawPart::Output::runs,
        [make](const NetworkBuilder& b) -> StepMaker {
            return [system = make(b), kept = 2 * std::numbers::pi * b.value("keep")](double period) {
                return std::make_unique<LinearStep>(system, period, kept);
            };
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

constexpr double turn = 2 * std::numbers::pi;

Status limitsInOrder(const std::function<double(std::string_view)>& value) {
    if (value("low") < value("high")) return {};
    return Error{ErrorCode::range, "the lower limit must be below the upper one", {}, {}, "low"};
}

SignalKind regulatorKind(bool derivative) {
    SignalKind kind{derivative ? "pid" : "pi", derivative ? "PID regulator" : "PI regulator", "REG",
                    derivative ? std::vector<std::string>{"pid regulator with limits"}
                               : std::vector<std::string>{"regulator", "controller"},
                    derivative ? "Proportional, integral and filtered derivative share, with limits"
                               : "Proportional and integral share, with limits",
                    "Its output and its integral are both held between the limits, so that the integral does not wind "
                    "up while the output is at a limit. While the input 'on' is connected and off, the output follows "
                    "'track' (zero where open) and the integral follows it, so that it takes over without a bump: at "
                    "once in a task, within the tracking time otherwise. In a task the integral is the sum of "
                    "k_i T e, the present sample included (backward Euler).",
                    {"e", "on?", "track?"},
                    {"y"},
                    derivative ? "PID" : "PI",
                    {number("kp", "proportional gain", "k_p", "1", "", true),
                     number("ki", "integral gain, per second", "k_i", "100", "", true)}};
    if (derivative) {
        kind.parameters.push_back(number("kd", "derivative gain, seconds", "k_d", "1u", "", true));
        kind.parameters.push_back(positive("tf", "derivative filter", "T_f", "1u", "s"));
    }
    for (const ParameterKind& limit : limits("0", "1")) kind.parameters.push_back(limit);
    kind.parameters.push_back(number("y0", "integral at the start", "y_0", "0"));
    kind.parameters.push_back(positive("tt", "tracking time while off", "T_t", "100u", "s"));
    kind.parameters.push_back(positive("alarm", "say so after this time at a limit", "t_alarm", "2m", "s"));
    kind.equations = derivative ? "y = clamp(k_p e + x + k_d (e − f)/T_f), x' = k_i e within the limits, T_f f' = e − f"
                                : "y = clamp(k_p e + x), x' = k_i e within the limits";
    kind.source = "K. J. Åström, T. Hägglund, Advanced PID Control, 2006, ch. 3";
    return kind;
}

}  // namespace

void registerDynamics(PartLibrary& library) {
    for (const bool derivative : {false, true})
        library.add(std::make_unique<LawPart>(
            regulatorKind(derivative), [derivative](const NetworkBuilder& b) { return regulator(b, derivative); },
            LawPart::Output::runs,
            [derivative](const NetworkBuilder& b) -> StepMaker {
                return [set = regulatorSetting(b, derivative)](double period) {
                    return std::make_unique<RegulatorStep>(set, period);
                };
            },
            limitsInOrder));

    SignalKind integral{"integrator", "Integrator", "INT", {"integral", "1/s"}, "y' = k u between limits",
                        "Adds up its input over time and stops at the limits. While the reset is on the output is its "
                        "start, and the integral goes back to that: at once in a task, within a few tracking times "
                        "otherwise.",
                        {"u", "reset?"}, {"y"}, "∫",
                        {number("k", "gain, per second", "k", "1", "", true), number("y0", "start", "y_0", "0")}};
    for (const ParameterKind& limit : limits("-1M", "1M")) integral.parameters.push_back(limit);
    integral.parameters.push_back(positive("tt", "tracking time of the reset", "T_t", "1u", "s"));
    integral.equations = "y' = k u within the limits; in a task y_k = y_{k−1} + k T u_k";
    library.add(std::make_unique<LawPart>(
        integral, integrator, LawPart::Output::runs,
        [](const NetworkBuilder& b) -> StepMaker {
            return [k = b.value("k"), low = b.value("low"), high = b.value("high"), y0 = b.value("y0")](double period) {
                return std::make_unique<IntegratorStep>(k * period, low, high, y0);
            };
        },
        limitsInOrder));

    addLinear(library,
              {"transfer-s", "Transfer function in s", "H", {"laplace", "transfer function", "rational"},
               "A quotient of polynomials in s",
               "Coefficients, highest power first, separated by commas: '1, 0' over '1, 100' is s / (s + 100). In a "
               "task it follows by the trapezoidal rule, which keeps the gain at one frequency exact where that is "
               "given.",
               {"u"}, {"y"}, "H(s)",
               {expressionsOf("num", "numerator", "1", true), expressionsOf("den", "denominator", "1m, 1", true)},
               "Y = N(s)/D(s) U", "K. Ogata, Modern Control Engineering, 5th ed., 9-2"},
              [](const NetworkBuilder& b) { return transferOf(b, b.numbers("num"), b.numbers("den")); });
    addLinear(library,
              {"zeros-poles", "Zeros and poles", "H", {"zpk", "poles"}, "A transfer function by its zeros and poles",
               "Zeros and poles in rad/s, separated by commas, complex ones in pairs: '-5+20j, -5-20j'. The gain is "
               "that of the highest powers: k (s − z_1)... / (s − p_1)...",
               {"u"}, {"y"}, "H(s)",
               {number("k", "gain", "k", "1k", "", true), textOf("zeros", "zeros", "", true),
                textOf("poles", "poles", "-1k", true)},
               "Y = k Π(s − z)/Π(s − p) U", "definition"},
              [](const NetworkBuilder& b) {
                  std::vector<double> above = polynomialOf(b, "zeros");
                  for (double& value : above) value *= b.value("k");
                  return transferOf(b, above, polynomialOf(b, "poles"));
              });
    addLinear(library,
              {"low-pass", "Low-pass filter", "LP", {"lowpass", "filter"}, "First or second order",
               "Passes what is slow against its corner. The second order has the given damping: 0.707 has the flattest "
               "gain.",
               {"u"}, {"y"}, "LP",
               {positive("f", "corner frequency", "f_c", "1k", "Hz", true), choiceOf("order", "order", {"first", "second"}),
                positive("damping", "damping, of the second order", "ζ", "0.7071")},
               "first: 1/(1 + s/ω_c), second: 1/(1 + 2ζ s/ω_c + s²/ω_c²)"},
              [](const NetworkBuilder& b) {
                  const double w = turn * b.value("f");
                  if (b.choice("order") == "first") return transferOf(b, {w}, {1, w});
                  return transferOf(b, {w * w}, {1, 2 * b.value("damping") * w, w * w});
              });
    addLinear(library,
              {"notch", "Notch filter", "NF", {"band stop"}, "Stops one frequency",
               "Passes everything but a band around its frequency, which is as wide as the damping says.", {"u"}, {"y"},
               "notch",
               {positive("f", "frequency", "f_0", "100", "Hz", true), positive("damping", "damping", "ζ", "0.5")},
               "(s² + ω_0²)/(s² + 2ζ ω_0 s + ω_0²)"},
              [](const NetworkBuilder& b) {
                  const double w = turn * b.value("f");
                  return transferOf(b, {1, 0, w * w}, {1, 2 * b.value("damping") * w, w * w});
              });
    addLinear(library,
              {"lead-lag", "Lead-lag", "LL", {"lead", "lag", "compensator"}, "One zero and one pole",
               "Leads where the zero lies below the pole, and lags where it lies above.", {"u"}, {"y"}, "lead",
               {number("k", "gain at rest", "k", "1", "", true), positive("fz", "zero", "f_z", "1k", "Hz", true),
                positive("fp", "pole", "f_p", "10k", "Hz", true)},
               "k (1 + s/ω_z)/(1 + s/ω_p)"},
              [](const NetworkBuilder& b) {
                  const double z = turn * b.value("fz"), p = turn * b.value("fp");
                  return transferOf(b, {b.value("k") * p / z, b.value("k") * p}, {1, p});
              });
    addLinear(library,
              {"resonant", "Resonant regulator", "PR", {"pr", "resonator", "proportional resonant"},
               "Infinite or high gain at one frequency",
               "A proportional share and a resonance, which regulates a sine of its frequency without error. With a "
               "width above zero the resonance is damped.",
               {"e"}, {"y"}, "PR",
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
