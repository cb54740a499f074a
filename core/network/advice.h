#pragma once
// What does not keep a circuit from running, but is likely not what was meant.

#include <vector>

#include "base/result.h"
#include "model/nets.h"
#include "model/project.h"
#include "model/values.h"
#include "network/part_type.h"

namespace hedgerow {

/// Cautions about a sheet that passes its checks: start values that contradict each other, on-resistances that are not
/// small beside the resistances around them, legs without a dead time, regulators that start before what they measure
/// is right, step-up supplies that are asked for less than their input. Each says what to do.
std::vector<Error> advise(const Project& project, const PartLibrary& library, const NetList& nets,
                          const ParameterTable& parameters);

}  // namespace hedgerow
