// Transistors with their antiparallel diode: MOSFET and IGBT.

#include "parts/junctions.h"
#include "parts/segmented.h"
#include "parts/switches/channel.h"
#include "parts/switches/loss_fields.h"

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
    Status checkTexts(const std::function<std::string(std::string_view)>& text, const std::string&) const override {
        return checkLossTexts(text, true);
    }

protected:
    /// With what a data sheet gives of its losses.
    static PartKind withLosses(PartKind kind) {
        const auto losses = lossParameters(true);
        // Before the ratings, which come last.
        const auto ratings = std::find_if(kind.parameters.begin(), kind.parameters.end(),
                                          [](const ParameterKind& parameter) { return parameter.rating; });
        kind.parameters.insert(ratings, losses.begin(), losses.end());
        return kind;
    }
};

class Mosfet final : public TransistorPart {
public:
    PartKind kind() const override {
        return withLosses(
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
             .parameters = {onResistance("channel resistance"),
                            kneeVoltage("vf", "knee of the diode", "V_f", "0.8"),
                            onResistance("resistance of the diode", "rd", "R_d", "5m"),
                            offResistance(),
                            positive("vth", "threshold", "V_th", "V", "3", 3),
                            positive("gm", "transconductance", "g_m", "S", "40", 3),
                            positive("von", "gate voltage that turns on", "V_on", "V", "12", 3),
                            {.key = "voff",
                             .label = "gate voltage that turns off",
                             .symbol = "V_off",
                             .unit = "V",
                             .standard = "0",
                             .rung = 3},
                            positive("rg", "gate resistance, driver included", "R_g", "Ω", "5", 3),
                            positive("ciss", "input capacitance", "C_iss", "F", "3n", 3),
                            positive("coss", "output capacitance", "C_oss", "F", "400p", 3),
                            positive("crss", "reverse transfer capacitance", "C_rss", "F", "50p", 3),
                            {.key = "lpk",
                             .label = "inductance of package and track",
                             .symbol = "L_pk",
                             .unit = "H",
                             .standard = "5n",
                             .least = 0,
                             .rung = 3},
                            lifetime("60n"),
                            transit("30n"),
                            positive("vc", "voltage at which the capacitances are given", "V_C", "V", "40", 4),
                            builtIn(),
                            grading(),
                            saturationCurrent(),
                            emission(),
                            positive("corner", "width of the threshold", "s", "V", "80m", 4),
                            {.key = "lambda",
                             .label = "channel length modulation",
                             .symbol = "λ",
                             .unit = "",
                             .standard = "5m",
                             .least = 0,
                             .rung = 4},
                            {.key = "kt",
                             .label = "fall of the channel's gain with temperature, as a power",
                             .symbol = "k_T",
                             .unit = "",
                             .standard = "2",
                             .least = 0,
                             .most = 5,
                             .rung = 4},
                            positive("rth", "thermal resistance to ambient, K/W", "R_th", "", "10", 4),
                            positive("cth", "heat capacity, J/K", "C_th", "", "50m", 4),
                            {.key = "ta",
                             .label = "ambient temperature, °C",
                             .symbol = "T_a",
                             .unit = "",
                             .standard = "25",
                             .least = -200,
                             .most = 400,
                             .rung = 4},
                            ratedVoltage(),
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
             .group = "Switches"});
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (auto status = TransistorPart::check(value); !status) return status;
        if (value("crss") >= value("coss"))
            return Error{ErrorCode::range,
                         "the output capacitance must be above the reverse transfer capacitance, "
                         "which is a part of it",
                         {},
                         {},
                         "coss"};
        if (value("crss") >= value("ciss"))
            return Error{ErrorCode::range,
                         "the input capacitance must be above the reverse transfer capacitance, which "
                         "is a part of it",
                         {},
                         {},
                         "ciss"};
        if (value("vth") >= value("von"))
            return Error{ErrorCode::range, "the gate voltage that turns on must be above the threshold", {}, {}, "von"};
        if (value("vth") <= value("voff"))
            return Error{
                ErrorCode::range, "the gate voltage that turns off must be below the threshold", {}, {}, "voff"};
        return {};
    }
    void elaborate(NetworkBuilder& b) const override {
        if (b.rung() >= 3) return elaborateDynamic(b);
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
        addSegmented(b, b.node("d"), b.node("s"), std::move(pieces), b.signal("g"), {off, channel});
    }

private:
    static ParameterKind positive(const char* key, const char* label, const char* symbol, const char* unit,
                                  const char* standard, int rung) {
        return {.key = key,
                .label = label,
                .symbol = symbol,
                .unit = unit,
                .standard = standard,
                .least = 0,
                .aboveLeast = true,
                .rung = rung};
    }

    /// What conducts by a field has a resistance, even where none was given.
    static double channelResistance(NetworkBuilder& b) { return std::max(b.value("ron"), 1e-6); }

    /// A source of V_on or V_off behind R_g, between gate and source.
    static void addDriver(NetworkBuilder& b, int gate, int source) {
        const double resistance = b.value("rg");
        std::vector<Piece> pieces = {{1, -resistance, b.value("voff"), true}, {1, -resistance, b.value("von"), true}};
        pieces[0].gateOn = 1;
        pieces[1].gateOff = 0;
        const int branch = b.addBranch();
        b.addElement(std::make_unique<SegmentedBranch>(b.partName(), branch, gate, source, b.nodeCount(),
                                                       std::move(pieces), b.signal("g"), std::pair{0, 1}));
        b.offerForm("ig", "A", {{b.nodeCount() + branch, -1.0}});
    }

    static void elaborateDynamic(NetworkBuilder& b) {
        const bool curved = b.rung() >= 4;
        const int source = b.node("s"), drain = behindInductance(b, b.node("d"), b.value("lpk")), gate = b.addNode();
        const double cgd = b.value("crss"), cgs = b.value("ciss") - cgd, cds = b.value("coss") - cgd;
        const Recovery recovery{b.value("tau"), b.value("tm")};
        addDriver(b, gate, source);
        addCapacitor(b, gate, source, cgs);
        int channel = 0, diode = 0, toGate = 0, toSource = 0;
        if (curved) {
            const DepletionCharge layer{b.value("phi"), b.value("grading")};
            // The data sheet gives capacitances at a voltage; the curves start at zero volts.
            const double atZero = 1 / layer(b.value("vc")).slope;
            toGate = addCurvedCapacitor(b, drain, gate, cgd * atZero, layer);
            toSource = addCurvedCapacitor(b, drain, source, cds * atZero, layer);
            channel = addSmoothChannel(b, {drain, source, gate});
            diode = addExponentialDiode(b, source, drain, {b.value("is"), b.value("n"), b.value("rd"), recovery});
        } else {
            toGate = addCapacitor(b, drain, gate, cgd);
            toSource = addCapacitor(b, drain, source, cds);
            channel = b.addBranch();
            const int element = b.addElement(std::make_unique<PiecewiseChannel>(
                b.partName(), channel, ChannelNodes{drain, source, gate}, b.nodeCount(),
                PiecewiseChannel::Values{channelResistance(b), b.value("gm"), b.value("vth"), 1 / b.value("roff")}));
            b.offerConducting(element);
            diode = addRecoveringDiode(b, source, drain, b.value("vf"), b.value("rd"), 0, recovery);
        }
        const int n = b.nodeCount();
        b.offerTerminals(b.node("d"), source,
                         {{n + channel, 1.0}, {n + toGate, 1.0}, {n + toSource, 1.0}, {n + diode, -1.0}});
        b.offerForm("ich", "A", {{n + channel, 1.0}});
        Terms control = {{gate, 1.0}};
        if (source >= 0) control.emplace_back(source, -1.0);
        b.offerForm("vgs", "V", control);
        offerRatings(b);
    }

    static int addSmoothChannel(NetworkBuilder& b, ChannelNodes nodes) {
        const int branch = b.addBranch(), power = b.addNode(), rise = b.addNode();
        const int state = b.addState(StateSort::capacitorVoltage, "", b.value("cth"));
        const double gain = 1 / (channelResistance(b) * (b.value("von") - b.value("vth")));
        b.addElement(std::make_unique<SmoothChannel>(
            b.partName(), branch, nodes, b.nodeCount(), power, rise, state,
            SmoothChannel::Values{gain, b.value("vth"), b.value("corner"), b.value("lambda"), b.value("kt"),
                                  b.value("rth"), b.value("cth"), b.value("ta")}));
        b.offerForm("pch", "W", {{power, 1.0}});
        b.offerForm("rise", "K", {{rise, 1.0}});
        return branch;
    }
};

class Igbt final : public TransistorPart {
public:
    PartKind kind() const override {
        return withLosses(
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
                        "piecewise-linear output characteristics, as data sheets give them", 1.7}},
             .symbol = transistorSymbol(false),
             .labelAt = {28, -4},
             .group = "Switches"});
    }
    void elaborate(NetworkBuilder& b) const override {
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
};

}  // namespace

void registerTransistors(PartLibrary& library) {
    library.add(std::make_unique<Mosfet>());
    library.add(std::make_unique<Igbt>());
}

}  // namespace hedgerow
