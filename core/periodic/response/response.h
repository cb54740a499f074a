#pragma once
// The small-signal response of a switched circuit about its periodic state: exact for the circuit as it is, at any
// frequency, with nothing but the linearised orbit.
//
// A tone u e^{jwt} is one oscillator more among the states, and each output has an integrator of y e^{-jwt}; both are
// linear. With M the map of a period and b what the tone adds to it, the state at the beginning of a period is
// (e^{jwT} I - M)^{-1} b, and the integrators then hold the Fourier component of the outputs at w over a period
// (S. R. Sanders et al., "Generalized averaging method for power conversion circuits", IEEE Trans. Power Electronics 6,
// 1991; components at w + k/T are left out). Derivatives are central differences of runs of one period: they hold for
// modulators, samples, delays and comparators alike.

#include <complex>
#include <functional>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "periodic/settle/settle.h"
#include "network/engine.h"

namespace hedgerow {

/// What is asked of a response.
struct ResponseRequest {
    RunRequest run = {};  ///< tolerances of the engine
    Snapshot start = {};  ///< in the periodic state, at the instant 0
    FineTime period = 0;
    std::vector<std::string> outputs;                     ///< quantities, linear or signals
    std::string unit = {};  ///< of the tone: "A", "V", or "" for a signal
    std::vector<double> frequencies;                      ///< Hz, above 0
    std::function<void(std::size_t done)> progress = {};  ///< frequencies
    std::function<void(std::size_t index, const std::vector<std::complex<double>>&)> found = {};  ///< of one frequency
};

/// One row per frequency, one column per output: the output at that frequency over the tone.
using ResponseTable = std::vector<std::vector<std::complex<double>>>;

/// @param network  with a tone in it (network/injection.h); it is made anew for each frequency
/// Errors: an output that is no quantity, or neither linear nor a signal; what a search for the periodic state fails
/// with; stopped by `cancel`.
Result<ResponseTable> respond(const Engine& engine, const std::function<Result<Network>()>& network,
                              const ResponseRequest& request, const CancelToken& cancel);

/// The same by a tone of this amplitude: the circuit runs until it answers as it did a while before, and the answer is
/// multiplied by the tone over whole periods of both. Slower, on every engine, and an independent check.
/// @param amplitude  in the unit of where it acts
Result<ResponseTable> respondByTone(const Engine& engine, const std::function<Result<Network>()>& network,
                                    const ResponseRequest& request, double amplitude, const CancelToken& cancel);

}  // namespace hedgerow
