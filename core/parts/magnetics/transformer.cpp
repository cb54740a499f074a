// Transformers with two and three windings, from ideal to leaky.

#include <cmath>

#include "parts/smooth.h"

namespace hedgerow {

using namespace parts;

namespace {

/// All windings share the voltage of one turn, e, and their ampere-turns add up to what magnetises:
///     v_k = R_k i_k + L_k di_k/dt + N_k e,   sum N_k i_k = N_1 (x + N_1 e / R_c),   L_m dx/dt = N_1 e
class TransformerElement final : public Element {
public:
    struct Winding {
        int from, to, branch;
        double turns, resistance = 0, leakage = 0;
        int state = -1;  ///< current of the leakage inductance, when there is one
    };
    struct Core {
        int turnVoltage;  ///< branch whose unknown is e
        double inductance = 0, lossConductance = 0;
        int state = -1;        ///< magnetising current on the side of the first winding, or its flux over L_m
        int magnetising = -1;  ///< branch that holds that current, where the state is the flux
    };
    TransformerElement(std::string part, std::vector<Winding> windings, const Core& core)
        : Element(std::move(part)), windings_(std::move(windings)), core_(core) {}

    void stamp(LinearStamp& s, int) const override {
        const int e = s.branchCurrent(core_.turnVoltage), coreRow = s.branchRow(core_.turnVoltage);
        for (const Winding& w : windings_) {
            const int row = s.branchRow(w.branch), current = s.branchCurrent(w.branch);
            s.currentLaw(w.branch, w.from, w.to);
            s.relaxNode(w.from);
            s.relaxNode(w.to);
            s.unknown(coreRow, current, w.turns);
            if (w.state >= 0) {
                s.unknown(row, current, 1.0);
                s.state(row, w.state, 1.0);
                s.rate(w.state, w.from, 1.0 / w.leakage);
                s.rate(w.state, w.to, -1.0 / w.leakage);
                s.rate(w.state, current, -w.resistance / w.leakage);
                s.rate(w.state, e, -w.turns / w.leakage);
            } else {
                s.voltage(row, w.from, w.to, 1.0);
                s.unknown(row, current, -w.resistance);
                s.unknown(row, e, -w.turns);
            }
        }
        const double first = windings_.front().turns;
        if (core_.state < 0) return;
        if (core_.magnetising >= 0)
            s.unknown(coreRow, s.branchCurrent(core_.magnetising), -first);
        else
            s.state(coreRow, core_.state, first);
        s.unknown(coreRow, e, -first * first * core_.lossConductance);
        s.rate(core_.state, e, first / core_.inductance);
    }

private:
    std::vector<Winding> windings_;
    Core core_;
};

class Transformer final : public PartType {
public:
    explicit Transformer(int windings) : windings_(windings) {}

    PartKind kind() const override {
        PartKind k;
        k.id = windings_ == 2 ? "transformer" : "transformer-3";
        k.title = windings_ == 2 ? "Transformer" : "Transformer, three windings";
        k.prefix = "TR";
        k.synonyms = windings_ == 2 ? std::vector<std::string>{"trafo", "xfmr", "tr"}
                                    : std::vector<std::string>{"trafo3", "tr3"};
        k.summary = "Windings of given turns on one core";
        k.help =
            "The numbers of turns count only by their ratios. The ideal transformer passes direct voltages as well; "
            "the "
            "lossy one does not, since it has a magnetising inductance. Its values and those of the core loss are seen "
            "from the first winding, each leakage from its own. Currents count into the pins with the dot. For a "
            "centre "
            "tap join two windings.";
        k.pins = {{"a1", {-32, -32}}, {"b1", {-32, 32}}};
        drawUpright(k.symbol, -12, 0, 1);
        if (windings_ == 2) {
            k.pins.insert(k.pins.end(), {{"a2", {32, -32}}, {"b2", {32, 32}}});
            drawUpright(k.symbol, 12, 0, -1);
        } else {
            k.pins.insert(k.pins.end(), {{"a2", {32, -72}}, {"b2", {32, -8}}, {"a3", {32, 8}}, {"b3", {32, 72}}});
            drawUpright(k.symbol, 12, -40, -1);
            drawUpright(k.symbol, 12, 40, -1);
        }
        k.symbol.push_back({windings_ == 2 ? "M -2 -24 L -2 24 M 2 -24 L 2 24" : "M -2 -64 L -2 64 M 2 -64 L 2 64",
                            Stroke::Weight::thin});
        k.labelAt = {-20, windings_ == 2 ? -56 : -96};
        for (int i = 1; i <= windings_; ++i)
            k.parameters.push_back({.key = "n" + std::to_string(i),
                                    .label = "turns " + std::to_string(i),
                                    .symbol = "N_" + std::to_string(i),
                                    .unit = "",
                                    .standard = "1",
                                    .least = 0,
                                    .aboveLeast = true,
                                    .shownOnSheet = true});
        k.parameters.push_back({.key = "lm",
                                .label = "magnetising inductance",
                                .symbol = "L_m",
                                .unit = "H",
                                .standard = "10m",
                                .least = 0,
                                .aboveLeast = true,
                                .rung = 2});
        k.parameters.push_back({.key = "i0",
                                .label = "initial magnetising current",
                                .symbol = "i_0",
                                .unit = "A",
                                .standard = "0",
                                .rung = 2,
                                .atStart = true});
        k.parameters.push_back(parallelLoss("rc", "core-loss resistance", "R_c"));
        for (int i = 1; i <= windings_; ++i) {
            const std::string d = std::to_string(i);
            k.parameters.push_back(seriesLoss("r" + d, "winding resistance " + d, "R_" + d));
        }
        for (int i = 1; i <= windings_; ++i)
            k.parameters.push_back({.key = "leak" + std::to_string(i),
                                    .label = "leakage inductance " + std::to_string(i),
                                    .symbol = "L_σ" + std::to_string(i),
                                    .unit = "H",
                                    .standard = "1u",
                                    .least = 0,
                                    .rung = 3,
                                    .none = 0});
        for (int i = 2; i <= windings_; ++i) {
            const std::string d = std::to_string(i);
            k.parameters.push_back({.key = "i" + d,
                                    .label = "current of winding " + d + " at the start",
                                    .symbol = "i_" + d,
                                    .unit = "A",
                                    .standard = "0",
                                    .rung = 3,
                                    .atStart = true});
        }
        const auto further = [&](const char* key, const char* label, const char* symbol, const char* unit,
                                 const char* standard, int rung) {
            k.parameters.push_back({.key = key,
                                    .label = label,
                                    .symbol = symbol,
                                    .unit = unit,
                                    .standard = standard,
                                    .least = 0,
                                    .aboveLeast = rung > 3,
                                    .rung = rung});
        };
        further("cw", "capacitance of the first winding", "C_w", "F", "0", 3);
        further("cww", "capacitance of each further one to it", "C_ww", "F", "0", 3);
        for (ParameterKind& parameter : coreLossParameters()) k.parameters.push_back(std::move(parameter));
        further("isat", "magnetising current at saturation (inductance halfway to its rest)", "I_sat", "A", "2", 4);
        further("lrest", "rest of the inductance in saturation", "k_sat", "", "0.02", 4);
        k.parameters.back().most = 1;
        k.rungs = {{1, "turns ratio", "v_k / N_k = v_1 / N_1,  Σ N_k i_k = 0", "Faraday's and Ampère's laws", 1.0},
                   {2, "magnetising inductance, core loss, winding resistances",
                    "v_k = R_k i_k + N_k e,  Σ N_k i_k = N_1 (x + N_1 e / R_c),  L_m dx/dt = N_1 e",
                    "equivalent circuit of the transformer", 1.7},
                   {3, "leakage inductances, winding capacitances",
                    "v_k = R_k i_k + L_σk di_k/dt + N_k e;  beside the first winding C_w, from it to each other C_ww",
                    "equivalent circuit of the transformer", 20},
                   {4, "saturating core",
                    "x = k_sat i_m + (1 − k_sat) I_sat atan(i_m / I_sat),  L_m dx/dt = N_1 e,  Σ N_k i_k = N_1 (i_m + "
                    "N_1 e / R_c)",
                    "the inductance falls with the square of the magnetising current towards a rest; the state is the "
                    "flux",
                    28}};
        k.group = "Magnetics";
        return k;
    }

    void elaborate(NetworkBuilder& b) const override {
        std::vector<TransformerElement::Winding> windings;
        for (int i = 1; i <= windings_; ++i) {
            const std::string d = std::to_string(i);
            const int from = b.node("a" + d), to = b.node("b" + d), branch = b.addBranch();
            TransformerElement::Winding w{from, to, branch, b.value("n" + d)};
            // The first winding carries what magnetises and what the others do not cancel.
            Start start = startOf(b, i == 1 ? "i0" : "i" + d);
            for (int k = 2; i == 1 && k <= windings_; ++k) {
                const std::string other = std::to_string(k);
                start.value -= b.value("n" + other) / b.value("n1") * b.value("i" + other);
                start.given = start.given || b.typed("i" + other);
            }
            if (b.rung() >= 2) w.resistance = b.value("r" + d);
            if (b.rung() >= 3 && b.value("leak" + d) > 0) {
                w.leakage = b.value("leak" + d);
                w.state = b.addComposedState(StateSort::windingCurrent, start.value, w.leakage, start.given);
            }
            windings.push_back(w);
            offerWinding(b, branch, from, to, b.rung() >= 3 && i == 1 ? b.value("cw") : 0, d);
            if (i > 1 && b.rung() >= 3)
                addBetweenWindings(b, {windings.front().from, windings.front().to}, {from, to}, b.value("cww"));
        }
        TransformerElement::Core core{b.addBranch()};
        if (b.rung() >= 2) {
            core.inductance = b.value("lm");
            core.lossConductance = 1 / b.value("rc");
        }
        if (b.rung() >= 4) {
            const SaturatingFlux curve{b.value("isat"), b.value("lrest")};
            core.magnetising = b.addBranch();
            core.state = b.addComposedState(StateSort::windingCurrent, curve(b.value("i0")).value, core.inductance,
                                            b.typed("i0"));
            const int current = b.nodeCount() + core.magnetising;
            b.addElement(std::make_unique<SaturatingFluxOf>(b.partName(), current, core.state, curve));
            b.offerForm("im", "A", {{current, 1.0}});
        } else if (b.rung() >= 2) {
            core.state = b.addState(StateSort::windingCurrent, "i0", core.inductance);
        }
        b.addElement(std::make_unique<TransformerElement>(b.partName(), std::move(windings), core));
    }

private:
    /// A standing winding of 64 px around y, bulging to the side of `way`.
    static void drawUpright(std::vector<Stroke>& symbol, int x, int y, int way) {
        const std::string at = std::to_string(x), out = std::to_string(way > 0 ? -32 : 32);
        symbol.push_back({"M " + out + " " + std::to_string(y - 32) + " L " + at + " " + std::to_string(y - 32) +
                          " L " + at + " " + std::to_string(y - 24)});
        for (const int step : {-18, -6, 6, 18})
            symbol.push_back({"A " + at + " " + std::to_string(y + step) + " 6 90 " + (way > 0 ? "-180" : "180")});
        symbol.push_back({"M " + at + " " + std::to_string(y + 24) + " L " + at + " " + std::to_string(y + 32) + " L " +
                          out + " " + std::to_string(y + 32)});
        symbol.push_back(
            {"O " + std::to_string(x - 7 * way) + " " + std::to_string(y - 22) + " 1.5", Stroke::Weight::normal, true});
    }
    int windings_;
};

}  // namespace

void registerTransformers(PartLibrary& library) {
    library.add(std::make_unique<Transformer>(2));
    library.add(std::make_unique<Transformer>(3));
}

}  // namespace hedgerow
