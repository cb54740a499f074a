#include "traces/measures.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <numbers>

#include "traces/spectrum.h"

namespace hedgerow {

namespace {

constexpr double hysteresisPart = 0.1;  ///< of peak to peak, for passages of the middle level
constexpr double settlingBand = 0.02;   ///< of the step
constexpr double settledPart = 0.9;     ///< of the window: what moves later has not settled
constexpr std::size_t classes = 256;

/// Calls visit(t0, v0, t1, v1) for every line of a window, its ends cut.
template <class Visit>
void forEachLine(const Trace& trace, Tick from, Tick to, const Visit& visit) {
    if (trace.size() < 2) return;
    from = std::max(from, trace.time(0));
    to = std::min(to, trace.time(trace.size() - 1));
    std::size_t i = trace.firstAtOrAfter(from + 1);
    for (i = i > 0 ? i - 1 : 0; i + 1 < trace.size() && trace.time(i) < to; ++i) {
        const Tick a = trace.time(i), b = trace.time(i + 1);
        if (b < from) continue;
        const double v0 = trace.value(i), v1 = trace.holds() && b > a ? v0 : trace.value(i + 1);
        const auto valueAt = [&](Tick t) {
            return b == a ? v1 : v0 + (v1 - v0) * static_cast<double>(t - a) / static_cast<double>(b - a);
        };
        if (std::isnan(v0 + v1)) continue;  // a gap
        const Tick start = std::max(a, from), stop = std::min(b, to);
        if (!visit(toSeconds(start), valueAt(start), toSeconds(stop), valueAt(stop))) return;
    }
}

double passage(double t0, double v0, double t1, double v1, double level) {
    return v1 == v0 ? t0 : t0 + (t1 - t0) * (level - v0) / (v1 - v0);
}

/// The first time from one level to the other, both passed in this direction.
std::optional<double> transition(const Trace& trace, Tick from, Tick to, double start, double end) {
    const double sign = end > start ? 1 : -1;
    bool left = false, arrived = false;
    double since = 0, length = 0;
    forEachLine(trace, from, to, [&](double t0, double v0, double t1, double v1) {
        const double a = sign * v0, b = sign * v1;
        if (a <= sign * start && b > sign * start) left = true, since = passage(t0, v0, t1, v1, start);
        if (b <= sign * start) left = false;
        if (left && b >= sign * end && a < sign * end) arrived = true, length = passage(t0, v0, t1, v1, end) - since;
        return !arrived;
    });
    return arrived ? std::optional(length) : std::nullopt;
}

void addStepMeasures(const Trace& trace, Tick from, Tick to, WaveMeasures& all) {
    const auto first = trace.at(std::max(from, trace.time(0))),
               last = trace.at(std::min(to, trace.time(trace.size() - 1)));
    if (!first || !last) return;
    const double step = *last - *first;
    // What ends where it began is no step.
    if (std::abs(step) < 0.2 * all.basic.peakToPeak() || step == 0) return;
    const double peak = step > 0 ? all.basic.max : all.basic.min;
    const double start = toSeconds(std::max(from, trace.time(0))),
                 end = toSeconds(std::min(to, trace.time(trace.size() - 1)));
    double settled = start;
    const double band = settlingBand * std::abs(step);
    forEachLine(trace, from, to, [&](double t0, double v0, double t1, double v1) {
        const double a = v0 - *last, b = v1 - *last;
        if (std::abs(b) > band)
            settled = t1;
        else if (std::abs(a) > band)
            settled = passage(t0, a, t1, b, a > 0 ? band : -band);
        return true;
    });
    if (settled > start + settledPart * (end - start)) return;  // it goes on moving
    all.overshoot = std::max(0.0, (peak - *last) / step);
    all.settling = settled - start;
}

}  // namespace

std::vector<Crossing> crossings(const Trace& trace, Tick from, Tick to, double level, double hysteresis,
                                std::size_t most) {
    std::vector<Crossing> found;
    int side = 0;                  // beyond the band below or above
    std::optional<double> passed;  // the level, since it was last beyond the band
    forEachLine(trace, from, to, [&](double t0, double v0, double t1, double v1) {
        const auto note = [&](double t, double v) {
            const int now = v > level + hysteresis ? 1 : v < level - hysteresis ? -1 : 0;
            if (now == 0) return;
            if (side != 0 && now != side && found.size() < most) found.push_back({passed.value_or(t), now > 0});
            side = now;
            passed.reset();
        };
        note(t0, v0);
        const bool toOther = (side < 0 && v0 < level && v1 >= level) || (side > 0 && v0 > level && v1 <= level) ||
                             (side != 0 && v0 == level && v1 != level && (v1 > level) == (side < 0));
        if (toOther) passed = passage(t0, v0, t1, v1, level);
        note(t1, v1);
        return found.size() < most;
    });
    return found;
}

std::optional<StateLevels> stateLevels(const Trace& trace, Tick from, Tick to) {
    const auto basic = trace.measure(from, to);
    if (!basic || basic->max <= basic->min) return {};
    const double width = (basic->max - basic->min) / classes;
    std::array<double, classes> time{};
    const auto classOf = [&](double v) {
        return std::min(classes - 1, static_cast<std::size_t>(std::max(0.0, (v - basic->min) / width)));
    };
    forEachLine(trace, from, to, [&](double t0, double v0, double t1, double v1) {
        const std::size_t low = classOf(std::min(v0, v1)), high = classOf(std::max(v0, v1));
        if (low == high) {
            time[low] += t1 - t0;
            return true;
        }
        for (std::size_t k = low; k <= high; ++k) {
            const double a = std::max(basic->min + static_cast<double>(k) * width, std::min(v0, v1)),
                         b = std::min(basic->min + static_cast<double>(k + 1) * width, std::max(v0, v1));
            time[k] += (t1 - t0) * std::max(0.0, b - a) / std::abs(v1 - v0);
        }
        return true;
    });
    const auto middle = time.begin() + classes / 2;
    const auto low = std::max_element(time.begin(), middle), high = std::max_element(middle, time.end());
    const auto centre = [&](auto it) { return basic->min + (static_cast<double>(it - time.begin()) + 0.5) * width; };
    return StateLevels{centre(low), centre(high)};
}

std::optional<WaveMeasures> waveMeasures(const Trace& trace, Tick from, Tick to) {
    const auto basic = trace.measure(from, to);
    if (!basic) return {};
    WaveMeasures all;
    all.basic = *basic;
    all.acRms = std::sqrt(std::max(0.0, basic->rms * basic->rms - basic->mean * basic->mean));
    all.integral = basic->mean * basic->seconds;
    if (basic->peakToPeak() <= 1e-12 * std::max(std::abs(basic->max), std::abs(basic->min))) return all;
    const double middle = (basic->min + basic->max) / 2;
    const auto passed = crossings(trace, from, to, middle, hysteresisPart * basic->peakToPeak());
    const auto isRising = [](const Crossing& c) { return c.rising; };
    const auto firstRise = std::find_if(passed.begin(), passed.end(), isRising);
    const auto lastRise = std::find_if(passed.rbegin(), passed.rend(), isRising);
    const auto rises = std::count_if(passed.begin(), passed.end(), isRising);
    if (rises >= 2) {
        const double whole = lastRise->t - firstRise->t;
        all.frequency = static_cast<double>(rises - 1) / whole;
        double above = 0;
        for (auto c = firstRise; c + 1 < passed.end() && c->t < lastRise->t; ++c)
            if (c->rising) above += (c + 1)->t - c->t;
        all.duty = above / whole;
    }
    if (const auto levels = stateLevels(trace, from, to)) {
        const double low = levels->low + 0.1 * (levels->high - levels->low),
                     high = levels->low + 0.9 * (levels->high - levels->low);
        all.rise = transition(trace, from, to, low, high);
        all.fall = transition(trace, from, to, high, low);
    }
    addStepMeasures(trace, from, to, all);
    return all;
}

std::vector<MeasureRow> measureRows(const WaveMeasures& m, const std::string& unit) {
    std::vector<MeasureRow> rows{{"min", unit, m.basic.min},
                                 {"max", unit, m.basic.max},
                                 {"mean", unit, m.basic.mean},
                                 {"peak to peak", unit, m.basic.peakToPeak()},
                                 {"rms", unit, m.basic.rms},
                                 {"ac rms", unit, m.acRms},
                                 {"integral",
                                  unit == "W"   ? "J"
                                  : unit == "A" ? "C"
                                  : unit == "V" ? "Wb"
                                                : unit + "·s",
                                  m.integral}};
    const auto add = [&](const char* name, const char* of, const std::optional<double>& value) {
        if (value) rows.push_back({name, of, *value});
    };
    add("frequency", "Hz", m.frequency);
    add("duty", "", m.duty);
    add("rise time", "s", m.rise);
    add("fall time", "s", m.fall);
    add("overshoot", "", m.overshoot);
    add("settling time", "s", m.settling);
    return rows;
}

std::optional<Tick> nextCrossing(const Trace& trace, Tick now, double level, bool forward) {
    if (trace.size() < 2) return {};
    const Tick start = trace.time(0), end = trace.time(trace.size() - 1);
    // Backwards in stretches that grow, so that what is near is found without walking through all.
    for (Tick reach = std::max<Tick>(1, (end - start) / 1024); forward || now > start; reach *= 4) {
        const Tick from = forward ? now : std::max(start, now - std::min(reach, now - start));
        std::optional<Tick> found;
        for (const Crossing& crossing : crossings(trace, from, forward ? end : now, level, 0)) {
            const Tick t = toTicks(crossing.t);
            if (forward && t > now) return t;
            if (!forward && t < now) found = t;
        }
        if (found || forward || from == start) return found;
    }
    return {};
}

std::optional<std::pair<Tick, Tick>> lastPeriods(const Trace& trace, Tick from, Tick to, int n) {
    const auto basic = trace.measure(from, to);
    if (!basic || n < 1) return {};
    std::vector<double> rises;
    for (const Crossing& c :
         crossings(trace, from, to, (basic->min + basic->max) / 2, hysteresisPart * basic->peakToPeak()))
        if (c.rising) rises.push_back(c.t);
    if (rises.size() < static_cast<std::size_t>(n) + 1) return {};
    return std::pair(toTicks(rises[rises.size() - 1 - static_cast<std::size_t>(n)]), toTicks(rises.back()));
}

std::optional<double> phaseBetween(const Trace& a, const Trace& b, Tick from, Tick to) {
    const auto measures = waveMeasures(a, from, to);
    if (!measures || !measures->frequency) return {};
    const int periods = static_cast<int>(std::round((toSeconds(to - from)) * *measures->frequency - 0.5));
    const auto window = lastPeriods(a, from, to, std::max(1, periods));
    const auto one = window ? window : lastPeriods(a, from, to, 1);
    if (!one) return {};
    const double f = *measures->frequency;
    const std::complex<double> pa = fourier(a, one->first, one->second, f), pb = fourier(b, one->first, one->second, f);
    if (std::abs(pa) == 0 || std::abs(pb) == 0) return {};
    double degrees = (std::arg(pb) - std::arg(pa)) * 180 / std::numbers::pi;
    while (degrees <= -180) degrees += 360;
    while (degrees > 180) degrees -= 360;
    return degrees;
}

std::optional<double> rmsDifference(const Trace& a, const Trace& b, Tick from, Tick to) {
    if (a.size() < 2 || b.size() < 2) return {};
    from = std::max({from, a.time(0), b.time(0)});
    to = std::min({to, a.time(a.size() - 1), b.time(b.size() - 1)});
    if (from >= to) return {};
    // Between the instants of both, both are lines: Simpson's rule is exact for the square of their difference.
    double sum = 0;
    std::size_t i = a.firstAtOrAfter(from + 1), j = b.firstAtOrAfter(from + 1);
    const auto valueOn = [](const Trace& trace, std::size_t next, Tick t) {
        const Tick t0 = trace.time(next - 1), t1 = trace.time(next);
        const double v0 = trace.value(next - 1);
        return trace.holds() || t1 == t0
                   ? v0
                   : v0 + (trace.value(next) - v0) * static_cast<double>(t - t0) / static_cast<double>(t1 - t0);
    };
    for (Tick t = from; t < to;) {
        while (i + 1 < a.size() && a.time(i) <= t) ++i;
        while (j + 1 < b.size() && b.time(j) <= t) ++j;
        const Tick next = std::min({a.time(i), b.time(j), to});
        if (next <= t) break;
        const auto difference = [&](Tick at) { return valueOn(a, i, at) - valueOn(b, j, at); };
        const double d0 = difference(t), d1 = difference(t + (next - t) / 2), d2 = difference(next);
        sum += toSeconds(next - t) * (d0 * d0 + 4 * d1 * d1 + d2 * d2) / 6;
        t = next;
    }
    return std::sqrt(sum / toSeconds(to - from));
}

std::optional<double> efficiency(const Trace& input, const Trace& output, Tick from, Tick to) {
    const auto in = input.measure(from, to), out = output.measure(from, to);
    if (!in || !out || in->mean == 0) return {};
    return out->mean / in->mean;
}

}  // namespace hedgerow
