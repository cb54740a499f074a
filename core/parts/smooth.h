#pragma once
// Branches with curves instead of straight lines: charges over voltages, fluxes over currents, and what junctions
// carry.

#include <cmath>
#include <memory>
#include <utility>

#include "parts/storages.h"

namespace hedgerow::parts {

/// A value and its slope.
struct Point2 {
    double value, slope;
};

/// e^u, straight beyond `most`, so that no iteration overflows.
inline Point2 limitedExp(double u, double most = 60) {
    if (u <= most) return {std::exp(u), std::exp(u)};
    const double top = std::exp(most);
    return {top * (1 + u - most), top};
}

/// ln(1 + e^u) and its slope: a knee without a corner.
inline Point2 softplus(double u) {
    if (u > 40) return {u, 1};
    if (u < -40) return {std::exp(u), std::exp(u)};
    return {std::log1p(std::exp(u)), 1 / (1 + std::exp(-u))};
}

/// Charge over C0 of a capacitance that falls to half at `half`: C = C0 / (1 + (v / half)^2).
struct DeratedCharge {
    double half;
    Point2 operator()(double v) const { return {half * std::atan(v / half), 1 / (1 + (v / half) * (v / half))}; }
};

/// Charge over C0 of a depletion layer: C = C0 (1 + v / phi)^-m for v > 0, constant below zero (v is the reverse
/// voltage). S. M. Sze, K. K. Ng, Physics of Semiconductor Devices, 3rd ed., 2.2.
struct DepletionCharge {
    double phi, exponent;
    Point2 operator()(double v) const {
        if (v <= 0) return {v, 1};
        const double base = 1 + v / phi;
        return {phi / (1 - exponent) * (std::pow(base, 1 - exponent) - 1), std::pow(base, -exponent)};
    }
};

/// Flux over L0 of a winding whose inductance falls from L0 to L0 `rest`, halfway at `knee`:
/// L = L0 (rest + (1 - rest) / (1 + (i / knee)^2)).
struct SaturatingFlux {
    double knee, rest;
    Point2 operator()(double i) const {
        const double u = i / knee;
        return {rest * i + (1 - rest) * knee * std::atan(u), rest + (1 - rest) / (1 + u * u)};
    }
};

/// q(v - R i) = x in volts of the first capacitance, C0 dx/dt = i - v / R_p.
template <class Curve>
class CurvedCapacitor final : public Branch {
public:
    CurvedCapacitor(std::string part, int branch, int from, int to, int nodeCount, int state, double capacitance,
                    double seriesResistance, double leakage, Curve curve)
        : Branch(std::move(part), branch, from, to),
          current_(nodeCount + branch),
          state_(state),
          capacitance_(capacitance),
          series_(seriesResistance),
          leakage_(leakage),
          curve_(curve) {}
    bool smooth() const override { return true; }
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.state(s.branchRow(branch_), state_, 1.0);
        s.rate(state_, current_, (1 + series_ * leakage_) / capacitance_);
        s.rate(state_, from_, -leakage_ / capacitance_);
        s.rate(state_, to_, leakage_ / capacitance_);
    }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const int row = out.branchRow(branch_);
        const Point2 q = curve_(at.potential(from_) - at.potential(to_) - series_ * at.unknown(current_));
        out.flow(row, q.value);
        out.byUnknown(row, from_, q.slope);
        out.byUnknown(row, to_, -q.slope);
        out.byUnknown(row, current_, -series_ * q.slope);
    }

private:
    int current_, state_;
    double capacitance_, series_, leakage_;
    Curve curve_;
};

/// The start value of a curved storage is what the user gave, read along the curve.
template <class Curve>
int addCurvedCapacitor(NetworkBuilder& b, int from, int to, double capacitance, Curve curve,
                       double seriesResistance = 0, double leakage = 0, std::string_view initialKey = "") {
    const int branch = b.addBranch();
    const bool known = !initialKey.empty();
    const int state = b.addComposedState(StateSort::capacitorVoltage, known ? curve(b.value(initialKey)).value : 0.0,
                                         capacitance, known && b.typed(initialKey));
    b.addElement(std::make_unique<CurvedCapacitor<Curve>>(b.partName(), branch, from, to, b.nodeCount(), state,
                                                          capacitance, seriesResistance, leakage, curve));
    return branch;
}

/// lambda(i - G u) = x in amperes of the first inductance, L0 dx/dt = u = v - R i.
class SaturatingInductor final : public Branch {
public:
    SaturatingInductor(std::string part, int branch, int from, int to, int nodeCount, int state, double inductance,
                       double windingResistance, double coreConductance, SaturatingFlux curve)
        : Branch(std::move(part), branch, from, to),
          current_(nodeCount + branch),
          state_(state),
          inductance_(inductance),
          resistance_(windingResistance),
          conductance_(coreConductance),
          curve_(curve) {}
    bool smooth() const override { return true; }
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.state(s.branchRow(branch_), state_, 1.0);
        s.rate(state_, from_, 1 / inductance_);
        s.rate(state_, to_, -1 / inductance_);
        s.rate(state_, current_, -resistance_ / inductance_);
    }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const int row = out.branchRow(branch_);
        const double voltage = at.potential(from_) - at.potential(to_), current = at.unknown(current_);
        const Point2 flux = curve_(current - conductance_ * (voltage - resistance_ * current));
        out.flow(row, flux.value);
        out.byUnknown(row, current_, flux.slope * (1 + conductance_ * resistance_));
        out.byUnknown(row, from_, -flux.slope * conductance_);
        out.byUnknown(row, to_, flux.slope * conductance_);
    }

private:
    int current_, state_;
    double inductance_, resistance_, conductance_;
    SaturatingFlux curve_;
};

}  // namespace hedgerow::parts
