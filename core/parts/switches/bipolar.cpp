// Bipolar transistor: driven by the current of its own base, unlike the other transistors, whose gates follow signals.

#include <limits>

#include "parts/segmented.h"
#include "parts/smooth.h"

namespace hedgerow {

using namespace parts;

namespace {

constexpr double thermalVoltage = 0.025693;  ///< k T / e at 25 °C

struct BipolarNodes {
    int collector, base, emitter;
};

/// Rungs 1 to 3. The base is a knee; the collector carries beta times its current while its voltage allows, else it is
/// a knee too. For npn (sign 1), counted from collector and base to emitter:
///     active: i_C = beta i_B, v_CE >= V_sat + R_on i_C;  saturated: v_CE = V_sat + R_on i_C, i_C <= beta i_B.
class SegmentedBipolar final : public Element {
public:
    enum { off, active, saturated };
    struct Values {
        double sign, knee, baseResistance, gain, saturation, resistance, leak;
    };
    SegmentedBipolar(std::string part, const BipolarNodes& at, int baseBranch, int collectorBranch, int nodeCount,
                     const Values& values)
        : Element(std::move(part)),
          at_(at),
          base_(baseBranch),
          collector_(collectorBranch),
          baseCurrent_(nodeCount + baseBranch),
          collectorCurrent_(nodeCount + collectorBranch),
          values_(values) {}

    int segmentCount() const override { return 3; }
    int initialSegment(bool) const override { return off; }
    int branch() const override { return collector_; }

    void stamp(LinearStamp& s, int segment) const override {
        const Values& v = values_;
        s.currentLaw(base_, at_.base, at_.emitter);
        s.currentLaw(collector_, at_.collector, at_.emitter);
        const int base = s.branchRow(base_), collector = s.branchRow(collector_);
        const auto blocks = [&](int row, int from, int current) {
            s.unknown(row, current, 1.0);
            if (v.leak != 0) s.voltage(row, from, at_.emitter, -v.leak);
            s.relax(row, from, -1.0);
            s.relax(row, at_.emitter, 1.0);
        };
        const auto knee = [&](int row, int from, int current, double voltage, double resistance) {
            s.voltage(row, from, at_.emitter, 1.0);
            s.unknown(row, current, -resistance);
            s.source(row, 0, v.sign * voltage);
            s.relax(row, current, -1.0);
        };
        if (segment == off)
            blocks(base, at_.base, baseCurrent_);
        else
            knee(base, at_.base, baseCurrent_, v.knee * (1 - v.baseResistance * v.leak), v.baseResistance);
        if (segment == saturated) return knee(collector, at_.collector, collectorCurrent_, v.saturation, v.resistance);
        blocks(collector, at_.collector, collectorCurrent_);
        if (segment == off) return;
        s.unknown(collector, baseCurrent_, -v.gain);
        s.source(collector, 0, -v.gain * kneeCurrent());
    }

    std::vector<Guard> guards(int segment) const override {
        const Values& v = values_;
        const auto voltage = [&](Guard& guard, int from, double factor) {
            if (from >= 0) guard.terms.emplace_back(from, factor);
            if (at_.emitter >= 0) guard.terms.emplace_back(at_.emitter, -factor);
        };
        if (segment == off) {
            Guard belowKnee{{}, v.knee, active};
            voltage(belowKnee, at_.base, -v.sign);
            return {belowKnee};
        }
        const Guard driven{{{baseCurrent_, v.sign}}, -v.sign * kneeCurrent(), off};
        if (segment == active) {
            Guard room{{{collectorCurrent_, -v.sign * v.resistance}}, -v.saturation, saturated};
            voltage(room, at_.collector, v.sign);
            return {driven, room};
        }
        Guard enough{
            {{baseCurrent_, v.sign * v.gain}, {collectorCurrent_, -v.sign}}, -v.sign * v.gain * kneeCurrent(), active};
        if (v.leak != 0) voltage(enough, at_.collector, v.sign * v.leak);
        return {driven, enough};
    }

private:
    /// Of the base at its knee, through the leak: from there on it drives the collector.
    double kneeCurrent() const { return values_.leak * values_.sign * values_.knee; }

    BipolarNodes at_;
    int base_, collector_, baseCurrent_, collectorCurrent_;
    Values values_;
};

/// Rung 4, the transport form of J. J. Ebers, J. L. Moll, Proc. IRE 42 (1954), 1761; charges by I. Getreu, Modeling the
/// Bipolar Transistor (1976), ch. 2. Its base and collector lie behind their resistances.
///     i_T = I_s (e(v_BE) - e(v_BC)),  i_C = i_T - I_s/beta_R (e(v_BC) - 1),
///     i_B = I_s/beta (e(v_BE) - 1) + I_s/beta_R (e(v_BC) - 1),  e(v) = exp(v / (n V_T))
class EbersMoll final : public Element {
public:
    struct Values {
        double sign, saturation, emission, gain, reverseGain;
    };
    EbersMoll(std::string part, const BipolarNodes& inner, const Values& values)
        : Element(std::move(part)), at_(inner), values_(values), thermal_(values.emission * thermalVoltage) {
        knee_ = thermal_ * std::log(thermal_ / (std::sqrt(2.0) * values.saturation));
    }
    bool smooth() const override { return true; }
    void stamp(LinearStamp&, int) const override {}
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const Values& v = values_;
        const double be = v.sign * (at.potential(at_.base) - at.potential(at_.emitter)),
                     bc = v.sign * (at.potential(at_.base) - at.potential(at_.collector));
        const Point2 e = limitedExp(be / thermal_), c = limitedExp(bc / thermal_);
        const double slopeE = v.saturation * e.slope / thermal_, slopeC = v.saturation * c.slope / thermal_;
        const double fromE = v.saturation * (e.value - 1), fromC = v.saturation * (c.value - 1);
        const double base = fromE / v.gain + fromC / v.reverseGain + least * (be + bc),
                     collector = fromE - fromC * (1 + 1 / v.reverseGain) - least * bc;
        const double baseByE = slopeE / v.gain + least, baseByC = slopeC / v.reverseGain + least;
        const double collectorByE = slopeE, collectorByC = -slopeC * (1 + 1 / v.reverseGain) - least;
        const auto flow = [&](int row, double value, double byE, double byC) {
            out.flow(row, v.sign * value);
            out.byUnknown(row, at_.base, byE + byC);
            out.byUnknown(row, at_.emitter, -byE);
            out.byUnknown(row, at_.collector, -byC);
        };
        flow(at_.base, base, baseByE, baseByC);
        flow(at_.collector, collector, collectorByE, collectorByC);
        flow(at_.emitter, -base - collector, -baseByE - collectorByE, -baseByC - collectorByC);
    }
    /// The forward junction may not run up its exponential: L. W. Nagel, UCB/ERL M520 (1975), 3.4.
    void tame(std::span<const double> before, std::span<double> after) const override {
        double& base = after[static_cast<std::size_t>(at_.base)];
        for (const int other : {at_.emitter, at_.collector}) {
            const auto across = [&](std::span<const double> z) {
                return values_.sign *
                       (z[static_cast<std::size_t>(at_.base)] - (other < 0 ? 0.0 : z[static_cast<std::size_t>(other)]));
            };
            const double old = across(before), now = across(after);
            if (now <= knee_ || std::abs(now - old) <= 2 * thermal_) continue;
            double limited = knee_;
            if (old <= 0) {
                limited = thermal_ * std::log(now / thermal_);
            } else if (const double u = 1 + (now - old) / thermal_; u > 0) {
                limited = old + thermal_ * std::log(u);
            }
            base += values_.sign * (limited - now);
        }
    }

private:
    static constexpr double least = 1e-12;  ///< S: keeps blocking junctions from losing their slope
    BipolarNodes at_;
    Values values_;
    double thermal_, knee_;
};

/// Charge over C0 of a junction in forward direction: its depletion layer, and what crosses it times the transit time.
struct JunctionCharge {
    DepletionCharge depletion;
    double diffusion;  ///< tau I_s / C0, in V
    double thermal;    ///< n V_T
    Point2 operator()(double v) const {
        const Point2 layer = depletion(-v), e = limitedExp(v / thermal, 45);
        return {-layer.value + diffusion * (e.value - 1), layer.slope + diffusion * e.slope / thermal};
    }
};

class Bipolar final : public SwitchingPart {
public:
    PartKind kind() const override {
        return {.id = "bipolar-transistor",
                .title = "Bipolar transistor",
                .prefix = "Q",
                .synonyms = {"bipolar", "npn", "pnp"},
                .summary = "Its collector carries a multiple of the current of its base",
                .help =
                    "The base is a pin of the circuit: a resistance or a source drives it. v and i are those of the "
                    "collector against the emitter, vb and ib those of the base. Up to rung 3 the collector blocks "
                    "in reverse while the base is not driven, and conducts while it is.",
                .pins = {{"c", {0, -32}}, {"b", {-32, 0}}, {"e", {0, 32}}},
                .parameters = parameters(),
                .rungs =
                    {{1, "multiplies, or is closed", "i_C = β i_B while v_CE ≥ 0, else v_CE = 0;  v_BE = 0",
                      "linear complementarity: v_CE ≥ 0, β i_B − i_C ≥ 0, one of them zero", 1.0},
                     {2, "knees of base and collector, leakage",
                      "v_BE = V_f + R_B i_B;  i_C = β i_B while v_CE ≥ V_sat + R_on i_C, else v_CE = V_sat + R_on i_C",
                      "piecewise-linear output characteristics", 1.7},
                     {3, "capacitances of both junctions", "beside base and emitter C_BE, base and collector C_BC",
                      "definition; charge stored in the base comes with rung 4", 60},
                     {4, "exponential junctions, stored charge",
                      "i_C = I_s (e(v_BE) − e(v_BC)) − I_s/β_R (e(v_BC) − 1),  q = τ I_s (e(v) − 1) + depletion charge",
                      "J. J. Ebers, J. L. Moll, Proc. IRE 42 (1954), 1761; I. Getreu, Modeling the Bipolar "
                      "Transistor (1976), ch. 2",
                      150}},
                .symbol = {{"M 0 -32 L 0 -20 L -12 -8"},
                           {"M -12 8 L 0 20 L 0 32"},
                           {"M -12 -16 L -12 16", Stroke::Weight::heavy},
                           {"M -32 0 L -12 0", Stroke::Weight::thin},
                           {.path = "M 0 20 L -8 18 M 0 20 L -4 12",
                            .weight = Stroke::Weight::thin,
                            .choice = Stroke::Choice{"polarity", "npn"}},
                           {.path = "M -10 10 L -2 12 M -10 10 L -6 18",
                            .weight = Stroke::Weight::thin,
                            .choice = Stroke::Choice{"polarity", "pnp"}}},
                .labelAt = {14, -4},
                .group = "Switches"};
    }

    void elaborate(NetworkBuilder& b) const override {
        const double sign = b.choice("polarity") == "pnp" ? -1 : 1;
        const BipolarNodes outer{b.node("c"), b.node("b"), b.node("e")};
        const bool lossy = b.rung() >= 2;
        const int n = b.nodeCount();
        Terms collector, base;
        if (b.rung() <= 3) {
            const int baseBranch = b.addBranch(), collectorBranch = b.addBranch();
            const auto value = [&](const char* key) { return lossy ? b.value(key) : 0.0; };
            const int element = b.addElement(std::make_unique<SegmentedBipolar>(
                b.partName(), outer, baseBranch, collectorBranch, n,
                SegmentedBipolar::Values{sign, value("vf"), value("rb"), b.value("beta"), value("vsat"), value("ron"),
                                         lossy ? 1 / b.value("roff") : 0.0}));
            collector = {{n + collectorBranch, 1.0}};
            base = {{n + baseBranch, 1.0}};
            if (b.rung() == 3) {
                const int toEmitter =
                              addCapacitor(b, outer.base, outer.emitter, b.value("cbe"), 0, 0, startOf(b, "vb0")),
                          toCollector =
                              addCapacitor(b, outer.base, outer.collector, b.value("cbc"), 0, 0, startAtCollector(b));
                base.insert(base.end(), {{n + toEmitter, 1.0}, {n + toCollector, 1.0}});
                collector.emplace_back(n + toCollector, -1.0);
            }
            b.offerConducting(element);
        } else {
            elaboratePhysical(b, outer, sign, collector, base);
        }
        b.offerTerminals(outer.collector, outer.emitter, collector);
        b.offerTerminals(outer.base, outer.emitter, base, "b");
        offerRatings(b);
    }

private:
    static void elaboratePhysical(NetworkBuilder& b, const BipolarNodes& outer, double sign, Terms& collector,
                                  Terms& base) {
        const BipolarNodes inner{b.addNode(), b.addNode(), outer.emitter};
        const int n = b.nodeCount();
        collector = {{n + addResistance(b, outer.collector, inner.collector, b.value("ron")), 1.0}};
        base = {{n + addResistance(b, outer.base, inner.base, b.value("rb")), 1.0}};
        const double saturation = b.value("is"), thermal = b.value("n") * thermalVoltage;
        b.addElement(std::make_unique<EbersMoll>(
            b.partName(), inner, EbersMoll::Values{sign, saturation, b.value("n"), b.value("beta"), b.value("betar")}));
        const std::pair<int, std::pair<const char*, const char*>> junctions[] = {{inner.emitter, {"cbe", "tf"}},
                                                                                 {inner.collector, {"cbc", "tr"}}};
        for (const auto& [to, keys] : junctions) {
            const double capacitance = b.value(keys.first);
            const JunctionCharge charge{
                {b.value("phi"), b.value("grading")}, b.value(keys.second) * saturation / capacitance, thermal};
            Start start = to == inner.emitter ? startOf(b, "vb0") : startAtCollector(b);
            start.value *= sign;
            addCurvedCapacitor(b, sign > 0 ? inner.base : to, sign > 0 ? to : inner.base, capacitance, charge, 0, 0,
                               start);
        }
    }

    /// From base to collector.
    static Start startAtCollector(const NetworkBuilder& b) {
        const Start base = startOf(b, "vb0"), output = startOf(b, "v0");
        return {base.value - output.value, base.given || output.given};
    }

    static int addResistance(NetworkBuilder& b, int from, int to, double resistance) {
        const int branch = b.addBranch();
        b.addElement(std::make_unique<SegmentedBranch>(b.partName(), branch, from, to, b.nodeCount(),
                                                       std::vector<Piece>{conducting(0, resistance, 0)}));
        return branch;
    }

    static std::vector<ParameterKind> parameters() {
        return {{.key = "polarity",
                 .label = "polarity",
                 .symbol = "",
                 .unit = "",
                 .standard = "npn",
                 .shownOnSheet = true,
                 .choices = {"npn", "pnp"}},
                positiveValue("beta", "current gain", "β", "", "50", 1),
                kneeVoltage("vf", "knee voltage of the base", "V_f", "0.7"),
                notNegative("rb", "base resistance", "R_B", "Ω", "1", 2),
                kneeVoltage("vsat", "saturation voltage of the collector", "V_sat", "0.1"),
                onResistance(),
                offResistance(),
                positiveValue("cbe", "capacitance of base and emitter (at 0 V)", "C_BE", "F", "1n", 3),
                positiveValue("cbc", "capacitance of base and collector (at 0 V)", "C_BC", "F", "200p", 3),
                startVoltage(),
                startValue("vb0", "base voltage at the start", "v_B0", "V"),
                positiveValue("is", "saturation current", "I_s", "A", "1p", 4),
                {.key = "n",
                 .label = "emission coefficient",
                 .symbol = "n",
                 .unit = "",
                 .standard = "1",
                 .least = 0.5,
                 .most = 10,
                 .rung = 4},
                positiveValue("betar", "reverse current gain", "β_R", "", "5", 4),
                notNegative("tf", "forward transit time", "τ_F", "s", "1n", 4),
                notNegative("tr", "reverse transit time", "τ_R", "s", "100n", 4),
                positiveValue("phi", "built-in voltage of depletion layers", "φ", "V", "0.8", 4),
                {.key = "grading",
                 .label = "grading of depletion layers",
                 .symbol = "m",
                 .unit = "",
                 .standard = "0.4",
                 .least = 0,
                 .most = 0.9,
                 .rung = 4},
                ratedVoltage(),
                ratedCurrent()};
    }
};

}  // namespace

void registerBipolar(PartLibrary& library) { library.add(std::make_unique<Bipolar>()); }

}  // namespace hedgerow
