#pragma once
// One step of an implicit Runge-Kutta method, with its error; and the tiny steps that find consistent values.

#include <functional>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/time.h"
#include "engines/adaptive/scales.h"
#include "engines/adaptive/system.h"
#include "engines/adaptive/tableau.h"

namespace hedgerow::adaptive {

using Values = std::vector<double>;

/// States and unknowns at one instant.
struct Instant {
    Values x, z;
};

class Stepper {
public:
    /// @param tolerance  of a step, relative to the scales
    Stepper(System& system, const Tableau& tableau, Scales& scales, double tolerance);

    enum class Outcome { good, inaccurate, diverged, singular };
    /// A step of `length` from `start` at `t`. @param atBreak  whether sources jump at its end: their values before
    /// that count
    Outcome attempt(const Instant& start, Tick t, Tick length, bool atBreak);
    /// Goes on with another method.
    void use(const Tableau& tableau);
    const Tableau& method() const { return *tableau_; }
    /// What the last attempt led to. @pre it was good or inaccurate
    const Instant& end() const { return end_; }
    /// Its error over the tolerance.
    double error() const { return error_; }
    /// By what the next step may be longer, or must be shorter.
    double growth() const;
    /// The unknowns within the last attempt, by a polynomial through its stages. @param part  0 to 1
    void within(double part, std::span<double> z) const;

    /// One step of backward Euler of `seconds` that ends at `t`. `at` becomes its end.
    Outcome euler(Instant& at, Tick t, double seconds);

    /// The unknown that moved most, in its scale, in the last iteration that failed.
    std::size_t worst() const { return worst_; }
    std::int64_t iterations() const { return iterations_; }
    std::int64_t failures() const { return failures_; }
    /// Forgets the factors: the configuration is another one.
    void reset() { factoredAlpha_ = -1; }
    /// Scales all sources, for the search of an operating point.
    void setSourceFactor(double factor) { sourceFactor_ = factor; }
    /// The values of sources that follow signals, from all signals.
    void setHeld(const std::vector<double>& signals);

private:
    void sources(Tick t);
    /// Finds z with x = base + alpha K z. @param z  where to start
    Outcome iterate(const Values& base, double alpha, Values& z, Values& x, int most, bool careful);

    System& system_;
    const Tableau* tableau_;
    Scales& scales_;
    double tolerance_;
    Instant end_;
    std::vector<Values> stages_, slopes_;  ///< z and x' of each stage
    std::vector<double> weights_;          ///< [stage of dense][power]: of the polynomial, by powers of the part
    Values base_, x_, previous_, r_, trial_, w_, errors_, held_;
    double error_ = 0, factoredAlpha_ = -1, sourceFactor_ = 1, contraction_ = 0.1;
    std::size_t worst_ = 0;
    std::int64_t iterations_ = 0, failures_ = 0;
};

}  // namespace hedgerow::adaptive
