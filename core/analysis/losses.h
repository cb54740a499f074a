#pragma once
// What switches lose over a window of a run: what they conduct, by v times i of the run, and what each switching costs,
// by the energies of their data sheets; and how warm that makes them.

#include <optional>
#include <string>
#include <vector>

#include "runs/run_record.h"

namespace hedgerow {

struct LossRow {
    std::string part;
    double conduction = 0;           ///< W, mean over the window
    double on = 0, off = 0, rr = 0;  ///< W, of turning on, off, and of recovery
    int events = 0;                  ///< that cost energy
    double core = 0;                 ///< W, of a winding with a core
    double switching() const { return on + off + rr; }
    double total() const { return conduction + switching() + core; }
    /// °C, where the part has a thermal impedance: the mean when it goes on like this, and the highest over the window,
    /// in which the temperature starts at that mean.
    std::optional<double> mean = {}, peak = {};
};

/// What happened to a switch at one instant of a run.
struct SwitchingEvent {
    double at;  ///< s
    enum class Sort { on, off, recovery } sort;
    double current, voltage;  ///< A and V, of the points before and after
};
/// Of one switch of a run on rung 2 or below, in order: jumps of its current and voltage (docs/losses.md).
std::vector<SwitchingEvent> switchingEvents(const RunRecord& run, const Part& part, Tick from, Tick to);

/// The losses of all switches on rung 2, and of windings from there on whose core has a loss given, the largest first:
/// on rung 1 switches have none, above rung 2 they are in what they conduct. Energies are taken at the temperature that
/// they lead to. Of a run of several spans the window begins with that in which it ends. @param from, to  of the window
std::vector<LossRow> lossesOf(const RunRecord& run, Tick from, Tick to);

}  // namespace hedgerow
