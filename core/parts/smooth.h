#pragma once
// Branches with curves instead of straight lines: charges over voltages, fluxes over currents, and what junctions
// carry.

#include <cmath>
#include <memory>
#include <utility>

#include "parts/points.h"
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

/// What integrates to a charge or a flux along points: straight lines between them, constant beyond the last, alike for
/// negative arguments. Over the value at zero, as the other curves.
class TableCurve {
public:
    /// @param points  rising from 0, with positive values; at least one
    explicit TableCurve(std::vector<TablePoint> points) : points_(std::move(points)) {
        double sum = 0;
        for (std::size_t i = 0; i < points_.size(); ++i) {
            if (i > 0) sum += (points_[i].t - points_[i - 1].t) * (points_[i].value + points_[i - 1].value) / 2;
            sums_.push_back(sum);
        }
    }
    double atZero() const { return points_.front().value; }
    Point2 operator()(double u) const {
        const double at = std::abs(u), sign = u < 0 ? -1 : 1;
        std::size_t next = 1;
        while (next < points_.size() && points_[next].t <= at) ++next;
        const TablePoint& from = points_[next - 1];
        const double beyond = at - from.t;
        const double slope =
            next < points_.size() ? (points_[next].value - from.value) / (points_[next].t - from.t) : 0;
        const double sum = sums_[next - 1] + beyond * (from.value + slope * beyond / 2);
        return {sign * sum / atZero(), (from.value + slope * beyond) / atZero()};
    }

private:
    std::vector<TablePoint> points_;
    std::vector<double> sums_;  ///< the integral up to each point
};

/// Points of a field "0 10u, 20 6u" that a TableCurve takes; the error names the field.
inline Result<std::vector<TablePoint>> curvePoints(const std::string& text, const char* key, const char* over,
                                                   const char* unit, const ProjectFolder& folder) {
    auto points = pointsOf(text, over, unit, folder);
    std::string wrong;
    if (!points)
        wrong = points.error().message;
    else if (points->empty() || points->front().t != 0)
        wrong = std::string("it begins at 0 ") + over;
    else
        for (std::size_t i = 0; i < points->size(); ++i)
            if (!((*points)[i].value > 0) || (i > 0 && !((*points)[i].t > (*points)[i - 1].t)))
                wrong = "its values are positive, over rising first numbers";
    if (wrong.empty()) return points;
    return Error{ErrorCode::range, wrong, {}, {}, key};
}

/// p heats R_th and C_th over an ambient: C_th dT/dt = p - T / R_th, T counted from there.
struct Heat {
    int power, rise, state;  ///< unknowns of p and T, and the state
    double resistance, capacity, ambient;

    void stamp(LinearStamp& s) const {
        s.unknown(power, power, 1.0);
        s.unknown(rise, rise, 1.0);
        s.state(rise, state, 1.0);
        s.rate(state, power, 1 / capacity);
        s.rate(state, rise, -1 / (resistance * capacity));
    }
    /// p = v i.
    void evaluate(const SmoothPoint& at, SmoothStamp& out, int from, int to, int current) const {
        const double v = at.potential(from) - at.potential(to), i = at.unknown(current);
        out.flow(power, -v * i);
        out.byUnknown(power, from, -i);
        out.byUnknown(power, to, i);
        out.byUnknown(power, current, -v);
    }
};

/// From the checked keys "rth", "cth" and "ta"; offers what the temperature rises by.
inline Heat addHeat(NetworkBuilder& b) {
    const int power = b.addNode(), rise = b.addNode();
    b.offerForm("rise", "K", {{rise, 1.0}});
    return {power, rise, b.addHeatState(b.value("cth")), b.value("rth"), b.value("cth"), b.value("ta")};
}
inline std::vector<ParameterKind> heatParameters(const char* resistance, const char* capacity) {
    return {{.key = "rth",
             .label = "thermal resistance to ambient, K/W",
             .symbol = "R_th",
             .unit = "",
             .standard = resistance,
             .least = 0,
             .aboveLeast = true,
             .rung = 4},
            {.key = "cth",
             .label = "heat capacity, J/K",
             .symbol = "C_th",
             .unit = "",
             .standard = capacity,
             .least = 0,
             .aboveLeast = true,
             .rung = 4},
            {.key = "ta",
             .label = "ambient temperature, °C",
             .symbol = "T_a",
             .unit = "",
             .standard = "25",
             .least = -200,
             .most = 400,
             .rung = 4}};
}

/// i = (s / R) ln(1 + exp((v - V) / s)) + G v: a knee at V with a rounded corner of width s, and a leak, without which
/// what lies behind it would be nowhere: it is at least 1 pS.
class SoftKnee final : public Branch {
public:
    struct Values {
        double knee, resistance, corner, leak;
    };
    SoftKnee(std::string part, int branch, int from, int to, int nodeCount, const Values& values)
        : Branch(std::move(part), branch, from, to), current_(nodeCount + branch), values_(values) {
        values_.leak = std::max(values_.leak, 1e-12);
    }
    bool smooth() const override { return true; }
    void stamp(LinearStamp& s, int) const override {
        const int row = s.branchRow(branch_);
        s.currentLaw(branch_, from_, to_);
        s.unknown(row, current_, 1.0);
        s.voltage(row, from_, to_, -values_.leak);
    }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const int row = out.branchRow(branch_);
        const double v = at.potential(from_) - at.potential(to_);
        const Point2 soft = softplus((v - values_.knee) / values_.corner);
        out.flow(row, -soft.value * values_.corner / values_.resistance);
        out.byUnknown(row, from_, -soft.slope / values_.resistance);
        out.byUnknown(row, to_, soft.slope / values_.resistance);
    }

private:
    int current_;
    Values values_;
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
                       double seriesResistance = 0, double leakage = 0, const Start& start = {}) {
    const int branch = b.addBranch();
    const int state =
        b.addComposedState(StateSort::capacitorVoltage, curve(start.value).value, capacitance, start.given);
    b.addElement(std::make_unique<CurvedCapacitor<Curve>>(b.partName(), branch, from, to, b.nodeCount(), state,
                                                          capacitance, seriesResistance, leakage, curve));
    return branch;
}

/// lambda(i - G u) = x in amperes of the first inductance, L0 dx/dt = u = v - R i.
template <class Curve>
class SaturatingInductor final : public Branch {
public:
    SaturatingInductor(std::string part, int branch, int from, int to, int nodeCount, int state, double inductance,
                       double windingResistance, double coreConductance, Curve curve)
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
    Curve curve_;
};

/// lambda(i) = x in amperes of the first inductance, with the current in an unknown of its own.
class SaturatingFluxOf final : public Element {
public:
    SaturatingFluxOf(std::string part, int current, int state, SaturatingFlux curve)
        : Element(std::move(part)), current_(current), state_(state), curve_(curve) {}
    bool smooth() const override { return true; }
    void stamp(LinearStamp& s, int) const override { s.state(current_, state_, 1.0); }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const Point2 flux = curve_(at.unknown(current_));
        out.flow(current_, flux.value);
        out.byUnknown(current_, current_, flux.slope);
    }

private:
    int current_, state_;
    SaturatingFlux curve_;
};

}  // namespace hedgerow::parts
