#pragma once
// The same circuits in a general-purpose stiff integrator with root-finding: what an engineer would otherwise write.

namespace hedgerow::bench {

/// The step-up stage of circuits.h, restarted at every edge, with the analytic Jacobian.
void stiffStepUp(int periods, double relativeTolerance);
/// The six-pulse rectifier of circuits.h: a root for every diode, consistent restart after each.
void stiffSixPulse(double seconds, double relativeTolerance);

}  // namespace hedgerow::bench
