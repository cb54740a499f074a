#pragma once
// The circuits of the benchmarks, written by net names.

#include "support/circuit.h"

namespace hedgerow::bench {

test::Circuit stepUp(const char* duty, const char* load, const char* v0, const char* i0);
test::Circuit threePhaseBridge();
test::Circuit sixPulse();
test::Circuit resonantHalfBridge();
test::Circuit phaseShiftedBridge();
test::Circuit threeLevelBridge();
test::Circuit arm(int cells);
test::Circuit twelvePulse();
/// Three-phase bridges with LC filters and carriers of their own at one dc link, whose capacitor has a series resistance.
test::Circuit plant(int bridges);
/// A ladder of n storage elements behind a switched leg.
test::Circuit ladder(int storages);
/// Fifty parts of all kinds.
test::Circuit fiftyParts();

}  // namespace hedgerow::bench
