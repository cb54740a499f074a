// Voltage and current meter: optional, for quantities between nets without a part and for the sheet to read well.

#include "parts/two_terminal.h"

namespace hedgerow {

using namespace parts;

namespace {

class Voltmeter final : public PartType {
public:
    PartKind kind() const override {
        return {.id = "voltmeter",
                .title = "Voltage meter",
                .prefix = "VM",
                .synonyms = {"vm", "voltmeter"},
                .summary = "The voltage between two nets",
                .help = "Offers the potential of a against b as v. It draws no current and adds no equation.",
                .pins = verticalPins("a", "b"),
                .rungs = {{1, "draws no current", "v = v_a − v_b", "definition", 1.0}},
                .symbol = {{"M 0 -32 L 0 -16", Stroke::Weight::thin},
                           {"M 0 16 L 0 32", Stroke::Weight::thin},
                           {"O 0 0 16", Stroke::Weight::thin},
                           {"M -6 -7 L 0 8 L 6 -7"}},
                .labelAt = {22, -4},
                .group = "Meters"};
    }
    void elaborate(NetworkBuilder& b) const override { b.offerVoltage(b.node("a"), b.node("b")); }
    bool joinsNets() const override { return false; }
};

class AmmeterElement final : public Branch {
public:
    using Branch::Branch;
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.voltage(s.branchRow(branch_), from_, to_, 1.0);
        s.relax(s.branchRow(branch_), s.branchCurrent(branch_), -1.0);
    }
};

class Ammeter final : public PartType {
public:
    PartKind kind() const override {
        return {.id = "ammeter",
                .title = "Current meter",
                .prefix = "AM",
                .synonyms = {"am", "ammeter"},
                .summary = "The current through a wire",
                .help =
                    "Offers the current from a to b as i. It drops no voltage. Meters in parallel share the current "
                    "equally.",
                .pins = horizontalPins("a", "b"),
                .rungs = {{1, "drops no voltage", "v = 0", "definition", 1.0}},
                .symbol = {{"M -32 0 L -16 0"},
                           {"M 16 0 L 32 0"},
                           {"O 0 0 16", Stroke::Weight::thin},
                           {"M -6 8 L 0 -8 L 6 8 M -4 3 L 4 3"}},
                .labelAt = {-16, -40},
                .group = "Meters"};
    }
    void elaborate(NetworkBuilder& b) const override {
        const int branch = b.addBranch();
        b.addElement(std::make_unique<AmmeterElement>(b.partName(), branch, b.node("a"), b.node("b")));
        b.offerBranch(branch, b.node("a"), b.node("b"));
    }
    StiffSort stiff(int, const std::function<double(std::string_view)>&) const override { return StiffSort::voltage; }
};

}  // namespace

void registerMeters(PartLibrary& library) {
    library.add(std::make_unique<Voltmeter>());
    library.add(std::make_unique<Ammeter>());
}

}  // namespace hedgerow
