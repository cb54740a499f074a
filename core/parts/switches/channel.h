#pragma once
// The channel of a field-effect transistor: in straight pieces (rung 3) and as curves with heat (rung 4).

#include "parts/smooth.h"

namespace hedgerow::parts {

struct ChannelNodes {
    int drain, source, gate;
};

/// i = the smaller of v_ds / R_on and g_m (v_gs - V_th), alike in reverse; none below the threshold. A symmetric one
/// takes v_gd instead of v_gs in reverse. Of a p-channel (sign -1) all voltages and currents count the other way.
class PiecewiseChannel final : public Branch {
public:
    struct Values {
        double resistance, transconductance, threshold, leak;
        bool symmetric =
            false;  ///< whether the drain takes the place of the source in reverse, as in a lateral channel
        double sign = 1;
    };
    PiecewiseChannel(std::string part, int branch, ChannelNodes nodes, int nodeCount, const Values& values)
        : Branch(std::move(part), branch, nodes.drain, nodes.source),
          gate_(nodes.gate),
          current_(nodeCount + branch),
          values_(values) {}
    enum { off, saturated, ohmic, reverse };
    int segmentCount() const override { return 4; }
    int initialSegment(bool) const override { return off; }
    void stamp(LinearStamp& s, int segment) const override {
        const int row = s.branchRow(branch_);
        s.currentLaw(branch_, from_, to_);
        s.unknown(row, current_, 1.0);
        if (segment == off) {
            s.voltage(row, from_, to_, -values_.leak);
            s.relax(row, from_, -1.0);
            s.relax(row, to_, 1.0);
        } else if (segment == ohmic) {
            s.voltage(row, from_, to_, -1 / values_.resistance);
        } else {
            const double g = (segment == saturated ? 1 : -1) * values_.transconductance;
            s.voltage(row, gate_, segment == reverse && values_.symmetric ? from_ : to_, -g);
            s.source(row, 0, -g * values_.sign * values_.threshold);
        }
    }
    std::vector<Guard> guards(int segment) const override {
        // Overdrive times g_m, and what the channel would carry as a resistance.
        const double g = values_.transconductance, r = 1 / values_.resistance;
        const auto form = [&](double ofGate, double ofVoltage, int next) {
            Guard guard{{}, -ofGate * values_.threshold, next};
            const auto put = [&](int node, double factor) {
                if (node >= 0 && factor != 0) guard.terms.emplace_back(node, values_.sign * factor);
            };
            put(gate_, ofGate);
            put(from_, ofVoltage);
            put(to_, -ofGate - ofVoltage);
            return guard;
        };
        if (values_.symmetric) {
            // In reverse the gate counts against the drain: v_gd = v_gs - v_ds.
            const auto back = [&](double ofGate, double ofVoltage, int next) {
                return form(ofGate, ofVoltage - ofGate, next);
            };
            switch (segment) {
                case off:
                    return {form(-g, 0, saturated), back(-g, 0, reverse)};
                case saturated:
                    return {form(g, 0, off), form(-g, r, ohmic)};
                case ohmic:
                    return {form(g, -r, saturated), back(g, r, reverse)};
                default:
                    return {back(g, 0, off), back(-g, -r, ohmic)};
            }
        }
        switch (segment) {
            case off:
                return {form(-g, 0, saturated)};
            case saturated:
                return {form(g, 0, off), form(-g, r, ohmic)};
            case ohmic:
                return {form(g, 0, off), form(g, -r, saturated), form(g, r, reverse)};
            default:
                return {form(g, 0, off), form(-g, -r, ohmic)};
        }
    }

private:
    int gate_, current_;
    Values values_;
};

/// i = K (v_o v_e - v_e^2 / 2)(1 + lambda |v|), v_o = s ln(1 + exp((v_gs - V_th) / s)) the overdrive, v_e the smooth
/// smaller of |v_ds| and v_o; K falls with the temperature: H. Shichman, D. A. Hodges, IEEE J. Solid-State Circuits 3
/// (1968), 285, with rounded corners. p = v i heats R_th, C_th.
class SmoothChannel final : public Branch {
public:
    struct Values {
        double gain, threshold, slope;  ///< K in A/V^2, V_th, s in V
        double modulation;              ///< lambda in 1/V
        double exponent;                ///< of the temperature
        double sign = 1;                ///< -1 of a p-channel: all voltages and currents count the other way
    };
    SmoothChannel(std::string part, int branch, ChannelNodes nodes, int nodeCount, const Heat& heat,
                  const Values& values)
        : Branch(std::move(part), branch, nodes.drain, nodes.source),
          gate_(nodes.gate),
          current_(nodeCount + branch),
          heat_(heat),
          values_(values) {}
    bool smooth() const override { return true; }
    bool conducts(int) const override { return true; }
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.unknown(s.branchRow(branch_), current_, 1.0);
        heat_.stamp(s);
    }
    /// Current, and its derivatives by v_gs, v_ds and temperature.
    struct Current {
        double i, byGate, byVoltage, byHeat;
    };
    Current current(double vgs, double vds, double rise) const {
        if (vds < 0) {
            // Source and drain change places: f(v_gs, v_ds) = -f(v_gs - v_ds, -v_ds).
            const Current c = current(vgs - vds, -vds, rise);
            return {-c.i, -c.byGate, c.byGate + c.byVoltage, -c.byHeat};
        }
        const Point2 soft = softplus((vgs - values_.threshold) / values_.slope);
        const double over = values_.slope * soft.value;
        const double root = std::hypot(vds, over);
        // Shares first: cubes of what is far below the threshold would vanish.
        const double ofVoltage = root > 0 ? vds / root : 0, ofOver = root > 0 ? over / root : 0;
        const double e = vds * ofOver;
        const double eByVoltage = ofOver * ofOver * ofOver, eByOver = ofVoltage * ofVoltage * ofVoltage;
        const double kelvin = std::max(heat_.ambient + rise + 273.15, 1.0);
        const double k = values_.gain * std::pow(kelvin / 298.15, -values_.exponent), m = 1 + values_.modulation * vds;
        const double shape = over * e - e * e / 2, byE = over - e;
        return {k * shape * m, k * m * (e + byE * eByOver) * soft.slope,
                k * (m * byE * eByVoltage + values_.modulation * shape), -values_.exponent * k * shape * m / kelvin};
    }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const int row = out.branchRow(branch_);
        const double source = at.potential(to_), vgs = at.potential(gate_) - source, vds = at.potential(from_) - source;
        const double sign = values_.sign;
        const Current c = current(sign * vgs, sign * vds, at.unknown(heat_.rise));
        out.flow(row, -sign * c.i);
        out.byUnknown(row, gate_, -c.byGate);
        out.byUnknown(row, from_, -c.byVoltage);
        out.byUnknown(row, to_, c.byGate + c.byVoltage);
        out.byUnknown(row, heat_.rise, -sign * c.byHeat);
        heat_.evaluate(at, out, from_, to_, current_);
    }

private:
    int gate_, current_;
    Heat heat_;
    Values values_;
};

}  // namespace hedgerow::parts
