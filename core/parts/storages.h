#pragma once
// Linear branches that several parts are made of.

#include "network/layout.h"
#include "parts/two_terminal.h"

namespace hedgerow::parts {

class ResistorElement final : public Branch {
public:
    ResistorElement(std::string part, int branch, int from, int to, double resistance)
        : Branch(std::move(part), branch, from, to), resistance_(resistance) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = s.branchRow(branch_);
        s.currentLaw(branch_, from_, to_);
        s.voltage(row, from_, to_, 1.0);
        s.unknown(row, s.branchCurrent(branch_), -resistance_);
    }

private:
    double resistance_;
};

/// L di/dt = v - R_w i_branch, with the branch current i = x + (v - R_w i) / R_c.
class InductorElement final : public Branch {
public:
    InductorElement(std::string part, int branch, int from, int to, int state, double inductance,
                    double windingResistance, double coreConductance)
        : Branch(std::move(part), branch, from, to),
          state_(state),
          inductance_(inductance),
          windingResistance_(windingResistance),
          coreConductance_(coreConductance) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = s.branchRow(branch_), current = s.branchCurrent(branch_);
        s.currentLaw(branch_, from_, to_);
        s.unknown(row, current, 1.0 + windingResistance_ * coreConductance_);
        s.voltage(row, from_, to_, -coreConductance_);
        s.state(row, state_, 1.0);
        s.rate(state_, from_, 1.0 / inductance_);
        s.rate(state_, to_, -1.0 / inductance_);
        s.rate(state_, current, -windingResistance_ / inductance_);
    }

private:
    int state_;
    double inductance_, windingResistance_, coreConductance_;
};

/// v - R_s i = x, C dx/dt = i - x / R_p.
class CapacitorElement final : public Branch {
public:
    CapacitorElement(std::string part, int branch, int from, int to, int state, double capacitance,
                     double seriesResistance, double leakage)
        : Branch(std::move(part), branch, from, to),
          state_(state),
          capacitance_(capacitance),
          seriesResistance_(seriesResistance),
          leakage_(leakage) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = s.branchRow(branch_), current = s.branchCurrent(branch_);
        s.currentLaw(branch_, from_, to_);
        s.voltage(row, from_, to_, 1.0);
        s.unknown(row, current, -seriesResistance_);
        s.state(row, state_, 1.0);
        s.rate(state_, current, (1.0 + seriesResistance_ * leakage_) / capacitance_);
        s.rate(state_, from_, -leakage_ / capacitance_);
        s.rate(state_, to_, leakage_ / capacitance_);
    }

private:
    int state_;
    double capacitance_, seriesResistance_, leakage_;
};

/// A capacitance that is constant between voltages: q(v) = C_0 x in straight pieces, C_0 dx/dt = i.
class PiecewiseCapacitor final : public Branch {
public:
    struct LinearPiece {
        double voltage, capacitance;  ///< from which on, the first one below as well; and how much
    };
    /// @param pieces  rising in their voltages from 0 on
    PiecewiseCapacitor(std::string part, int branch, int from, int to, int state, std::vector<LinearPiece> pieces)
        : Branch(std::move(part), branch, from, to), state_(state), pieces_(std::move(pieces)) {
        double charge = 0;
        for (std::size_t k = 0; k < pieces_.size(); ++k) {
            const LinearPiece& now = pieces_[k];
            if (k > 0) charge += pieces_[k - 1].capacitance * (now.voltage - pieces_[k - 1].voltage);
            charges_.push_back(charge);
        }
    }
    int segmentCount() const override { return static_cast<int>(pieces_.size()); }
    int initialSegment(bool) const override { return 0; }
    bool conducts(int) const override { return false; }
    void stamp(LinearStamp& s, int segment) const override {
        const auto k = static_cast<std::size_t>(segment);
        const double unit = pieces_.front().capacitance, slope = pieces_[k].capacitance / unit;
        const int row = s.branchRow(branch_);
        s.currentLaw(branch_, from_, to_);
        s.voltage(row, from_, to_, slope);
        s.source(row, 0, slope * pieces_[k].voltage - charges_[k] / unit);
        s.state(row, state_, 1.0);
        s.rate(state_, s.branchCurrent(branch_), 1 / unit);
    }
    std::vector<Guard> guards(int segment) const override {
        const auto k = static_cast<std::size_t>(segment);
        std::vector<Guard> all;
        const auto bound = [&](double sign, double voltage, int next) {
            Guard guard{{}, -sign * voltage, next};
            if (from_ >= 0) guard.terms.emplace_back(from_, sign);
            if (to_ >= 0) guard.terms.emplace_back(to_, -sign);
            all.push_back(std::move(guard));
        };
        if (k > 0) bound(1, pieces_[k].voltage, segment - 1);
        if (k + 1 < pieces_.size()) bound(-1, pieces_[k + 1].voltage, segment + 1);
        return all;
    }

private:
    int state_;
    std::vector<LinearPiece> pieces_;
    std::vector<double> charges_;  ///< where they begin
};

inline int addPiecewiseCapacitor(NetworkBuilder& b, int from, int to,
                                 std::vector<PiecewiseCapacitor::LinearPiece> pieces, const Start& start = {}) {
    const int branch = b.addBranch();
    double charge = start.value;  // at the start, over the first capacitance: each piece adds what differs from it
    for (std::size_t k = 1; k < pieces.size(); ++k)
        charge += std::max(0.0, start.value - pieces[k].voltage) *
                  (pieces[k].capacitance - pieces[k - 1].capacitance) / pieces.front().capacitance;
    const int state =
        b.addComposedState(StateSort::capacitorVoltage, charge, pieces.front().capacitance, start.given);
    b.addElement(std::make_unique<PiecewiseCapacitor>(b.partName(), branch, from, to, state, std::move(pieces)));
    return branch;
}

/// Adds a capacitor between two nodes.
inline int addCapacitor(NetworkBuilder& b, int from, int to, double capacitance, double seriesResistance = 0,
                        double leakage = 0, const Start& start = {}) {
    const int branch = b.addBranch();
    const int state = b.addComposedState(StateSort::capacitorVoltage, start.value, capacitance, start.given);
    b.addElement(std::make_unique<CapacitorElement>(b.partName(), branch, from, to, state, capacitance,
                                                    seriesResistance, leakage));
    return branch;
}

/// Adds a winding between two nodes.
inline int addInductor(NetworkBuilder& b, int from, int to, double inductance, double windingResistance = 0,
                       double coreConductance = 0, const Start& start = {}) {
    const int branch = b.addBranch();
    const int state = b.addComposedState(StateSort::windingCurrent, start.value, inductance, start.given);
    b.addElement(std::make_unique<InductorElement>(b.partName(), branch, from, to, state, inductance, windingResistance,
                                                   coreConductance));
    return branch;
}

/// What the loss of a core is told by: analysis/core_loss.h. Of the flux linkage of the first winding.
inline std::vector<ParameterKind> coreLossParameters() {
    const auto one = [](const char* key, const char* label, const char* symbol, const char* unit, const char* standard,
                        double least, double most, bool above) {
        return ParameterKind{.key = key,
                             .label = label,
                             .symbol = symbol,
                             .unit = unit,
                             .standard = standard,
                             .least = least,
                             .most = most,
                             .aboveLeast = above,
                             .rung = 2};
    };
    constexpr double any = std::numeric_limits<double>::infinity();
    return {one("pcore", "core loss at a sine of", "P_fe", "W", "0", 0, any, false),
            one("fcore", "this frequency and", "f_fe", "Hz", "100k", 0, any, true),
            one("lcore", "this amplitude of flux linkage", "λ_fe", "Wb", "10u", 0, any, true),
            one("acore", "power of the frequency", "α", "", "1.4", 1, 3, false),
            one("bcore", "power of the flux", "β", "", "2.4", 1, 5, false)};
}

/// Offers a winding with a capacitance beside it, and adds that where it is not zero.
inline void offerWinding(NetworkBuilder& b, int branch, int from, int to, double capacitance, std::string_view suffix) {
    if (capacitance <= 0) return b.offerBranch(branch, from, to, suffix);
    const int beside = addCapacitor(b, from, to, capacitance);
    b.offerTerminals(from, to, {{b.nodeCount() + branch, 1.0}, {b.nodeCount() + beside, 1.0}}, suffix);
}

/// A capacitance between two windings, half of it at either end.
inline void addBetweenWindings(NetworkBuilder& b, std::pair<int, int> one, std::pair<int, int> other,
                               double capacitance) {
    if (capacitance <= 0) return;
    for (const auto& [from, to] : {std::pair{one.first, other.first}, std::pair{one.second, other.second}})
        if (from != to) addCapacitor(b, from, to, capacitance / 2);
}

/// A node behind a series inductance with its eddy currents, or the node itself where that is zero: of a package, a
/// lead, a track.
inline int behindInductance(NetworkBuilder& b, int node, double inductance, const Start& start = {}) {
    if (inductance <= 0) return node;
    const int inner = b.addNode();
    addInductor(b, node, inner, inductance, 0, eddyConductance(b, inductance), start);
    return inner;
}

}  // namespace hedgerow::parts
