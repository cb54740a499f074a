#pragma once
// The fields of switches for what a data sheet gives of their losses (network/loss_data.h).

#include <functional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "model/part_kind.h"

namespace hedgerow::parts {

/// Which energies a switch has: a diode recovers, a thyristor turns on and recovers, a contact turns on and off, a
/// transistor does all of it.
enum class LossSort { diode, thyristor, contact, transistor };
/// Fields for them, for the thermal impedance, and those of the model desk for what lies on it.
std::vector<ParameterKind> lossParameters(LossSort sort);
/// A kind whose last two fields are its ratings, with these fields before them.
PartKind withLosses(PartKind kind, LossSort sort);
/// What a data sheet says of the figures that the model desk works out.
ParameterKind sheetFigures();
/// Keys of values that nobody gave and that follow from others by a rule: "tm crss". A value that is typed leaves it.
ParameterKind estimatedKeys();
/// Reads the texts of these fields; an error names the field.
Status checkLossTexts(const std::function<std::string(std::string_view)>& text, LossSort sort);

}  // namespace hedgerow::parts
