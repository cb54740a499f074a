#pragma once
// Spectra of traces: exact Fourier integrals of the stored lines for single frequencies and harmonics, a fast transform
// with windows for everything else, and the grouping of IEC 61000-4-7.

#include <complex>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "traces/trace.h"

namespace hedgerow {

/// 2/T times the integral of x(t) exp(-j 2 pi f t) over the window, t counted from its start; half of that, the mean,
/// at f = 0. Over whole periods its magnitude is the peak value of the component. What is integrated is exact, without
/// sampling and aliasing: the stored lines, bent as the points next to them say where they belong to one curve. Where the trace is made of equidistant samples (Trace::samples) the droop of
/// the lines between them is undone.
std::complex<double> fourier(const Trace& trace, Tick from, Tick to, double frequency);

/// The harmonics of a fundamental over a whole number of its periods.
struct Harmonics {
    double fundamental = 0;  ///< Hz
    double mean = 0;
    std::vector<std::complex<double>> peaks;  ///< [k]: order k + 1, peak values
    double peak(int order) const { return std::abs(peaks[static_cast<std::size_t>(order - 1)]); }
    /// Root of the sum of squares of orders 2 to `last`, over the first.
    double distortion(int last) const;
};
/// Over as many whole periods as fit into the window, the last ones. Nothing when not one fits, the trace is too short,
/// or, as below, when it is cancelled. Of N equidistant samples the last one lasts as long as the others, and where a
/// whole number of them makes the periods their discrete transform is taken; orders above half the sample rate are 0.
std::optional<Harmonics> harmonics(const Trace& trace, Tick from, Tick to, double fundamental, int orders = 50,
                                   const CancelToken& cancel = {});

/// IEC 61000-4-7:2002 with amendment 1, 5.5 and 5.6: lines 1/10 (50 Hz) or 1/12 (60 Hz) of the fundamental apart, over
/// ten or twelve periods.
struct GroupedHarmonics {
    std::vector<double> groups;     ///< [k]: rms of harmonic group of order k + 1
    std::vector<double> subgroups;  ///< [k]: rms of the harmonic subgroup of order k + 1
    std::vector<double>
        interharmonics;  ///< [k]: rms of the interharmonic centred subgroup between order k + 1 and k + 2
    std::vector<double> interharmonicGroups;  ///< [k]: rms of the whole interharmonic group there (annex A)
    double groupDistortion = 0;               ///< THDG: of groups 2 to `orders` over the first
    double subgroupDistortion = 0;            ///< THDS
};
/// Over the last ten (fundamental below 55 Hz) or twelve periods in the window; nothing when fewer fit.
std::optional<GroupedHarmonics> groupedHarmonics(const Trace& trace, Tick from, Tick to, double fundamental,
                                                 int orders = 40, const CancelToken& cancel = {});

/// Windows for the fast transform. F. J. Harris, Proc. IEEE 66 (1978), 51.
enum class SpectrumWindow { rectangular, hann, blackmanHarris, flatTop };
const std::vector<std::pair<std::string, SpectrumWindow>>& spectrumWindows();

/// Peak values over frequency.
struct Spectrum {
    double step = 0;            ///< Hz between lines
    std::vector<double> peaks;  ///< [k] at k * step
    double bandwidth = 0;       ///< equivalent noise bandwidth of the window, in lines
};
/// @param lines  at least 16; a power of two of samples, twice as many, is taken. Each sample is the mean of the trace
///               over its interval, undone in the spectrum, so that what lies far above the last line folds back
///               little.
std::optional<Spectrum> spectrum(const Trace& trace, Tick from, Tick to, SpectrumWindow window,
                                 std::size_t lines = 4096, const CancelToken& cancel = {});

/// The greatest lines that stand above their neighbours, greatest first: frequency and peak value.
std::vector<std::pair<double, double>> peaksOf(const Spectrum& spectrum, std::size_t most);

/// dBuV of a sine of this peak value in V: its rms over 1 uV.
double decibelMicrovolts(double peak);

}  // namespace hedgerow
