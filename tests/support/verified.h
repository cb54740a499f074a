#pragma once
// Runs that are solved again in long double, and a stage that many of them use.

#include <functional>

#include "runs/verify.h"
#include "support/circuit.h"

namespace hedgerow::test {

/// Runs, solves again in long double, and compares.
/// @param tolerance  relative, of the largest difference of any quantity
/// @param look  at the summary of the run
inline void expectVerified(const Circuit& circuit, double tolerance,
                           const std::function<void(const RunSummary&)>& look) {
    const auto r = run(circuit);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    look(r->summary());
    const auto check = verify(*r, CancelToken());
    ASSERT_TRUE(check) << check.error().message;
    EXPECT_TRUE(check->sameEvents) << check->events << " and " << check->referenceEvents;
    EXPECT_LT(check->largestShift, 1e-14);
    EXPECT_LT(check->worst(), tolerance) << check->differences.front().quantity;
    EXPECT_EQ(check->reference.counter("events along interval maps"), 0);
}

/// A step-up stage of 24 V, 47 uH and 47 uF at 100 kHz.
inline Circuit stepUp(const std::string& duty, const std::string& load, const std::string& v0, const std::string& end,
                      const std::string& phase = "0") {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "24"}})
        .add("inductor", "L1", {"in", "sw"}, {{"l", "47u"}})
        .add("switch", "S1", {"sw", "0", "g"})
        .add("diode", "D1", {"sw", "out"})
        .add("capacitor", "C1", {"out", "0"}, {{"c", "47u"}, {"v0", v0}})
        .add("resistor", "R1", {"out", "0"}, {{"r", load}})
        .add("modulator", "M1", {"", "g", ""}, {{"f", "100k"}, {"duty", duty}, {"phase", phase}})
        .plan(end, "1e-3");
    return c;
}

}  // namespace hedgerow::test
