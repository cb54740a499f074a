#pragma once
// Checks of a circuit before it is elaborated.

#include <vector>

#include "base/result.h"
#include "model/nets.h"
#include "model/project.h"
#include "model/values.h"
#include "network/part_type.h"

namespace hedgerow {

/// All faults of the sheet, named by part and net.
std::vector<Error> checkSheet(const Project& project, const PartLibrary& library, const NetList& nets,
                              const ParameterTable& parameters);

/// True for a net with power pins (as against a signal net).
bool isPowerNet(const Net& net, const Sheet& sheet, const Catalogue& catalogue);

}  // namespace hedgerow
