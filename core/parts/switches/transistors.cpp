// Transistors: MOSFET and IGBT with their antiparallel diodes, GaN HEMT.

#include "parts/junctions.h"
#include "parts/switches/gate_drive.h"

namespace hedgerow {

using namespace parts;

namespace {

/// Both conduct from the upper to the lower pin; the diode beside them the other way.
std::vector<Stroke> transistorSymbol(bool channel) {
    std::vector<Stroke> symbol = {{"M 0 -32 L 0 -14 L -12 -14"},
                                  {"M 0 32 L 0 14 L -12 14"},
                                  {"M -18 -16 L -18 16"},
                                  {"M -32 0 L -18 0", Stroke::Weight::thin},
                                  {"M 0 -24 L 16 -24 L 16 24 L 0 24", Stroke::Weight::thin},
                                  {"M 10 6 L 22 6 L 16 -6 Z", Stroke::Weight::thin},
                                  {"M 10 6 L 22 6 L 16 -6 Z", Stroke::Weight::thin, true, Stroke::When::conducting},
                                  {"M 10 -6 L 22 -6", Stroke::Weight::thin}};
    if (channel) {
        symbol.push_back({"M -12 -18 L -12 -10 M -12 -4 L -12 4 M -12 10 L -12 18", Stroke::Weight::heavy});
        symbol.push_back({"M -12 0 L 0 0 L 0 14 M -12 0 L -6 -3 M -12 0 L -6 3", Stroke::Weight::thin});
    } else {
        symbol.push_back({"M -12 -18 L -12 18", Stroke::Weight::heavy});
        symbol.push_back({"M 0 14 L -7 14 M 0 14 L -4 8", Stroke::Weight::thin});
    }
    return symbol;
}

struct Junction {
    double knee = 0, resistance = 0;
};

/// Both, blocking, with the diode conducting.
Piece reverse(const Junction& diode, double leak) { return conducting(-diode.knee, diode.resistance, leak); }

/// What transistors with a diode check alike.
class TransistorPart : public PartType {
public:
    Status check(const std::function<double(std::string_view)>& value) const override {
        for (const char* key : {"ron", "rd"})
            if (value(key) >= value("roff"))
                return Error{ErrorCode::range, "the on-resistance must be below the off-resistance", {}, {}, key};
        return {};
    }
    Status checkTexts(const std::function<std::string(std::string_view)>& text,
                      const ProjectFolder& folder) const override {
        if (auto status = checkCapacitanceCurves(text, folder); !status) return status;
        return checkLossTexts(text, LossSort::transistor);
    }

protected:
    /// Rungs 1 and 2: a channel that conducts both ways while the gate is on, and a knee beside it in reverse, always.
    static void elaborateReverseKnee(NetworkBuilder& b, std::string_view from, std::string_view to) {
        enum { off, channel, body, both };
        const bool lossy = b.rung() >= 2;
        const Junction diode{lossy ? b.value("vf") : 0, lossy ? b.value("rd") : 0};
        const double leak = lossy ? 1 / b.value("roff") : 0, on = lossy ? b.value("ron") : 0;
        std::vector<Piece> pieces = {blocking(leak), conducting(0, on, 0), reverse(diode, leak)};
        pieces[off].bounds = {voltageAbove(-diode.knee, body)};
        pieces[off].gateOn = pieces[body].gateOn = channel;
        pieces[body].bounds = {currentBelow(-diode.knee * leak, off)};
        pieces[channel].gateOff = off;
        pieces[channel].gateOffReverse = body;
        if (on > 0 && diode.resistance > 0) {
            // i = v / R_on + (v + V_f) / R_d
            pieces.push_back({-(1 / on + 1 / diode.resistance), 1, diode.knee / diode.resistance, true});
            pieces[channel].bounds = {voltageAbove(-diode.knee, both)};
            pieces[both].bounds = {voltageBelow(-diode.knee, channel)};
            pieces[both].gateOff = body;
        } else if (on > 0) {
            pieces.push_back(conducting(-diode.knee, 0, 0));  // the diode holds the voltage at its knee
            pieces[channel].bounds = {voltageAbove(-diode.knee, both)};
            pieces[both].bounds = {currentBelow(-diode.knee / on, channel)};
            pieces[both].gateOff = body;
        }
        addSegmented(b, b.node(from), b.node(to), std::move(pieces), b.signal("g"), {off, channel});
    }
};

class Mosfet final : public TransistorPart {
public:
    PartKind kind() const override {
        return withValues(
            {.id = "mosfet",
             .title = "MOSFET with body diode",
             .prefix = "Q",
             .synonyms = {"mosfet", "fet", "nmos", "transistor"},
             .summary = "A channel that conducts both ways while the gate is on, with a diode from s to d",
             .help = "While the gate is on the channel conducts both ways; while it is off the body diode carries what "
                     "flows from s to d. One rung up, a reverse current shares between channel and diode once it lifts "
                     "the voltage above the knee. There the energies of a data sheet tell what each switching costs: "
                     "the card "
                     "shows them beside what is conducted, and the temperature of the junction. An energy is typed as "
                     "400 125: 10 0.2m, 20 0.5m (V and °C, then pairs of A and J; further curves behind a semicolon), "
                     "the thermal impedance from junction to case as 0.2 1m, 0.5 20m.",
             .pins = {{"d", {0, -32}}, {"s", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn}},
             .parameters = {onResistance("channel resistance"), kneeVoltage("vf", "knee of the diode", "V_f", "0.8"),
                            onResistance("resistance of the diode", "rd", "R_d", "5m"), offResistance(), ratedVoltage(),
                            ratedCurrent()},
             .rungs = {{1, "closed, open, or diode", "on: v = 0,  off: v ≥ 0, i ≤ 0, v i = 0", "definition", 1.0},
                       {2, "channel resistance, diode knee, leakage",
                        "on: v = R_on i, with −v > V_f the diode beside it;  off: i = v / R_off or v = −V_f + R_d i",
                        "piecewise-linear channel and junction", 1.7},
                       {3, "gate drive, capacitances, recovery, package inductance",
                        "i = min(v / R_on, g_m (v_gs − V_th));  C_gd = C_rss, C_gs = C_iss − C_rss, C_ds = C_oss − "
                        "C_rss;  the gate through R_g from V_on or V_off;  diode with q_M",
                        "piecewise-linear transistor; P. O. Lauritzen, C. L. Ma, IEEE Trans. Power Electronics 6 "
                        "(1991), 188",
                        150},
                       {4, "channel and charges as curves, heat",
                        "i = K (v_o v_e − v_e²/2)(1 + λ v),  K = 1 / (R_on (V_on − V_th)) (T / 298 K)^−k_T;  C(v) = "
                        "C (1 + v/φ)^−m through its value at V_C;  C_th dT/dt = p − (T − T_a) / R_th",
                        "H. Shichman, D. A. Hodges, IEEE J. Solid-State Circuits 3 (1968), 285, corners rounded", 250}},
             .symbol = transistorSymbol(true),
             .labelAt = {28, -4},
             .group = "Switches"},
            {gateParameters({"3", "40", "12", "0", "5", "3n", "400p", "50p", "5n"}),
             {lifetime("60n"), transit("30n")},
             curvedChannelParameters("40"),
             capacitanceCurves(),
             {builtIn(), grading(), saturationCurrent(), emission()},
             lossParameters(LossSort::transistor)});
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (auto status = TransistorPart::check(value); !status) return status;
        return checkGate(value);
    }
    void elaborate(NetworkBuilder& b) const override {
        if (b.rung() >= 3) return elaborateDynamic(b);
        elaborateReverseKnee(b, "d", "s");
    }

private:
    static void elaborateDynamic(NetworkBuilder& b) {
        const int source = b.node("s"), drain = behindInductance(b, b.node("d"), b.value("lpk"), startOf(b, "i0"));
        const ChannelNodes at{drain, source, b.addNode()};
        addDriver(b, at.gate, source);
        const auto [toGate, toSource] = addCapacitances(b, at);
        const int channel = addChannel(b, at);
        const Recovery recovery{b.value("tau"), b.value("tm")};
        const int diode =
            b.rung() == 3
                ? addRecoveringDiode(b, source, drain, b.value("vf"), b.value("rd"), 0, recovery)
                : addExponentialDiode(b, source, drain, {b.value("is"), b.value("n"), b.value("rd"), recovery});
        const int n = b.nodeCount();
        b.offerTerminals(b.node("d"), source,
                         {{n + channel, 1.0}, {n + toGate, 1.0}, {n + toSource, 1.0}, {n + diode, -1.0}});
        offerRatings(b);
    }
};

/// What is left of the charge in the base goes on conducting: i = x, tau dx/dt = kappa i_channel - x.
class TailCurrent final : public Branch {
public:
    TailCurrent(std::string part, int branch, int from, int to, int nodeCount, int channel, int state, double lifetime,
                double gain)
        : Branch(std::move(part), branch, from, to),
          current_(nodeCount + branch),
          channel_(nodeCount + channel),
          state_(state),
          lifetime_(lifetime),
          gain_(gain) {}
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.unknown(s.branchRow(branch_), current_, 1.0);
        s.state(s.branchRow(branch_), state_, 1.0);
        s.rate(state_, channel_, gain_ / lifetime_);
        s.rate(state_, current_, -1 / lifetime_);
    }

private:
    int current_, channel_, state_;
    double lifetime_, gain_;
};

class Igbt final : public TransistorPart {
public:
    PartKind kind() const override {
        return withValues(
            {.id = "igbt",
             .title = "IGBT with antiparallel diode",
             .prefix = "Q",
             .synonyms = {"igbt"},
             .summary = "Conducts from c to e while the gate is on, with a diode from e to c",
             .help =
                 "The transistor carries current from c to e while the gate is on; what flows from e to c takes the "
                 "diode whatever the gate. One rung up each has a knee and a resistance of its own, and the energies "
                 "of a "
                 "data sheet tell what each switching costs: the card shows them beside what is conducted, and the "
                 "temperature of the junction. An energy is typed as 400 125: 10 0.2m, 20 0.5m (V and °C, then pairs "
                 "of A and J; further curves behind a semicolon), the thermal impedance from junction to case as 0.2 "
                 "1m, 0.5 20m.",
             .pins = {{"c", {0, -32}}, {"e", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn}},
             .parameters = {kneeVoltage("vce", "knee of the transistor", "V_ce0", "1"),
                            onResistance("resistance of the transistor"),
                            kneeVoltage("vf", "knee of the diode", "V_f", "0.9"),
                            onResistance("resistance of the diode", "rd", "R_d", "8m"), offResistance(), ratedVoltage(),
                            ratedCurrent()},
             .rungs = {{1, "closed, open, or diode", "on: v = 0,  off: v ≥ 0, i ≤ 0, v i = 0", "definition", 1.0},
                       {2, "knees, resistances, leakage",
                        "on: v = V_ce0 + R_on i for i > 0;  diode: v = −V_f + R_d i for i < 0;  else i = v / R_off",
                        "piecewise-linear output characteristics, as data sheets give them", 1.7},
                       {3, "gate drive, capacitances, tail current, recovery, package inductance",
                        "a channel i_n behind the knee, as that of the MOSFET;  i = i_n + x,  τ_t dx/dt = κ / (1 − κ) "
                        "i_n − x;  C_ge = C_iss − C_rss, C_gc = C_rss, C_ce = C_oss − C_rss;  diode with q_M",
                        "a MOSFET that feeds the base of a bipolar transistor: A. R. Hefner, D. L. Blackburn, "
                        "Solid-State Electronics 31 (1988), 1513, with a lumped base charge",
                        150},
                       {4, "channel, knee and charges as curves, heat",
                        "i_n = K (v_o v_e − v_e²/2)(1 + λ v),  knee rounded over s_ce;  C(v) = C (1 + v/φ)^−m through "
                        "its value at V_C;  C_th dT/dt = p − (T − T_a) / R_th",
                        "H. Shichman, D. A. Hodges, IEEE J. Solid-State Circuits 3 (1968), 285, corners rounded", 250}},
             .symbol = transistorSymbol(false),
             .labelAt = {28, -4},
             .group = "Switches"},
            {gateParameters({"5.5", "20", "15", "-8", "5", "3n", "200p", "50p", "10n"}),
             {positiveValue("ttail", "lifetime of the charge in the base", "τ_t", "s", "300n", 3),
              {.key = "ktail",
               .label = "share of the current that the base carries",
               .symbol = "κ",
               .unit = "",
               .standard = "0.2",
               .least = 0,
               .most = 0.9,
               .rung = 3},
              lifetime("150n"),
              transit("80n")},
             curvedChannelParameters("25"),
             capacitanceCurves(),
             {positiveValue("knee", "width of the knee", "s_ce", "V", "60m", 4), builtIn(), grading(),
              saturationCurrent(), emission()},
             lossParameters(LossSort::transistor)});
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (auto status = TransistorPart::check(value); !status) return status;
        return checkGate(value);
    }
    void elaborate(NetworkBuilder& b) const override {
        if (b.rung() >= 3) return elaborateDynamic(b);
        if (b.rung() < 2) {
            enum { off, on, diode };
            std::vector<Piece> pieces = {blocking(0), conducting(0, 0, 0), conducting(0, 0, 0)};
            pieces[off].bounds = {voltageAbove(0, diode)};
            pieces[diode].bounds = {currentBelow(0, off)};
            pieces[off].gateOn = pieces[diode].gateOn = on;
            pieces[on].gateOff = off;
            pieces[on].gateOffReverse = diode;
            return addSegmented(b, b.node("c"), b.node("e"), std::move(pieces), b.signal("g"), {off, on});
        }
        enum { off, transistor, diode, ready, diodeReady };  // ready: the gate is on and nothing conducts yet
        const double leak = 1 / b.value("roff"), knee = b.value("vce");
        const Junction back{b.value("vf"), b.value("rd")};
        std::vector<Piece> pieces = {blocking(leak), conducting(knee, b.value("ron"), leak), reverse(back, leak),
                                     blocking(leak), reverse(back, leak)};
        pieces[off].bounds = {voltageAbove(-back.knee, diode)};
        pieces[transistor].bounds = {currentAbove(knee * leak, ready)};
        pieces[diode].bounds = {currentBelow(-back.knee * leak, off)};
        pieces[ready].bounds = {voltageBelow(knee, transistor), voltageAbove(-back.knee, diodeReady)};
        pieces[diodeReady].bounds = {currentBelow(-back.knee * leak, ready)};
        pieces[off].gateOn = ready;
        pieces[diode].gateOn = diodeReady;
        pieces[transistor].gateOff = pieces[ready].gateOff = off;
        pieces[diodeReady].gateOff = diode;
        addSegmented(b, b.node("c"), b.node("e"), std::move(pieces), b.signal("g"), {off, ready});
    }

private:
    static void elaborateDynamic(NetworkBuilder& b) {
        const int emitter = b.node("e"), collector = behindInductance(b, b.node("c"), b.value("lpk"), startOf(b, "i0"));
        const int gate = b.addNode(), base = b.addNode();
        addDriver(b, gate, emitter);
        const auto [toGate, toEmitter] = addCapacitances(b, {collector, emitter, gate});
        const double share = 1 - b.value("ktail");
        // Where the knee is rounded, half of the resistance lies in it: its corner is then as wide as it says.
        const double inKnee = b.rung() == 3 ? 0 : 0.5;
        const int channel = addChannel(b, {base, emitter, gate}, false, share, 1 - inKnee);
        const int tail = b.addBranch();
        const int state = b.addState(StateSort::windingCurrent, "", b.value("ttail"));
        b.addElement(std::make_unique<TailCurrent>(b.partName(), tail, base, emitter, b.nodeCount(), channel, state,
                                                   b.value("ttail"), b.value("ktail") / share));
        b.offerForm("itail", "A", {{b.nodeCount() + tail, 1.0}});
        // The knee: collector and base are one while the transistor conducts, and apart when the voltage reverses.
        const int knee = b.addBranch();
        const double leak = 1 / b.value("roff");
        if (b.rung() == 3) {
            std::vector<Piece> pieces = {blocking(leak), conducting(b.value("vce"), 0, 0)};
            pieces[0].bounds = {voltageBelow(b.value("vce"), 1)};
            pieces[1].bounds = {currentAbove(b.value("vce") * leak, 0)};
            b.addElement(std::make_unique<SegmentedBranch>(b.partName(), knee, collector, base, b.nodeCount(),
                                                           std::move(pieces)));
        } else {
            b.addElement(std::make_unique<SoftKnee>(
                b.partName(), knee, collector, base, b.nodeCount(),
                SoftKnee::Values{b.value("vce"), inKnee * channelResistance(b), b.value("knee"), leak}));
        }
        const Recovery recovery{b.value("tau"), b.value("tm")};
        const int diode =
            b.rung() == 3
                ? addRecoveringDiode(b, emitter, collector, b.value("vf"), b.value("rd"), 0, recovery)
                : addExponentialDiode(b, emitter, collector, {b.value("is"), b.value("n"), b.value("rd"), recovery});
        const int n = b.nodeCount();
        b.offerTerminals(b.node("c"), emitter,
                         {{n + knee, 1.0}, {n + toGate, 1.0}, {n + toEmitter, 1.0}, {n + diode, -1.0}});
        offerRatings(b);
    }
};

/// A lateral channel without a body diode: in reverse the drain takes the place of the source.
class GanHemt final : public TransistorPart {
public:
    PartKind kind() const override {
        PartKind k = withValues(
            {.id = "gan-hemt",
             .title = "GaN HEMT",
             .prefix = "Q",
             .synonyms = {"gan", "hemt", "gan transistor"},
             .summary = "A lateral channel that conducts both ways while the gate is on, and in reverse without it",
             .help = "While the gate is on the channel conducts both ways. While it is off the channel opens by itself "
                     "in reverse, once the voltage from s to d passes the threshold and what the gate is held below "
                     "zero: a knee without any stored charge. From rung 3 on this follows from the channel, whose "
                     "drain then acts as source.",
             .pins = {{"d", {0, -32}}, {"s", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn}},
             .parameters = {onResistance("channel resistance", "ron", "R_on", "25m"),
                            kneeVoltage("vf", "knee in reverse, gate off", "V_f", "1.8"),
                            onResistance("resistance in reverse, gate off", "rd", "R_d", "40m"), offResistance(),
                            ratedVoltage(), ratedCurrent()},
             .rungs = {{1, "closed, open, or reverse", "on: v = 0,  off: v ≥ 0, i ≤ 0, v i = 0", "definition", 1.0},
                       {2, "channel resistance, knee in reverse, leakage",
                        "on: v = R_on i;  off: i = v / R_off or v = −V_f + R_d i", "piecewise-linear channel", 1.7},
                       {3, "gate drive, capacitances, package inductance",
                        "i = min(v / R_on, g_m (v_gs − V_th)), in reverse min(v_sd / R_on, g_m (v_gd − V_th));  "
                        "C_gd = C_rss, C_gs = C_iss − C_rss, C_ds = C_oss − C_rss;  no stored charge",
                        "piecewise-linear channel, symmetric in source and drain", 120},
                       {4, "channel and charges as curves, heat",
                        "i = K (v_o v_e − v_e²/2)(1 + λ v), in reverse with v_gd;  C(v) = C (1 + v/φ)^−m through its "
                        "value at V_C;  C_th dT/dt = p − (T − T_a) / R_th",
                        "H. Shichman, D. A. Hodges, IEEE J. Solid-State Circuits 3 (1968), 285, corners rounded", 200}},
             .symbol = {{"M 0 -32 L 0 -14 L -12 -14"},
                        {"M 0 32 L 0 14 L -12 14"},
                        {"M -18 -16 L -18 16"},
                        {"M -32 0 L -18 0", Stroke::Weight::thin},
                        {"M -12 -18 L -12 18", Stroke::Weight::heavy},
                        {"M -12 0 L 0 0 L 0 14", Stroke::Weight::thin},
                        {"M 8 -6 L 8 6", Stroke::Weight::heavy, false, Stroke::When::conducting}},
             .labelAt = {20, -4},
             .group = "Switches"},
            {gateParameters({"1.4", "60", "6", "-2", "5", "400p", "120p", "4p", "1n"}),
             curvedChannelParameters("100"),
             capacitanceCurves(),
             {builtIn(), grading()},
             lossParameters(LossSort::transistor)});
        return k;
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (auto status = TransistorPart::check(value); !status) return status;
        return checkGate(value);
    }
    void elaborate(NetworkBuilder& b) const override {
        if (b.rung() < 3) return elaborateReverseKnee(b, "d", "s");
        const int source = b.node("s"), drain = behindInductance(b, b.node("d"), b.value("lpk"), startOf(b, "i0"));
        const ChannelNodes at{drain, source, b.addNode()};
        addDriver(b, at.gate, source);
        const auto [toGate, toSource] = addCapacitances(b, at);
        const int channel = addChannel(b, at, true), n = b.nodeCount();
        b.offerTerminals(b.node("d"), source, {{n + channel, 1.0}, {n + toGate, 1.0}, {n + toSource, 1.0}});
        offerRatings(b);
    }
};

}  // namespace

void registerTransistors(PartLibrary& library) {
    library.add(std::make_unique<Mosfet>());
    library.add(std::make_unique<Igbt>());
    library.add(std::make_unique<GanHemt>());
}

}  // namespace hedgerow
