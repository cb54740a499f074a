#pragma once
// What changed between two states of a project, in words.

#include <string>
#include <vector>

#include "model/part_kind.h"
#include "model/project.h"

namespace hedgerow {

/// One line a change: "Q1 rung 1 → 2", "L1 inductance 22u → 33u", "added R3", "D 0.3 → 0.31".
std::vector<std::string> changesBetween(const Project& before, const Project& after, const Catalogue& catalogue);

}  // namespace hedgerow
