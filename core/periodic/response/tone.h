#pragma once
// A tone and what listens to it, as states of a network.

#include <complex>
#include <string>
#include <vector>

#include "network/network.h"
#include "network/snapshot.h"

namespace hedgerow::response {

/// Makes the tone of a network an oscillator, x' = jw x, and adds an integrator q' = jw q + y for each output: after a
/// time t it holds e^{jwt} times the integral of y e^{-jws} over s from 0 to t.
/// Errors: the network has no tone, or lacks an output.
Status addTone(Network& network, double omega, const std::vector<std::string>& outputs);

/// What the tone is in a snapshot of such a network: Re x is what acts. @param value  of x
void setTone(Snapshot& snapshot, std::complex<double> value);
/// Sets all integrators to zero.
void clearIntegrators(Snapshot& snapshot, std::size_t outputs);
/// What the integrator of an output holds.
std::complex<double> integral(const Snapshot& snapshot, std::size_t output);

}  // namespace hedgerow::response
