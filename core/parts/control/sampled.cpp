// Parts of the control that work at the samples of a task: delays, difference equations, moving means, loops that lock
// to a wave.

#include <cmath>
#include <limits>
#include <numbers>
#include <numeric>

#include <fmt/format.h>

#include "parts/control/signal_part.h"

namespace hedgerow {

using namespace parts;

namespace {

constexpr double turn = 2 * std::numbers::pi;
constexpr double mostSamples = 1e6;  ///< that a part remembers

/// The last samples, in a ring.
class Ring {
public:
    explicit Ring(std::size_t size, double initial = 0) : samples_(size, initial) {}
    std::size_t size() const { return samples_.size(); }
    /// The oldest sample, whose place the next one takes.
    double oldest() const { return samples_[place_]; }
    void put(double sample) {
        samples_[place_] = sample;
        place_ = (place_ + 1) % samples_.size();
        known_ = std::min(known_ + 1, samples_.size());
    }
    /// The sample `ago` before the newest. @pre ago < size()
    double back(std::size_t ago) const { return samples_[(place_ + 2 * samples_.size() - 1 - ago) % samples_.size()]; }
    double sum() const {
        double sum = 0;
        for (const double sample : samples_) sum += sample;
        return sum;
    }
    /// How many were put, up to its size.
    std::size_t known() const { return known_; }
    void memory(Memory& all) {
        const auto size = static_cast<std::int64_t>(samples_.size());
        // The oldest first, so that one content has one description.
        if (!all.reading() && known_ == samples_.size()) {
            std::rotate(samples_.begin(), samples_.begin() + static_cast<std::ptrdiff_t>(place_), samples_.end());
            place_ = 0;
        }
        all.numbers("samples", samples_), all.whole("place", place_, 0, size - 1), all.whole("known", known_, 0, size);
    }

private:
    std::vector<double> samples_;
    std::size_t place_ = 0, known_ = 0;
};

/// y_k = u_{k-n}.
class DelayStep final : public SampledStep {
public:
    DelayStep(std::size_t samples, double initial) : ring_(samples, initial) {}
    bool delays() const override { return true; }
    void before(std::span<double> out) const override { out[0] = ring_.oldest(); }
    Status output(std::span<const double>, std::span<double> out) override {
        out[0] = ring_.oldest();
        return {};
    }
    void remember(std::span<const double> in) override { ring_.put(in[0]); }
    void memory(Memory& all) override { ring_.memory(all); }

private:
    Ring ring_;
};

/// a_0 y_k = sum b_i u_{k-i} - sum a_i y_{k-i}, in the transposed second direct form.
/// A. V. Oppenheim, R. W. Schafer, Discrete-Time Signal Processing, 3rd ed., 6.3.
class DifferenceStep final : public SampledStep {
public:
    /// @param initial  the output it rests at before the first sample
    DifferenceStep(std::vector<double> above, std::vector<double> below, double initial)
        : states_(std::max(above.size(), below.size()), 0.0),
          initial_(initial),
          above_(std::move(above)),
          below_(std::move(below)) {
        above_.resize(states_.size());
        below_.resize(states_.size());
        for (double& value : above_) value /= below_[0];
        for (std::size_t i = below_.size(); i-- > 0;) below_[i] /= below_[0];
        const double gain = restingGain(above_, below_), input = std::isfinite(gain) && gain != 0 ? initial / gain : 0;
        for (std::size_t i = states_.size() - 1; i-- > 0;)
            states_[i] = states_[i + 1] + above_[i + 1] * input - below_[i + 1] * initial;
    }
    /// y over u at rest; infinite where it integrates.
    static double restingGain(const std::vector<double>& above, const std::vector<double>& below) {
        const double up = std::accumulate(above.begin(), above.end(), 0.0),
                     down = std::accumulate(below.begin(), below.end(), 0.0);
        double size = 0;
        for (const double value : below) size += std::abs(value);
        return std::abs(down) <= 1e-12 * size ? std::numeric_limits<double>::infinity() : up / down;
    }
    void before(std::span<double> out) const override { out[0] = initial_; }
    Status output(std::span<const double> in, std::span<double> out) override {
        out[0] = above_[0] * in[0] + states_[0];
        for (std::size_t i = 0; i + 1 < states_.size(); ++i)
            states_[i] = states_[i + 1] + above_[i + 1] * in[0] - below_[i + 1] * out[0];
        return {};
    }

    void memory(Memory& all) override { all.numbers("states", states_); }

private:
    std::vector<double> states_;
    double initial_;
    std::vector<double> above_, below_;
};

/// Moves towards its input by no more than a rate.
class RateStep final : public SampledStep {
public:
    RateStep(double up, double down, double initial) : up_(up), down_(down), level_(initial) {}
    void before(std::span<double> out) const override { out[0] = level_; }
    Status output(std::span<const double> in, std::span<double> out) override {
        out[0] = level_ = std::clamp(in[0], level_ - down_, level_ + up_);
        return {};
    }
    void memory(Memory& all) override { all.number("level", level_); }

private:
    double up_, down_, level_;
};

/// Mean, or root of the mean square, of the last n samples.
class MovingStep final : public SampledStep {
public:
    MovingStep(std::size_t samples, bool square) : ring_(samples), square_(square) {}
    Status output(std::span<const double> in, std::span<double> out) override {
        ring_.put(square_ ? in[0] * in[0] : in[0]);
        const double mean = ring_.sum() / static_cast<double>(ring_.known());
        out[0] = square_ ? std::sqrt(mean) : mean;
        return {};
    }
    void memory(Memory& all) override { ring_.memory(all); }

private:
    Ring ring_;
    bool square_;
};

/// Mean over the last n samples of an integral: exact, whatever lies between the samples.
class IntegralMeanStep final : public SampledStep {
public:
    IntegralMeanStep(std::size_t samples, double period) : ring_(samples), period_(period) {}
    Status output(std::span<const double> in, std::span<double> out) override {
        const double known = static_cast<double>(ring_.known());
        out[0] = known > 0 ? (in[0] - (ring_.known() < ring_.size() ? 0.0 : ring_.oldest())) / (known * period_) : 0.0;
        ring_.put(in[0]);
        return {};
    }
    void memory(Memory& all) override { ring_.memory(all); }

private:
    Ring ring_;
    double period_;
};

/// Follows its input with a short lag, no faster than its rates.
PieceLaw rateLaw(double up, double down, double lag, double initial) {
    // Columns: u, y, 1. Towards the input by (u - y)/lag.
    const SignalPiece::Row towards{1 / lag, -1 / lag, 0}, out{0, 1, 0};
    const auto less = [&](double rate) { return SignalPiece::Row{1 / lag, -1 / lag, -rate}; };
    const auto negative = [](SignalPiece::Row row) {
        for (double& factor : row) factor = -factor;
        return row;
    };
    PieceLaw law;
    law.pieces = {{.outputs = {out}, .rates = {towards}, .bounds = {{negative(less(up)), 1}, {less(-down), 2}}},
                  {.outputs = {out}, .rates = {{0, 0, up}}, .bounds = {{less(up), 0}}},
                  {.outputs = {out}, .rates = {{0, 0, -down}}, .bounds = {{negative(less(-down)), 0}}}};
    law.initial = {initial};
    return law;
}

/// Amplitude and phase of one frequency over its last period.
class FundamentalStep final : public SampledStep {
public:
    explicit FundamentalStep(std::size_t samples) : ring_(samples) {}
    Status output(std::span<const double> in, std::span<double> out) override {
        ring_.put(in[0]);
        const std::size_t n = ring_.size();
        double c = 0, s = 0;
        for (std::size_t i = 0; i < n; ++i) {
            const double angle = turn * static_cast<double>(i) / static_cast<double>(n);
            c += ring_.back(i) * std::cos(angle), s += ring_.back(i) * std::sin(angle);
        }
        out[0] = 2 * std::hypot(c, s) / static_cast<double>(n);
        out[1] = std::atan2(s, c);
        return {};
    }
    void memory(Memory& all) override { ring_.memory(all); }

private:
    Ring ring_;
};

/// Rounds to steps, as a converter of so many bits does.
class QuantiserStep final : public SampledStep {
public:
    QuantiserStep(double low, double high, double steps) : low_(low), high_(high), step_((high - low) / steps) {}
    Status output(std::span<const double> in, std::span<double> out) override {
        const double last = high_ - step_;
        out[0] = std::clamp(low_ + std::round((in[0] - low_) / step_) * step_, low_, last);
        return {};
    }

private:
    double low_, high_, step_;
};

double inOneTurn(double angle) { return angle - turn * std::floor(angle / turn); }

/// Locks an angle to a vector: q of the vector in the frame of the angle goes to zero by a PI regulator.
/// S.-K. Chung, A phase tracking system for three phase utility interface inverters, IEEE Trans. Power Electron. 15,
/// 2000.
class LockStep final : public SampledStep {
public:
    struct Setting {
        double frequency = 50, peak = 1;         ///< Hz, unit of the input
        double proportional = 0, integral = 0;   ///< rad/s and rad/s² per unit of the error
        double resonator = std::numbers::sqrt2;  ///< gain of what makes the second component of a single wave
        bool byAngle = false;                    ///< the error is the angle of the vector, not q over the peak
        bool single = false;
        double angle = 0, amplitude = 0;  ///< at the start: rad, unit of the input
    };
    LockStep(const Setting& set, double period)
        : set_(set),
          period_(period),
          angle_(inOneTurn(set.angle)),
          alpha_(set.amplitude * std::cos(set.angle)),
          beta_(set.amplitude * std::sin(set.angle)) {}
    void before(std::span<double> out) const override {
        out[0] = angle_, out[1] = set_.frequency, out[2] = set_.amplitude, out[3] = 0;
    }
    Status output(std::span<const double> in, std::span<double> out) override {
        double &angle = angle_, &integral = integral_;
        const double centre = turn * set_.frequency;
        double alpha = 0, beta = 0;
        if (set_.single) {
            quadrature(in[0], centre + integral);
            alpha = alpha_, beta = beta_;
        } else {
            alpha = (2 * in[0] - in[1] - in[2]) / 3, beta = (in[1] - in[2]) / std::sqrt(3.0);
        }
        const double d = alpha * std::cos(angle) + beta * std::sin(angle);
        const double q = beta * std::cos(angle) - alpha * std::sin(angle);
        const double error = set_.byAngle ? std::atan2(q, d) : q / set_.peak;
        integral += set_.integral * error * period_;
        const double speed = centre + integral + set_.proportional * error;
        out[0] = angle, out[1] = (centre + integral) / turn, out[2] = d, out[3] = q;
        angle = inOneTurn(angle + speed * period_);
        return {};
    }

    void memory(Memory& all) override {
        all.number("angle", angle_), all.number("integral", integral_);
        all.number("alpha", alpha_), all.number("beta", beta_);
    }

private:
    /// alpha follows the input and beta lags it by a quarter turn: a resonator at the present speed, trapezoidal.
    /// M. Ciobotaru, R. Teodorescu, F. Blaabjerg, A new single-phase PLL structure based on second order generalized
    /// integrator, PESC 2006.
    void quadrature(double u, double speed) {
        const double k = set_.resonator, h = std::tan(speed * period_ / 2);
        double &a = alpha_, &b = beta_;
        // a' = w (k (u - a) - b), b' = w a.
        const double right1 = a + h * (k * (u - a) - b) + h * k * u, right2 = b + h * a;
        a = (right1 - h * right2) / (1 + h * k + h * h);
        b = right2 + h * a;
    }
    Setting set_;
    double period_, angle_, integral_ = 0;
    double alpha_, beta_;  ///< the components of the wave of a single phase
};

LawPart::MakeStep lock(bool single) {
    return [single](const NetworkBuilder& b) -> StepMaker {
        LockStep::Setting set;
        set.frequency = b.value("f"), set.peak = b.value("peak"), set.single = single;
        set.byAngle = b.choice("error") == "angle";
        set.angle = b.value("theta0"), set.amplitude = b.value("d0");
        if (single) set.resonator = b.value("kr");
        if (b.choice("gains") == "by k_p and k_i") {
            set.proportional = b.value("kp"), set.integral = b.value("ki");
        } else {
            const double natural = turn * b.value("fn");
            set.proportional = 2 * b.value("damping") * natural, set.integral = natural * natural;
        }
        return [set](double period) { return std::make_unique<LockStep>(set, period); };
    };
}

/// The fields of a loop that locks.
std::vector<ParameterKind> loopValues(bool single, ParameterKind samples) {
    std::vector<ParameterKind> values = {recurring(positive("f", "frequency", "f_0", "50", "Hz", true)),
                                         positive("peak", "nominal peak", "û", "1", "", true),
                                         choiceOf("gains", "gains", {"by f_n and ζ", "by k_p and k_i"}),
                                         positive("fn", "natural frequency of the loop", "f_n", "20", "Hz"),
                                         positive("damping", "damping of the loop", "ζ", "0.7071"),
                                         positive("kp", "proportional gain, rad/s per unit", "k_p", "177.7"),
                                         number("ki", "integral gain, rad/s² per unit", "k_i", "15.79k"),
                                         choiceOf("error", "error", {"q", "angle"})};
    values.at(6).least = 0;
    if (single) values.push_back(positive("kr", "gain of the resonator", "k_r", "1.4142135623730951"));
    values.push_back(atStart(number("theta0", "angle at the start", "θ_0", "0", "deg")));
    values.push_back(atStart(number("d0", "amplitude at the start", "d_0", "0")));
    values.back().least = 0;
    values.push_back(std::move(samples));
    return values;
}

/// How many samples a time is, at least one.
std::size_t samplesOf(double seconds, double period) {
    return static_cast<std::size_t>(std::clamp(std::round(seconds / period), 1.0, mostSamples));
}

}  // namespace

void registerSampled(PartLibrary& library) {
    const auto add = [&](const SignalKind& kind, LawPart::MakeStep step, SampledPart::MakeOwn own = {}) {
        library.add(std::make_unique<SampledPart>(kind, std::move(step), std::move(own)));
    };
    const auto ownCount = [](const char* of, const char* standard) {
        ParameterKind n = positive("n", std::string("samples a ") + of + ", without a task", "n", standard);
        n.most = mostSamples;
        return n;
    };
    /// So many samples a time.
    const auto every = [](const char* time) {
        return [time](const NetworkBuilder& b) {
            return SampledPart::Own{b.value(time) / std::max(1.0, std::round(b.value("n")))};
        };
    };
    /// So many samples a period.
    const auto aPeriod = [](const NetworkBuilder& b) {
        return SampledPart::Own{1 / b.value("f") / std::max(4.0, std::round(b.value("n")))};
    };
    add({"unit-delay",
         "Unit delay",
         "Z",
         {"z-1", "one sample"},
         "The input of some samples before",
         "Gives the input of one sample before, or of more. It may close a loop within a task.",
         {"u"},
         {"y"},
         "1/z",
         {positive("n", "samples", "n", "1", "", true), number("y0", "output before", "y_0", "0")},
         "y_k = u_{k−n}"},
        [](const NetworkBuilder& b) -> StepMaker {
            const auto n = samplesOf(b.value("n"), 1);
            return [n, y0 = b.value("y0")](double) { return std::make_unique<DelayStep>(n, y0); };
        });
    add(
        {"transport-delay",
         "Transport delay",
         "DL",
         {"dead time delay", "pure delay"},
         "The input some time ago",
         "In a task the delay is rounded to whole samples, at least one. Without one the part takes so many samples of "
         "its "
         "own in the time of the delay and gives them out as steps.",
         {"u"},
         {"y"},
         "delay",
         {recurring(positive("delay", "delay", "t_d", "100u", "s", true)), number("y0", "output before", "y_0", "0"),
          ownCount("delay", "64")},
         "y(t) = u(t − t_d)"},
        [](const NetworkBuilder& b) -> StepMaker {
            return [delay = b.value("delay"), y0 = b.value("y0")](double period) {
                return std::make_unique<DelayStep>(samplesOf(delay, period), y0);
            };
        },
        every("delay"));
    add({"transfer-z",
         "Transfer function in z",
         "H",
         {"difference equation", "digital filter"},
         "A quotient of polynomials in z⁻¹",
         "Coefficients in powers of z⁻¹ from the zeroth, separated by commas: '0, 1' over '1, -0.9' is "
         "z⁻¹/(1 − 0.9 z⁻¹). The first of the denominator must not be zero.",
         {"u"},
         {"y"},
         "H(z)",
         {expressionsOf("num", "numerator", "0.1", true), expressionsOf("den", "denominator", "1, -0.9", true),
          atStart(number("y0", "output before, at rest", "y_0", "0"))},
         "a_0 y_k = Σ b_i u_{k−i} − Σ a_i y_{k−i}",
         "A. V. Oppenheim, R. W. Schafer, Discrete-Time Signal Processing, 3rd ed., 6.3"},
        [](const NetworkBuilder& b) -> StepMaker {
            auto above = b.numbers("num"), below = b.numbers("den");
            if (below.front() == 0) b.refuse("den", "the first coefficient must not be zero"), below.front() = 1;
            const double y0 = b.value("y0");
            if (y0 != 0 && DifferenceStep::restingGain(above, below) == 0)
                b.refuse("y0", "at rest the output is always zero, it cannot start elsewhere");
            return [above, below, y0](double) { return std::make_unique<DifferenceStep>(above, below, y0); };
        });
    library.add(std::make_unique<LawPart>(
        SignalKind{"rate-limiter",
                   "Rate limiter",
                   "RL",
                   {"slew rate", "ramp limiter"},
                   "Follows no faster than a rate",
                   "In a task it moves towards its input by no more than its rates times the time between samples. "
                   "Running all the "
                   "time it follows its input with a lag, and no faster than its rates.",
                   {"u"},
                   {"y"},
                   "rate",
                   {positive("up", "rate upwards, per second", "r_up", "1k", "", true),
                    positive("down", "rate downwards, per second", "r_down", "1k", "", true),
                    number("y0", "start", "y_0", "0"), positive("lag", "lag, without a task", "τ", "1u", "s")},
                   "−r_down ≤ y' ≤ r_up, else y' = (u − y)/τ"},
        [](const NetworkBuilder& b) { return rateLaw(b.value("up"), b.value("down"), b.value("lag"), b.value("y0")); },
        LawPart::Output::runs,
        [](const NetworkBuilder& b) -> StepMaker {
            return [up = b.value("up"), down = b.value("down"), y0 = b.value("y0")](double period) {
                return std::make_unique<RateStep>(up * period, down * period, y0);
            };
        }));
    for (const bool square : {false, true})
        add(
            {square ? "moving-rms" : "moving-mean",
             square ? "Moving RMS" : "Moving mean",
             square ? "RMS" : "MEAN",
             square ? std::vector<std::string>{"rms value"} : std::vector<std::string>{"average", "mean value"},
             square ? "The RMS of the last period" : "The mean of the last period",
             std::string(
                 "Over as many samples as the window holds; over those there are until it is full. Without a task the "
                 "part takes so many samples of its own in a window") +
                 (square ? "." : ": its mean is then exact, whatever lies between them."),
             {"u"},
             {"y"},
             square ? "rms" : "mean",
             {recurring(positive("window", "window", "T_w", "20m", "s", true)),
              ownCount("window", square ? "256" : "64")},
             square ? "y = √(1/n Σ u²)" : "y = 1/n Σ u"},
            [square](const NetworkBuilder& b) -> StepMaker {
                return [square, window = b.value("window")](double period) {
                    return std::make_unique<MovingStep>(samplesOf(window, period), square);
                };
            },
            [square, every](const NetworkBuilder& b) {
                SampledPart::Own own = every("window")(b);
                if (square) return own;
                own.integral = true;
                own.step = [window = b.value("window")](double period) {
                    return std::make_unique<IntegralMeanStep>(samplesOf(window, period), period);
                };
                return own;
            });
    add(
        {"fundamental",
         "Fundamental",
         "FUN",
         {"fourier component", "first harmonic"},
         "Peak and phase of one frequency over its last period",
         "The discrete Fourier component of the last period. The phase is that of a cosine at the present sample, in "
         "radians.",
         {"u"},
         {"peak", "phase"},
         "f₁",
         {recurring(positive("f", "frequency", "f_1", "50", "Hz", true)), ownCount("period", "256")},
         "2/n Σ u_{k−i} e^{j2πi/n}"},
        [](const NetworkBuilder& b) -> StepMaker {
            return [f = b.value("f")](double period) {
                return std::make_unique<FundamentalStep>(samplesOf(1 / f, period));
            };
        },
        aPeriod);
    add({"quantiser",
         "Quantiser",
         "ADC",
         {"adc", "quantizer", "converter"},
         "Rounds to the steps of a converter",
         "Rounds its input to one of 2^bits steps between low and high and stops at the ends.",
         {"u"},
         {"y"},
         "ADC",
         {number("low", "lowest", "u_min", "0"), number("high", "end of the range", "u_max", "3.3", "", true),
          positive("bits", "bits", "n", "12", "", true)},
         "y = low + round((u − low)/q) q, q = (high − low)/2^n"},
        [](const NetworkBuilder& b) -> StepMaker {
            const double low = b.value("low"), high = b.value("high");
            if (high <= low) b.refuse("low", "the lowest value must be below the end of the range");
            return [low, high, steps = std::exp2(b.value("bits"))](double) {
                return std::make_unique<QuantiserStep>(low, high, steps);
            };
        });
    for (const bool single : {true, false})
        add({single ? "pll" : "pll3",
             single ? "Phase-locked loop" : "Three-phase phase-locked loop",
             "PLL",
             single ? std::vector<std::string>{"phase lock", "synchronisation"}
                    : std::vector<std::string>{"phase lock 3"},
             single ? "Angle and frequency of a wave" : "Angle and frequency of three phases",
             std::string("θ, in radians within one turn, is zero at the peak of ") + (single ? "u" : "phase a") +
                 ". At each sample the vector is turned into the frame of θ; its q over the nominal peak, or its angle "
                 "whatever its length, is the error ε. A PI regulator makes the frequency of it, x + k_p ε with x' = "
                 "k_i ε, and θ moves by that until the next sample. The gains are given, or follow from the natural "
                 "frequency and damping of a loop of second order: k_p = 2ζω_n, k_i = ω_n². The output f is the "
                 "integral share, f_0 + x/2π." +
                 (single ? " The second component is made by a resonator at the present frequency, with the gain k_r "
                           "(√2 is damped critically; less filters more and follows more slowly)."
                         : "") +
                 " It starts at the angle θ_0 and the amplitude d_0.",
             single ? std::vector<std::string>{"u"} : std::vector<std::string>{"a", "b", "c"},
             {"theta", "f", "d", "q"},
             "PLL",
             loopValues(single, ownCount("period", "400")),
             single ? "ε = q/û or ∠(d, q),  x' = k_i ε,  θ' = 2πf_0 + x + k_p ε;  α' = ω(k_r (u − α) − β),  β' = ω α"
                    : "ε = q/û or ∠(d, q),  x' = k_i ε,  θ' = 2πf_0 + x + k_p ε",
             single ? "S.-K. Chung, IEEE Trans. Power Electron. 15, 2000; M. Ciobotaru, R. Teodorescu, F. Blaabjerg, "
                      "PESC 2006"
                    : "S.-K. Chung, IEEE Trans. Power Electron. 15, 2000"},
            lock(single), aPeriod);
}

}  // namespace hedgerow
