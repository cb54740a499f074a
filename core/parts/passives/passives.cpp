// Resistor, inductor and capacitor.

#include <cmath>

#include "parts/two_terminal.h"

namespace hedgerow {

using namespace parts;

namespace {

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

class Resistor final : public PartType {
public:
    PartKind kind() const override {
        return {.id = "resistor",
                .title = "Resistor",
                .prefix = "R",
                .synonyms = {"r", "load", "resistance", "shunt"},
                .summary = "v = R i",
                .help =
                    "A linear resistance. i counts from a to b, v is the potential of a against b, p = v i is what it "
                    "burns.",
                .pins = verticalPins("a", "b"),
                .parameters = {{.key = "r",
                                .label = "resistance",
                                .symbol = "R",
                                .unit = "Ω",
                                .standard = "1k",
                                .least = 0,
                                .aboveLeast = true,
                                .shownOnSheet = true},
                               ratedCurrent()},
                .rungs = {{1, "linear resistance", "v = R i", "Ohm's law", 1.0}},
                .symbol = {{"M 0 -32 L 0 -20"}, {"M -8 -20 L 8 -20 L 8 20 L -8 20 Z"}, {"M 0 20 L 0 32"}},
                .labelAt = {16, -4},
                .group = "Passives"};
    }
    void elaborate(NetworkBuilder& b) const override {
        const int branch = b.addBranch();
        b.addElement(std::make_unique<ResistorElement>(b.partName(), branch, b.node("a"), b.node("b"), b.value("r")));
        b.offerBranch(branch, b.node("a"), b.node("b"));
        offerRatings(b);
    }
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

class Inductor final : public PartType {
public:
    PartKind kind() const override {
        return {.id = "inductor",
                .title = "Inductor",
                .prefix = "L",
                .synonyms = {"l", "choke", "coil", "inductance"},
                .summary = "v = L di/dt, with winding and core loss one rung up",
                .help =
                    "A winding with constant inductance. i counts from a to b. The initial current is given at the "
                    "start of the run. A current "
                    "that loses its last path is an error that names the part: give it a way, a diode for instance.",
                .pins = horizontalPins("a", "b"),
                .parameters = {{.key = "l",
                                .label = "inductance",
                                .symbol = "L",
                                .unit = "H",
                                .standard = "10u",
                                .least = 0,
                                .aboveLeast = true,
                                .shownOnSheet = true},
                               {.key = "i0", .label = "initial current", .symbol = "i_0", .unit = "A", .standard = "0"},
                               {.key = "dcr",
                                .label = "winding resistance",
                                .symbol = "R_w",
                                .unit = "Ω",
                                .standard = "10m",
                                .least = 0,
                                .rung = 2},
                               {.key = "rc",
                                .label = "core-loss resistance",
                                .symbol = "R_c",
                                .unit = "Ω",
                                .standard = "100k",
                                .least = 0,
                                .aboveLeast = true,
                                .rung = 2},
                               ratedCurrent()},
                .rungs = {{1, "pure inductance", "v = L di/dt", "Faraday's law", 1.0},
                          {2, "winding resistance, core loss", "v = R_w i + L dx/dt,  i = x + (L dx/dt) / R_c",
                           "series-parallel loss model of a winding on a core, e.g. R. W. Erickson and D. Maksimović, "
                           "Fundamentals of Power Electronics, ch. 13",
                           1.7}},
                .symbol = {{"M -32 0 L -24 0"},
                           {"A -18 0 6 180 -180"},
                           {"A -6 0 6 180 -180"},
                           {"A 6 0 6 180 -180"},
                           {"A 18 0 6 180 -180"},
                           {"M 24 0 L 32 0"}},
                .labelAt = {-24, -32},
                .group = "Passives"};
    }
    void elaborate(NetworkBuilder& b) const override {
        const bool lossy = b.rung() >= 2;
        const int branch = b.addBranch();
        const int state = b.addState(StateSort::windingCurrent, "i0", b.value("l"));
        b.addElement(std::make_unique<InductorElement>(b.partName(), branch, b.node("a"), b.node("b"), state,
                                                       b.value("l"), lossy ? b.value("dcr") : 0.0,
                                                       lossy ? 1.0 / b.value("rc") : 0.0));
        b.offerBranch(branch, b.node("a"), b.node("b"));
        offerRatings(b);
    }
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

class Capacitor final : public PartType {
public:
    PartKind kind() const override {
        return {.id = "capacitor",
                .title = "Capacitor",
                .prefix = "C",
                .synonyms = {"c", "cap", "capacitance", "buffer"},
                .summary = "i = C dv/dt, with series resistance and leakage one rung up",
                .help =
                    "A constant capacitance. v is the potential of a against b. The initial voltage is given at the "
                    "start of the run; where it "
                    "contradicts what it is joined to, charge is redistributed in no time, as it is when an ideal "
                    "switch joins two capacitors.",
                .pins = verticalPins("a", "b"),
                .parameters = {{.key = "c",
                                .label = "capacitance",
                                .symbol = "C",
                                .unit = "F",
                                .standard = "1u",
                                .least = 0,
                                .aboveLeast = true,
                                .shownOnSheet = true},
                               {.key = "v0", .label = "initial voltage", .symbol = "v_0", .unit = "V", .standard = "0"},
                               {.key = "esr",
                                .label = "series resistance",
                                .symbol = "R_s",
                                .unit = "Ω",
                                .standard = "5m",
                                .least = 0,
                                .rung = 2},
                               {.key = "rp",
                                .label = "leakage resistance",
                                .symbol = "R_p",
                                .unit = "Ω",
                                .standard = "1M",
                                .least = 0,
                                .aboveLeast = true,
                                .rung = 2},
                               ratedVoltage(),
                               ratedCurrent()},
                .rungs = {{1, "pure capacitance", "i = C dv/dt", "definition", 1.0},
                          {2, "series and leakage resistance", "v = x + R_s i,  C dx/dt = i − x / R_p",
                           "equivalent circuit of IEC 60384-1", 1.7}},
                .symbol = {{"M 0 -32 L 0 -4"},
                           {"M -20 -4 L 20 -4", Stroke::Weight::heavy},
                           {"M -20 4 L 20 4", Stroke::Weight::heavy},
                           {"M 0 4 L 0 32"}},
                .labelAt = {26, -4},
                .group = "Passives"};
    }
    void elaborate(NetworkBuilder& b) const override {
        const bool lossy = b.rung() >= 2;
        const int branch = b.addBranch();
        const int state = b.addState(StateSort::capacitorVoltage, "v0", b.value("c"));
        b.addElement(std::make_unique<CapacitorElement>(b.partName(), branch, b.node("a"), b.node("b"), state,
                                                        b.value("c"), lossy ? b.value("esr") : 0.0,
                                                        lossy ? 1.0 / b.value("rp") : 0.0));
        b.offerBranch(branch, b.node("a"), b.node("b"));
        offerRatings(b);
    }
};

}  // namespace

void registerPassives(PartLibrary& library) {
    library.add(std::make_unique<Resistor>());
    library.add(std::make_unique<Inductor>());
    library.add(std::make_unique<Capacitor>());
}

}  // namespace hedgerow
