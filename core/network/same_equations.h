#pragma once
// Whether two networks differ in what drives them only, so that what was built of one serves the other.

#include "network/network.h"

namespace hedgerow {

/// Whether elements write the same equations and guards in all their segments, and sources move by the same dynamics.
/// The values of sources, the blocks of the control and what gates do may differ.
bool sameEquations(const Network& a, const Network& b);

}  // namespace hedgerow
