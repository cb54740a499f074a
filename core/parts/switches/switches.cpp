// The gated switch and the diode.

#include "parts/two_terminal.h"

namespace hedgerow {

using namespace parts;

namespace {

/// v = knee + R i when on, i = G v when off.
class SwitchingBranch : public Branch {
public:
    struct Setting {
        double onResistance = 0, offConductance = 0, knee = 0;
    };
    SwitchingBranch(std::string part, int branch, int from, int to, const Setting& setting)
        : Branch(std::move(part), branch, from, to), set_(setting) {}
    int segmentCount() const override { return 2; }
    void stamp(LinearStamp& s, int segment) const override {
        const int row = s.branchRow(branch_), current = s.branchCurrent(branch_);
        s.currentLaw(branch_, from_, to_);
        if (segment == 1) {
            s.voltage(row, from_, to_, 1.0);
            s.unknown(row, current, -set_.onResistance);
            if (set_.knee != 0) s.source(row, 0, set_.knee * (1.0 - set_.onResistance * set_.offConductance));
            s.relax(row, current, -1.0);
        } else {
            s.unknown(row, current, 1.0);
            s.voltage(row, from_, to_, -set_.offConductance);
            s.relax(row, from_, -1.0);
            s.relax(row, to_, 1.0);
        }
    }

protected:
    Setting set_;
};

class SwitchElement final : public SwitchingBranch {
public:
    SwitchElement(std::string part, int branch, int from, int to, const Setting& setting, int gate)
        : SwitchingBranch(std::move(part), branch, from, to, setting), gate_(gate) {}
    int gateSignal() const override { return gate_; }

private:
    int gate_;
};

class DiodeElement final : public SwitchingBranch {
public:
    DiodeElement(std::string part, int branch, int from, int to, const Setting& setting, int nodeCount)
        : SwitchingBranch(std::move(part), branch, from, to, setting), current_(nodeCount + branch) {}
    std::vector<Guard> guards(int segment) const override {
        if (segment == 1) return {{{{current_, 1.0}}, -set_.knee * set_.offConductance, 0}};
        Guard blocking{{}, set_.knee, 1};
        if (from_ >= 0) blocking.terms.emplace_back(from_, -1.0);
        if (to_ >= 0) blocking.terms.emplace_back(to_, 1.0);
        return {blocking};
    }

private:
    int current_;
};

/// What switch and diode check alike.
class SwitchingPart : public PartType {
public:
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (value("ron") >= value("roff"))
            return Error{ErrorCode::range, "the on-resistance must be below the off-resistance", {}, {}, "ron"};
        return {};
    }
};

class Switch final : public SwitchingPart {
public:
    PartKind kind() const override {
        return {.id = "switch",
                .title = "Switch",
                .prefix = "S",
                .synonyms = {"s", "sw", "gated switch", "contact"},
                .summary = "Closed while its gate is above one half",
                .help =
                    "Conducts both ways while the gate signal is on, blocks both ways while it is off, and changes in "
                    "no time at the exact instant of the edge. "
                    "For a transistor with its body diode put a diode across it.",
                .pins = {{"a", {0, -32}}, {"b", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn}},
                .parameters = {{.key = "ron",
                                .label = "on-resistance",
                                .symbol = "R_on",
                                .unit = "Ω",
                                .standard = "10m",
                                .least = 0,
                                .rung = 2,
                                .shownOnSheet = true},
                               {.key = "roff",
                                .label = "off-resistance",
                                .symbol = "R_off",
                                .unit = "Ω",
                                .standard = "10M",
                                .least = 0,
                                .aboveLeast = true,
                                .rung = 2},
                               ratedVoltage(),
                               ratedCurrent()},
                .rungs = {{1, "closed or open", "on: v = 0,  off: i = 0", "definition", 1.0},
                          {2, "on-resistance, leakage", "on: v = R_on i,  off: i = v / R_off",
                           "Ohm's law in each state", 1.7}},
                .symbol = {{"M 0 -32 L 0 -16"},
                           {"M 0 32 L 0 16"},
                           {"O 0 -14 2"},
                           {"M 0 16 L -14 -11", Stroke::Weight::normal, false, Stroke::When::blocking},
                           {"M 0 16 L 0 -16", Stroke::Weight::heavy, false, Stroke::When::conducting},
                           {"M -32 0 L -8 0", Stroke::Weight::thin}},
                .labelAt = {16, -4},
                .group = "Switches"};
    }
    void elaborate(NetworkBuilder& b) const override {
        SwitchingBranch::Setting set;
        if (b.rung() >= 2) set = {b.value("ron"), 1 / b.value("roff"), 0};
        const int branch = b.addBranch();
        const int element = b.addElement(
            std::make_unique<SwitchElement>(b.partName(), branch, b.node("a"), b.node("b"), set, b.signal("g")));
        b.offerBranch(branch, b.node("a"), b.node("b"));
        b.offerConducting(element);
        offerRatings(b);
    }
};

class Diode final : public SwitchingPart {
public:
    PartKind kind() const override {
        return {
            .id = "diode",
            .title = "Diode",
            .prefix = "D",
            .synonyms = {"d", "rectifier", "freewheel", "body diode"},
            .summary = "Conducts from a to k, blocks the other way",
            .help =
                "Turns on when its voltage reaches the knee and off when its current reaches zero, both found exactly. "
                "Ideal diodes may commutate into each other without any "
                "resistance in the loop.",
            .pins = verticalPins("a", "k"),
            .parameters = {{.key = "vf",
                            .label = "knee voltage",
                            .symbol = "V_f",
                            .unit = "V",
                            .standard = "0.7",
                            .least = 0,
                            .rung = 2,
                            .shownOnSheet = true},
                           {.key = "ron",
                            .label = "on-resistance",
                            .symbol = "R_on",
                            .unit = "Ω",
                            .standard = "10m",
                            .least = 0,
                            .rung = 2},
                           {.key = "roff",
                            .label = "off-resistance",
                            .symbol = "R_off",
                            .unit = "Ω",
                            .standard = "10M",
                            .least = 0,
                            .aboveLeast = true,
                            .rung = 2},
                           ratedVoltage(),
                           ratedCurrent()},
            .rungs = {{1, "closed or open", "on: v = 0 while i ≥ 0,  off: i = 0 while v ≤ 0",
                       "linear complementarity: v ≤ 0, i ≥ 0, v i = 0", 1.0},
                      {2, "knee, on-resistance, leakage", "on: v = V_f + R_on (i − V_f / R_off),  off: i = v / R_off",
                       "piecewise-linear junction, continuous at the knee", 1.7}},
            .symbol = {{"M 0 -32 L 0 -12"},
                       {"M -12 -12 L 12 -12 L 0 10 Z"},
                       {"M -12 -12 L 12 -12 L 0 10 Z", Stroke::Weight::normal, true, Stroke::When::conducting},
                       {"M -12 10 L 12 10", Stroke::Weight::heavy},
                       {"M 0 10 L 0 32"}},
            .labelAt = {20, -4},
            .group = "Switches"};
    }
    void elaborate(NetworkBuilder& b) const override {
        SwitchingBranch::Setting set;
        if (b.rung() >= 2) set = {b.value("ron"), 1 / b.value("roff"), b.value("vf")};
        const int branch = b.addBranch();
        const int element = b.addElement(
            std::make_unique<DiodeElement>(b.partName(), branch, b.node("a"), b.node("k"), set, b.nodeCount()));
        b.offerBranch(branch, b.node("a"), b.node("k"));
        b.offerConducting(element);
        offerRatings(b);
    }
};

}  // namespace

void registerSwitches(PartLibrary& library) {
    library.add(std::make_unique<Switch>());
    library.add(std::make_unique<Diode>());
}

}  // namespace hedgerow
