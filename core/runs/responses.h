#pragma once
// Frequency responses of a project: transfer functions, loop gains and impedances about the periodic state.

#include <complex>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "runs/run.h"

namespace hedgerow {

/// What is asked for. Texts are as typed.
struct ResponseQuestion {
    enum class Sort {
        transfer,   ///< from a tone at `from` to each of `to`
        loop,       ///< the loop gain at the signal `from`: the loop stays closed, so that the operating point stays
        impedance,  ///< at the net `from`, against the reference, or between it and another: "out" or "out from ret"
    };
    Sort sort = Sort::transfer;
    std::string from = {};
    std::vector<std::string> to = {};  ///< quantities
    double least = 10, most = 1e6;     ///< Hz
    int points = 200;                  ///< equally spaced on a logarithmic axis, both ends among them
    std::optional<double> tone = {};   ///< its amplitude: the answer is measured by a tone instead of computed
};

/// One curve over frequency.
struct FrequencyResponse {
    std::string name;                 ///< "out.v / K1.y", "loop at REG1.y", "impedance at out"
    std::string unit;                 ///< of its magnitude: "Ω" for an impedance, "" for a ratio of like things
    std::vector<double> frequencies;  ///< Hz, rising
    std::vector<std::complex<double>> values;  ///< one per frequency so far
};

/// Frequencies of a question. Errors: a span or a number of points out of range.
Result<std::vector<double>> frequenciesOf(const ResponseQuestion& question);

/// Settles the run, and finds the curves: one for a loop or an impedance, else one per output.
/// @param run       prepared with RunSettings::settle, not executed
/// @param progress  called with the number of frequencies done
/// Errors: what cannot be found in the circuit; what the search for the periodic state fails with; stopped.
Result<std::vector<FrequencyResponse>> respondTo(const Run& run, const ResponseQuestion& question,
                                                 const CancelToken& cancel,
                                                 const std::function<void(std::size_t)>& progress = {});

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

}  // namespace hedgerow
