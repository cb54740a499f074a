// MOSFET whose gate is a pin of the circuit, n-channel or p-channel: what drives it is drawn.

#include "parts/junctions.h"
#include "parts/switches/controlled_contact.h"
#include "parts/switches/gate_drive.h"

namespace hedgerow {

using namespace parts;

namespace {

class GatePinMosfet final : public SwitchingPart {
public:
    PartKind kind() const override {
        const Stroke::Choice n{"channel", "n-channel"}, p{"channel", "p-channel"};
        return {
            .id = "mosfet-with-gate-pin",
            .title = "MOSFET with a gate pin",
            .prefix = "Q",
            .synonyms = {"gate pin", "pmos", "p-channel"},
            .summary = "A field-effect transistor, n-channel or p-channel, driven by what is wired to its gate",
            .help =
                "For drivers, linear stages and everything else in which the gate is more than on or off; where a "
                "modulator drives it, the MOSFET with body diode computes much faster. v and i are those of the "
                "drain against the source, vgs and ig those of the gate. Of a p-channel, threshold and gate voltage "
                "are typed as magnitudes. Up to rung 2 no current flows into the gate.",
            .pins = {{"d", {0, -32}}, {"g", {-32, 0}}, {"s", {0, 32}}},
            .parameters = parameters(),
            .rungs =
                {{1, "closed above the threshold, or a diode", "v_gs > V_th: v = 0;  else v ≥ 0, i ≤ 0, v i = 0",
                  "definition", 1.0},
                 {2, "channel resistance, diode knee, leakage",
                  "v_gs > V_th: v = R_on i;  else i = v / R_off;  beside it v = −V_f + R_d i in reverse",
                  "piecewise-linear channel and junction", 1.7},
                 {3, "saturation, capacitances, recovery, package inductance",
                  "i = min(v / R_on, g_m (v_gs − V_th));  C_gd = C_rss, C_gs = C_iss − C_rss, C_ds = C_oss − C_rss; "
                  " the gate behind R_g;  diode with q_M",
                  "piecewise-linear transistor; P. O. Lauritzen, C. L. Ma, IEEE Trans. Power Electronics 6 "
                  "(1991), 188",
                  60},
                 {4, "channel and charges as curves, heat",
                  "i = K (v_o v_e − v_e²/2)(1 + λ v),  K = 1 / (R_on (V_on − V_th)) (T / 298 K)^−k_T;  C(v) = C "
                  "(1 + v/φ)^−m through its value at V_C;  C_th dT/dt = p − (T − T_a) / R_th",
                  "H. Shichman, D. A. Hodges, IEEE J. Solid-State Circuits 3 (1968), 285, corners rounded", 105}},
            .symbol = {{"M 0 -32 L 0 -14 L -12 -14"},
                       {"M 0 32 L 0 14 L -12 14"},
                       {"M -18 -16 L -18 16"},
                       {.path = "M -32 0 L -18 0", .choice = n},
                       {.path = "M -32 0 L -24 0 O -21 0 3", .choice = p},
                       {"M -12 -18 L -12 18", Stroke::Weight::heavy},
                       {"M 0 -24 L 14 -24 L 14 24 L 0 24", Stroke::Weight::thin},
                       {.path = "M 9 5 L 19 5 L 14 -5 Z M 9 -5 L 19 -5", .weight = Stroke::Weight::thin, .choice = n},
                       {.path = "M 9 -5 L 19 -5 L 14 5 Z M 9 5 L 19 5", .weight = Stroke::Weight::thin, .choice = p}},
            .labelAt = {26, -4},
            .group = "Switches"};
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        const auto refused = [](const char* what, const char* key) {
            return Error{ErrorCode::range, what, {}, {}, key};
        };
        if (auto status = SwitchingPart::check(value); !status) return status;
        if (value("crss") >= value("coss"))
            return refused("the output capacitance must be above the reverse transfer capacitance, a part of it",
                           "coss");
        if (value("crss") >= value("ciss"))
            return refused("the input capacitance must be above the reverse transfer capacitance, a part of it",
                           "ciss");
        if (value("vth") >= value("von")) return refused("the on-resistance must be given above the threshold", "von");
        return {};
    }

    Status checkTexts(const std::function<std::string(std::string_view)>& text,
                      const ProjectFolder& folder) const override {
        return checkCapacitanceCurves(text, folder);
    }

    void elaborate(NetworkBuilder& b) const override {
        const double sign = b.choice("channel") == "p-channel" ? -1 : 1;
        if (b.rung() >= 3)
            elaborateDynamic(b, sign);
        else
            elaborateContact(b, sign);
        Terms control;
        for (const auto& [node, factor] : {std::pair{b.node("g"), 1.0}, {b.node("s"), -1.0}})
            if (node >= 0) control.emplace_back(node, factor);
        b.offerForm("vgs", "V", control);
        offerRatings(b);
    }

private:
    /// The way the diode conducts: from source to drain of an n-channel.
    static std::pair<int, int> diodeWay(int drain, int source, double sign) {
        return sign > 0 ? std::pair{source, drain} : std::pair{drain, source};
    }

    static void elaborateContact(NetworkBuilder& b, double sign) {
        const int drain = b.node("d"), source = b.node("s"), gate = b.node("g");
        const bool lossy = b.rung() >= 2;
        const int channel = b.addBranch();
        const double threshold = b.value("vth");
        const int element = b.addElement(std::make_unique<ControlledContact>(
            b.partName(), channel, drain, source, b.nodeCount(), Contact(b),
            sign > 0 ? ControlledContact::Control{gate, source, threshold, threshold}
                     : ControlledContact::Control{source, gate, threshold, threshold}));
        const double knee = lossy ? b.value("vf") : 0;
        std::vector<Piece> pieces = {blocking(0), conducting(knee, lossy ? b.value("rd") : 0, 0)};
        pieces[0].bounds = {voltageBelow(knee, 1)};
        pieces[1].bounds = {currentAbove(0, 0)};
        const int diode = b.addBranch();
        const auto [from, to] = diodeWay(drain, source, sign);
        b.addElement(
            std::make_unique<SegmentedBranch>(b.partName(), diode, from, to, b.nodeCount(), std::move(pieces)));
        const int n = b.nodeCount();
        b.offerTerminals(drain, source, {{n + channel, 1.0}, {n + diode, -sign}});
        b.offerConducting(element);
    }

    static void elaborateDynamic(NetworkBuilder& b, double sign) {
        const int source = b.node("s"), drain = behindInductance(b, b.node("d"), b.value("lpk"), startOf(b, "i0"));
        const ChannelNodes at{drain, source, b.addNode()};
        const int gate = b.addBranch();
        b.addElement(std::make_unique<SegmentedBranch>(b.partName(), gate, b.node("g"), at.gate, b.nodeCount(),
                                                       std::vector<Piece>{conducting(0, b.value("rg"), 0)}));
        const auto [toGate, toSource] = addCapacitances(b, at, sign);
        const int channel = addChannel(b, at, false, 1, 1, sign);
        const Recovery recovery{b.value("tau"), b.value("tm")};
        const auto [from, to] = diodeWay(drain, source, sign);
        const int diode =
            b.rung() == 3 ? addRecoveringDiode(b, from, to, b.value("vf"), b.value("rd"), 0, recovery)
                          : addExponentialDiode(b, from, to, {b.value("is"), b.value("n"), b.value("rd"), recovery});
        const int n = b.nodeCount();
        b.offerTerminals(b.node("d"), source,
                         {{n + channel, 1.0}, {n + toGate, sign}, {n + toSource, sign}, {n + diode, -sign}});
        b.offerForm("ig", "A", {{n + gate, 1.0}});
    }

    static std::vector<ParameterKind> parameters() {
        std::vector<ParameterKind> all = {{.key = "channel",
                                           .label = "channel",
                                           .symbol = "",
                                           .unit = "",
                                           .standard = "n-channel",
                                           .shownOnSheet = true,
                                           .choices = {"n-channel", "p-channel"}},
                                          onResistance("channel resistance"),
                                          kneeVoltage("vf", "knee of the diode", "V_f", "0.8"),
                                          onResistance("resistance of the diode", "rd", "R_d", "5m"),
                                          offResistance()};
        for (ParameterKind& parameter : gateParameters({"3", "40", "12", "0", "5", "3n", "400p", "50p", "5n"})) {
            if (parameter.key == "voff") continue;
            if (parameter.key == "vth") parameter.rung = 1, parameter.shownOnSheet = true;
            if (parameter.key == "von") parameter.label = "gate voltage at which R_on is given";
            if (parameter.key == "rg") parameter.label = "gate resistance";
            // A depletion channel conducts at 0 V.
            if (parameter.key == "vth") parameter.least = -std::numeric_limits<double>::infinity();
            all.push_back(std::move(parameter));
        }
        for (const auto& group : {std::vector<ParameterKind>{lifetime("60n"), transit("30n")},
                                  curvedChannelParameters("40"),
                                  capacitanceCurves(),
                                  {builtIn(), grading(), saturationCurrent(), emission()},
                                  {ratedVoltage(), ratedCurrent()}})
            all.insert(all.end(), group.begin(), group.end());
        return all;
    }
};

}  // namespace

void registerGatePin(PartLibrary& library) { library.add(std::make_unique<GatePinMosfet>()); }

}  // namespace hedgerow
