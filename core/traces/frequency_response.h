#pragma once
// Curves over frequency: gain and phase, and what they say about stability.

#include <complex>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace hedgerow {

/// One curve over frequency.
struct FrequencyResponse {
    std::string name;                 ///< "out.v / K1.y", "loop at REG1.y", "impedance at out"
    std::string unit;                 ///< of its magnitude: "Ω" for an impedance, "" for a ratio of like things
    std::vector<double> frequencies;  ///< Hz, rising
    std::vector<std::complex<double>> values;  ///< one per frequency so far
};

/// What a loop gain says about stability, and any other response about its band.
struct Margins {
    std::optional<double> crossover;       ///< Hz, the last one where the gain falls through 1
    std::optional<double> phaseMargin;     ///< degrees, there
    std::optional<double> phaseCrossover;  ///< Hz, the first one where the phase falls through -180 degrees
    std::optional<double> gainMargin;      ///< times, there: by so much the gain may grow
    std::optional<double> bandwidth;  ///< Hz, where the gain has fallen to 1/sqrt(2) of that at the lowest frequency
    double peak = 0, peakAt = 0;      ///< largest magnitude, and where, Hz
};
Margins marginsOf(const FrequencyResponse& response);

/// Degrees at each point, without jumps, the first one between -180 and 180.
std::vector<double> phaseOf(const FrequencyResponse& response);

/// frequency; then gain in dB, phase in degrees, real and imaginary part of each.
std::string responsesAsCsv(const std::vector<FrequencyResponse>& responses);

/// Reads a table whose first column is a frequency in Hz: what responsesAsCsv() writes, or per curve two columns, a
/// gain in dB and a phase in degrees, named in the first line. Columns are separated by commas, semicolons or tabs.
/// Errors name the line.
Result<std::vector<FrequencyResponse>> readResponseTable(std::string_view text);

}  // namespace hedgerow
