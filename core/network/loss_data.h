#pragma once
// What a data sheet gives of a switch's losses: switching energies over current, voltage and temperature, and the
// thermal impedance from junction to case.

#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/result.h"

namespace hedgerow {

/// E(i, v, T) in J, from curves over current. Along a curve straight lines, from none at no current and on along the
/// last line beyond the last; between voltages of one temperature straight lines, in proportion to the voltage outside;
/// between temperatures straight lines, and the nearest outside.
class EnergyTable {
public:
    /// "400 25: 10 0.2m, 20 0.5m; 400 125: 10 0.3m, 20 0.7m": voltage and temperature (V, °C), then pairs of current
    /// and energy (A, J). Without a temperature a curve holds at 25 °C. "" is an empty table, of no energy.
    static Result<EnergyTable> read(std::string_view text);
    bool empty() const { return curves_.empty(); }
    double at(double current, double voltage, double temperature) const;

private:
    struct Curve {
        double voltage, temperature;
        std::vector<std::pair<double, double>> points;  ///< current, energy; rising
        double at(double current) const;
    };
    std::vector<Curve> curves_;  ///< by temperature, then voltage
};

/// A chain of first-order terms between junction and case: Z(t) = sum R (1 - exp(-t / tau)).
class ThermalNetwork {
public:
    struct Term {
        double resistance, time;  ///< K/W, s
    };
    /// "0.2 1m, 0.5 20m": pairs of K/W and s of a Foster chain or, as a Cauer ladder from the junction on, of K/W and
    /// J/K, which is turned into the same form by its modes (V. Székely, Microelectronics Journal 28 (1997), 277).
    static Result<ThermalNetwork> read(std::string_view text, bool cauer);
    const std::vector<Term>& terms() const { return terms_; }
    double resistance() const;

private:
    std::vector<Term> terms_;
};

}  // namespace hedgerow
