#pragma once
// Frequency responses of a project: transfer functions, loop gains and impedances about the periodic state.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "runs/run.h"
#include "traces/frequency_response.h"

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

/// Frequencies of a question. Errors: a span or a number of points out of range.
Result<std::vector<double>> frequenciesOf(const ResponseQuestion& question);

/// Settles the run, and finds the curves: one for a loop or an impedance, else one per output.
/// @param run       prepared with RunSettings::settle, not executed
/// @param progress  called with the number of frequencies done
/// Errors: what cannot be found in the circuit; what the search for the periodic state fails with; stopped.
Result<std::vector<FrequencyResponse>> respondTo(const Run& run, const ResponseQuestion& question,
                                                 const CancelToken& cancel,
                                                 const std::function<void(std::size_t)>& progress = {});

}  // namespace hedgerow
