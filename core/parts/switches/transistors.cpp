// Transistors with their antiparallel diode: MOSFET and IGBT.

#include "parts/segmented.h"

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
};

class Mosfet final : public TransistorPart {
public:
    PartKind kind() const override {
        return {.id = "mosfet",
                .title = "MOSFET with body diode",
                .prefix = "Q",
                .synonyms = {"mosfet", "fet", "nmos", "transistor"},
                .summary = "A channel that conducts both ways while the gate is on, with a diode from s to d",
                .help =
                    "While the gate is on the channel conducts both ways; while it is off the body diode carries what "
                    "flows from s to d. One rung up, a reverse current shares between channel and diode once it lifts "
                    "the voltage above the knee.",
                .pins = {{"d", {0, -32}}, {"s", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn}},
                .parameters = {onResistance("channel resistance"), kneeVoltage("vf", "knee of the diode", "V_f", "0.8"),
                               onResistance("resistance of the diode", "rd", "R_d", "5m"), offResistance(),
                               ratedVoltage(), ratedCurrent()},
                .rungs = {{1, "closed, open, or diode", "on: v = 0,  off: v ≥ 0, i ≤ 0, v i = 0", "definition", 1.0},
                          {2, "channel resistance, diode knee, leakage",
                           "on: v = R_on i, with −v > V_f the diode beside it;  off: i = v / R_off or v = −V_f + R_d i",
                           "piecewise-linear channel and junction", 1.7}},
                .symbol = transistorSymbol(true),
                .labelAt = {28, -4},
                .group = "Switches"};
    }
    void elaborate(NetworkBuilder& b) const override {
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
};

class Igbt final : public TransistorPart {
public:
    PartKind kind() const override {
        return {.id = "igbt",
                .title = "IGBT with antiparallel diode",
                .prefix = "Q",
                .synonyms = {"igbt"},
                .summary = "Conducts from c to e while the gate is on, with a diode from e to c",
                .help =
                    "The transistor carries current from c to e while the gate is on; what flows from e to c takes the "
                    "diode whatever the gate. One rung up each has a knee and a resistance of its own.",
                .pins = {{"c", {0, -32}}, {"e", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn}},
                .parameters = {kneeVoltage("vce", "knee of the transistor", "V_ce0", "1"),
                               onResistance("resistance of the transistor"),
                               kneeVoltage("vf", "knee of the diode", "V_f", "0.9"),
                               onResistance("resistance of the diode", "rd", "R_d", "8m"), offResistance(),
                               ratedVoltage(), ratedCurrent()},
                .rungs = {{1, "closed, open, or diode", "on: v = 0,  off: v ≥ 0, i ≤ 0, v i = 0", "definition", 1.0},
                          {2, "knees, resistances, leakage",
                           "on: v = V_ce0 + R_on i for i > 0;  diode: v = −V_f + R_d i for i < 0;  else i = v / R_off",
                           "piecewise-linear output characteristics, as data sheets give them", 1.7}},
                .symbol = transistorSymbol(false),
                .labelAt = {28, -4},
                .group = "Switches"};
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
