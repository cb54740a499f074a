#pragma once
// One step of an implicit Runge-Kutta method, with its error; and the tiny steps that find consistent values.

#include <array>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "engines/adaptive/tableau.h"
#include "engines/implicit/newton.h"

namespace hedgerow::adaptive {

using namespace implicit;

/// A polynomial of the part of a step, 0 to 1.
class Course {
public:
    double at(double part) const {
        double value = 0;
        for (std::size_t power = powers; power-- > 0;) value = value * part + coefficients[power];
        return value;
    }
    static constexpr std::size_t mostPowers = 4;
    std::array<double, mostPowers> coefficients = {};
    std::size_t powers = 0;
};

class Stepper {
public:
    /// @param tolerance  of a step, relative to the scales
    Stepper(System& system, const Tableau& tableau, Scales& scales, double tolerance);

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
    /// The state with that error; -1 without states.
    int worst() const { return worst_; }
    /// By what the next step may be longer, or must be shorter.
    double growth() const;
    /// The unknowns within the last attempt, by a polynomial through its stages. @param part  0 to 1
    void within(double part, std::span<double> z) const;
    /// The largest distance of that polynomial from a stage it does not go through, in units of what is allowed: states
    /// follow it as their error says, what depends on them along a curve need not.
    double strays(std::span<const double> allowed) const;
    /// The same of a guard.
    Course courseOf(const Guard& guard) const;

    /// Finds the unknowns that belong to the states of `at`. False, and it is as it was, where these do not fix them.
    bool fitUnknowns(Instant& at, Tick t);

    /// One step of backward Euler of `seconds` that ends at `t`. `at` becomes its end.
    Outcome euler(Instant& at, Tick t, double seconds);

    Newton& newton() { return newton_; }
    const Newton& newton() const { return newton_; }

private:
    void predict(std::size_t stage, double part);
    void findCheck();

    System& system_;
    const Tableau* tableau_;
    Scales& scales_;
    Newton newton_;
    double tolerance_;
    Instant end_;
    std::vector<Values> stages_, slopes_;  ///< z and x' of each stage
    std::vector<double> weights_;          ///< [stage of dense][power]: of the polynomial, by powers of the part
    std::vector<double> ahead_;            ///< [stage][earlier stage]: weights that continue them to it
    std::size_t checked_ = 0;              ///< the stage that tells; 0 for none
    std::vector<double> checks_;           ///< [stage of dense]: weights of the polynomial there
    Values base_, x_, r_, errors_, continued_;
    bool known_ = false;  ///< whether stages_ are those of an attempt from lastStart_ on that goes on smoothly
    Tick lastStart_ = 0, lastLength_ = 0;
    double error_ = 0;
    int worst_ = -1;
};

}  // namespace hedgerow::adaptive
