// Resistor, inductor and capacitor.

#include <cmath>
#include <numbers>

#include "parts/smooth.h"
#include "parts/storages.h"

namespace hedgerow {

using namespace parts;

namespace {

/// v = R (1 + alpha (T_a + T - 25 °C)) i.
class HeatedResistor final : public Branch {
public:
    HeatedResistor(std::string part, int branch, int from, int to, int nodeCount, const Heat& heat, double resistance,
                   double coefficient)
        : Branch(std::move(part), branch, from, to),
          current_(nodeCount + branch),
          heat_(heat),
          resistance_(resistance),
          coefficient_(coefficient) {}
    bool smooth() const override { return true; }
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.voltage(s.branchRow(branch_), from_, to_, 1.0);
        heat_.stamp(s);
    }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const int row = out.branchRow(branch_);
        const double i = at.unknown(current_);
        // Far off its range a coefficient would turn the resistance negative: it ends at a hundredth.
        const double factor = 1 + coefficient_ * (heat_.ambient + at.unknown(heat_.rise) - 25);
        const bool inside = factor > least;
        const double r = resistance_ * (inside ? factor : least);
        out.flow(row, -r * i);
        out.byUnknown(row, current_, -r);
        out.byUnknown(row, heat_.rise, inside ? -resistance_ * coefficient_ * i : 0.0);
        heat_.evaluate(at, out, from_, to_, current_);
    }

private:
    static constexpr double least = 0.01;
    int current_;
    Heat heat_;
    double resistance_, coefficient_;
};

class Resistor final : public PartType {
public:
    PartKind kind() const override {
        const auto heat = heatParameters("50", "1");
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
                               {.key = "ls",
                                .label = "series inductance",
                                .symbol = "L_s",
                                .unit = "H",
                                .standard = "10n",
                                .least = 0,
                                .rung = 3,
                                .none = 0},
                               {.key = "cp",
                                .label = "capacitance beside it",
                                .symbol = "C_p",
                                .unit = "F",
                                .standard = "1p",
                                .least = 0,
                                .rung = 3,
                                .none = 0},
                               {.key = "tc",
                                .label = "change with temperature, per K",
                                .symbol = "α",
                                .unit = "",
                                .standard = "100u",
                                .least = -0.1,
                                .most = 0.1,
                                .rung = 4},
                               heat[0],
                               heat[1],
                               heat[2],
                               startVoltage(),
                               startCurrent(),
                               ratedCurrent(),
                               tolerance()},
                .rungs = {{1, "linear resistance", "v = R i", "Ohm's law", 1.0},
                          {3, "series inductance, capacitance beside it",
                           "v = R i + L_s di/dt, beside it C_p;  beside L_s a resistance of 2π f_e L_s",
                           "equivalent circuit of IEC 60115-1", 30},
                          {4, "changes with its own heat",
                           "R(T) = R (1 + α (T − 25 °C)),  C_th dT/dt = p − (T − T_a) / R_th",
                           "temperature coefficient of IEC 60115-1; one thermal resistance and capacity", 40}},
                .symbol = {{"M 0 -32 L 0 -20"}, {"M -8 -20 L 8 -20 L 8 20 L -8 20 Z"}, {"M 0 20 L 0 32"}},
                .labelAt = {16, -4},
                .group = "Passives"};
    }
    void elaborate(NetworkBuilder& b) const override {
        const int a = b.node("a"), end = b.node("b"),
                  from = b.rung() >= 3 ? behindInductance(b, a, b.value("ls"), startOf(b, "i0")) : a;
        const int branch = b.addBranch();
        if (b.rung() >= 4) {
            const Heat heat = addHeat(b);
            b.addElement(std::make_unique<HeatedResistor>(b.partName(), branch, from, end, b.nodeCount(), heat,
                                                          b.value("r"), b.value("tc")));
        } else {
            b.addElement(std::make_unique<ResistorElement>(b.partName(), branch, from, end, b.value("r")));
        }
        Terms through = {{b.nodeCount() + branch, 1.0}};
        if (b.rung() >= 3 && b.value("cp") > 0)
            through.emplace_back(b.nodeCount() + addCapacitor(b, a, end, b.value("cp"), 0, 0, startOf(b, "v0")), 1.0);
        b.offerTerminals(a, end, through);
        offerRatings(b);
    }
};

/// Resistance over that at 25 °C of a copper winding: IEC 60034-1, 8.6.2.3.
double copper(double celsius) { return (234.5 + celsius) / (234.5 + 25); }

ParameterKind temperature(const char* label, const char* symbol) {
    return {.key = "temp",
            .label = label,
            .symbol = symbol,
            .unit = "",
            .standard = "25",
            .least = -200,
            .most = 400,
            .rung = 4};
}
ParameterKind tableOf(const char* label) {
    return {.key = "table", .label = label, .symbol = "", .unit = "", .standard = "", .rung = 4, .text = true};
}

class Inductor final : public PartType {
public:
    PartKind kind() const override {
        PartKind k{
            .id = "inductor",
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
                           seriesLoss("dcr", "winding resistance", "R_w"),
                           parallelLoss("rc", "core-loss resistance", "R_c"),
                           {.key = "fsr",
                            .label = "self-resonant frequency",
                            .symbol = "f_sr",
                            .unit = "Hz",
                            .standard = "10M",
                            .least = 0,
                            .aboveLeast = true,
                            .rung = 3},
                           {.key = "cw",
                            .label = "winding capacitance, instead of the frequency",
                            .symbol = "C_w",
                            .unit = "F",
                            .standard = "0",
                            .least = 0,
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
                           startVoltage(),
                           tableOf("or inductance over current, '0 10u, 20 6u'"),
                           temperature("temperature of the winding, °C", "T_w"),
                           ratedCurrent(),
                           tolerance()},
            .rungs = {{1, "pure inductance", "v = L di/dt", "Faraday's law", 1.0},
                      {2, "winding resistance, core loss", "v = R_w i + L dx/dt,  i = x + (L dx/dt) / R_c",
                       "series-parallel loss model of a winding on a core, e.g. R. W. Erickson and D. Maksimović, "
                       "Fundamentals of Power Electronics, ch. 13",
                       1.7},
                      {3, "winding capacitance", "beside the winding C_w, or 1 / ((2π f_sr)² L)",
                       "first self-resonance of a winding", 55},
                      {4, "saturation, temperature of the winding",
                       "λ = L (k_sat i + (1 − k_sat) I_sat atan(i / I_sat)), or the integral of a table of L over i;  "
                       "dλ/dt = v − R_w i,  R_w × (234.5 + T_w) / 259.5",
                       "the inductance falls with the square of the current towards a rest; charge of the state is "
                       "the flux itself; copper as in IEC 60034-1",
                       70}},
            .symbol = {{"M -32 0 L -24 0"},
                       {"A -18 0 6 180 -180"},
                       {"A -6 0 6 180 -180"},
                       {"A 6 0 6 180 -180"},
                       {"A 18 0 6 180 -180"},
                       {"M 24 0 L 32 0"}},
            .labelAt = {-24, -32},
            .group = "Passives"};
        const auto core = coreLossParameters();
        k.parameters.insert(k.parameters.end() - 1, core.begin(), core.end());  // before the rating
        return k;
    }
    Status checkTexts(const std::function<std::string(std::string_view)>& text,
                      const ProjectFolder& folder) const override {
        if (text("table").empty()) return {};
        auto points = curvePoints(text("table"), "table", "A", "H", folder);
        return points ? Status() : Status(points.error());
    }
    void elaborate(NetworkBuilder& b) const override {
        const bool lossy = b.rung() >= 2;
        const int from = b.node("a"), to = b.node("b");
        const double resistance = lossy ? b.value("dcr") : 0.0, conductance = lossy ? 1.0 / b.value("rc") : 0.0;
        double inductance = b.value("l");
        int branch = 0;
        if (b.rung() >= 4) {
            const double warm = resistance * copper(b.value("temp"));
            if (const std::string table = b.text("table"); !table.empty()) {
                const TableCurve curve(*curvePoints(table, "table", "A", "H", b.folder()));
                inductance = curve.atZero();
                branch = addSaturating(b, from, to, inductance, warm, conductance, curve);
            } else {
                branch = addSaturating(b, from, to, inductance, warm, conductance,
                                       SaturatingFlux{b.value("isat"), b.value("lrest")});
            }
            b.offerForm("iw", "A", {{b.nodeCount() + branch, 1.0}});
        } else {
            branch = addInductor(b, from, to, inductance, resistance, conductance, startOf(b, "i0"));
        }
        if (b.rung() >= 3) {
            // The winding capacitance, and what its self-resonance is damped by, beside the winding.
            const double w = 2 * std::numbers::pi * b.value("fsr");
            const int shunt = addCapacitor(b, from, to, b.value("cw") > 0 ? b.value("cw") : 1 / (w * w * inductance), 0,
                                           0, startOf(b, "v0"));
            const Terms through = {{b.nodeCount() + branch, 1.0}, {b.nodeCount() + shunt, 1.0}};
            b.offerTerminals(from, to, through);
        } else {
            b.offerBranch(branch, from, to);
        }
        offerRatings(b);
    }

private:
    template <class Curve>
    static int addSaturating(NetworkBuilder& b, int from, int to, double inductance, double resistance,
                             double conductance, const Curve& curve) {
        const int branch = b.addBranch();
        const int state =
            b.addComposedState(StateSort::windingCurrent, curve(b.value("i0")).value, inductance, b.typed("i0"));
        b.addElement(std::make_unique<SaturatingInductor<Curve>>(b.partName(), branch, from, to, b.nodeCount(), state,
                                                                 inductance, resistance, conductance, curve));
        return branch;
    }
};

class Capacitor final : public PartType {
public:
    PartKind kind() const override {
        return {
            .id = "capacitor",
            .title = "Capacitor",
            .prefix = "C",
            .synonyms = {"c", "cap", "capacitance", "buffer"},
            .summary = "i = C dv/dt, with series resistance and leakage one rung up",
            .help =
                "A constant capacitance. v is the potential of a against b, vc the voltage behind the series "
                "resistance. The initial voltage is given at the "
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
                           seriesLoss("esr", "series resistance", "R_s"),
                           parallelLoss("rp", "leakage resistance", "R_p"),
                           {.key = "esl",
                            .label = "series inductance",
                            .symbol = "L_s",
                            .unit = "H",
                            .standard = "5n",
                            .least = 0,
                            .rung = 3,
                            .none = 0},
                           {.key = "vhalf",
                            .label = "voltage at which half of the capacitance is left",
                            .symbol = "V_half",
                            .unit = "V",
                            .standard = "1k",
                            .least = 0,
                            .aboveLeast = true,
                            .rung = 4},
                           startCurrent(),
                           tableOf("or capacitance over voltage, '0 10u, 25 4u'"),
                           temperature("temperature, °C", "T_C"),
                           {.key = "tcc",
                            .label = "change of the capacitance with temperature, per K",
                            .symbol = "α_C",
                            .unit = "",
                            .standard = "0",
                            .least = -0.01,
                            .most = 0.01,
                            .rung = 4},
                           ratedVoltage(),
                           ratedCurrent(),
                           tolerance()},
            .rungs = {{1, "pure capacitance", "i = C dv/dt", "definition", 1.0},
                      {2, "series and leakage resistance", "v = x + R_s i,  C dx/dt = i − x / R_p",
                       "equivalent circuit of IEC 60384-1", 1.7},
                      {3, "series inductance", "v = x + R_s i + L_s di/dt,  beside L_s a resistance of 2π f_e L_s",
                       "equivalent circuit of IEC 60384-1", 35},
                      {4, "less capacitance under voltage, temperature",
                       "q = C V_half atan(x / V_half), or the integral of a table of C over v;  dq/dt = i − x / R_p,  "
                       "C × (1 + α_C (T_C − 25 °C))",
                       "C(v) = C / (1 + (v / V_half)²): a bell curve through the derating that data sheets of "
                       "ceramic capacitors give",
                       45}},
            .symbol = {{"M 0 -32 L 0 -4"},
                       {"M -20 -4 L 20 -4", Stroke::Weight::heavy},
                       {"M -20 4 L 20 4", Stroke::Weight::heavy},
                       {"M 0 4 L 0 32"}},
            .labelAt = {26, -4},
            .group = "Passives"};
    }
    Status checkTexts(const std::function<std::string(std::string_view)>& text,
                      const ProjectFolder& folder) const override {
        if (text("table").empty()) return {};
        auto points = curvePoints(text("table"), "table", "V", "F", folder);
        return points ? Status() : Status(points.error());
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (1 + value("tcc") * (value("temp") - 25) >= 0.05) return {};
        return Error{ErrorCode::range, "at this temperature nothing would be left of the capacitance", {}, {}, "tcc"};
    }
    void elaborate(NetworkBuilder& b) const override {
        const bool lossy = b.rung() >= 2;
        const double series = lossy ? b.value("esr") : 0.0, leakage = lossy ? 1.0 / b.value("rp") : 0.0;
        const int from =
            b.rung() >= 3 ? behindInductance(b, b.node("a"), b.value("esl"), startOf(b, "i0")) : b.node("a");
        int branch = 0;
        if (b.rung() >= 4) {
            const double warm = 1 + b.value("tcc") * (b.value("temp") - 25);
            if (const std::string table = b.text("table"); !table.empty()) {
                const TableCurve curve(*curvePoints(table, "table", "V", "F", b.folder()));
                branch = addCurvedCapacitor(b, from, b.node("b"), warm * curve.atZero(), curve, series, leakage,
                                            startOf(b, "v0"));
            } else {
                branch = addCurvedCapacitor(b, from, b.node("b"), warm * b.value("c"), DeratedCharge{b.value("vhalf")},
                                            series, leakage, startOf(b, "v0"));
            }
        } else {
            branch = addCapacitor(b, from, b.node("b"), b.value("c"), series, leakage, startOf(b, "v0"));
        }
        b.offerTerminals(b.node("a"), b.node("b"), {{b.nodeCount() + branch, 1.0}});
        b.offerForm("vc", "V", {{from, 1.0}, {b.node("b"), -1.0}, {b.nodeCount() + branch, -series}}, true);
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
