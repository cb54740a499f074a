// Thyristor and triac.

#include <algorithm>

#include "parts/junctions.h"
#include "parts/segmented.h"
#include "parts/switches/loss_fields.h"

namespace hedgerow {

using namespace parts;

namespace {

constexpr double noCurrent = 1e-9;  ///< A: at rung 1, where nothing is given, a thyristor latches above it

/// Charge over C0 of a device that blocks both ways: a depletion layer for either sign.
struct BothWays {
    DepletionCharge layer;
    Point2 operator()(double v) const {
        const Point2 at = layer(std::abs(v));
        return {v < 0 ? -at.value : at.value, at.slope};
    }
};

class Thyristor final : public SwitchingPart {
public:
    PartKind kind() const override {
        PartKind kind{
            .id = "thyristor",
            .title = "Thyristor",
            .prefix = "T",
            .synonyms = {"thyristor", "scr"},
            .summary = "A diode that starts to conduct only when its gate is on",
            .help =
                "Turns on when the gate is on and the voltage from a to k reaches the knee; stays on without the "
                "gate until the current falls to the holding current. One rung up: if the gate leaves before the "
                "latching current is reached it goes off again, and a forward voltage that comes back within the "
                "turn-off time after conduction makes it conduct once more without any gate.",
            .pins = {{"a", {0, -32}}, {"k", {0, 32}}, {"g", {-32, 0}, PinSort::signalIn}},
            .parameters = {kneeVoltage("vf", "knee voltage", "V_f", "1"),
                           onResistance(),
                           offResistance(),
                           {.key = "ilatch",
                            .label = "latching current",
                            .symbol = "I_L",
                            .unit = "A",
                            .standard = "0",
                            .least = 0,
                            .rung = 2},
                           {.key = "ihold",
                            .label = "holding current",
                            .symbol = "I_H",
                            .unit = "A",
                            .standard = "0",
                            .least = 0,
                            .rung = 2},
                           {.key = "tq",
                            .label = "turn-off time",
                            .symbol = "t_q",
                            .unit = "s",
                            .standard = "0",
                            .least = 0,
                            .most = 1,
                            .rung = 2},
                           lifetime("20u"),
                           transit("5u"),
                           startVoltage(),
                           {.key = "cj",
                            .label = "junction capacitance",
                            .symbol = "C_j",
                            .unit = "F",
                            .standard = "500p",
                            .least = 0,
                            .aboveLeast = true,
                            .rung = 3},
                           {.key = "rcj",
                            .label = "resistance in series with it",
                            .symbol = "R_C",
                            .unit = "Ω",
                            .standard = "1",
                            .least = 0,
                            .rung = 4},
                           saturationCurrent(),
                           emission(),
                           builtIn(),
                           grading(),
                           ratedVoltage(),
                           ratedCurrent()},
            .rungs =
                {{1, "closed or open", "on: v = 0 while i ≥ 0,  off: i = 0", "definition", 1.0},
                 {2, "knee, resistance, leakage; latching, holding, turn-off time",
                  "on: v = V_f + R_on i while i ≥ I_H,  off: i = v / R_off", "terms of IEC 60747-6", 1.7},
                 {3, "recovery charge, junction capacitance",
                  "a forward valve in series with a junction: i = (q_E − q_M) / T_M,  dq_M/dt = i − q_M / τ;  "
                  "beside them C_j",
                  "P. O. Lauritzen, C. L. Ma, IEEE Trans. Power Electronics 6 (1991), 188", 60},
                 {4, "exponential junction, curved capacitance",
                  "q_E / T_M = (1 + τ / T_M) I_s (exp((v − R_on i) / (n V_T)) − 1) in the junction;  C(v) = C_j (1 "
                  "+ |v| / φ)^−m, behind R_C",
                  "diode equation of W. Shockley, Bell System Technical Journal 28 (1949), 435", 420}},
            .symbol = {{"M 0 -32 L 0 -12"},
                       {"M -12 -12 L 12 -12 L 0 10 Z"},
                       {"M -12 -12 L 12 -12 L 0 10 Z", Stroke::Weight::normal, true, Stroke::When::conducting},
                       {"M -12 10 L 12 10", Stroke::Weight::heavy},
                       {"M 0 10 L 0 32"},
                       {"M -32 0 L -24 0 L -4 12", Stroke::Weight::thin}},
            .labelAt = {20, -4},
            .group = "Switches"};
        return withLosses(std::move(kind), LossSort::thyristor);
    }
    Status checkTexts(const std::function<std::string(std::string_view)>& text, const ProjectFolder&) const override {
        return checkLossTexts(text, LossSort::thyristor);
    }
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (value("ihold") > value("ilatch") && value("ilatch") > 0)
            return Error{
                ErrorCode::range, "the holding current must not be above the latching current", {}, {}, "ihold"};
        return SwitchingPart::check(value);
    }
    void elaborate(NetworkBuilder& b) const override {
        if (b.rung() >= 3) return elaborateDynamic(b);
        enum { off, armed, held, starting, latched, recovering, recoveringArmed, chopped };
        const bool lossy = b.rung() >= 2;
        const double knee = lossy ? b.value("vf") : 0, leak = lossy ? 1 / b.value("roff") : 0;
        const double hold = std::max(knee * leak, lossy ? b.value("ihold") : 0);
        const double latch = std::max(hold, lossy ? b.value("ilatch") : 0), recovery = lossy ? b.value("tq") : 0;
        const Piece open = blocking(leak), closed = conducting(knee, lossy ? b.value("ron") : 0, leak);
        std::vector<Piece> pieces = {open, open, closed, closed, closed, open, open, open};
        const bool latches = latch > knee * leak;
        pieces[off].gateOn = armed;
        pieces[armed].gateOff = off;
        pieces[armed].bounds = {voltageBelow(knee, latches ? starting : latched)};
        // Below the holding current it goes off though the voltage is still forward; one that returns counts again.
        pieces[held].bounds = {currentAbove(hold, hold > knee * leak ? chopped : recovering)};
        pieces[chopped].bounds = {voltageAbove(0, recovering)};
        pieces[chopped].timeout = Timeout{recovery, off};
        pieces[chopped].gateOn = armed;
        pieces[held].gateOn = latched;
        pieces[starting].bounds = {currentAbove(knee * leak, armed), currentBelow(latch, latched)};
        pieces[starting].gateOff = off;
        pieces[latched].bounds = {currentAbove(latches ? hold : knee * leak, latches ? starting : recoveringArmed)};
        pieces[latched].gateOff = held;
        // Without a current it has not latched, although nothing has turned it off yet.
        pieces[latched].gateOffIdle = off;
        pieces[latched].idle = std::max(hold, noCurrent);
        pieces[recovering].bounds = {voltageBelow(knee, held)};
        pieces[recovering].gateOn = recoveringArmed;
        pieces[recoveringArmed].bounds = {voltageBelow(knee, latched)};
        pieces[recoveringArmed].gateOff = recovering;
        // Even with no turn-off time: until all commutations of the instant are settled it may still be conducting.
        pieces[recovering].timeout = Timeout{recovery, off};
        pieces[recoveringArmed].timeout = Timeout{recovery, armed};
        addSegmented(b, b.node("a"), b.node("k"), std::move(pieces), b.signal("g"), {off, armed});
    }

private:
    /// The junction blocks in reverse once its charge is swept out; the valve before it blocks forward until it is
    /// fired, and lets pass what flows back. After a reverse current of the turn-off time it blocks forward again.
    static void elaborateDynamic(NetworkBuilder& b) {
        enum { off, reverse, held, recovering, armed, latched, recoveringArmed };
        const int a = b.node("a"), k = b.node("k"), inner = b.addNode();
        const double leak = 1 / b.value("roff"), hold = b.value("ihold"), latch = std::max(hold, b.value("ilatch")),
                     recovery = b.value("tq"), least = 1e-4;
        const Piece closed = conducting(0, least, 0);
        std::vector<Piece> pieces = {blocking(leak), closed, closed, closed, closed, closed, closed};
        pieces[off].bounds = {voltageAbove(0, reverse)};
        pieces[reverse].bounds = {currentBelow(0, off)};
        pieces[off].gateOn = pieces[reverse].gateOn = armed;
        // Fired: closed either way, so that a forward current may start.
        pieces[armed].gateOff = off;
        pieces[armed].bounds = {currentBelow(std::max(latch, 1e-6), latched)};
        pieces[latched].bounds = {currentAbove(hold, recoveringArmed)};
        pieces[latched].gateOff = held;
        pieces[held].bounds = {currentAbove(hold, recovering)};
        pieces[held].gateOn = latched;
        pieces[recovering].bounds = {currentBelow(std::max(hold, 1e-6), held)};
        pieces[recovering].gateOn = recoveringArmed;
        pieces[recovering].timeout = Timeout{recovery, off};
        pieces[recoveringArmed].bounds = {currentBelow(std::max(latch, 1e-6), latched)};
        pieces[recoveringArmed].gateOff = recovering;
        const int valve = b.addBranch();
        const int element = b.addElement(std::make_unique<SegmentedBranch>(
            b.partName(), valve, a, inner, b.nodeCount(), std::move(pieces), b.signal("g"), std::pair{off, armed}));
        const Recovery charge{b.value("tau"), b.value("tm")};
        Terms through = {{b.nodeCount() + valve, 1.0}};
        if (b.rung() == 3) {
            addRecoveringDiode(b, inner, k, b.value("vf"), b.value("ron"), leak, charge);
            through.emplace_back(b.nodeCount() + addCapacitor(b, a, k, b.value("cj"), 0, 0, startOf(b, "v0")), 1.0);
        } else {
            addExponentialDiode(b, inner, k, {b.value("is"), b.value("n"), b.value("ron"), charge});
            const BothWays layers{{b.value("phi"), b.value("grading")}};
            through.emplace_back(
                b.nodeCount() + addCurvedCapacitor(b, a, k, b.value("cj"), layers, b.value("rcj"), 0, startOf(b, "v0")),
                1.0);
        }
        b.offerTerminals(a, k, through);
        b.offerConducting(element);
        offerRatings(b);
    }
};

class Triac final : public SwitchingPart {
public:
    PartKind kind() const override {
        return {
            .id = "triac",
            .title = "Triac",
            .prefix = "T",
            .synonyms = {"triac"},
            .summary = "Conducts either way once its gate was on, until its current passes through zero",
            .help =
                "Turns on in the direction of its voltage while the gate is on, and stays on without the gate until "
                "the current falls to zero.",
            .pins = {{"a", {0, -32}}, {"b", {0, 32}}, {"g", {-32, 16}, PinSort::signalIn}},
            .parameters = {kneeVoltage("vf", "knee voltage", "V_f", "1"), onResistance(), offResistance(),
                           ratedVoltage(), ratedCurrent()},
            .rungs = {{1, "closed or open", "on: v = 0 until i = 0,  off: i = 0", "definition", 1.0},
                      {2, "knee, resistance, leakage", "on: v = ±V_f + R_on i,  off: i = v / R_off",
                       "two thyristors back to back", 1.7}},
            .symbol = {{"M 0 -32 L 0 -10"},
                       {"M 0 10 L 0 32"},
                       {"M -16 -10 L 16 -10 M -16 10 L 16 10", Stroke::Weight::heavy},
                       {"M -16 -10 L 0 -10 L -8 10 Z M 0 10 L 16 10 L 8 -10 Z"},
                       {"M -16 -10 L 0 -10 L -8 10 Z M 0 10 L 16 10 L 8 -10 Z", Stroke::Weight::normal, true,
                        Stroke::When::conducting},
                       {"M -32 16 L -20 16 L -12 10", Stroke::Weight::thin}},
            .labelAt = {24, -4},
            .group = "Switches"};
    }
    void elaborate(NetworkBuilder& b) const override {
        enum { off, armed, forward, backward, forwardArmed, backwardArmed, afterForward, afterBackward };
        const bool lossy = b.rung() >= 2;
        const double knee = lossy ? b.value("vf") : 0, leak = lossy ? 1 / b.value("roff") : 0;
        const Piece open = blocking(leak), to = conducting(knee, lossy ? b.value("ron") : 0, leak),
                    from = conducting(-knee, lossy ? b.value("ron") : 0, leak);
        std::vector<Piece> pieces = {open, open, to, from, to, from, open, open};
        pieces[off].gateOn = armed;
        pieces[armed].gateOff = off;
        pieces[armed].bounds = {voltageBelow(knee, forwardArmed), voltageAbove(-knee, backwardArmed)};
        pieces[forward].bounds = {currentAbove(knee * leak, afterForward)};
        pieces[backward].bounds = {currentBelow(-knee * leak, afterBackward)};
        // Until all commutations of the instant are settled it may still be conducting.
        pieces[afterForward].bounds = {voltageBelow(knee, forward)};
        pieces[afterBackward].bounds = {voltageAbove(-knee, backward)};
        pieces[afterForward].timeout = pieces[afterBackward].timeout = Timeout{0, off};
        pieces[afterForward].gateOn = pieces[afterBackward].gateOn = armed;
        pieces[forwardArmed].bounds = {currentAbove(knee * leak, armed)};
        pieces[backwardArmed].bounds = {currentBelow(-knee * leak, armed)};
        pieces[forward].gateOn = forwardArmed;
        pieces[backward].gateOn = backwardArmed;
        pieces[forwardArmed].gateOff = forward;
        pieces[backwardArmed].gateOff = backward;
        pieces[forwardArmed].gateOffIdle = pieces[backwardArmed].gateOffIdle = off;
        pieces[forwardArmed].idle = pieces[backwardArmed].idle = std::max(knee * leak, noCurrent);
        addSegmented(b, b.node("a"), b.node("b"), std::move(pieces), b.signal("g"), {off, armed});
    }
};

}  // namespace

void registerThyristors(PartLibrary& library) {
    library.add(std::make_unique<Thyristor>());
    library.add(std::make_unique<Triac>());
}

}  // namespace hedgerow
