#pragma once
// Finds the unknowns of one implicit step: z with x = base + alpha K z, by Newton's method.

#include <span>
#include <vector>

#include "base/time.h"
#include "engines/implicit/scales.h"
#include "engines/implicit/system.h"

namespace hedgerow::implicit {

using Values = std::vector<double>;

/// States and unknowns at one instant.
struct Instant {
    Values x, z;
};

enum class Outcome { good, inaccurate, diverged, singular };

class Newton {
public:
    /// @param tolerance  of a step, relative to the scales: iterations go on until a tenth of it
    Newton(System& system, Scales& scales, double tolerance);

    /// Finds z, and x with it, for sources as they were set. Takes the factors of the last call where alpha is the same
    /// and they contract well enough. @param z  where to start, and where it ends
    Outcome solve(const Values& base, double alpha, Values& z, Values& x);
    /// @param behind  where to start again when z, which was guessed, leads nowhere
    Outcome solve(const Values& base, double alpha, Values& z, Values& x, const Values& behind);
    /// To the last digit, with a Jacobian for each iteration, however far away the start is.
    Outcome solveCarefully(const Values& base, double alpha, Values& z, Values& x);

    /// Sets sources to their values at `t`.
    void sources(Tick t);
    /// The same at the end of a step that begins at `from`: a source that breaks on the way goes on as before, so that
    /// a line from there leads to what it is just before it breaks.
    void sources(Tick from, Tick t);
    /// Sets the values of sources that follow signals, from all signals.
    void setHeld(const std::vector<double>& signals);
    /// Scales all sources, for the search of an operating point.
    void setSourceFactor(double factor) { sourceFactor_ = factor; }
    /// Forgets the factors: the configuration is another one.
    void reset() { factoredAlpha_ = -1; }

    /// The unknown that moved most, in its scale, in the last iteration that failed.
    std::size_t worst() const { return worst_; }
    std::int64_t iterations() const { return iterations_; }

private:
    void finishSources();
    Outcome iterate(const Values& base, double alpha, Values& z, Values& x, int most, bool careful);

    System& system_;
    Scales& scales_;
    double tolerance_;
    Values previous_, r_, trial_, w_, held_, before_;
    double factoredAlpha_ = -1, sourceFactor_ = 1, contraction_ = 0.1;
    std::size_t worst_ = 0;
    std::int64_t iterations_ = 0;
};

}  // namespace hedgerow::implicit
