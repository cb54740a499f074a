#pragma once
// The periodic state of a circuit: found by Newton's method on the map of one period, on any engine that can be started
// from a snapshot.
//
// Unknowns are the coordinates of a snapshot at a section of the orbit that lies away from events: storage states and
// what sampled parts remember in numbers and instants. Where the period is not known it is one more unknown; the flow
// through the first place of the search fixes the phase (T. J. Aprille, T. N. Trick, "A computer algorithm to determine
// the steady-state response of nonlinear oscillators", IEEE Trans. Circuit Theory 19, 1972). The derivative of the map
// comes from runs of one period with one coordinate moved each: so it holds for whatever a part of the control does.

#include <complex>
#include <functional>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/cancel.h"
#include "periodic/settle/coordinate.h"
#include "network/engine.h"

namespace hedgerow {

/// Where a search for the periodic state stands.
struct SettleProgress {
    int periods = 0;      ///< of the circuit that were gone so far
    int iterations = 0;   ///< of Newton's method
    double residual = 0;  ///< largest change over a period, relative to the swing of what changes; 0 before it is known
};

struct SettleRequest {
    RunRequest run = {};                 ///< tolerances, steps and start values; its end bounds the search for a period
    std::optional<double> period = {};   ///< s, typed; nothing to find it
    std::optional<Snapshot> start = {};  ///< where to begin, instead of the start values
    /// Names of the states that matter from period to period: all others die out within one. Nothing for all states.
    std::optional<std::vector<std::string>> slow = {};
    bool fine = false;  ///< the map in the result by central differences: twice the periods, more digits
    int plainPeriods = 3;
    int mostIterations = 60;
    double tolerance = 1e-9;  ///< of a swing, by which the state may differ after a period
    std::function<void(const SettleProgress&)> progress = {};
};

/// An eigenvalue of the map of one period: what becomes of a deviation.
struct Multiplier {
    std::complex<double> value;
    std::vector<std::string> parts;  ///< the coordinates that take part most
    /// "L2.i and C3.v ring at 41 kHz and lose 3 % per period".
    std::string words;
};

/// The periodic state.
struct Settled {
    Snapshot start;  ///< at the instant 0, at which all that drives the circuit begins its period
    FineTime period = 0;
    bool found = false;  ///< the period was no common one of sources and carriers
    std::string made;    ///< what the period consists of, in words
    int multiple = 1;    ///< after so many of these the state is the same again
    double residual = 0;
    std::string worst;  ///< the coordinate with that residual
    /// What the change over a period comes to as a mean: of capacitor currents, A, of winding voltages, V, and of the
    /// power that is stored, W; of each the largest. In the periodic state they are zero.
    double meanCurrent = 0, meanVoltage = 0, storedPower = 0;
    int iterations = 0, periods = 0, plainPeriods = 0;
    /// Periods of a plain run after which the residual would be the same; infinite where it would never be.
    double plainEquivalent = 0;
    bool stable = true;
    std::vector<Multiplier> multipliers;  ///< by magnitude, the largest first; of a pair one
    Snapshot section;                     ///< the place away from events at which the map was taken
    std::vector<settle::Coordinate> coordinates;
    std::vector<double> sizes;  ///< of the coordinates, in their units
    /// Derivative of the state after a period by the state before: row-major, in those coordinates.
    std::vector<double> map;

    double seconds() const { return static_cast<double>(static_cast<long double>(period) * 0x1p-86L); }
    /// What it found, in words, as pairs of a name and a text.
    std::vector<std::pair<std::string, std::string>> words() const;
};

/// Errors: there is no common period; nothing repeats; a coordinate moves on without end (it is named, with how far it
/// goes per period); stopped by `cancel`; what a run of the circuit fails with.
Result<Settled> settlePeriodic(const Engine& engine, const Network& network, const SettleRequest& request,
                               const CancelToken& cancel);

}  // namespace hedgerow
