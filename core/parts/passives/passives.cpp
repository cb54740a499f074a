// Resistor, inductor and capacitor.

#include <cmath>
#include <numbers>

#include "parts/smooth.h"
#include "parts/storages.h"

namespace hedgerow {

using namespace parts;

namespace {

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
                               {.key = "i0",
                                .label = "initial current",
                                .symbol = "i_0",
                                .unit = "A",
                                .standard = "0",
                                .atStart = true},
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
                               {.key = "fsr",
                                .label = "self-resonant frequency",
                                .symbol = "f_sr",
                                .unit = "Hz",
                                .standard = "10M",
                                .least = 0,
                                .aboveLeast = true,
                                .rung = 3},
                               {.key = "isat",
                                .label = "saturation current (inductance halfway to its rest)",
                                .symbol = "I_sat",
                                .unit = "A",
                                .standard = "20",
                                .least = 0,
                                .aboveLeast = true,
                                .rung = 4},
                               {.key = "lrest",
                                .label = "rest of the inductance in saturation",
                                .symbol = "k_sat",
                                .unit = "",
                                .standard = "0.1",
                                .least = 0,
                                .most = 1,
                                .aboveLeast = true,
                                .rung = 4},
                               ratedCurrent()},
                .rungs = {{1, "pure inductance", "v = L di/dt", "Faraday's law", 1.0},
                          {2, "winding resistance, core loss", "v = R_w i + L dx/dt,  i = x + (L dx/dt) / R_c",
                           "series-parallel loss model of a winding on a core, e.g. R. W. Erickson and D. Maksimović, "
                           "Fundamentals of Power Electronics, ch. 13",
                           1.7},
                          {3, "winding capacitance", "beside the winding C_w = 1 / ((2π f_sr)² L)",
                           "first self-resonance of a winding", 6},
                          {4, "saturation", "λ = L (k_sat i + (1 − k_sat) I_sat atan(i / I_sat)),  dλ/dt = v − R_w i",
                           "the inductance falls with the square of the current towards a rest; charge of the state is "
                           "the flux itself",
                           12}},
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
        const int from = b.node("a"), to = b.node("b");
        const double inductance = b.value("l"), resistance = lossy ? b.value("dcr") : 0.0,
                     conductance = lossy ? 1.0 / b.value("rc") : 0.0;
        int branch = 0;
        if (b.rung() >= 4) {
            const SaturatingFlux curve{b.value("isat"), b.value("lrest")};
            branch = b.addBranch();
            const int state =
                b.addComposedState(StateSort::windingCurrent, curve(b.value("i0")).value, inductance, b.typed("i0"));
            b.addElement(std::make_unique<SaturatingInductor>(b.partName(), branch, from, to, b.nodeCount(), state,
                                                              inductance, resistance, conductance, curve));
            b.offerForm("iw", "A", {{b.nodeCount() + branch, 1.0}});
        } else {
            branch = addInductor(b, from, to, inductance, resistance, conductance, "i0");
        }
        if (b.rung() >= 3) {
            // The winding capacitance, and what its self-resonance is damped by, beside the winding.
            const double w = 2 * std::numbers::pi * b.value("fsr");
            const int shunt = addCapacitor(b, from, to, 1 / (w * w * inductance));
            const Terms through = {{b.nodeCount() + branch, 1.0}, {b.nodeCount() + shunt, 1.0}};
            b.offerTerminals(from, to, through);
        } else {
            b.offerBranch(branch, from, to);
        }
        offerRatings(b);
    }
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
                               {.key = "v0",
                                .label = "initial voltage",
                                .symbol = "v_0",
                                .unit = "V",
                                .standard = "0",
                                .atStart = true},
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
                               {.key = "esl",
                                .label = "series inductance",
                                .symbol = "L_s",
                                .unit = "H",
                                .standard = "5n",
                                .least = 0,
                                .rung = 3},
                               {.key = "vhalf",
                                .label = "voltage at which half of the capacitance is left",
                                .symbol = "V_half",
                                .unit = "V",
                                .standard = "1k",
                                .least = 0,
                                .aboveLeast = true,
                                .rung = 4},
                               ratedVoltage(),
                               ratedCurrent()},
                .rungs = {{1, "pure capacitance", "i = C dv/dt", "definition", 1.0},
                          {2, "series and leakage resistance", "v = x + R_s i,  C dx/dt = i − x / R_p",
                           "equivalent circuit of IEC 60384-1", 1.7},
                          {3, "series inductance", "v = x + R_s i + L_s di/dt", "equivalent circuit of IEC 60384-1", 5},
                          {4, "less capacitance under voltage", "q = C V_half atan(x / V_half),  dq/dt = i − x / R_p",
                           "C(v) = C / (1 + (v / V_half)²): a bell curve through the derating that data sheets of "
                           "ceramic capacitors give",
                           12}},
                .symbol = {{"M 0 -32 L 0 -4"},
                           {"M -20 -4 L 20 -4", Stroke::Weight::heavy},
                           {"M -20 4 L 20 4", Stroke::Weight::heavy},
                           {"M 0 4 L 0 32"}},
                .labelAt = {26, -4},
                .group = "Passives"};
    }
    void elaborate(NetworkBuilder& b) const override {
        const bool lossy = b.rung() >= 2;
        const double series = lossy ? b.value("esr") : 0.0, leakage = lossy ? 1.0 / b.value("rp") : 0.0;
        const int from = b.rung() >= 3 ? behindInductance(b, b.node("a"), b.value("esl")) : b.node("a");
        const int branch = b.rung() >= 4 ? addCurvedCapacitor(b, from, b.node("b"), b.value("c"),
                                                              DeratedCharge{b.value("vhalf")}, series, leakage, "v0")
                                         : addCapacitor(b, from, b.node("b"), b.value("c"), series, leakage, "v0");
        b.offerTerminals(b.node("a"), b.node("b"), {{b.nodeCount() + branch, 1.0}});
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
