#pragma once
// From a run to the periodic state it begins in.

#include "periodic/settle/settle.h"
#include "runs/run.h"

namespace hedgerow {

/// Finds the periodic state of the circuit of a run, as it is before the first event of its scene. Parts on rung 3 and
/// above are first settled on rung 2, by the exact engine where that takes the circuit; what their rungs add then
/// starts in equilibrium.
/// @param period  s, typed; nothing to find it
Result<Settled> settleRun(const Run& run, std::optional<double> period, const CancelToken& cancel,
                          const std::function<void(const SettleProgress&)>& progress = {});

}  // namespace hedgerow
