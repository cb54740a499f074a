#pragma once
// Hysteresis and eddy-current loss of a core from the voltage of a winding on it, by the improved generalised Steinmetz
// equation: K. Venkatachalam, C. R. Sullivan, T. Abdallah, H. Tacca, IEEE Workshop on Computers in Power Electronics
// (2002), 36. For a sine it is the Steinmetz equation itself.

#include <span>

namespace hedgerow {

/// P = loss (f / frequency)^alpha (flux / this flux)^beta for a sine of frequency f and that amplitude of flux linkage.
struct CoreLoss {
    double loss;       ///< W at the reference
    double frequency;  ///< Hz
    double flux;       ///< amplitude of the flux linkage, Wb
    double alpha, beta;

    /// The mean loss, W, under a voltage that runs along straight lines. Each minor loop of the flux counts with its
    /// own swing (rainflow counting, ASTM E1049).
    /// @param times     s, rising, at least two; equal ones are jumps
    /// @param voltages  V, of the winding less its resistance
    double mean(std::span<const double> times, std::span<const double> voltages) const;
};

}  // namespace hedgerow
