#pragma once
// From a sheet to a Network, with every check that can be made before a run.

#include <optional>
#include <string>
#include <vector>

#include "model/modules.h"
#include "model/nets.h"
#include "model/project.h"
#include "model/values.h"
#include "network/changes.h"
#include "network/network.h"
#include "network/part_type.h"

namespace hedgerow {

/// Everything that keeps the project from running, in the order of the sheet. Empty when it can run.
std::vector<Error> checkProject(const Project& project, const PartLibrary& library);
/// The same of a project that is laid out already.
std::vector<Error> checkFlat(const FlatProject& flat, const PartLibrary& library);

/// A network that is ready to run, and what the interface needs to find its way back to the sheet.
struct Elaboration {
    Network network;
    NetList nets;
    std::vector<int> nodeOfNet;  ///< index into Network::nodes, -1 for the reference and for signal nets
};

/// Checks and elaborates; on failure returns the first of the errors of checkProject.
Result<Elaboration> elaborate(const Project& project, const PartLibrary& library, const Changes& changes = {});
/// The same with a tone in it (network/injection.h).
Result<Elaboration> elaborateWith(const std::string& injection, const Project& project, const PartLibrary& library,
                                  const Changes& changes = {});

}  // namespace hedgerow
