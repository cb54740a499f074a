// The mains and what measures beside it: three-phase source, artificial mains network.

#include <cmath>
#include <numbers>
#include <tuple>

#include "parts/generators.h"
#include "parts/two_terminal.h"

namespace hedgerow {

using namespace parts;

namespace {

/// v = R i + L di/dt + a sin + b cos, the pair being a sine source.
class PhaseElement final : public Branch {
public:
    struct Setting {
        int source;
        double ofSine, ofCosine;
        InnerImpedance inner = {};
    };
    PhaseElement(std::string part, int branch, int from, int to, const Setting& setting)
        : Branch(std::move(part), branch, from, to), set_(setting) {}
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        stampBehind(s, branch_, from_, to_, set_.inner, [&](int row) {
            s.source(row, set_.source, set_.ofSine);
            s.source(row, set_.source + 1, set_.ofCosine);
        });
    }

private:
    Setting set_;
};

class ThreePhaseSource final : public PartType {
public:
    PartKind kind() const override {
        PartKind k;
        k.id = "three-phase-voltage";
        k.title = "Three-phase voltage source";
        k.prefix = "V";
        k.synonyms = {"3ph", "three-phase", "mains3", "threephase"};
        k.summary = "Three sine voltages against n, a third of a period apart";
        k.help =
            "The voltage is the RMS value between two lines. Phase a is √(2/3) · V · sin(2π f t + phase); b and c "
            "follow "
            "a third of a period later each, or the other way round. v, i and p of each phase end in its letter, as "
            "does "
            "e, its source voltage behind resistance and inductance; i counts into the pin.";
        k.pins = {{"a", {32, -32}}, {"b", {32, 0}}, {"c", {32, 32}}, {"n", {-32, 0}}};
        k.parameters = {{.key = "v",
                         .label = "voltage between lines, RMS",
                         .symbol = "V",
                         .unit = "V",
                         .standard = "400",
                         .shownOnSheet = true},
                        {.key = "f",
                         .label = "frequency",
                         .symbol = "f",
                         .unit = "Hz",
                         .standard = "50",
                         .least = 0,
                         .most = 1e10,
                         .aboveLeast = true,
                         .shownOnSheet = true},
                        {.key = "phase", .label = "phase", .symbol = "φ", .unit = "deg", .standard = "0"},
                        {.key = "sequence",
                         .label = "sequence",
                         .symbol = "",
                         .unit = "",
                         .standard = "abc",
                         .choices = {"abc", "acb"}},
                        seriesLoss("ri", "resistance of each phase", "R_i"),
                        {.key = "li",
                         .label = "inductance of each phase",
                         .symbol = "L_i",
                         .unit = "H",
                         .standard = "100u",
                         .least = 0,
                         .rung = 2,
                         .none = 0}};
        k.rungs = {{1, "stiff", "v_k = √(2/3) V sin(2π f t + φ − 2π k/3)", "definition", 1.0},
                   {2, "resistance and inductance of each phase", "v_k = e_k + R_i i_k + L_i di_k/dt",
                    "Thévenin's theorem", 1.7}};
        k.symbol = {
            {"O 0 0 22"},
            {"M -32 0 L -22 0"},
            {"M 32 0 L 22 0 M 32 -32 L 0 -32 L 0 -22 M 32 32 L 0 32 L 0 22"},
            {"A -6 0 6 180 -180"},
            {"A 6 0 6 180 180"},
            {"M 26 -38 L 30 -38 M 26 -5 L 30 -5 M 26 -8 L 30 -8 M 26 24 L 30 24 M 26 27 L 30 27 M 26 21 L 30 21",
             Stroke::Weight::thin}};
        k.labelAt = {-56, -40};
        k.group = "Sources";
        return k;
    }
    void elaborate(NetworkBuilder& b) const override {
        const int source = b.addSource(std::make_unique<SineGenerator>(b.value("f"), b.value("phase")));
        const double peak = b.value("v") * std::sqrt(2.0 / 3.0), way = b.choice("sequence") == "abc" ? -1.0 : 1.0;
        const char* const pins[] = {"a", "b", "c"};
        for (int k = 0; k < 3; ++k) {
            const double shift = way * 2 * std::numbers::pi * k / 3;
            PhaseElement::Setting set{source, peak * std::cos(shift), peak * std::sin(shift)};
            const int branch = b.addBranch(), from = b.node(pins[k]), to = b.node("n");
            if (b.rung() >= 2) set.inner = innerImpedance(b);
            b.addElement(std::make_unique<PhaseElement>(b.partName(), branch, from, to, set));
            b.offerBranch(branch, from, to, pins[k]);
            // e: at the terminals, or behind R and L.
            const Terms inside = set.inner.state >= 0
                                     ? Terms{{b.nodeCount() + set.inner.emf, 1.0}}
                                     : Terms{{from, 1.0}, {to, -1.0}, {b.nodeCount() + branch, -set.inner.resistance}};
            b.offerForm(std::string("e") + pins[k], "V", inside, true);
        }
    }
};

/// An inductance, or a resistance and a capacitance in series.
class InductanceElement final : public Branch {
public:
    InductanceElement(std::string part, int branch, int from, int to, int state, double inductance)
        : Branch(std::move(part), branch, from, to), state_(state), inductance_(inductance) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = s.branchRow(branch_);
        s.currentLaw(branch_, from_, to_);
        s.unknown(row, s.branchCurrent(branch_), 1.0);
        s.state(row, state_, 1.0);
        s.rate(state_, from_, 1.0 / inductance_);
        s.rate(state_, to_, -1.0 / inductance_);
    }

private:
    int state_;
    double inductance_;
};

class SeriesElement final : public Branch {
public:
    SeriesElement(std::string part, int branch, int from, int to, int state, double capacitance, double resistance)
        : Branch(std::move(part), branch, from, to),
          state_(state),
          capacitance_(capacitance),
          resistance_(resistance) {}
    void stamp(LinearStamp& s, int) const override {
        const int row = s.branchRow(branch_), current = s.branchCurrent(branch_);
        s.currentLaw(branch_, from_, to_);
        s.voltage(row, from_, to_, 1.0);
        s.unknown(row, current, -resistance_);
        s.state(row, state_, 1.0);
        s.rate(state_, current, 1.0 / capacitance_);
    }

private:
    int state_;
    double capacitance_, resistance_;
};

/// One line of the V-network: 250 uH keep the impedance of the mains out, L decouples the equipment, and a series R and
/// C close the line before and behind L.
class MainsNetwork final : public PartType {
public:
    PartKind kind() const override {
        const auto value = [](const char* key, const char* label, const char* symbol, const char* unit,
                              const char* standard) { return positiveValue(key, label, symbol, unit, standard, 1); };
        PartKind k;
        k.id = "artificial-mains-network";
        k.title = "Artificial mains network";
        k.prefix = "AMN";
        k.synonyms = {"amn", "lisn", "v-network"};
        k.summary = "A defined impedance between mains and equipment, with the noise across 50 Ω";
        k.help =
            "One line of a V-network: 250 µH from the mains, then 50 µH to the equipment; between the two 8 µF and 5 Ω "
            "to "
            "the reference, and from the equipment side 250 nF and the 50 Ω of the receiver with 1 kΩ beside it. vn is "
            "the "
            "noise voltage across the receiver. Take one for each line.";
        k.pins = {{"m", {-40, 0}}, {"e", {40, 0}}, {"r", {0, 40}}};
        k.parameters = {value("lm", "inductance to the mains", "L_m", "H", "250u"),
                        value("l", "inductance", "L", "H", "50u"),
                        value("cm", "capacitance, mains side", "C_m", "F", "8u"),
                        value("rm", "resistance, mains side", "R_m", "Ω", "5"),
                        value("ce", "capacitance, equipment side", "C_e", "F", "250n"),
                        value("re", "resistance of the receiver", "R_e", "Ω", "50"),
                        value("rd", "resistance beside the receiver", "R_d", "Ω", "1k")};
        const auto start = [&](const char* key, const char* label, const char* symbol, const char* unit) {
            k.parameters.push_back(
                {.key = key, .label = label, .symbol = symbol, .unit = unit, .standard = "0", .atStart = true});
        };
        start("i0", "line current at the start", "i_0", "A");
        start("vm0", "voltage of C_m at the start", "v_m0", "V");
        start("ve0", "voltage of C_e at the start", "v_e0", "V");
        k.rungs = {{1, "50 Ω / 50 µH + 5 Ω",
                    "L_m, then L between m and e;  R_m C_m between them and R_e C_e from e to r",
                    "V-network of CISPR 16-1-2, 9 kHz to 30 MHz", 1.0}};
        k.symbol = {{"M -32 -20 L 32 -20 L 32 28 L -32 28 Z", Stroke::Weight::thin},
                    {"M -40 0 L -18 0"},
                    {"A -12 0 6 180 -180"},
                    {"A 0 0 6 180 -180"},
                    {"A 12 0 6 180 -180"},
                    {"M 18 0 L 40 0"},
                    {"M -22 0 L -22 10 M -27 10 L -17 10 M -27 13 L -17 13 M -22 13 L -22 22", Stroke::Weight::thin},
                    {"M 22 0 L 22 10 M 17 10 L 27 10 M 17 13 L 27 13 M 22 13 L 22 22", Stroke::Weight::thin},
                    {"M -22 22 L 22 22 M 0 22 L 0 40", Stroke::Weight::thin}};
        k.labelAt = {-32, -52};
        k.group = "Meters";
        return k;
    }
    void elaborate(NetworkBuilder& b) const override {
        const int m = b.node("m"), e = b.node("e"), r = b.node("r"), between = b.addNode();
        const int feed = b.addBranch(), line = b.addBranch(), mains = b.addBranch(), equipment = b.addBranch();
        const double receiver = 1 / (1 / b.value("re") + 1 / b.value("rd"));
        for (const auto& [branch, from, to, key] :
             {std::tuple(feed, m, between, "lm"), std::tuple(line, between, e, "l")})
            b.addElement(std::make_unique<InductanceElement>(b.partName(), branch, from, to,
                                                             b.addState(StateSort::windingCurrent, "i0", b.value(key)),
                                                             b.value(key)));
        b.addElement(std::make_unique<SeriesElement>(b.partName(), mains, between, r,
                                                     b.addState(StateSort::capacitorVoltage, "vm0", b.value("cm")),
                                                     b.value("cm"), b.value("rm")));
        b.addElement(std::make_unique<SeriesElement>(b.partName(), equipment, e, r,
                                                     b.addState(StateSort::capacitorVoltage, "ve0", b.value("ce")),
                                                     b.value("ce"), receiver));
        b.offerBranch(line, between, e, "l");
        b.offerForm("vn", "V", {{b.nodeCount() + equipment, receiver}});
        b.offerBranch(mains, between, r, "m");
        b.offerBranch(equipment, e, r, "e");
    }
};

}  // namespace

void registerMains(PartLibrary& library) {
    library.add(std::make_unique<ThreePhaseSource>());
    library.add(std::make_unique<MainsNetwork>());
}

}  // namespace hedgerow
