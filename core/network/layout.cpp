#include "network/layout.h"

#include <numbers>

#include <fmt/format.h>

namespace hedgerow {

namespace {

constexpr int layoutRung = 3;
constexpr const char* eddyKey = "fe";

bool hasLayout(const PartKind& kind, const PinKind& pin) {
    return pin.sort == PinSort::power && kind.pins.size() > 1 && kind.hasRung(layoutRung);
}
std::string inductanceOf(const PinKind& pin) { return "l_" + pin.name; }
std::string capacitanceOf(const PinKind& pin) { return "c_" + pin.name; }

/// L dx/dt = v from `from` to `to`, i = x + G v.
class TrackInductance final : public Element {
public:
    TrackInductance(std::string part, int branch, int from, int to, int state, double inductance, double conductance)
        : Element(std::move(part)),
          branch_(branch),
          from_(from),
          to_(to),
          state_(state),
          inductance_(inductance),
          conductance_(conductance) {}
    int branch() const override { return branch_; }
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.unknown(s.branchRow(branch_), s.branchCurrent(branch_), 1.0);
        s.voltage(s.branchRow(branch_), from_, to_, -conductance_);
        s.state(s.branchRow(branch_), state_, 1.0);
        s.rate(state_, from_, 1 / inductance_);
        s.rate(state_, to_, -1 / inductance_);
    }

private:
    int branch_, from_, to_, state_;
    double inductance_, conductance_;
};

/// C dv/dt = i from `node` to the reference.
class TrackCapacitance final : public Element {
public:
    TrackCapacitance(std::string part, int branch, int node, int state, double capacitance)
        : Element(std::move(part)), branch_(branch), node_(node), state_(state), capacitance_(capacitance) {}
    int branch() const override { return branch_; }
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, node_, -1);
        s.voltage(s.branchRow(branch_), node_, -1, 1.0);
        s.state(s.branchRow(branch_), state_, 1.0);
        s.rate(state_, s.branchCurrent(branch_), 1 / capacitance_);
    }

private:
    int branch_, node_, state_;
    double capacitance_;
};

}  // namespace

double eddyConductance(const NetworkBuilder& b, double inductance) {
    return 1 / (2 * std::numbers::pi * b.value(eddyKey) * inductance);
}

void addLayoutValues(PartKind& kind) {
    bool any = false;
    for (const PinKind& pin : kind.pins) {
        if (!hasLayout(kind, pin)) continue;
        any = true;
        kind.parameters.push_back({.key = inductanceOf(pin),
                                   .label = "layout inductance at " + pin.name,
                                   .symbol = "L_" + pin.name,
                                   .unit = "H",
                                   .standard = "0",
                                   .least = 0,
                                   .rung = layoutRung});
        kind.parameters.push_back({.key = capacitanceOf(pin),
                                   .label = fmt::format("layout capacitance of {} to the reference", pin.name),
                                   .symbol = "C_" + pin.name,
                                   .unit = "F",
                                   .standard = "0",
                                   .least = 0,
                                   .rung = layoutRung});
    }
    if (any)
        kind.parameters.push_back({.key = eddyKey,
                                   .label = "frequency from which eddy currents damp package and tracks",
                                   .symbol = "f_e",
                                   .unit = "Hz",
                                   .standard = "1G",
                                   .least = 0,
                                   .aboveLeast = true,
                                   .rung = layoutRung});
}

std::map<std::string, int, std::less<>> layoutOf(NetworkBuilder& b, const PartKind& kind) {
    std::map<std::string, int, std::less<>> inner;
    if (b.rung() < layoutRung) return inner;
    for (const PinKind& pin : kind.pins) {
        if (!hasLayout(kind, pin)) continue;
        const int outer = b.node(pin.name);
        if (const double c = b.value(capacitanceOf(pin)); c > 0 && outer >= 0) {
            const int branch = b.addBranch(), state = b.addState(StateSort::capacitorVoltage, "", c);
            b.addElement(std::make_unique<TrackCapacitance>(b.partName(), branch, outer, state, c));
        }
        if (const double l = b.value(inductanceOf(pin)); l > 0) {
            const int branch = b.addBranch(), node = b.addNode(), state = b.addState(StateSort::windingCurrent, "", l);
            b.addElement(
                std::make_unique<TrackInductance>(b.partName(), branch, outer, node, state, l, eddyConductance(b, l)));
            inner.emplace(pin.name, node);
        }
    }
    return inner;
}

}  // namespace hedgerow
