// Gated contacts: the ideal switch, the breaker and the contactor.

#include "parts/junctions.h"
#include "parts/switches/contact_drive.h"
#include "parts/switches/controlled_contact.h"
#include "parts/switches/gate_drive.h"

namespace hedgerow {

using namespace parts;

namespace {

const std::vector<Stroke> contactSymbol = {{"M 0 -32 L 0 -16"},
                                           {"M 0 32 L 0 16"},
                                           {"O 0 -14 2"},
                                           {"M 0 16 L -14 -11", Stroke::Weight::normal, false, Stroke::When::blocking},
                                           {"M 0 16 L 0 -16", Stroke::Weight::heavy, false, Stroke::When::conducting},
                                           {"M -32 0 L -8 0", Stroke::Weight::thin}};

/// i = v g, ln g = (1 - s) ln G_off + s ln (G_on / (1 + alpha T)); s is the potential of a node, T the heat over 25 °C.
class GradualContact final : public Branch {
public:
    struct Values {
        double closed, open;  ///< S
        double coefficient;   ///< of the temperature, 1/K
    };
    GradualContact(std::string part, int branch, int from, int to, int nodeCount, int control, const Heat& heat,
                   const Values& values)
        : Branch(std::move(part), branch, from, to),
          current_(nodeCount + branch),
          control_(control),
          heat_(heat),
          values_(values) {}
    bool smooth() const override { return true; }
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.unknown(s.branchRow(branch_), current_, 1.0);
        heat_.stamp(s);
    }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const int row = out.branchRow(branch_);
        // A little beyond 0 and 1 it may go while a step is sought, but not over all decades.
        const double s = std::clamp(at.potential(control_), -0.5, 1.5), v = at.potential(from_) - at.potential(to_);
        const double warm = 1 + values_.coefficient * (heat_.ambient + at.unknown(heat_.rise) - 25);
        const double factor = std::max(warm, 0.01), decades = std::log(values_.closed / factor / values_.open);
        const double g = values_.open * std::exp(s * decades);
        out.flow(row, -g * v);
        out.byUnknown(row, from_, -g);
        out.byUnknown(row, to_, g);
        out.byUnknown(row, control_, s == at.potential(control_) ? -g * decades * v : 0.0);
        out.byUnknown(row, heat_.rise, warm > 0.01 ? g * v * s * values_.coefficient / factor : 0.0);
        heat_.evaluate(at, out, from_, to_, current_);
    }

private:
    int current_, control_;
    Heat heat_;
    Values values_;
};

class Switch final : public SwitchingPart {
public:
    PartKind kind() const override {
        PartKind kind{
            .id = "switch",
            .title = "Switch",
            .prefix = "S",
            .synonyms = {"s", "sw", "gated switch", "contact"},
            .summary = "Closed while its gate is above one half",
            .help =
                "Conducts both ways while the gate signal is on, blocks both ways while it is off, and changes in "
                "no time at the exact instant of the edge. Without a wire at its gate it stands open or closed, and "
                "events of the scene move it: '50m: S1 closes'. "
                "For a transistor with its body diode take the MOSFET, or put a diode across it.",
            .pins = {{"a", {0, -32}}, {"b", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn, true}},
            .parameters = {contactPosition(),
                           onResistance(),
                           offResistance(),
                           {.key = "coss",
                            .label = "output capacitance",
                            .symbol = "C_o",
                            .unit = "F",
                            .standard = "200p",
                            .least = 0,
                            .aboveLeast = true,
                            .rung = 3},
                           {.key = "ro",
                            .label = "resistance in series with it",
                            .symbol = "R_o",
                            .unit = "Ω",
                            .standard = "1",
                            .least = 0,
                            .rung = 3},
                           {.key = "lpk",
                            .label = "inductance of package and track",
                            .symbol = "L_pk",
                            .unit = "H",
                            .standard = "5n",
                            .least = 0,
                            .rung = 3},
                           positiveValue("tsw", "time constant of turning on and off", "t_sw", "s", "2n", 4),
                           {.key = "tc",
                            .label = "temperature coefficient of R_on, 1/K",
                            .symbol = "α",
                            .unit = "",
                            .standard = "4m",
                            .least = 0,
                            .rung = 4},
                           builtIn(),
                           grading(),
                           startVoltage(),
                           startCurrent(),
                           ratedVoltage(),
                           ratedCurrent()},
            .rungs =
                {{1, "closed or open", "on: v = 0,  off: i = 0", "definition", 1.0},
                 {2, "on-resistance, leakage", "on: v = R_on i,  off: i = v / R_off", "Ohm's law in each state", 1.7},
                 {3, "output capacitance, package inductance",
                  "as below, beside it C_o behind R_o, both behind L_pk and the 2π f_e L_pk beside it; R_on at least 1 "
                  "mΩ",
                  "a contact with the energy that it shorts", 125},
                 {4, "turns gradually, heats itself, curved capacitance",
                  "i = v R_off^−(1−s) (R_on (1 + α (T − 25 °C)))^−s,  t_sw ds/dt = g − s;  C(v) = C_o (1 + v/φ)^−m; "
                  " C_th dT/dt = p − (T − T_a) / R_th",
                  "conductance that passes through its decades evenly; one thermal resistance and capacity", 285}},
            .symbol = contactSymbol,
            .labelAt = {16, -4},
            .group = "Switches"};
        return withValues(withLosses(std::move(kind), LossSort::contact), {heatParameters("10", "50m")});
    }
    Status checkTexts(const std::function<std::string(std::string_view)>& text, const ProjectFolder&) const override {
        return checkLossTexts(text, LossSort::contact);
    }
    void elaborate(NetworkBuilder& b) const override {
        const Contact contact(b);
        const bool dynamic = b.rung() >= 3;
        const double resistance = dynamic ? std::max(contact.resistance, 1e-3) : contact.resistance;
        std::vector<Piece> pieces = {blocking(contact.conductance), conducting(0, resistance, 0)};
        pieces[0].gateOn = 1;
        pieces[1].gateOff = 0;
        const int to = b.node("b"), gate = contactSignal(b, 0);
        if (!dynamic) return addSegmented(b, b.node("a"), to, std::move(pieces), gate, {0, 1});
        if (b.rung() >= 4) return elaborateGradual(b, gate, resistance, contact.conductance);
        const int from = behindInductance(b, b.node("a"), b.value("lpk"), startOf(b, "i0"));
        const int branch = b.addBranch();
        const int element = b.addElement(std::make_unique<SegmentedBranch>(
            b.partName(), branch, from, to, b.nodeCount(), std::move(pieces), gate, std::pair{0, 1}));
        const int capacitance = addCapacitor(b, from, to, b.value("coss"), b.value("ro"), 0, startOf(b, "v0"));
        b.offerTerminals(b.node("a"), to, {{b.nodeCount() + branch, 1.0}, {b.nodeCount() + capacitance, 1.0}});
        b.offerConducting(element);
        offerRatings(b);
    }

private:
    static void elaborateGradual(NetworkBuilder& b, int gateSignal, double resistance, double leak) {
        const int to = b.node("b"), from = behindInductance(b, b.node("a"), b.value("lpk"), startOf(b, "i0"));
        // The gate as 0 V or 1 V behind 1 ohm charges what holds s.
        const int control = b.addNode(), driver = b.addBranch(), branch = b.addBranch();
        std::vector<Piece> levels = {{1, -1, 0, false}, {1, -1, 1, true}};
        levels[0].gateOn = 1;
        levels[1].gateOff = 0;
        const int gate = b.addElement(std::make_unique<SegmentedBranch>(
            b.partName(), driver, control, -1, b.nodeCount(), std::move(levels), gateSignal, std::pair{0, 1}));
        addCapacitor(b, control, -1, b.value("tsw"));
        const Heat heat = addHeat(b);
        b.addElement(std::make_unique<GradualContact>(
            b.partName(), branch, from, to, b.nodeCount(), control, heat,
            GradualContact::Values{1 / resistance, std::max(leak, 1e-12), b.value("tc")}));
        const DepletionCharge layer{b.value("phi"), b.value("grading")};
        const int capacitance =
            addCurvedCapacitor(b, from, to, b.value("coss"), layer, b.value("ro"), 0, startOf(b, "v0"));
        b.offerTerminals(b.node("a"), to, {{b.nodeCount() + branch, 1.0}, {b.nodeCount() + capacitance, 1.0}});
        b.offerConducting(gate);
        offerRatings(b);
    }
};

/// Contacts that open at a zero of their current or at once, one pole or three.
class Breaker final : public SwitchingPart {
public:
    explicit Breaker(int poles) : poles_(poles) {}

    PartKind kind() const override {
        PartKind k;
        k.id = poles_ == 1 ? "breaker" : "contactor";
        k.title = poles_ == 1 ? "Breaker" : "Three-pole contactor";
        k.prefix = "Q";
        k.synonyms = poles_ == 1 ? std::vector<std::string>{"circuit breaker", "relay"}
                                 : std::vector<std::string>{"three-pole breaker", "breaker3"};
        k.summary = poles_ == 1
                        ? "A contact that opens at once or at the next zero of its current"
                        : "Three contacts moved together; each opens at once or at the next zero of its current";
        k.help =
            "Closes at the edge of its gate. When the gate goes off it opens at once or, as in an alternating-current "
            "circuit, when its current next passes through zero, which is found exactly; while it waits it still "
            "conducts. Without a wire at its gate it stands open or closed, and events of the scene move it: '50m: Q1 "
            "opens', 'V1 at 60: Q1 closes'. With a bounce time it opens three times more while it closes: after 10, 55 "
            "and 87 % of that time, for 35, 25 and 13 % of it.";
        if (poles_ == 3)
            k.help += " Each pole waits for the zero of its own current; v, i, p and on of a pole end in its number.";
        k.parameters = {contactPosition(),
                        {.key = "opens",
                         .label = "opens",
                         .symbol = "",
                         .unit = "",
                         .standard = "at zero",
                         .choices = {"at zero", "at once"}},
                        bounceTime(),
                        onResistance(),
                        offResistance(),
                        ratedVoltage(),
                        ratedCurrent()};
        k.rungs = {{1, "closed or open", "closed: v = 0,  open: i = 0", "definition", 1.0},
                   {2, "contact resistance, leakage", "closed: v = R_on i,  open: i = v / R_off",
                    "Ohm's law in each state", 1.7}};
        k.group = "Switches";
        if (poles_ == 1) {
            k.pins = {{"a", {0, -32}}, {"b", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn, true}};
            k.symbol = contactSymbol;
            k.symbol.push_back(cross(0));
            k.labelAt = {16, -4};
            return k;
        }
        for (int pole = 0; pole < poles_; ++pole) {
            const int x = spread * (pole - 1);
            const std::string at = std::to_string(x), digit = std::to_string(pole + 1);
            k.pins.push_back({"a" + digit, {x, -32}});
            k.pins.push_back({"b" + digit, {x, 32}});
            k.symbol.push_back({"M " + at + " -32 L " + at + " -16 M " + at + " 32 L " + at + " 16"});
            k.symbol.push_back({"O " + at + " -14 2"});
            k.symbol.push_back({"M " + at + " 16 L " + std::to_string(x - 14) + " -11", Stroke::Weight::normal, false,
                                Stroke::When::blocking});
            k.symbol.push_back(
                {"M " + at + " 16 L " + at + " -16", Stroke::Weight::heavy, false, Stroke::When::conducting});
            k.symbol.push_back(cross(x));
        }
        k.pins.push_back({"g", {-64, 0}, PinSort::signalIn, true});
        k.symbol.push_back(
            {"M -64 0 L -40 0 M -36 0 L -24 0 M -20 0 L -8 0 M -4 0 L 8 0 M 12 0 L 24 0", Stroke::Weight::thin});
        k.labelAt = {48, -4};
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
        const int gate = contactSignal(b, b.value("bounce"));
        for (int pole = 1; pole <= poles_; ++pole) {
            const std::string digit = poles_ == 1 ? "" : std::to_string(pole);
            addSegmented(b, b.node("a" + digit), b.node("b" + digit), pieces, gate, {open, closed}, digit);
        }
    }

private:
    static constexpr int spread = 32;
    static Stroke cross(int x) {
        const std::string left = std::to_string(x - 5), right = std::to_string(x + 5);
        return {"M " + left + " -25 L " + right + " -15 M " + left + " -15 L " + right + " -25", Stroke::Weight::thin};
    }
    int poles_;
};

class ControlledSwitch final : public PartType {
public:
    PartKind kind() const override {
        const auto threshold = [](const char* key, const char* label, const char* symbol, const char* standard) {
            return ParameterKind{
                .key = key, .label = label, .symbol = symbol, .unit = "V", .standard = standard, .shownOnSheet = true};
        };
        return {.id = "voltage-controlled-switch",
                .title = "Switch by voltage",
                .prefix = "S",
                .synonyms = {"vcsw", "threshold switch"},
                .summary = "Closed while a voltage is high",
                .help =
                    "Closes when the voltage of cp against cn rises above the upper threshold and opens when it falls "
                    "below the lower one, both at the exact instant. A run begins with it open, unless the voltage "
                    "is above the upper threshold. From the control no current is drawn.",
                .pins = {{"a", {32, -32}}, {"b", {32, 32}}, {"cp", {-32, -32}}, {"cn", {-32, 32}}},
                .parameters = {threshold("von", "closes above", "V_on", "2.5"),
                               threshold("voff", "opens below", "V_off", "2"), onResistance(), offResistance(),
                               ratedVoltage(), ratedCurrent()},
                .rungs = {{1, "closed or open", "closed: v = 0,  open: i = 0", "definition", 1.0},
                          {2, "on-resistance, leakage", "closed: v = R_on i,  open: i = v / R_off",
                           "Ohm's law in each state", 1.7}},
                .symbol = {{"M 32 -32 L 16 -32 L 16 -16 M 16 16 L 16 32 L 32 32"},
                           {"O 16 -14 2"},
                           {"M 16 16 L 2 -11", Stroke::Weight::normal, false, Stroke::When::blocking},
                           {"M 16 16 L 16 -16", Stroke::Weight::heavy, false, Stroke::When::conducting},
                           {"M -32 -32 L -22 -32 M -32 32 L -22 32 M -22 -26 L -22 -18 M -26 -22 L -18 -22",
                            Stroke::Weight::thin}},
                .labelAt = {36, -8},
                .group = "Switches"};
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (value("von") < value("voff"))
            return Error{ErrorCode::range, "it must close at a higher voltage than it opens at", {}, {}, "von"};
        if (value("ron") >= value("roff"))
            return Error{ErrorCode::range, "the on-resistance must be below the off-resistance", {}, {}, "ron"};
        return {};
    }
    void elaborate(NetworkBuilder& b) const override {
        const int branch = b.addBranch(), from = b.node("a"), to = b.node("b");
        const int element = b.addElement(std::make_unique<ControlledContact>(
            b.partName(), branch, from, to, b.nodeCount(), Contact(b),
            ControlledContact::Control{b.node("cp"), b.node("cn"), b.value("von"), b.value("voff")}));
        b.offerBranch(branch, from, to);
        b.offerConducting(element);
        offerRatings(b);
    }
};

}  // namespace

void registerContacts(PartLibrary& library) {
    library.add(std::make_unique<Switch>());
    for (const int poles : {1, 3}) library.add(std::make_unique<Breaker>(poles));
    library.add(std::make_unique<ControlledSwitch>());
}

}  // namespace hedgerow
