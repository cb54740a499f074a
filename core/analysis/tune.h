#pragma once
// Gains of a regulator for a crossover and a phase margin, from the loop as the circuit makes it.

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "base/cancel.h"
#include "runs/responses.h"

namespace hedgerow {

struct Tuning {
    std::vector<std::pair<std::string, std::string>> values;  ///< of the regulator: key and text
    FrequencyResponse before, after;                          ///< the loop gain with the present values and with these
    Margins margins;                                          ///< of the loop gain after
};

/// Whether a kind of part can be tuned: PI and PID regulators, resonant ones, and zeros and poles with an integrator,
/// one further pole and one zero.
bool canBeTuned(std::string_view kind);

/// The loop is looked at where the regulator says its output, with its present values, about the periodic state; what
/// is not the regulator is divided out. Two gains follow from crossover and phase margin; a PID regulator's integral
/// has its corner a tenth below the crossover. Delays and samples are in the loop as they are. The loop is then looked
/// at with the new values, and they are corrected: through its ripple a regulator changes the modulator behind it.
/// @param part       name, on the main sheet
/// @param crossover  Hz  @param phaseMargin  degrees, between 0 and 180
/// Errors: the part cannot be tuned; the margin cannot be had there, with what could; what a response fails with.
Result<Tuning> tuneRegulator(std::shared_ptr<const Project> project, const RunSettings& settings,
                             const std::string& part, double crossover, double phaseMargin, const CancelToken& cancel);

}  // namespace hedgerow
