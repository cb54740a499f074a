#include "analysis/tune.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <Eigen/Dense>

#include "base/text.h"
#include "network/task.h"
#include "runs/registry.h"

namespace hedgerow {

namespace {

using Complex = std::complex<double>;

constexpr double wide = 32;     ///< times the crossover, up to which the loop is looked at, and as far down
constexpr int points = 121;     ///< the middle one is the crossover
constexpr double corner = 0.1;  ///< of the crossover, the corner of the integral of a PID regulator

/// What the present values of a part are.
struct Values {
    const Part& part;
    const PartKind& kind;
    const ParameterTable& parameters;
    double operator()(std::string_view key) const {
        const auto value = partValue(part, kind, key, parameters.lookup());
        return value ? *value : 0.0;
    }
};

/// A regulator as a sum of gains times shares.
struct Shares {
    std::vector<std::string> keys;                             ///< of the gains
    std::vector<double> gains;                                 ///< the present ones
    std::function<std::vector<Complex>(double frequency)> at;  ///< one per gain
    double ratio = 0;                                          ///< of gain 1 to gain 0, where there are three; rad/s
};

/// s, or what stands for it at samples by the trapezoidal rule.
Complex laplace(double frequency, double period, double kept) {
    const double w = 2 * std::numbers::pi * frequency;
    if (period <= 0) return {0, w};
    const double alpha = kept > 0 ? std::tan(kept * period / 2) / kept : period / 2;
    return {0, std::tan(w * period / 2) / alpha};
}

/// The sum by backward Euler, or the integral.
Complex integral(double frequency, double period) {
    const double w = 2 * std::numbers::pi * frequency;
    if (period <= 0) return 1.0 / Complex(0, w);
    const Complex z = std::polar(1.0, w * period);
    return period * z / (z - 1.0);
}

/// The filtered difference, or derivative.
Complex derivative(double frequency, double period, double filter) {
    const double w = 2 * std::numbers::pi * frequency;
    if (period <= 0) return Complex(0, w) / (1.0 + Complex(0, w * filter));
    const Complex z = std::polar(1.0, w * period);
    const double share = period / (filter + period);
    return (1 - share) * (z - 1.0) / (z - 1.0 + share) / filter;
}

/// The poles of a text that has zero among two: the other one, rad/s; 0 where it is none of these.
double otherPole(const std::string& text) {
    std::vector<double> poles;
    std::string rest = text;
    for (char& c : rest)
        if (c == ';') c = ',';
    for (std::size_t start = 0; start <= rest.size();) {
        const std::size_t end = std::min(rest.find(',', start), rest.size());
        const auto value = evaluate(trimmed(rest.substr(start, end - start)));
        if (!value) return 0;
        poles.push_back(value->value);
        start = end + 1;
    }
    if (poles.size() != 2 || (poles[0] != 0) == (poles[1] != 0)) return 0;
    return -(poles[0] + poles[1]);
}

Result<Shares> sharesOf(const Values& value, double period, double crossover) {
    const std::string& kind = value.part.kind;
    const double w = 2 * std::numbers::pi * crossover;
    if (kind == "pi")
        return Shares{{"kp", "ki"}, {value("kp"), value("ki")}, [period](double f) {
                          return std::vector<Complex>{1.0, integral(f, period)};
                      }};
    if (kind == "pid") {
        const double filter = value("tf");
        return Shares{{"kp", "ki", "kd"},
                      {value("kp"), value("ki"), value("kd")},
                      [period, filter](double f) {
                          return std::vector<Complex>{1.0, integral(f, period), derivative(f, period, filter)};
                      },
                      corner * w};
    }
    const double kept = 2 * std::numbers::pi * value("keep");
    if (kind == "resonant") {
        const double at = 2 * std::numbers::pi * value("f"), width = 2 * std::numbers::pi * value("width");
        return Shares{{"kp", "kr"}, {value("kp"), value("kr")}, [=](double f) {
                          const Complex s = laplace(f, period, kept);
                          return std::vector<Complex>{1.0, 2.0 * s / (s * s + 2 * width * s + at * at)};
                      }};
    }
    // k (s + z) / (s (s + p)): gains k and k z.
    const std::string poles = textValue(value.part, value.kind, "poles"),
                      zeros = textValue(value.part, value.kind, "zeros");
    const double p = otherPole(poles);
    const auto zero = evaluate(trimmed(zeros));
    if (!(p > 0) || !zero)
        return Error{ErrorCode::range,
                     fmt::format("{}: it can be tuned with two poles, one of them zero and the other one negative, and "
                                 "one real zero",
                                 value.part.name),
                     value.part.name};
    return Shares{{"k", "zeros"}, {value("k"), -value("k") * zero->value}, [=](double f) {
                      const Complex s = laplace(f, period, kept);
                      return std::vector<Complex>{1.0 / (s + p), 1.0 / (s * (s + p))};
                  }};
}

Complex sum(const std::vector<double>& gains, const std::vector<Complex>& shares) {
    Complex all = 0;
    for (std::size_t i = 0; i < gains.size(); ++i) all += gains[i] * shares[i];
    return all;
}

std::string typed(double value) { return fmt::format("{:.6g}", value); }

/// Looks at the loop, finds gains, and looks again with these: what ripple makes of a modulator depends on them.
class Tuner {
public:
    Tuner(std::shared_ptr<const Project> project, const RunSettings& settings, const Part& part, double crossover,
          double phaseMargin, const CancelToken& cancel)
        : project_(std::move(project)),
          settings_(settings),
          id_(part.id),
          name_(part.name),
          crossover_(crossover),
          phaseMargin_(phaseMargin),
          cancel_(cancel) {
        settings_.settle = true;
    }
    Result<Tuning> tune() {
        constexpr int passes = 5;
        constexpr double enough = 1e-4;
        const Complex target = std::polar(1.0, (phaseMargin_ - 180) * std::numbers::pi / 180);
        Tuning tuning;
        for (int pass = 0; pass <= passes; ++pass) {
            auto loop = look();
            if (!loop) return loop.error();
            if (pass == 0) tuning.before = *loop;
            tuning.after = std::move(*loop);
            const Complex is = tuning.after.values[points / 2];
            if (pass > 0 && (std::abs(is - target) <= enough || pass == passes)) break;
            auto values = gainsFor(is);
            if (!values) return values.error();
            tuning.values = *values;
            auto changed = std::make_shared<Project>(*project_);
            for (const auto& [key, text] : *values) changed->findPart(id_)->values.set(key, text);
            project_ = std::move(changed);
        }
        tuning.after.name += ", tuned";
        tuning.margins = marginsOf(tuning.after);
        return tuning;
    }

private:
    /// The loop gain with the present values, and the shares of the regulator.
    Result<FrequencyResponse> look() {
        const Part& part = *project_->findPart(id_);
        auto run = Run::prepare(project_, settings_);
        if (!run) return run.error();
        double period = 0;
        for (const SignalConnection& connection : (*run)->elaboration().network.signalBlocks)
            if (const auto* task = dynamic_cast<const TaskBlock*>(connection.block.get()))
                for (const TaskStep& step : task->steps())
                    if (step.part == name_) period = task->setting().period;
        if (period > 0 && crossover_ >= 0.5 / period)
            return Error{ErrorCode::range,
                         fmt::format("the crossover lies above half the rate of the samples, {}",
                                     formatQuantity(0.5 / period, "Hz", 4)),
                         name_};
        const ParameterTable parameters((*run)->project().parameters);
        const PartKind& kind = *partLibrary().catalogue().find(part.kind);
        auto shares = sharesOf({part, kind, parameters}, period, crossover_);
        if (!shares) return shares.error();
        shares_ = std::move(*shares);
        auto loop = respondTo(**run,
                              {.sort = ResponseQuestion::Sort::loop,
                               .from = name_,
                               .least = crossover_ / wide,
                               .most = crossover_ * wide,
                               .points = points},
                              cancel_);
        if (!loop) return loop.error();
        return std::move(loop->front());
    }

    /// @param loop  the loop gain at the crossover with the present values
    Result<std::vector<std::pair<std::string, std::string>>> gainsFor(Complex loop) const {
        const std::vector<Complex> unit = shares_.at(crossover_);
        const Complex present = sum(shares_.gains, unit);
        if (std::abs(present) == 0)
            return Error{ErrorCode::range,
                         fmt::format("{} passes nothing on with its present values: give it a gain", name_), name_};
        const Complex plant = loop / present;
        const Complex target =
            std::polar(1 / std::abs(plant), (phaseMargin_ - 180) * std::numbers::pi / 180 - std::arg(plant));
        const auto n = static_cast<Eigen::Index>(unit.size());
        Eigen::MatrixXd a = Eigen::MatrixXd::Zero(n, n);
        Eigen::VectorXd b = Eigen::VectorXd::Zero(n);
        for (Eigen::Index i = 0; i < n; ++i)
            a(0, i) = unit[static_cast<std::size_t>(i)].real(), a(1, i) = unit[static_cast<std::size_t>(i)].imag();
        b(0) = target.real(), b(1) = target.imag();
        if (n == 3) a(2, 0) = shares_.ratio, a(2, 1) = -1;
        const Eigen::VectorXd gains = a.fullPivLu().solve(b);
        const std::vector<double> found(gains.begin(), gains.end());
        if (!std::all_of(found.begin(), found.end(), [](double gain) { return std::isfinite(gain) && gain > 0; })) {
            // What every share alone would make of it bounds what can be had.
            double low = 1e9, high = -1e9;
            for (const Complex& share : unit) {
                double margin = (std::arg(plant) + std::arg(share)) * 180 / std::numbers::pi + 180;
                margin -= 360 * std::round((margin - phaseMargin_) / 360);
                low = std::min(low, margin), high = std::max(high, margin);
            }
            return Error{ErrorCode::range,
                         fmt::format("{}: at {} its shares make a phase margin between {:.1f} and {:.1f} degrees",
                                     name_, formatQuantity(crossover_, "Hz", 4), low, high),
                         name_};
        }
        std::vector<std::pair<std::string, std::string>> values;
        for (std::size_t i = 0; i < found.size(); ++i)
            values.emplace_back(shares_.keys[i], typed(shares_.keys[i] == "zeros" ? -found[i] / found[0] : found[i]));
        return values;
    }

    std::shared_ptr<const Project> project_;
    RunSettings settings_;
    int id_;
    std::string name_;
    double crossover_, phaseMargin_;
    CancelToken cancel_;
    Shares shares_;
};

}  // namespace

bool canBeTuned(std::string_view kind) {
    return kind == "pi" || kind == "pid" || kind == "resonant" || kind == "zeros-poles";
}

Result<Tuning> tuneRegulator(std::shared_ptr<const Project> project, const RunSettings& settings,
                             const std::string& name, double crossover, double phaseMargin, const CancelToken& cancel) {
    const Part* const part = project->findPart(name);
    if (!part) return Error{ErrorCode::name, fmt::format("there is no part {}", name)};
    if (!canBeTuned(part->kind))
        return Error{ErrorCode::name,
                     fmt::format("{} cannot be tuned: PI, PID and resonant regulators can, and zeros and poles", name),
                     name};
    if (!(crossover > 0) || crossover > 1e7)
        return Error{ErrorCode::range, "the crossover must be above 0 and at most 10 MHz", name, {}, "crossover"};
    if (!(phaseMargin > 0) || !(phaseMargin < 180))
        return Error{ErrorCode::range, "the phase margin must be between 0 and 180 degrees", name, {}, "margin"};
    return Tuner(std::move(project), settings, *part, crossover, phaseMargin, cancel).tune();
}

}  // namespace hedgerow
