// Sources controlled by a voltage or a current, all four.

#include "parts/two_terminal.h"

namespace hedgerow {

using namespace parts;

namespace {

class ControlledElement final : public StiffBranch {
public:
    struct Control {
        bool current;     ///< else voltage
        int branch = -1;  ///< that carries the controlling current
        int from, to;
    };
    ControlledElement(std::string part, int branch, int from, int to, bool voltage, double gain, const Control& control)
        : StiffBranch(std::move(part), branch, from, to, voltage), gain_(gain), control_(control) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = stampStiff(s);
        if (control_.current) {
            s.currentLaw(control_.branch, control_.from, control_.to);
            s.voltage(s.branchRow(control_.branch), control_.from, control_.to, 1.0);
            s.unknown(row, s.branchCurrent(control_.branch), -gain_);
        } else {
            s.voltage(row, control_.from, control_.to, -gain_);
        }
    }

private:
    double gain_;
    Control control_;
};

class ControlledSource final : public PartType {
public:
    ControlledSource(bool voltage, bool byCurrent) : voltage_(voltage), byCurrent_(byCurrent) {}

    PartKind kind() const override {
        const std::string what = voltage_ ? "voltage" : "current", by = byCurrent_ ? "current" : "voltage";
        PartKind k;
        k.id = by + "-controlled-" + what;
        k.title = (voltage_ ? "Voltage by " : "Current by ") + by;
        k.prefix = voltage_ ? "E" : "G";
        k.synonyms = {std::string(byCurrent_ ? "cc" : "vc") + (voltage_ ? "vs" : "cs")};
        k.summary =
            std::string(voltage_ ? "v" : "i") + " = gain · " + (byCurrent_ ? "i" : "v") + " of the control pins";
        k.help = byCurrent_ ? "The current from cp to cn, which meets no resistance there, times the gain."
                            : "The voltage of cp against cn, from which no current is drawn, times the gain.";
        k.help += voltage_ ? " v is the potential of p against n." : " The current flows inside from p to n.";
        k.pins = {{"p", {32, -32}}, {"n", {32, 32}}, {"cp", {-32, -32}}, {"cn", {-32, 32}}};
        k.parameters = {{.key = "gain",
                         .label = "gain",
                         .symbol = "k",
                         .unit = voltage_ == byCurrent_ ? (voltage_ ? "Ω" : "S") : "",
                         .standard = "1",
                         .shownOnSheet = true}};
        k.rungs = {{1, "exact", std::string(voltage_ ? "v" : "i") + " = k " + (byCurrent_ ? "i_c" : "v_c"),
                    "definition", 1.0}};
        k.symbol = {{"M 32 -32 L 16 -32 L 16 -18 M 16 18 L 16 32 L 32 32"},
                    {"M 16 -18 L 30 0 L 16 18 L 2 0 Z"},
                    voltage_ ? Stroke{"M 16 -18 L 16 18"} : Stroke{"M 16 10 L 16 -10 M 16 10 L 12 3 M 16 10 L 20 3"},
                    byCurrent_ ? Stroke{"M -32 -32 L -14 -32 L -14 32 L -32 32 M -14 6 L -18 -2 M -14 6 L -10 -2",
                                        Stroke::Weight::thin}
                               : Stroke{"M -32 -32 L -22 -32 M -32 32 L -22 32 M -22 -26 L -22 -18 M -26 -22 L -18 -22",
                                        Stroke::Weight::thin}};
        k.labelAt = {36, -8};
        k.group = "Sources";
        return k;
    }
    void elaborate(NetworkBuilder& b) const override {
        const int branch = b.addBranch();
        ControlledElement::Control control{byCurrent_, -1, b.node("cp"), b.node("cn")};
        if (byCurrent_) {
            control.branch = b.addBranch();
            b.offerBranch(control.branch, control.from, control.to, "c");
        }
        b.addElement(std::make_unique<ControlledElement>(b.partName(), branch, b.node("p"), b.node("n"), voltage_,
                                                         b.value("gain"), control));
        b.offerBranch(branch, b.node("p"), b.node("n"));
    }

private:
    bool voltage_, byCurrent_;
};

}  // namespace

void registerControlledSources(PartLibrary& library) {
    for (const bool voltage : {true, false})
        for (const bool byCurrent : {false, true}) library.add(std::make_unique<ControlledSource>(voltage, byCurrent));
}

}  // namespace hedgerow
