#include "network/layout.h"

#include <fmt/format.h>

namespace hedgerow {

namespace {

constexpr int layoutRung = 3;

bool hasLayout(const PartKind& kind, const PinKind& pin) {
    return pin.sort == PinSort::power && kind.pins.size() > 1 && kind.hasRung(layoutRung);
}
std::string inductanceOf(const PinKind& pin) { return "l_" + pin.name; }
std::string capacitanceOf(const PinKind& pin) { return "c_" + pin.name; }

/// L di/dt = v from `from` to `to`.
class TrackInductance final : public Element {
public:
    TrackInductance(std::string part, int branch, int from, int to, int state, double inductance)
        : Element(std::move(part)), branch_(branch), from_(from), to_(to), state_(state), inductance_(inductance) {}
    int branch() const override { return branch_; }
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.unknown(s.branchRow(branch_), s.branchCurrent(branch_), 1.0);
        s.state(s.branchRow(branch_), state_, 1.0);
        s.rate(state_, from_, 1 / inductance_);
        s.rate(state_, to_, -1 / inductance_);
    }

private:
    int branch_, from_, to_, state_;
    double inductance_;
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

void addLayoutValues(PartKind& kind) {
    for (const PinKind& pin : kind.pins) {
        if (!hasLayout(kind, pin)) continue;
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
            b.addElement(std::make_unique<TrackInductance>(b.partName(), branch, outer, node, state, l));
            inner.emplace(pin.name, node);
        }
    }
    return inner;
}

}  // namespace hedgerow
