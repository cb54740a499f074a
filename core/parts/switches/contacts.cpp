// Gated contacts: the ideal switch and the breaker.

#include "parts/segmented.h"
#include "parts/storages.h"

namespace hedgerow {

using namespace parts;

namespace {

const std::vector<Stroke> contactSymbol = {{"M 0 -32 L 0 -16"},
                                           {"M 0 32 L 0 16"},
                                           {"O 0 -14 2"},
                                           {"M 0 16 L -14 -11", Stroke::Weight::normal, false, Stroke::When::blocking},
                                           {"M 0 16 L 0 -16", Stroke::Weight::heavy, false, Stroke::When::conducting},
                                           {"M -32 0 L -8 0", Stroke::Weight::thin}};

/// Resistance when closed and conductance when open, of the rung in force.
struct Contact {
    explicit Contact(const NetworkBuilder& b) {
        if (b.rung() < 2) return;
        resistance = b.value("ron");
        conductance = 1 / b.value("roff");
    }
    double resistance = 0, conductance = 0;
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
                    "For a transistor with its body diode take the MOSFET, or put a diode across it.",
                .pins = {{"a", {0, -32}}, {"b", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn}},
                .parameters = {onResistance(),
                               offResistance(),
                               {.key = "coss",
                                .label = "output capacitance",
                                .symbol = "C_o",
                                .unit = "F",
                                .standard = "200p",
                                .least = 0,
                                .aboveLeast = true,
                                .rung = 3},
                               {.key = "lpk",
                                .label = "inductance of package and track",
                                .symbol = "L_pk",
                                .unit = "H",
                                .standard = "5n",
                                .least = 0,
                                .rung = 3},
                               ratedVoltage(),
                               ratedCurrent()},
                .rungs = {{1, "closed or open", "on: v = 0,  off: i = 0", "definition", 1.0},
                          {2, "on-resistance, leakage", "on: v = R_on i,  off: i = v / R_off",
                           "Ohm's law in each state", 1.7},
                          {3, "output capacitance, package inductance",
                           "as below, beside it C_o, both behind L_pk; R_on at least 1 mΩ",
                           "a contact with the energy that it shorts", 20}},
                .symbol = contactSymbol,
                .labelAt = {16, -4},
                .group = "Switches"};
    }
    void elaborate(NetworkBuilder& b) const override {
        const Contact contact(b);
        const bool dynamic = b.rung() >= 3;
        const double resistance = dynamic ? std::max(contact.resistance, 1e-3) : contact.resistance;
        std::vector<Piece> pieces = {blocking(contact.conductance), conducting(0, resistance, 0)};
        pieces[0].gateOn = 1;
        pieces[1].gateOff = 0;
        const int to = b.node("b");
        if (!dynamic) return addSegmented(b, b.node("a"), to, std::move(pieces), b.signal("g"), {0, 1});
        const int from = behindInductance(b, b.node("a"), b.value("lpk"));
        const int branch = b.addBranch();
        const int element = b.addElement(std::make_unique<SegmentedBranch>(
            b.partName(), branch, from, to, b.nodeCount(), std::move(pieces), b.signal("g"), std::pair{0, 1}));
        const int capacitance = addCapacitor(b, from, to, b.value("coss"));
        b.offerTerminals(b.node("a"), to, {{b.nodeCount() + branch, 1.0}, {b.nodeCount() + capacitance, 1.0}});
        b.offerConducting(element);
        offerRatings(b);
    }
};

class Breaker final : public SwitchingPart {
public:
    PartKind kind() const override {
        PartKind k{.id = "breaker",
                   .title = "Breaker",
                   .prefix = "Q",
                   .synonyms = {"breaker", "contactor", "circuit breaker", "relay"},
                   .summary = "A contact that opens at once or at the next zero of its current",
                   .help =
                       "Closes at the edge of its gate. When the gate goes off it opens at once or, as a breaker in an "
                       "alternating-current circuit does, when its current next passes through zero, which is found "
                       "exactly. While it waits it still conducts.",
                   .pins = {{"a", {0, -32}}, {"b", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn}},
                   .parameters = {{.key = "opens",
                                   .label = "opens",
                                   .symbol = "",
                                   .unit = "",
                                   .standard = "at zero",
                                   .choices = {"at zero", "at once"}},
                                  onResistance(),
                                  offResistance(),
                                  ratedVoltage(),
                                  ratedCurrent()},
                   .rungs = {{1, "closed or open", "closed: v = 0,  open: i = 0", "definition", 1.0},
                             {2, "contact resistance, leakage", "closed: v = R_on i,  open: i = v / R_off",
                              "Ohm's law in each state", 1.7}},
                   .symbol = contactSymbol,
                   .labelAt = {16, -4},
                   .group = "Switches"};
        k.symbol.push_back({"M -5 -25 L 5 -15 M -5 -15 L 5 -25", Stroke::Weight::thin});
        return k;
    }
    void elaborate(NetworkBuilder& b) const override {
        enum { open, closed, openingForward, openingReverse };
        const Contact contact(b);
        const Piece on = conducting(0, contact.resistance, 0);
        std::vector<Piece> pieces = {blocking(contact.conductance), on, on, on};
        const bool atOnce = b.choice("opens") == "at once";
        pieces[open].gateOn = closed;
        pieces[closed].gateOff = atOnce ? open : openingForward;
        pieces[closed].gateOffReverse = atOnce ? -1 : openingReverse;
        pieces[openingForward].bounds = {currentAbove(0, open)};
        pieces[openingReverse].bounds = {currentBelow(0, open)};
        pieces[openingForward].gateOn = pieces[openingReverse].gateOn = closed;
        addSegmented(b, b.node("a"), b.node("b"), std::move(pieces), b.signal("g"), {open, closed});
    }
};

}  // namespace

void registerContacts(PartLibrary& library) {
    library.add(std::make_unique<Switch>());
    library.add(std::make_unique<Breaker>());
}

}  // namespace hedgerow
