#include "traces/spectrum.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <numbers>

#include <unsupported/Eigen/FFT>

namespace hedgerow {

namespace {

using Complex = std::complex<double>;
constexpr double pi = std::numbers::pi;

/// The line from (t0, first, second) to the next point, cut to a window: a value is (a + b s)(c + d s), 0 <= s <= 1.
struct Piece {
    double start, length;  ///< s
    double a, b, c, d;
    double bend0 = 0, bend1 = 0, bend2 = 0;  ///< what a curve through the points has beyond that, in powers of s
};

constexpr double leftOut = 0.01;  ///< by stored lines, of the swing

/// How a curve through the points next to it bends away from the line that begins at point i: B in -B s (1 - s) over the
/// whole line. Points lie on the curve, so that lines between them cut all bends alike, which no mean over a period
/// evens out. From second divided differences to the left and to the right, the smaller one where they agree in sign:
/// nothing where the slope breaks, as between two points of one instant, and nothing above `most`, which is more than
/// stored lines leave out: a corner. F. B. Hildebrand, Introduction to Numerical Analysis, 2nd ed., 2.5.
double bendOf(const Trace& trace, std::size_t i, double most) {
    const Tick t0 = trace.time(i), t1 = trace.time(i + 1);
    const double length = static_cast<double>(t1 - t0), slope = (trace.value(i + 1) - trace.value(i)) / length;
    std::optional<double> left, right;
    if (i > 0 && trace.time(i - 1) < t0) {
        const double before = static_cast<double>(t0 - trace.time(i - 1));
        left = (slope - (trace.value(i) - trace.value(i - 1)) / before) / (length + before);
    }
    if (i + 2 < trace.size() && trace.time(i + 2) > t1) {
        const double after = static_cast<double>(trace.time(i + 2) - t1);
        right = ((trace.value(i + 2) - trace.value(i + 1)) / after - slope) / (length + after);
    }
    if (!left && !right) return 0;
    const double one = left.value_or(*right), other = right.value_or(*left);
    if (one * other <= 0) return 0;
    // Of two that agree the mean; a much larger one is not of this curve.
    const double smaller = std::abs(one) < std::abs(other) ? one : other;
    const double bend = std::abs(one + other) / 2 < 2 * std::abs(smaller) ? (one + other) / 2 : smaller;
    const double ofProduct =
        (trace.first(i + 1) - trace.first(i)) * (trace.second(i + 1) - trace.second(i)) / (length * length);
    const double whole = (bend - ofProduct) * length * length;
    return std::abs(whole) < most ? whole : 0;
}

/// Until it is cancelled.
template <class Visit>
void forEachPiece(const Trace& trace, Tick from, Tick to, const CancelToken& cancel, const Visit& visit) {
    constexpr std::size_t between = 1024;  // looks at the token
    if (trace.size() < 2) return;
    std::size_t i = trace.firstAtOrAfter(from + 1);
    double mostBend = 0;
    if (!trace.holds() && !trace.samples()) {
        const std::size_t end = std::min(trace.size(), trace.firstAtOrAfter(to) + 1), begin = i > 0 ? i - 1 : 0;
        if (begin < end) {
            const auto [low, high] = trace.range(begin, end);
            mostBend = 4 * leftOut * (high - low);  // it is 4 times the distance in the middle
        }
    }
    for (i = i > 0 ? i - 1 : 0; i + 1 < trace.size() && trace.time(i) < to; ++i) {
        if (i % between == 0 && cancel.cancelled()) return;
        const Tick t0 = trace.time(i), t1 = trace.time(i + 1);
        const Tick start = std::max(t0, from), stop = std::min(t1, to);
        if (stop <= start) continue;
        const double whole = static_cast<double>(t1 - t0);
        const double p = static_cast<double>(start - t0) / whole, q = static_cast<double>(stop - t0) / whole;
        const double f0 = trace.first(i), f1 = trace.holds() ? f0 : trace.first(i + 1);
        const double g0 = trace.second(i), g1 = trace.holds() ? g0 : trace.second(i + 1);
        const double bend = -bendOf(trace, i, mostBend);
        visit(Piece{.start = toSeconds(start - from),
                    .length = toSeconds(stop - start),
                    .a = f0 + p * (f1 - f0),
                    .b = (q - p) * (f1 - f0),
                    .c = g0 + p * (g1 - g0),
                    .d = (q - p) * (g1 - g0),
                    .bend0 = bend * p * (1 - p),
                    .bend1 = bend * (q - p) * (1 - 2 * p),
                    .bend2 = -bend * (q - p) * (q - p)});
    }
}

/// The integrals of s^n exp(-j x s) over 0 <= s <= 1, n = 0, 1, 2. @param e  exp(-j x)
std::array<Complex, 3> moments(double x, Complex e) {
    if (std::abs(x) < 0.5) {
        // The power series of the exponential, until its terms vanish.
        std::array<Complex, 3> sum{};
        Complex term = 1;
        for (int k = 0; k < 16 && std::norm(term) > 1e-36; ++k) {
            sum[0] += term / double(k + 1);
            sum[1] += term / double(k + 2);
            sum[2] += term / double(k + 3);
            term *= Complex(0, -x / (k + 1));
        }
        return sum;
    }
    const Complex over = 1.0 / Complex(0, -x);
    const Complex m0 = (e - 1.0) * over, m1 = (e - m0) * over, m2 = (e - 2.0 * m1) * over;
    return {m0, m1, m2};
}

/// Components at k times a step for k = 0 to `count` - 1, in one pass over the points. Phases go from one frequency to
/// the next by a product; every sixteenth is computed anew.
std::vector<Complex> fourierLines(const Trace& trace, Tick from, Tick to, double step, std::size_t count,
                                  const CancelToken& cancel, std::size_t first = 0) {
    std::vector<Complex> sums(count);
    forEachPiece(trace, from, to, cancel, [&](const Piece& piece) {
        const double k0 = piece.a * piece.c + piece.bend0, k1 = piece.a * piece.d + piece.b * piece.c + piece.bend1,
                     k2 = piece.b * piece.d + piece.bend2;
        const double w = 2 * pi * step;
        const Complex turnStart = std::polar(1.0, -w * piece.start), turnLength = std::polar(1.0, -w * piece.length);
        Complex start, along;
        for (std::size_t k = 0; k < count; ++k) {
            const double order = static_cast<double>(k + first);
            if (k % 16 == 0) {
                start = std::polar(1.0, -order * w * piece.start);
                along = std::polar(1.0, -order * w * piece.length);
            }
            const auto m = moments(order * w * piece.length, along);
            sums[k] += piece.length * start * (k0 * m[0] + k1 * m[1] + k2 * m[2]);
            start *= turnStart;
            along *= turnLength;
        }
    });
    const double length = toSeconds(to - from);
    for (std::size_t k = 0; k < count; ++k) sums[k] *= (k + first == 0 || step == 0 ? 1.0 : 2.0) / length;
    return sums;
}

/// Equidistant samples of a window.
struct Samples {
    std::size_t first = 0, count = 0;
    double step = 0;  ///< s
};
std::optional<Samples> samplesIn(const Trace& trace, Tick from, Tick to) {
    if (!trace.samples() || trace.size() < 3) return {};
    Samples found{trace.firstAtOrAfter(from)};
    const std::size_t end = to == neverTick ? trace.size() : trace.firstAtOrAfter(to + 1);
    if (end < found.first + 3) return {};
    found.count = end - found.first;
    const Tick start = trace.time(found.first);
    const double step = static_cast<double>(trace.time(end - 1) - start) / static_cast<double>(found.count - 1);
    found.step = toSeconds(trace.time(end - 1) - start) / static_cast<double>(found.count - 1);
    // Times that were written with few digits are off by little.
    const double most = std::max(2.0, 0.02 * step);
    for (std::size_t k = 0; k < found.count; ++k)
        if (std::abs(static_cast<double>(trace.time(found.first + k) - start) - static_cast<double>(k) * step) > most)
            return {};
    return found;
}

/// The discrete transform of the last samples, a whole number of which makes `periods` of a frequency, at k times a
/// step for k = 0 to `count` - 1; nothing where no whole number does.
std::optional<std::vector<Complex>> sampledLines(const Trace& trace, const Samples& samples, double frequency,
                                                 long long periods, double step, std::size_t count,
                                                 const CancelToken& cancel) {
    const double exact = static_cast<double>(periods) / (frequency * samples.step), taken = std::round(exact);
    if (std::abs(exact - taken) > 0.05 || taken > static_cast<double>(samples.count)) return {};
    const auto n = static_cast<std::size_t>(taken);
    const std::size_t first = samples.first + samples.count - n;
    const double turn = 2 * pi * step * static_cast<double>(periods) / frequency / taken;  // of line 1 in a sample
    std::vector<Complex> sums(count);
    for (std::size_t i = 0; i < n; ++i) {
        if (i % 1024 == 0 && cancel.cancelled()) break;
        const double x = trace.value(first + i), angle = turn * static_cast<double>(i);
        const Complex next = std::polar(1.0, -angle);
        Complex at;
        for (std::size_t k = 0; k < count; ++k) {
            at = k % 16 == 0 ? std::polar(1.0, -angle * static_cast<double>(k)) : at * next;
            sums[k] += x * at;
        }
    }
    for (std::size_t k = 0; k < count; ++k)
        sums[k] *= turn * static_cast<double>(k) > pi * (1 - 1e-9) ? 0.0 : (k == 0 ? 1.0 : 2.0) / taken;
    return sums;
}

/// How much lines between samples take off a component.
double droop(double frequency, double step) {
    const double x = pi * frequency * step;
    return x == 0 ? 1.0 : std::pow(std::sin(x) / x, 2);
}

/// Components at k times a step of whole periods of a frequency, k = 0 to `count` - 1. @param most  of periods, 0 for
/// all
std::optional<std::vector<Complex>> periodicLines(const Trace& trace, Tick from, Tick to, double frequency, int most,
                                                  double step, std::size_t count, const CancelToken& cancel);

/// Whether the quantity has no value for some of a window, so that it has no spectrum there.
bool hasGap(const Trace& trace, Tick from, Tick to) {
    if (trace.size() < 2) return true;
    from = std::max(from, trace.time(0)), to = std::min(to, trace.time(trace.size() - 1));
    const auto seen = trace.measure(from, to);
    return !seen || seen->seconds < (1 - 1e-6) * toSeconds(to - from);
}

/// The last whole periods of a window, as far as the trace reaches.
std::optional<std::pair<Tick, Tick>> wholePeriods(const Trace& trace, Tick from, Tick to, double frequency, int most) {
    if (trace.size() < 2 || !(frequency > 0)) return {};
    from = std::max(from, trace.time(0));
    to = std::min(to, trace.time(trace.size() - 1));
    if (from >= to) return {};
    const auto fit = static_cast<long long>(std::floor(toSeconds(to - from) * frequency * (1 + 1e-9)));
    const long long periods = most > 0 ? (fit >= most ? most : 0) : fit;
    if (periods < 1) return {};
    const Tick start = to - toTicks(static_cast<long double>(periods) / frequency);
    return std::pair(std::max(start, from), to);
}

std::optional<std::vector<Complex>> periodicLines(const Trace& trace, Tick from, Tick to, double frequency, int most,
                                                  double step, std::size_t count, const CancelToken& cancel) {
    if (trace.size() < 2 || !(frequency > 0)) return {};
    const auto samples = samplesIn(trace, from, to);
    if (samples) {
        const auto fit =
            static_cast<long long>(std::floor((static_cast<double>(samples->count) + 0.5) * samples->step * frequency));
        const long long periods = most > 0 ? (fit >= most ? most : 0) : fit;
        if (periods < 1) return {};
        if (auto lines = sampledLines(trace, *samples, frequency, periods, step, count, cancel)) return lines;
    }
    const auto window = wholePeriods(trace, from, to, frequency, most);
    if (!window || hasGap(trace, window->first, window->second)) return {};
    std::vector<Complex> lines = fourierLines(trace, window->first, window->second, step, count, cancel);
    if (samples)
        for (std::size_t k = 0; k < count; ++k) {
            const double f = step * static_cast<double>(k);
            lines[k] *= 2 * f * samples->step > 1 ? 0.0 : 1 / droop(f, samples->step);
        }
    return lines;
}

double windowAt(SpectrumWindow window, double x) {
    const auto cosines = [x](std::initializer_list<double> factors) {
        double sum = 0, sign = 1;
        int k = 0;
        for (const double factor : factors) sum += sign * factor * std::cos(2 * pi * k++ * x), sign = -sign;
        return sum;
    };
    switch (window) {
        case SpectrumWindow::hann:
            return cosines({0.5, 0.5});
        case SpectrumWindow::blackmanHarris:
            return cosines({0.35875, 0.48829, 0.14128, 0.01168});
        case SpectrumWindow::flatTop:  // ISO 18431-2
            return cosines({1.0, 1.93, 1.29, 0.388, 0.0322});
        default:
            return 1.0;
    }
}

}  // namespace

Complex fourier(const Trace& trace, Tick from, Tick to, double frequency) {
    const Complex line = fourierLines(trace, from, to, frequency, 1, {}, 1).front();
    const auto samples = samplesIn(trace, from, to);
    return samples && 2 * frequency * samples->step < 1 ? line / droop(frequency, samples->step) : line;
}

double Harmonics::distortion(int last) const {
    double squares = 0;
    for (int order = 2; order <= last && order <= static_cast<int>(peaks.size()); ++order)
        squares += peak(order) * peak(order);
    return std::sqrt(squares) / peak(1);
}

std::optional<Harmonics> harmonics(const Trace& trace, Tick from, Tick to, double fundamental, int orders,
                                   const CancelToken& cancel) {
    if (orders < 1) return {};
    const auto all =
        periodicLines(trace, from, to, fundamental, 0, fundamental, static_cast<std::size_t>(orders) + 1, cancel);
    if (!all || cancel.cancelled()) return {};
    Harmonics result{fundamental, all->front().real(), {}};
    result.peaks.assign(all->begin() + 1, all->end());
    return result;
}

std::optional<GroupedHarmonics> groupedHarmonics(const Trace& trace, Tick from, Tick to, double fundamental, int orders,
                                                 const CancelToken& cancel) {
    const int n = fundamental < 55 ? 10 : 12;
    if (orders < 1) return {};
    const auto found = periodicLines(trace, from, to, fundamental, n, fundamental / n,
                                     static_cast<std::size_t>(n * (orders + 1)) + 1, cancel);
    if (!found || cancel.cancelled()) return {};
    const std::vector<Complex>& lines = *found;
    const auto square = [&](int k) { return std::norm(lines[static_cast<std::size_t>(k)]) / 2; };
    GroupedHarmonics result;
    for (int order = 1; order <= orders; ++order) {
        const int centre = order * n;
        double group = (square(centre - n / 2) + square(centre + n / 2)) / 2;
        for (int k = -n / 2 + 1; k <= n / 2 - 1; ++k) group += square(centre + k);
        result.groups.push_back(std::sqrt(group));
        result.subgroups.push_back(std::sqrt(square(centre - 1) + square(centre) + square(centre + 1)));
        double between = 0;
        for (int k = 2; k <= n - 2; ++k) between += square(centre + k);
        result.interharmonics.push_back(std::sqrt(between));
        result.interharmonicGroups.push_back(std::sqrt(between + square(centre + 1) + square(centre + n - 1)));
    }
    const auto distortion = [](const std::vector<double>& rms) {
        double squares = 0;
        for (std::size_t k = 1; k < rms.size(); ++k) squares += rms[k] * rms[k];
        return std::sqrt(squares) / rms[0];
    };
    result.groupDistortion = distortion(result.groups);
    result.subgroupDistortion = distortion(result.subgroups);
    return result;
}

const std::vector<std::pair<std::string, SpectrumWindow>>& spectrumWindows() {
    static const std::vector<std::pair<std::string, SpectrumWindow>> all = {
        {"rectangular", SpectrumWindow::rectangular},
        {"Hann", SpectrumWindow::hann},
        {"Blackman-Harris", SpectrumWindow::blackmanHarris},
        {"flat top", SpectrumWindow::flatTop}};
    return all;
}

std::optional<Spectrum> spectrum(const Trace& trace, Tick from, Tick to, SpectrumWindow window, std::size_t lines,
                                 const CancelToken& cancel) {
    if (hasGap(trace, from, to)) return {};
    from = std::max(from, trace.time(0));
    to = std::min(to, trace.time(trace.size() - 1));
    const std::size_t count = std::bit_ceil(2 * std::max<std::size_t>(lines, 16));
    if (to - from < static_cast<Tick>(count)) return {};
    // The mean over each interval, from the running integral at its ends.
    std::vector<double> means(count, 0.0);
    const double length = toSeconds(to - from), interval = length / static_cast<double>(count);
    forEachPiece(trace, from, to, cancel, [&](const Piece& p) {
        const auto integral = [&](double s) {
            return p.length * s *
                   (p.a * p.c + p.bend0 +
                    s * ((p.a * p.d + p.b * p.c + p.bend1) / 2 + s * (p.b * p.d + p.bend2) / 3));
        };
        const double end = p.start + p.length;
        auto k = std::min(count - 1, static_cast<std::size_t>(p.start / interval));
        for (double s = 0; s < 1 && k < count; ++k) {
            const double edge = static_cast<double>(k + 1) * interval;
            const double next = edge >= end || k + 1 == count ? 1.0 : (edge - p.start) / p.length;
            if (next > s) means[k] += (integral(next) - integral(s)) / interval;
            s = std::max(s, next);
            if (edge >= end) break;
        }
    });
    if (cancel.cancelled()) return {};
    double sum = 0, squares = 0;
    std::vector<Complex> in(count), out;
    for (std::size_t i = 0; i < count; ++i) {
        const double w = windowAt(window, (static_cast<double>(i) + 0.5) / static_cast<double>(count));
        sum += w;
        squares += w * w;
        in[i] = w * means[i];
    }
    Eigen::FFT<double> transform;
    transform.fwd(out, in);
    Spectrum result{1 / length, {}, squares * static_cast<double>(count) / (sum * sum)};
    for (std::size_t k = 0; k < count / 2; ++k) {
        const double x = pi * static_cast<double>(k) / static_cast<double>(count);
        const double averaged = x == 0 ? 1 : std::sin(x) / x;
        result.peaks.push_back(std::abs(out[k]) * (k == 0 ? 1.0 : 2.0) / sum / averaged);
    }
    return result;
}

std::vector<std::pair<double, double>> peaksOf(const Spectrum& spectrum, std::size_t most) {
    std::vector<std::pair<double, double>> found;
    const auto& lines = spectrum.peaks;
    for (std::size_t k = 1; k + 1 < lines.size(); ++k)
        if (lines[k] > lines[k - 1] && lines[k] >= lines[k + 1])
            found.emplace_back(static_cast<double>(k) * spectrum.step, lines[k]);
    std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
    if (found.size() > most) found.resize(most);
    return found;
}

double decibelMicrovolts(double peak) { return 20 * std::log10(peak / std::sqrt(2.0) / 1e-6); }

}  // namespace hedgerow
