#include "analysis/core_loss.h"

#include <cmath>
#include <numbers>
#include <utility>
#include <vector>

namespace hedgerow {

namespace {

/// The integral of |v|^a over a straight line.
double powerIntegral(double v0, double v1, double seconds, double a) {
    if (seconds <= 0) return 0;
    const double change = v1 - v0;
    if (std::abs(change) < 1e-9 * (std::abs(v0) + std::abs(v1))) return std::pow(std::abs(v0 + v1) / 2, a) * seconds;
    const auto odd = [&](double v) { return std::copysign(std::pow(std::abs(v), a + 1), v); };
    return (odd(v1) - odd(v0)) / ((a + 1) * change) * seconds;
}

/// The flux between two of its turns: how far it goes, and the integral of its rate to the power alpha meanwhile.
struct Stroke {
    double swing, integral;
};

/// Strokes between turns of the flux; a line through zero volts is a turn within.
std::vector<Stroke> strokesOf(std::span<const double> times, std::span<const double> voltages, double alpha) {
    std::vector<Stroke> strokes;
    Stroke now{0, 0};
    const auto add = [&](double v0, double v1, double seconds) {
        const double swing = (v0 + v1) / 2 * seconds;
        if (now.swing * swing < 0) strokes.push_back(std::exchange(now, {0, 0}));
        now.swing += swing;
        now.integral += powerIntegral(v0, v1, seconds, alpha);
    };
    for (std::size_t i = 1; i < times.size(); ++i) {
        const double v0 = voltages[i - 1], v1 = voltages[i], seconds = times[i] - times[i - 1];
        if (v0 * v1 < 0) {
            const double part = v0 / (v0 - v1);
            add(v0, 0, part * seconds);
            add(0, v1, (1 - part) * seconds);
        } else {
            add(v0, v1, seconds);
        }
    }
    strokes.push_back(now);
    for (Stroke& stroke : strokes) stroke.swing = std::abs(stroke.swing);
    return strokes;
}

}  // namespace

double CoreLoss::mean(std::span<const double> times, std::span<const double> voltages) const {
    const double length = times.back() - times.front();
    if (length <= 0 || loss <= 0) return 0;
    // Integral of |cos|^alpha over a turn, by the Beta function.
    const double turn = 2 * std::sqrt(std::numbers::pi) * std::tgamma((alpha + 1) / 2) / std::tgamma(alpha / 2 + 1);
    const double k = loss / std::pow(frequency, alpha) / std::pow(flux, beta);
    const double ki = k / (std::pow(2, beta - alpha) * std::pow(2 * std::numbers::pi, alpha - 1) * turn);
    double sum = 0;
    const auto count = [&](double swing, double integral) { sum += ki * integral * std::pow(swing, beta - alpha); };
    // A stroke that lies within both its neighbours closes a minor loop with as much of the one before it.
    std::vector<Stroke> open;
    for (Stroke next : strokesOf(times, voltages, alpha)) {
        if (next.swing <= 0) continue;
        while (open.size() >= 2 && open.back().swing <= next.swing &&
               open.back().swing <= open[open.size() - 2].swing) {
            const Stroke inner = open.back();
            open.pop_back();
            Stroke before = open.back();
            open.pop_back();
            const double part = inner.swing / before.swing;
            count(inner.swing, inner.integral + part * before.integral);
            // What is left of the one before goes on with the next.
            next.swing += before.swing - inner.swing;
            next.integral += (1 - part) * before.integral;
        }
        open.push_back(next);
    }
    for (const Stroke& rest : open) count(rest.swing, rest.integral);
    return sum / length;
}

}  // namespace hedgerow
