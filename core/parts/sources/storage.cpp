// Battery and photovoltaic string.

#include <algorithm>
#include <cmath>

#include "parts/segmented.h"

namespace hedgerow {

using namespace parts;

namespace {

/// v = x_charge + x_1 + R_0 i, C_b dx_charge/dt = i, C_1 dx_1/dt = i - x_1 / R_1; i counts into the battery.
class BatteryElement final : public Branch {
public:
    struct Setting {
        int charge, polarisation;  ///< states
        int inner;                 ///< branch whose unknown is the voltage of R_1 and C_1
        double storage, r0, r1, c1;
    };
    BatteryElement(std::string part, int branch, int from, int to, const Setting& setting)
        : Branch(std::move(part), branch, from, to), set_(setting) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = s.branchRow(branch_), current = s.branchCurrent(branch_), inner = s.branchCurrent(set_.inner);
        s.currentLaw(branch_, from_, to_);
        s.voltage(row, from_, to_, 1.0);
        s.unknown(row, current, -set_.r0);
        s.unknown(row, inner, -1.0);
        s.state(row, set_.charge, 1.0);
        s.rate(set_.charge, current, 1.0 / set_.storage);
        s.unknown(s.branchRow(set_.inner), inner, 1.0);
        s.state(s.branchRow(set_.inner), set_.polarisation, 1.0);
        s.rate(set_.polarisation, current, 1.0 / set_.c1);
        s.rate(set_.polarisation, inner, -1.0 / (set_.r1 * set_.c1));
    }

private:
    Setting set_;
};

class StiffElement final : public Branch {
public:
    StiffElement(std::string part, int branch, int from, int to, double level)
        : Branch(std::move(part), branch, from, to), level_(level) {}
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.voltage(s.branchRow(branch_), from_, to_, 1.0);
        s.source(s.branchRow(branch_), 0, level_);
    }

private:
    double level_;
};

class Battery final : public PartType {
public:
    PartKind kind() const override {
        const auto value = [](const char* key, const char* label, const char* symbol, const char* unit,
                              const char* standard, int rung) {
            return (rung > 1 ? positiveValue : notNegative)(key, label, symbol, unit, standard, rung);
        };
        PartKind k;
        k.id = "battery";
        k.title = "Battery";
        k.prefix = "B";
        k.synonyms = {"accumulator", "cell", "pack"};
        k.summary = "Open-circuit voltage by state of charge, behind R and an RC pair";
        k.help =
            "The open-circuit voltage goes in a straight line from that of the empty to that of the full battery. The "
            "ideal battery holds the voltage of its initial state of charge; the lossy one is discharged, and has a "
            "resistance and one pair of R and C for its polarisation. v is the potential of p against n; i counts into "
            "p, so that a battery that delivers has a negative p.";
        k.pins = verticalPins("p", "n");
        k.parameters = {value("vempty", "open-circuit voltage, empty", "V_e", "V", "40", 1),
                        value("vfull", "open-circuit voltage, full", "V_f", "V", "50", 1),
                        value("soc", "initial state of charge", "s_0", "%", "80%", 1),
                        value("charge", "charge between empty and full", "Q", "C", "36k", 2),
                        value("r0", "resistance", "R_0", "Ω", "10m", 2),
                        value("r1", "polarisation resistance", "R_1", "Ω", "5m", 2),
                        value("c1", "polarisation capacitance", "C_1", "F", "1k", 2)};
        k.parameters[1].shownOnSheet = true;
        k.parameters[2].most = 1;
        k.rungs = {{1, "stiff", "v = V_e + s_0 (V_f − V_e)", "definition", 1.0},
                   {2, "state of charge, resistance, polarisation",
                    "v = V_e + s (V_f − V_e) + u + R_0 i,  Q ds/dt = i,  C_1 du/dt = i − u / R_1",
                    "Thévenin model of first order", 1.7}};
        k.symbol = {{"M 0 -32 L 0 -12"},
                    {"M -18 -12 L 18 -12"},
                    {"M -9 -4 L 9 -4", Stroke::Weight::heavy},
                    {"M -18 4 L 18 4"},
                    {"M -9 12 L 9 12", Stroke::Weight::heavy},
                    {"M 0 12 L 0 32"},
                    {"M -26 -20 L -18 -20 M -22 -24 L -22 -16", Stroke::Weight::thin}};
        k.labelAt = {26, -4};
        k.group = "Sources";
        return k;
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (value("vfull") <= value("vempty"))
            return Error{ErrorCode::range, "the full battery must have the higher voltage", {}, {}, "vfull"};
        return {};
    }
    StiffSort stiff(int rung, const std::function<double(std::string_view)>&) const override {
        return rung >= 2 ? StiffSort::neither : StiffSort::voltage;
    }
    void elaborate(NetworkBuilder& b) const override {
        const double swing = b.value("vfull") - b.value("vempty"), open = b.value("vempty") + b.value("soc") * swing;
        const int branch = b.addBranch(), from = b.node("p"), to = b.node("n");
        if (b.rung() < 2) {
            b.addElement(std::make_unique<StiffElement>(b.partName(), branch, from, to, open));
        } else {
            BatteryElement::Setting set;
            set.storage = b.value("charge") / swing;
            set.r0 = b.value("r0");
            set.r1 = b.value("r1");
            set.c1 = b.value("c1");
            set.charge = b.addComposedState(StateSort::capacitorVoltage, open, set.storage, b.typed("soc"));
            set.polarisation = b.addState(StateSort::capacitorVoltage, "", set.c1);
            set.inner = b.addNode() - b.nodeCount();
            b.addElement(std::make_unique<BatteryElement>(b.partName(), branch, from, to, set));
        }
        b.offerBranch(branch, from, to);
    }
};

/// Current of a string at a voltage, from four points of its data sheet:
///     I = I_sc (1 - c_1 (exp(V / (c_2 V_oc)) - 1))
/// (H. S. Rauschenbach, Solar Cell Array Design Handbook, 1980, ch. 2.)
struct SolarCurve {
    double shortCircuit, open, c1, c2;
    SolarCurve(double isc, double voc, double imp, double vmp) : shortCircuit(isc), open(voc) {
        c2 = (vmp / voc - 1) / std::log(1 - imp / isc);
        c1 = (1 - imp / isc) * std::exp(-vmp / (c2 * voc));
    }
    double current(double v) const { return shortCircuit * (1 - c1 * (std::exp(v / (c2 * open)) - 1)); }
};

class SolarString final : public PartType {
public:
    PartKind kind() const override {
        const auto value = [](const char* key, const char* label, const char* symbol, const char* unit,
                              const char* standard) {
            return ParameterKind{.key = key,
                                 .label = label,
                                 .symbol = symbol,
                                 .unit = unit,
                                 .standard = standard,
                                 .least = 0,
                                 .aboveLeast = true};
        };
        PartKind k;
        k.id = "solar-string";
        k.title = "Photovoltaic string";
        k.prefix = "PV";
        k.synonyms = {"pv", "solar", "photovoltaic", "panel"};
        k.summary = "The current-voltage curve of a string, in straight pieces";
        k.help =
            "The curve through short circuit, point of maximum power and open circuit is replaced by the given number "
            "of straight pieces between points on it, closer together towards the open circuit, where it bends. "
            "Currents "
            "scale with the irradiance. v is the potential of p against n; i counts into p, so that a string that "
            "delivers has a negative i. It has no diode in series: a higher outer voltage drives a current back.";
        k.pins = verticalPins("p", "n");
        k.parameters = {value("isc", "short-circuit current", "I_sc", "A", "9"),
                        value("voc", "open-circuit voltage", "V_oc", "V", "370"),
                        value("imp", "current at maximum power", "I_mp", "A", "8.4"),
                        value("vmp", "voltage at maximum power", "V_mp", "V", "300"),
                        value("irradiance", "irradiance, of 1000 W/m²", "g", "", "1"),
                        value("pieces", "number of pieces", "n", "", "8")};
        k.parameters[1].shownOnSheet = true;
        k.parameters[5].least = 2;
        k.parameters[5].aboveLeast = false;
        k.parameters[5].most = 60;
        k.rungs = {{1, "curve in straight pieces", "i = −I_sc (1 − c_1 (exp(v / (c_2 V_oc)) − 1)) at the points",
                    "H. S. Rauschenbach, Solar Cell Array Design Handbook, 1980", 1.0}};
        k.symbol = {{"M 0 -32 L 0 -22"},
                    {"M 0 22 L 0 32"},
                    {"M -16 -22 L 16 -22 L 16 22 L -16 22 Z"},
                    {"M -16 -22 L 0 -4 L 16 -22", Stroke::Weight::thin},
                    {"M -36 -14 L -22 -6 M -26 -12 L -22 -6 L -29 -6 M -36 2 L -22 10 M -26 4 L -22 10 L -29 10",
                     Stroke::Weight::thin}};
        k.labelAt = {24, -4};
        k.group = "Sources";
        return k;
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (value("imp") >= value("isc"))
            return Error{ErrorCode::range,
                         "the current at maximum power must be below that of the short circuit",
                         {},
                         {},
                         "imp"};
        if (value("vmp") >= value("voc"))
            return Error{
                ErrorCode::range, "the voltage at maximum power must be below that of the open circuit", {}, {}, "vmp"};
        if (value("pieces") != std::round(value("pieces")))
            return Error{ErrorCode::range, "the number of pieces must be whole", {}, {}, "pieces"};
        return {};
    }
    void elaborate(NetworkBuilder& b) const override {
        const SolarCurve curve(b.value("isc"), b.value("voc"), b.value("imp"), b.value("vmp"));
        const int n = static_cast<int>(b.value("pieces"));
        std::vector<double> volts, amperes;
        for (int k = 0; k <= n; ++k) {
            const double left = 1 - static_cast<double>(k) / n;
            volts.push_back(curve.open * (1 - left * left));
            amperes.push_back(curve.current(volts.back()) - (1 - b.value("irradiance")) * curve.shortCircuit);
        }
        std::vector<Piece> pieces;
        for (int k = 0; k < n; ++k) {
            const auto j = static_cast<std::size_t>(k);
            const double slope = (amperes[j + 1] - amperes[j]) / (volts[j + 1] - volts[j]);
            // i = -(I_k + slope (v - V_k))
            Piece piece{slope, 1, slope * volts[j] - amperes[j], true};
            if (k > 0) piece.bounds.push_back(voltageAbove(volts[j], k - 1));
            if (k + 1 < n) piece.bounds.push_back(voltageBelow(volts[j + 1], k + 1));
            pieces.push_back(std::move(piece));
        }
        const int branch = b.addBranch();
        b.addElement(std::make_unique<SegmentedBranch>(b.partName(), branch, b.node("p"), b.node("n"), b.nodeCount(),
                                                       std::move(pieces)));
        b.offerBranch(branch, b.node("p"), b.node("n"));
    }
};

}  // namespace

void registerStorage(PartLibrary& library) {
    library.add(std::make_unique<Battery>());
    library.add(std::make_unique<SolarString>());
}

}  // namespace hedgerow
