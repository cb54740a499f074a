// Diode and Zener diode.

#include "parts/junctions.h"
#include "parts/segmented.h"
#include "parts/switches/loss_fields.h"

namespace hedgerow {

using namespace parts;

namespace {

const std::vector<Stroke> diodeSymbol = {
    {"M 0 -32 L 0 -12"},
    {"M -12 -12 L 12 -12 L 0 10 Z"},
    {"M -12 -12 L 12 -12 L 0 10 Z", Stroke::Weight::normal, true, Stroke::When::conducting},
    {"M -12 10 L 12 10", Stroke::Weight::heavy},
    {"M 0 10 L 0 32"}};

ParameterKind capacitanceCurve() {
    return {.key = "cjcurve",
            .label = "or C_j over reverse voltage, '0 200p, 40 30p', or a CSV file",
            .symbol = "",
            .unit = "",
            .standard = "",
            .rung = 4,
            .text = true};
}
Status checkCapacitanceCurve(const std::function<std::string(std::string_view)>& text, const ProjectFolder& folder) {
    if (text("cjcurve").empty()) return {};
    auto points = curvePoints(text("cjcurve"), "cjcurve", "V", "F", folder);
    return points ? Status() : points.error();
}

/// A junction that recovers and its capacitance, on rung 3 or 4. @return their currents from a to k
std::pair<std::pair<int, double>, std::pair<int, double>> addJunction(NetworkBuilder& b, int a, int k) {
    const Recovery recovery{b.value("tau"), b.value("tm")};
    int junction = 0, capacitance = 0;
    if (b.rung() == 3) {
        int element = 0;
        junction = addRecoveringDiode(b, a, k, b.value("vf"), b.value("ron"), 1 / b.value("roff"), recovery, &element);
        capacitance = addCapacitor(b, a, k, b.value("cj"), 0, 0, startOf(b, "v0"));
        b.offerConducting(element);
    } else {
        junction = addExponentialDiode(b, a, k, {b.value("is"), b.value("n"), b.value("ron"), recovery});
        // Counted from k to a: its charge is that of the reverse voltage.
        if (const std::string text = b.text("cjcurve"); !text.empty()) {
            const TableCurve curve(*curvePoints(text, "cjcurve", "V", "F", b.folder()));
            capacitance = addCurvedCapacitor(b, k, a, curve.atZero(), curve, 0, 0, startOf(b, "v0", -1));
        } else {
            capacitance =
                addCurvedCapacitor(b, k, a, b.value("cj"), DepletionCharge{b.value("phi"), b.value("grading")}, 0, 0,
                                   startOf(b, "v0", -1));
        }
    }
    const int n = b.nodeCount();
    b.offerForm("ij", "A", {{n + junction, 1.0}});
    return {{n + junction, 1.0}, {n + capacitance, b.rung() == 3 ? 1.0 : -1.0}};
}

class Diode final : public SwitchingPart {
public:
    PartKind kind() const override {
        PartKind kind{
            .id = "diode",
            .title = "Diode",
            .prefix = "D",
            .synonyms = {"d", "rectifier", "freewheel", "body diode"},
            .summary = "Conducts from a to k, blocks the other way",
            .help =
                "Turns on when its voltage reaches the knee and off when its current reaches zero, both found exactly. "
                "Ideal diodes may commutate into each other without any resistance in the loop. On rung 2 it may "
                "follow "
                "points of a curve instead of knee and on-resistance, typed as '0.6 0, 0.8 5, 1 20' from no current "
                "on, "
                "or in a CSV file; the model desk draws them from an upper rung.",
            .pins = verticalPins("a", "k"),
            .parameters = {kneeVoltage("vf", "knee voltage", "V_f", "0.7"),
                           onResistance(),
                           offResistance(),
                           {.key = "curve",
                            .label = "curve: V A, V A, …",
                            .symbol = "",
                            .unit = "",
                            .standard = "",
                            .rung = 2,
                            .text = true},
                           lifetime("100n"),
                           transit("50n"),
                           startVoltage(),
                           {.key = "cj",
                            .label = "junction capacitance (at 0 V)",
                            .symbol = "C_j",
                            .unit = "F",
                            .standard = "200p",
                            .least = 0,
                            .aboveLeast = true,
                            .rung = 3},
                           saturationCurrent(),
                           emission(),
                           builtIn(),
                           grading(),
                           capacitanceCurve(),
                           ratedVoltage(),
                           ratedCurrent()},
            .rungs = {{1, "closed or open", "on: v = 0 while i ≥ 0,  off: i = 0 while v ≤ 0",
                       "linear complementarity: v ≤ 0, i ≥ 0, v i = 0", 1.0},
                      {2, "knee, on-resistance, leakage",
                       "on: v = V_f + R_on (i − V_f / R_off), or along the points of a curve,  off: i = v / R_off",
                       "piecewise-linear junction, continuous at the knee", 1.7},
                      {3, "recovery charge, junction capacitance",
                       "i = (q_E − q_M) / T_M,  dq_M/dt = i − q_M / τ,  v = V_f + R_on i while q_E > 0;  beside it C_j",
                       "P. O. Lauritzen, C. L. Ma, IEEE Trans. Power Electronics 6 (1991), 188", 60},
                      {4, "exponential junction, depletion charge",
                       "q_E = (τ + T_M) I_s (exp(v_j / (n V_T)) − 1),  v_j = v − R_on i;  C_j(v) = C_j (1 − v / φ)^−m",
                       "the same, with the exponential of a junction; S. M. Sze, K. K. Ng, Physics of Semiconductor "
                       "Devices, 2.2",
                       150}},
            .symbol = diodeSymbol,
            .labelAt = {20, -4},
            .group = "Switches"};
        return withLosses(std::move(kind), LossSort::diode);
    }
    Status checkTexts(const std::function<std::string(std::string_view)>& text,
                      const ProjectFolder& folder) const override {
        if (auto status = checkCapacitanceCurve(text, folder); !status) return status;
        if (!text("curve").empty())
            if (auto points = forwardPoints(text("curve"), folder); !points) return points.error();
        return checkLossTexts(text, LossSort::diode);
    }
    void elaborate(NetworkBuilder& b) const override {
        if (b.rung() >= 3) return elaborateDynamic(b);
        const bool lossy = b.rung() >= 2;
        if (lossy && !b.text("curve").empty())
            return addSegmented(b, b.node("a"), b.node("k"),
                                along(*forwardPoints(b.text("curve"), b.folder()), 1 / b.value("roff")));
        const double knee = lossy ? b.value("vf") : 0, leak = lossy ? 1 / b.value("roff") : 0;
        std::vector<Piece> pieces = {blocking(leak), conducting(knee, lossy ? b.value("ron") : 0, leak)};
        pieces[0].bounds = {voltageBelow(knee, 1)};
        pieces[1].bounds = {currentAbove(knee * leak, 0)};
        addSegmented(b, b.node("a"), b.node("k"), std::move(pieces));
    }

private:
    /// Voltages and currents that rise, from no current on.
    static Result<std::vector<TablePoint>> forwardPoints(const std::string& text, const ProjectFolder& folder) {
        auto points = pointsOf(text, "V", "A", folder);
        std::string wrong;
        if (!points)
            wrong = points.error().message;
        else if (points->size() < 2 || points->front().value != 0 || points->front().t < 0)
            wrong = "the first of at least two points is the knee, at 0 A";
        else
            for (std::size_t i = 1; i < points->size(); ++i)
                if (!((*points)[i].value > (*points)[i - 1].value)) wrong = "voltages and currents rise along it";
        if (wrong.empty()) return points;
        return Error{ErrorCode::range, wrong, {}, {}, "curve"};
    }

    /// A line from each point to the next, the last one going on; up to the first point there is the leak.
    static std::vector<Piece> along(const std::vector<TablePoint>& points, double leak) {
        std::vector<Piece> pieces = {blocking(leak)};
        pieces[0].bounds = {voltageBelow(points.front().t, 1)};
        double current = points.front().t * leak;
        for (std::size_t k = 0; k + 1 < points.size(); ++k) {
            const double next = points[k + 1].value;
            const double slope = (points[k + 1].t - points[k].t) / std::max(next - current, 1e-300);
            Piece piece{1, -slope, points[k].t - slope * current, true};
            piece.bounds = {currentAbove(current, static_cast<int>(k))};
            if (k + 2 < points.size()) piece.bounds.push_back(currentBelow(next, static_cast<int>(k) + 2));
            pieces.push_back(std::move(piece));
            current = next;
        }
        return pieces;
    }

    static void elaborateDynamic(NetworkBuilder& b) {
        const auto [junction, capacitance] = addJunction(b, b.node("a"), b.node("k"));
        b.offerTerminals(b.node("a"), b.node("k"), {junction, capacitance});
        offerRatings(b);
    }
};

class Zener final : public SwitchingPart {
public:
    PartKind kind() const override {
        PartKind k{.id = "zener",
                   .title = "Zener diode",
                   .prefix = "D",
                   .synonyms = {"zener", "z", "tvs", "clamp"},
                   .summary = "A diode that breaks down at a given reverse voltage",
                   .help =
                       "Conducts from a to k like a diode, and from k to a when the reverse voltage reaches the "
                       "breakdown voltage, which it then holds. Two of them back to back limit both ways.",
                   .pins = verticalPins("a", "k"),
                   .parameters = {{.key = "vz",
                                   .label = "breakdown voltage",
                                   .symbol = "V_z",
                                   .unit = "V",
                                   .standard = "12",
                                   .least = 0,
                                   .aboveLeast = true,
                                   .shownOnSheet = true},
                                  kneeVoltage("vf", "knee voltage", "V_f", "0.7"),
                                  onResistance(),
                                  onResistance("breakdown resistance", "rz", "R_z", "1"),
                                  offResistance(),
                                  lifetime("30n"),
                                  transit("15n"),
                                  startVoltage(),
                                  {.key = "cj",
                                   .label = "junction capacitance (at 0 V)",
                                   .symbol = "C_j",
                                   .unit = "F",
                                   .standard = "200p",
                                   .least = 0,
                                   .aboveLeast = true,
                                   .rung = 3},
                                  saturationCurrent(),
                                  emission(),
                                  builtIn(),
                                  grading(),
                                  capacitanceCurve(),
                                  {.key = "corner",
                                   .label = "width of the breakdown knee",
                                   .symbol = "s_z",
                                   .unit = "V",
                                   .standard = "50m",
                                   .least = 0,
                                   .aboveLeast = true,
                                   .rung = 4},
                                  sheetFigures(),
                                  estimatedKeys(),
                                  ratedCurrent()},
                   .rungs = {{1, "ideal in all three states", "forward: v = 0,  blocking: i = 0,  breakdown: v = −V_z",
                              "piecewise-linear junction", 1.0},
                             {2, "knee, resistances, leakage",
                              "forward: v = V_f + R_on i,  breakdown: v = −V_z + R_z i,  blocking: i = v / R_off",
                              "piecewise-linear junction, continuous at both knees", 1.7},
                             {3, "recovery charge, junction capacitance",
                              "forward as the diode: i = (q_E − q_M) / T_M,  dq_M/dt = i − q_M / τ;  beside it C_j and "
                              "the breakdown",
                              "P. O. Lauritzen, C. L. Ma, IEEE Trans. Power Electronics 6 (1991), 188", 60},
                             {4, "exponential junction, depletion charge, rounded breakdown",
                              "q_E = (τ + T_M) I_s (exp(v_j / (n V_T)) − 1);  C_j(v) = C_j (1 − v / φ)^−m;  breakdown "
                              "i = −(s_z / R_z) ln(1 + exp(−(v + V_z) / s_z))",
                              "the same; the breakdown is its straight line with the corner rounded over s_z", 150}},
                   .symbol = diodeSymbol,
                   .labelAt = {20, -4},
                   .group = "Switches"};
        k.symbol.push_back({"M -12 10 L -12 16 M 12 10 L 12 4", Stroke::Weight::heavy});
        return k;
    }
    Status checkTexts(const std::function<std::string(std::string_view)>& text,
                      const ProjectFolder& folder) const override {
        return checkCapacitanceCurve(text, folder);
    }
    void elaborate(NetworkBuilder& b) const override {
        if (b.rung() >= 3) return elaborateDynamic(b);
        enum { off, forward, breakdown };
        const bool lossy = b.rung() >= 2;
        const double knee = lossy ? b.value("vf") : 0, leak = lossy ? 1 / b.value("roff") : 0, vz = b.value("vz");
        std::vector<Piece> pieces = {blocking(leak), conducting(knee, lossy ? b.value("ron") : 0, leak),
                                     conducting(-vz, lossy ? b.value("rz") : 0, leak)};
        pieces[off].bounds = {voltageBelow(knee, forward), voltageAbove(-vz, breakdown)};
        pieces[forward].bounds = {currentAbove(knee * leak, off)};
        pieces[breakdown].bounds = {currentBelow(-vz * leak, off)};
        addSegmented(b, b.node("a"), b.node("k"), std::move(pieces));
    }

private:
    /// A diode that recovers, and beside it a branch from k to a that breaks down.
    static void elaborateDynamic(NetworkBuilder& b) {
        const int a = b.node("a"), k = b.node("k");
        const auto [junction, capacitance] = addJunction(b, a, k);
        const double vz = b.value("vz"), least = 1e-6, resistance = std::max(b.value("rz"), least);
        const int reverse = b.addBranch();
        if (b.rung() == 3) {
            std::vector<Piece> pieces = {blocking(0), conducting(vz, resistance, 0)};
            pieces[0].bounds = {voltageBelow(vz, 1)};
            pieces[1].bounds = {currentAbove(0, 0)};
            b.addElement(
                std::make_unique<SegmentedBranch>(b.partName(), reverse, k, a, b.nodeCount(), std::move(pieces)));
        } else {
            b.addElement(
                std::make_unique<SoftKnee>(b.partName(), reverse, k, a, b.nodeCount(),
                                           SoftKnee::Values{vz, resistance, b.value("corner"), 1 / b.value("roff")}));
        }
        b.offerTerminals(a, k, {junction, capacitance, {b.nodeCount() + reverse, -1.0}});
        offerRatings(b);
    }
};

}  // namespace

void registerDiodes(PartLibrary& library) {
    library.add(std::make_unique<Diode>());
    library.add(std::make_unique<Zener>());
}

}  // namespace hedgerow
