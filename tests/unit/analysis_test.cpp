// Measures, spectra and expressions over traces, against closed forms.

#include <gtest/gtest.h>

#include <cmath>
#include <functional>
#include <numbers>

#include "runs/readings.h"
#include "traces/expression.h"
#include "traces/limit_line.h"
#include "traces/measures.h"
#include "traces/spectrum.h"

using namespace hedgerow;

namespace {

constexpr double pi = std::numbers::pi;
using Points = std::vector<std::pair<double, double>>;

std::shared_ptr<Trace> traceOfPoints(const Points& points, const std::string& unit = "V", bool holds = false) {
    auto times = std::make_shared<std::vector<Tick>>();
    std::vector<double> values;
    for (const auto& [t, v] : points) times->push_back(toTicks(t)), values.push_back(v);
    return std::make_shared<Trace>(std::make_unique<ColumnPoints>(times, values, std::vector<double>{}, holds), "x",
                                   unit);
}

std::shared_ptr<Trace> sampled(const std::function<double(double)>& f, double end, int count,
                               const std::string& unit = "V") {
    Points points;
    for (int i = 0; i <= count; ++i) points.emplace_back(end * i / count, f(end * i / count));
    return traceOfPoints(points, unit);
}

/// From 0 to `high` for `duty` of each period.
std::shared_ptr<Trace> square(double high, double duty, double period, int periods) {
    Points points;
    for (int k = 0; k < periods; ++k) {
        const double t = k * period;
        points.insert(points.end(), {{t, 0}, {t, high}, {t + duty * period, high}, {t + duty * period, 0}});
    }
    points.emplace_back(periods * period, 0);
    return traceOfPoints(points);
}

std::shared_ptr<Trace> triangle(double peak, double period, int periods) {
    Points points;
    for (int k = 0; k < periods; ++k) {
        const double t = k * period;
        points.insert(points.end(), {{t, 0}, {t + period / 4, peak}, {t + 3 * period / 4, -peak}});
    }
    points.emplace_back(periods * period, 0);
    return traceOfPoints(points);
}

Tick at(double seconds) { return toTicks(seconds); }

}  // namespace

TEST(WaveMeasures, OfASquareWave) {
    const auto trace = square(5, 0.3, 1e-3, 20);
    const auto m = waveMeasures(*trace, 0, at(20e-3));
    ASSERT_TRUE(m && m->frequency && m->duty);
    EXPECT_NEAR(*m->frequency, 1000, 1e-9);
    EXPECT_NEAR(*m->duty, 0.3, 1e-12);
    EXPECT_NEAR(m->basic.mean, 1.5, 1e-12);
    EXPECT_NEAR(m->basic.rms, 5 * std::sqrt(0.3), 1e-12);
    EXPECT_NEAR(m->acRms, 5 * std::sqrt(0.21), 1e-12);
    EXPECT_NEAR(m->integral, 1.5 * 20e-3, 1e-14);
    EXPECT_NEAR(*m->rise, 0, 1e-15) << "a jump takes no time";
    EXPECT_FALSE(m->settling) << "what ends where it began is no step";
}

TEST(WaveMeasures, OfATrapezoid) {
    // Rise over 100 us, 400 us high, fall over 200 us, low.
    Points points;
    for (int k = 0; k < 10; ++k) {
        const double t = 1e-3 * k;
        points.insert(points.end(), {{t, -2}, {t + 100e-6, 8}, {t + 500e-6, 8}, {t + 700e-6, -2}});
    }
    points.emplace_back(10e-3, -2);
    const auto m = waveMeasures(*traceOfPoints(points), 0, at(10e-3));
    ASSERT_TRUE(m && m->rise && m->fall && m->duty);
    // Levels are the middles of classes 1/256 of the swing wide: 10 to 90 % between them is a little less.
    EXPECT_NEAR(*m->rise, 80e-6, 0.4e-6);
    EXPECT_NEAR(*m->fall, 160e-6, 0.8e-6);
    EXPECT_NEAR(*m->duty, 0.55, 1e-9) << "from middle to middle";
    EXPECT_NEAR(m->basic.rms, std::sqrt(0.4 * 64 + 0.3 * 4 + 0.3 * (64 - 16 + 4) / 3.0), 1e-9);
}

TEST(WaveMeasures, OfAStepResponse) {
    // 1 - exp(-a t) cos(w t): the greatest excursion where the derivative is zero.
    const double a = 100, w = 1000, end = 0.1;
    const auto f = [&](double t) { return 1 - std::exp(-a * t) * std::cos(w * t); };
    const auto m = waveMeasures(*sampled(f, end, 200'000), 0, at(end));
    ASSERT_TRUE(m && m->overshoot && m->settling);
    const double peak = (pi - std::atan(a / w)) / w;
    const double last = f(end);
    EXPECT_NEAR(*m->overshoot, (f(peak) - last) / last, 1e-6);
    // The last maximum of |f - last| above 2 % bounds it within half a period.
    double settled = 0;
    for (double t = 0; t < end; t += 1e-7)
        if (std::abs(f(t) - last) > 0.02 * last) settled = t;
    EXPECT_NEAR(*m->settling, settled, 1e-6);
}

TEST(WaveMeasures, CrossingsIgnoreWhatStaysWithinTheHysteresis) {
    const auto trace =
        sampled([](double t) { return std::sin(2 * pi * 50 * t) + 0.05 * std::sin(2 * pi * 5000 * t); }, 0.1, 200'000);
    EXPECT_EQ(crossings(*trace, 0, at(0.1), 0, 0.2).size(), 9u) << "of ten, the one at the start is not seen";
    EXPECT_GT(crossings(*trace, 0, at(0.1), 0, 0).size(), 15u);
}

TEST(WaveMeasures, PeriodsPhaseAndEfficiency) {
    const auto a = sampled([](double t) { return std::sin(2 * pi * 50 * t); }, 0.2, 100'000);
    const auto b = sampled([](double t) { return 3 * std::sin(2 * pi * 50 * t + 0.5); }, 0.2, 100'000);
    EXPECT_NEAR(*phaseBetween(*a, *b, 0, at(0.2)), 0.5 * 180 / pi, 1e-3);
    const auto window = lastPeriods(*a, 0, at(0.2), 3);
    ASSERT_TRUE(window);
    EXPECT_NEAR(toSeconds(window->second - window->first), 0.06, 1e-9);
    EXPECT_FALSE(lastPeriods(*a, 0, at(0.2), 30));
    const auto in = traceOfPoints({{0, 100}, {1, 100}}, "W"), out = traceOfPoints({{0, 80}, {1, 100}}, "W");
    EXPECT_NEAR(*efficiency(*in, *out, 0, at(1)), 0.9, 1e-12);
}

TEST(WaveMeasures, TheDifferenceOfTwoTracesOfOtherInstants) {
    // A line from 0 to 2 against one from 0 to 1: the root mean square of t over 0..1 is 1/sqrt(3).
    const auto a = traceOfPoints({{0, 0}, {0.3, 0.6}, {1, 2}}), b = traceOfPoints({{0, 0}, {0.7, 0.7}, {1, 1}});
    EXPECT_NEAR(*rmsDifference(*a, *b, 0, at(1)), 1 / std::sqrt(3.0), 1e-12);
    // A jump in one of them.
    const auto step = traceOfPoints({{0, 0}, {0.5, 0}, {0.5, 1}, {1, 1}}), flat = traceOfPoints({{0, 0}, {1, 0}});
    EXPECT_NEAR(*rmsDifference(*step, *flat, 0, at(1)), std::sqrt(0.5), 1e-12);
    EXPECT_FALSE(rmsDifference(*a, *b, at(2), at(3)));
}

TEST(Spectrum, HarmonicsOfASquareWaveAreExact) {
    const double duty = 0.3;
    const auto all = harmonics(*square(5, duty, 1e-3, 7), 0, at(7e-3), 1000);
    ASSERT_TRUE(all);
    EXPECT_NEAR(all->mean, 1.5, 1e-9);
    for (int k = 1; k <= 50; ++k)
        EXPECT_NEAR(all->peak(k), 10 / (k * pi) * std::abs(std::sin(k * pi * duty)), 1e-9) << k;
}

TEST(Spectrum, HarmonicsOfATriangleAreExact) {
    const auto all = harmonics(*triangle(2, 1e-3, 5), 0, at(5e-3), 1000);
    ASSERT_TRUE(all);
    double squares = 0;
    for (int k = 1; k <= 50; ++k) {
        const double expected = k % 2 == 1 ? 16 / (pi * pi * k * k) : 0;
        EXPECT_NEAR(all->peak(k), expected, 1e-9) << k;
        if (k > 1) squares += expected * expected;
    }
    EXPECT_NEAR(all->distortion(50), std::sqrt(squares) / (16 / (pi * pi)), 1e-9);
}

TEST(Spectrum, OfARectifiedSine) {
    const auto trace = sampled([](double t) { return std::abs(std::sin(2 * pi * 50 * t)); }, 0.1, 100'000);
    const auto all = harmonics(*trace, 0, at(0.1), 100);
    ASSERT_TRUE(all);
    EXPECT_NEAR(all->mean, 2 / pi, 1e-6);
    for (int k = 1; k <= 10; ++k) EXPECT_NEAR(all->peak(k), 4 / (pi * (4.0 * k * k - 1)), 1e-6);
}

TEST(Spectrum, DistortionOfACoherentSineToAMillionth) {
    const auto trace = sampled(
        [](double t) {
            return std::sin(2 * pi * 50 * t) + 0.03 * std::sin(2 * pi * 150 * t) + 0.04 * std::cos(2 * pi * 250 * t);
        },
        0.2, 40'000);
    EXPECT_NEAR(harmonics(*trace, 0, at(0.2), 50)->distortion(50), 0.05, 1e-6);
}

TEST(Spectrum, ProductsOfLinesAreExactToo) {
    // A triangle squared: parabolas, whose second harmonic is 4 A^2 / pi^2 ... by the integral of (1 - 4t)^2 over arcs.
    auto times = std::make_shared<std::vector<Tick>>();
    std::vector<double> values;
    for (int k = 0; k <= 20; ++k)
        times->push_back(at(0.25e-3 * k)), values.push_back(std::array{0.0, 1.0, 0.0, -1.0}[k % 4]);
    const Trace squared(std::make_unique<ColumnPoints>(times, values, values), "x", "W");
    const auto all = harmonics(squared, 0, at(5e-3), 2000);
    ASSERT_TRUE(all);
    EXPECT_NEAR(all->mean, 1.0 / 3, 1e-12);
    for (int k = 1; k <= 10; ++k) EXPECT_NEAR(all->peak(k), 4 / (pi * pi * k * k), 1e-10) << "of a parabola";
}

TEST(Spectrum, AmplitudeModulationHasItsSidebands) {
    const auto trace = sampled(
        [](double t) { return (1 + 0.4 * std::cos(2 * pi * 100 * t)) * std::sin(2 * pi * 1000 * t); }, 0.1, 200'000);
    for (const auto& [f, expected] : {std::pair{1000.0, 1.0}, {900.0, 0.2}, {1100.0, 0.2}, {950.0, 0.0}})
        EXPECT_NEAR(std::abs(fourier(*trace, 0, at(0.1), f)), expected, 1e-5) << f;
    const auto lines = spectrum(*trace, 0, at(0.1), SpectrumWindow::hann, 4096);
    ASSERT_TRUE(lines);
    const auto peaks = peaksOf(*lines, 3);
    ASSERT_EQ(peaks.size(), 3u);
    EXPECT_NEAR(peaks[0].first, 1000, 1e-6);
    EXPECT_NEAR(peaks[0].second, 1, 1e-4);
    EXPECT_NEAR(peaks[1].second, 0.2, 1e-4);
}

TEST(Spectrum, WindowsReadTheAmplitudeOfASine) {
    for (const auto& [name, window] : spectrumWindows()) {
        const auto on = sampled([](double t) { return 2 * std::sin(2 * pi * 640 * t); }, 0.1, 100'000);
        const auto lines = spectrum(*on, 0, at(0.1), window, 1024);
        ASSERT_TRUE(lines);
        EXPECT_NEAR(lines->peaks[64], 2, 1e-3) << name;
    }
    // Half a line off: the flat top loses less than 0.02 dB.
    const auto off = sampled([](double t) { return 2 * std::sin(2 * pi * 645 * t); }, 0.1, 100'000);
    const auto lines = spectrum(*off, 0, at(0.1), SpectrumWindow::flatTop, 1024);
    EXPECT_NEAR(20 * std::log10(lines->peaks[64] / 2), 0, 0.02);
    EXPECT_NEAR(decibelMicrovolts(std::sqrt(2.0) * 1e-3), 60, 1e-9);
    // Equivalent noise bandwidths of Harris' table.
    EXPECT_NEAR(spectrum(*off, 0, at(0.1), SpectrumWindow::hann, 1024)->bandwidth, 1.5, 1e-3);
    EXPECT_NEAR(spectrum(*off, 0, at(0.1), SpectrumWindow::blackmanHarris, 1024)->bandwidth, 2.0, 0.01);
}

TEST(Spectrum, GroupsInterharmonicsAsTheStandardSays) {
    // 175 Hz lies half way between the orders 3 and 4: half of its square goes to either group.
    const auto trace = sampled(
        [](double t) {
            return 10 * std::sin(2 * pi * 50 * t) + 2 * std::sin(2 * pi * 175 * t) + std::sin(2 * pi * 255 * t);
        },
        0.4, 100'000);
    const auto all = groupedHarmonics(*trace, 0, at(0.4), 50);
    ASSERT_TRUE(all);
    EXPECT_NEAR(all->groups[0], 10 / std::sqrt(2.0), 1e-5);
    EXPECT_NEAR(all->groups[2], 1, 1e-5);
    EXPECT_NEAR(all->groups[3], 1, 1e-5);
    EXPECT_NEAR(all->subgroups[2], 0, 1e-5);
    EXPECT_NEAR(all->interharmonics[2], 2 / std::sqrt(2.0), 1e-5);
    EXPECT_NEAR(all->subgroups[4], 1 / std::sqrt(2.0), 1e-5) << "255 Hz is one line beside order 5";
    EXPECT_NEAR(all->groupDistortion, std::sqrt(2.5) / (10 / std::sqrt(2.0)), 1e-5);
    EXPECT_FALSE(groupedHarmonics(*trace, 0, at(0.1), 50)) << "ten periods do not fit";
}

// A record of 10,240 samples in 200 ms is ten periods of 50 Hz, although its last sample stands before their end; of
// samples no order droops.
TEST(Spectrum, SamplesAreNoLines) {
    const auto wave = [](double t) {
        return 3 + 10 * std::sin(2 * pi * 50 * t + 0.3) + 2 * std::sin(2 * pi * 650 * t) + std::sin(2 * pi * 2000 * t) +
               0.5 * std::sin(2 * pi * 2500 * t) + 0.4 * std::sin(2 * pi * 565 * t);
    };
    const auto record = [&](std::size_t count, double rate, double rounding = 0) {
        auto times = std::make_shared<std::vector<Tick>>();
        std::vector<double> values;
        for (std::size_t i = 0; i < count; ++i) {
            const double t = static_cast<double>(i) / rate;
            values.push_back(wave(t));
            times->push_back(at(rounding > 0 ? std::round(t / rounding) * rounding : t));
        }
        return std::make_shared<Trace>(
            std::make_unique<ColumnPoints>(times, values, std::vector<double>{}, false, true), "x", "V");
    };
    for (const double rounding : {0.0, 1e-7}) {
        const auto trace = record(10'240, 51'200, rounding);
        const auto all = groupedHarmonics(*trace, -neverTick, neverTick, 50, 50);
        ASSERT_TRUE(all);
        const double off = rounding > 0 ? 2e-4 : 1e-9;
        EXPECT_NEAR(all->subgroups[0], 10 / std::sqrt(2.0), off);
        EXPECT_NEAR(all->subgroups[12], 2 / std::sqrt(2.0), off);
        EXPECT_NEAR(all->subgroups[39], 1 / std::sqrt(2.0), off);
        EXPECT_NEAR(all->subgroups[49], 0.5 / std::sqrt(2.0), off);
        EXPECT_NEAR(all->interharmonicGroups[10], 0.4 / std::sqrt(2.0), off) << "565 Hz, three lines above order 11";
        EXPECT_NEAR(all->interharmonics[10], 0.4 / std::sqrt(2.0), off);
        const auto single = harmonics(*trace, -neverTick, neverTick, 50, 50);
        ASSERT_TRUE(single);
        EXPECT_NEAR(single->mean, 3, off);
        EXPECT_NEAR(single->peak(50), 0.5, off);
        EXPECT_NEAR(std::arg(single->peaks[0]), 0.3 - pi / 2, 1e-3);
    }
    // 9.3 samples a period of the highest order, and no whole number of them in a period.
    const auto odd = harmonics(*record(5'000, 23'456.7), -neverTick, neverTick, 50, 50);
    ASSERT_TRUE(odd);
    EXPECT_NEAR(odd->peak(1), 10, 2e-3);
    EXPECT_NEAR(odd->peak(40), 1, 2e-3);
    EXPECT_NEAR(odd->peak(50), 0.5, 2e-3);
    // What lies above half the rate is not known.
    const auto coarse = harmonics(*record(320, 1600), -neverTick, neverTick, 50, 50);
    ASSERT_TRUE(coarse);
    EXPECT_EQ(coarse->peak(40), 0);
    EXPECT_NEAR(coarse->peak(1), 10, 1e-9);
    // Nine periods and a half are no ten.
    EXPECT_FALSE(groupedHarmonics(*record(9'728, 51'200), -neverTick, neverTick, 50));
}

TEST(Readings, CutAndPutOnAGrid) {
    auto times = std::make_shared<std::vector<Tick>>(std::vector<Tick>{0, 100, 100, 300, 400});
    const auto make = [&](std::vector<double> first, std::vector<double> second, bool holds) {
        return std::make_shared<Trace>(
            std::make_unique<ColumnPoints>(times, std::move(first), std::move(second), holds), "x", "V");
    };
    const std::vector<std::shared_ptr<Trace>> all = {make({0, 10, 20, 40, 40}, {}, false),
                                                     make({0, 10, 20, 40, 40}, {1, 2, 2, 4, 4}, false),
                                                     make({1, 2, 3, 4, 5}, {}, true)};
    const auto values = [](const Trace& trace) {
        std::vector<std::pair<Tick, double>> list;
        for (std::size_t i = 0; i < trace.size(); ++i) list.emplace_back(trace.time(i), trace.value(i));
        return list;
    };
    using List = std::vector<std::pair<Tick, double>>;
    const auto cut = extracted(all, {.from = 50, .to = 200});
    ASSERT_TRUE(cut);
    EXPECT_EQ(values(*(*cut)[0]), (List{{50, 5}, {100, 10}, {100, 20}, {200, 30}}));
    EXPECT_EQ(values(*(*cut)[1]), (List{{50, 7.5}, {100, 20}, {100, 40}, {200, 90}})) << "the product of two lines";
    EXPECT_EQ(values(*(*cut)[2]), (List{{50, 1}, {100, 2}, {100, 3}, {200, 3}}));
    const auto grid = extracted(all, {.from = 0, .to = 1000, .every = toSeconds(100)});
    ASSERT_TRUE(grid);
    EXPECT_EQ(values(*(*grid)[0]), (List{{0, 0}, {100, 20}, {200, 30}, {300, 40}, {400, 40}}));
    EXPECT_EQ(values(*(*grid)[2]), (List{{0, 1}, {100, 3}, {200, 3}, {300, 4}, {400, 5}}));
    EXPECT_EQ(extracted(all, {}).value().size(), all.size());
    EXPECT_FALSE(extracted(all, {.from = 500, .to = 600}));
    EXPECT_FALSE(extracted(all, {.from = 200, .to = 100}));
}

class TraceExpressions : public ::testing::Test {
protected:
    Result<std::shared_ptr<Trace>> of(const std::string& text) {
        return traceOf(
            text,
            [&](std::string_view name) -> std::shared_ptr<const Trace> {
                const auto found = traces.find(std::string(name));
                return found == traces.end() ? nullptr : found->second;
            },
            [](std::string_view name) -> Result<Quantity> {
                if (name == "fsw") return Quantity{1e3, findUnit("Hz")->dimension};
                return Error{ErrorCode::name, "no"};
            });
    }
    std::map<std::string, std::shared_ptr<const Trace>> traces;
};

TEST_F(TraceExpressions, AProductOfTwoQuantitiesIsExactBetweenThePoints) {
    traces["out.v"] = traceOfPoints({{0, 0}, {1, 2}}, "V");
    traces["L1.i"] = traceOfPoints({{0, 3}, {1, 1}}, "A");
    const auto p = of("out.v * L1.i");
    ASSERT_TRUE(p) << p.error().message;
    EXPECT_EQ((*p)->unit(), "W");
    EXPECT_NEAR((*p)->measure(0, at(1))->mean, 2.0 * (3.0 / 2 - 2.0 / 3), 1e-12);
    const auto twice = of("2 * out.v * L1.i + 0 W");
    ASSERT_TRUE(twice) << twice.error().message;
    EXPECT_NEAR(*(*twice)->at(at(1)), 4, 1e-12);
}

TEST_F(TraceExpressions, TimeFunctionsFollowTheirClosedForms) {
    traces["a.v"] = triangle(2, 1e-3, 5);
    const auto slope = of("d(a.v)");
    ASSERT_TRUE(slope);
    EXPECT_NEAR(*(*slope)->at(at(0.1e-3)), 8e3, 1e-6);
    EXPECT_NEAR(*(*slope)->at(at(0.5e-3)), -8e3, 1e-6);
    const auto area = of("int(a.v)");
    ASSERT_TRUE(area);
    EXPECT_EQ((*area)->unit(), "Wb");
    EXPECT_NEAR(*(*area)->at(at(0.25e-3)), 0.25e-3, 1e-15);
    const auto mean = of("mean(a.v, 1/fsw)");
    ASSERT_TRUE(mean) << mean.error().message;
    EXPECT_NEAR(*(*mean)->at(at(2.25e-3)), 0, 1e-12) << "over a whole period";
    // A step of 1 V at 1 ms through a corner of 1 kHz.
    Points step{{0, 0}, {1e-3, 0}, {1e-3, 1}};
    for (int i = 1; i <= 100; ++i) step.emplace_back(1e-3 + 1e-5 * i, 1);
    traces["s.v"] = traceOfPoints(step);
    const auto low = of("lowpass(s.v, 1 kHz)");
    ASSERT_TRUE(low) << low.error().message;
    for (const double t : {1e-4, 3e-4, 9e-4})
        EXPECT_NEAR(*(*low)->at(at(1e-3 + t)), 1 - std::exp(-2 * pi * 1e3 * t), 1e-9);
    const auto level = of("dB(s.v / 10 V)");
    ASSERT_TRUE(level) << level.error().message;
    EXPECT_NEAR(*(*level)->at(at(1.5e-3)), -20, 1e-12);
    EXPECT_EQ((*level)->unit(), "");
}

TEST_F(TraceExpressions, MistakesAreNamed) {
    traces["a.v"] = triangle(2, 1e-3, 1);
    traces["a.i"] = traceOfPoints({{0, 0}, {1e-3, 1}}, "A");
    for (const auto& [text, said] : std::vector<std::pair<std::string, std::string>>{{"a.v + a.i", "cannot be added"},
                                                                                     {"a.v + b.v", "'b.v'"},
                                                                                     {"(a.v", "not closed"},
                                                                                     {"foo(a.v)", "no function"},
                                                                                     {"exp(a.v)", "plain number"},
                                                                                     {"mean(a.v, 1 V)", "a time"},
                                                                                     {"1 + 2", "names no quantity"},
                                                                                     {"a.v *", "missing"},
                                                                                     {"a.v a.i", "not expected"},
                                                                                     {"d(3)", "quantity of the run"}}) {
        const auto result = of(text);
        ASSERT_FALSE(result) << text;
        EXPECT_NE(result.error().message.find(said), std::string::npos) << text << ": " << result.error().message;
    }
    EXPECT_FALSE(of(std::string(10'000, '(')));
}

TEST(LimitLine, IsStraightOverTheLogarithmOfTheFrequency) {
    const auto line = LimitLine::read("150k 66, 500k 56, 5M 56, 5M 60, 30 MHz 60");
    ASSERT_TRUE(line);
    ASSERT_EQ(line->points().size(), 5u);
    EXPECT_DOUBLE_EQ(*line->at(150e3), 66);
    // CISPR 32 class B, average falls from 66 to 56 by the logarithm: halfway at the geometric mean.
    EXPECT_NEAR(*line->at(std::sqrt(150e3 * 500e3)), 61, 1e-12);
    EXPECT_DOUBLE_EQ(*line->at(1e6), 56);
    EXPECT_DOUBLE_EQ(*line->at(5e6), 56) << "the lower one at a step";
    EXPECT_DOUBLE_EQ(*line->at(10e6), 60);
    EXPECT_FALSE(line->at(149e3));
    EXPECT_FALSE(line->at(31e6));
}

TEST(LimitLine, SaysWhatCannotBeRead) {
    for (const char* text :
         {"", "150k", "150k 66", "150k 66, ", "500k 66, 150k 56", "0 66, 1k 50", "1V 3, 2 4", "a b, c d", ",,"})
        EXPECT_FALSE(LimitLine::read(text)) << text;
}
