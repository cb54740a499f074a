// Integrator and regulators with limits. Without a task they run as equations of the network; in a task they become
// sums.

#include <algorithm>

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
    int enable = -1;         ///< index of the input that lets it work; -1 without
    int track = -1;          ///< of the input that the output takes meanwhile; -1 for 0
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
                piece.bounds.push_back(
                    {o == atHigh ? above(s.unclamped, s.high) : below(s.unclamped, s.low), number(i, free)});
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
class RegulatorStep final : public SampledStep {
public:
    struct Setting {
        double kp = 0, ki = 0, kd = 0, tf = 1, low, high, initial = 0;
        bool enable = false;
    };
    RegulatorStep(const Setting& setting, double period)
        : set_(setting), period_(period), integral_(setting.initial) {}
    void before(std::span<double> out) const override { out[0] = std::clamp(set_.initial, set_.low, set_.high); }
    Status output(std::span<const double> in, std::span<double> out) override {
        const double e = in[0];
        double &x = integral_, &filtered = filtered_;
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

    void memory(Memory& all) override {
        all.number("integral", integral_);
        if (set_.kd != 0) all.number("filtered error", filtered_);
    }

private:
    Setting set_;
    double period_, integral_, filtered_ = 0;
};

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
    Limited system{
        3, {set.initial}, {}, {}, set.low, set.high, set.enable ? 1 : -1, set.enable ? 2 : -1, b.value("tt")};
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

class IntegratorStep final : public SampledStep {
public:
    IntegratorStep(double gain, double low, double high, double initial)
        : gain_(gain), low_(low), high_(high), initial_(initial), integral_(initial) {}
    void before(std::span<double> out) const override { out[0] = initial_; }
    Status output(std::span<const double> in, std::span<double> out) override {
        double& x = integral_;
        x = in[1] > 0.5 ? initial_ : std::clamp(x + gain_ * in[0], low_, high_);
        out[0] = x;
        return {};
    }

    void memory(Memory& all) override { all.number("integral", integral_); }

private:
    double gain_, low_, high_, initial_, integral_;
};

Status limitsInOrder(const std::function<double(std::string_view)>& value) {
    if (value("low") < value("high")) return {};
    return Error{ErrorCode::range, "the lower limit must be below the upper one", {}, {}, "low"};
}

SignalKind regulatorKind(bool derivative) {
    SignalKind kind{derivative ? "pid" : "pi",
                    derivative ? "PID regulator" : "PI regulator",
                    "REG",
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
    kind.parameters.push_back(positive("alarm", "alarm after this time at a limit", "t_alarm", "2m", "s"));
    kind.equations = derivative ? "y = clamp(k_p e + x + k_d (e − f)/T_f), x' = k_i e within the limits, T_f f' = e − f"
                                : "y = clamp(k_p e + x), x' = k_i e within the limits";
    kind.source = "K. J. Åström, T. Hägglund, Advanced PID Control, 2006, ch. 3";
    return kind;
}

}  // namespace

void registerRegulators(PartLibrary& library) {
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

    SignalKind integral{"integrator",
                        "Integrator",
                        "INT",
                        {"integral", "1/s"},
                        "y' = k u between limits",
                        "Adds up its input over time and stops at the limits. While the reset is on the output is its "
                        "start, and the integral goes back to that: at once in a task, within a few tracking times "
                        "otherwise.",
                        {"u", "reset?"},
                        {"y"},
                        "∫",
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
}

}  // namespace hedgerow
