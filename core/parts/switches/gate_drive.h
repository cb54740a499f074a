#pragma once
// What transistors driven by a voltage at their gate share from rung 3 on: driver, capacitances, channel.

#include <set>

#include "parts/segmented.h"
#include "parts/switches/channel.h"
#include "parts/switches/loss_fields.h"

namespace hedgerow::parts {

/// Values that differ from transistor to transistor, as typed.
struct GateDefaults {
    const char *threshold, *transconductance, *on, *off, *resistance;
    const char *input, *output, *reverse;  ///< capacitances
    const char* package;                   ///< inductance
};

/// Those of rung 3.
inline std::vector<ParameterKind> gateParameters(const GateDefaults& d) {
    return {positiveValue("vth", "threshold", "V_th", "V", d.threshold, 3),
            positiveValue("gm", "transconductance", "g_m", "S", d.transconductance, 3),
            positiveValue("von", "gate voltage that turns on", "V_on", "V", d.on, 3),
            {.key = "voff",
             .label = "gate voltage that turns off",
             .symbol = "V_off",
             .unit = "V",
             .standard = d.off,
             .rung = 3},
            positiveValue("rg", "gate resistance, driver included", "R_g", "Ω", d.resistance, 3),
            positiveValue("ciss", "input capacitance", "C_iss", "F", d.input, 3),
            positiveValue("coss", "output capacitance", "C_oss", "F", d.output, 3),
            positiveValue("crss", "reverse transfer capacitance", "C_rss", "F", d.reverse, 3),
            {.key = "lpk",
             .label = "inductance of package and track",
             .symbol = "L_pk",
             .unit = "H",
             .standard = d.package,
             .least = 0,
             .rung = 3},
            startVoltage(),
            startCurrent(),
            startValue("vg0", "gate voltage at the start", "v_g0", "V")};
}

/// Those of rung 4, of a channel with heat. @param voltage  at which capacitances are given
inline std::vector<ParameterKind> curvedChannelParameters(const char* voltage) {
    std::vector<ParameterKind> all = {
        positiveValue("vc", "voltage at which the capacitances are given", "V_C", "V", voltage, 4),
        positiveValue("corner", "width of the threshold", "s", "V", "80m", 4),
        {.key = "lambda",
         .label = "channel length modulation",
         .symbol = "λ",
         .unit = "",
         .standard = "5m",
         .least = 0,
         .rung = 4},
        {.key = "kt",
         .label = "fall of the channel's gain with temperature, as a power",
         .symbol = "k_T",
         .unit = "",
         .standard = "2",
         .least = 0,
         .most = 5,
         .rung = 4}};
    for (ParameterKind& parameter : heatParameters("10", "50m")) all.push_back(std::move(parameter));
    return all;
}

inline Status checkGate(const std::function<double(std::string_view)>& value) {
    const auto refused = [](const char* what, const char* key) { return Error{ErrorCode::range, what, {}, {}, key}; };
    if (value("crss") >= value("coss"))
        return refused("the output capacitance must be above the reverse transfer capacitance, which is a part of it",
                       "coss");
    if (value("crss") >= value("ciss"))
        return refused("the input capacitance must be above the reverse transfer capacitance, which is a part of it",
                       "ciss");
    if (value("vth") >= value("von"))
        return refused("the gate voltage that turns on must be above the threshold", "von");
    if (value("vth") <= value("voff"))
        return refused("the gate voltage that turns off must be below the threshold", "voff");
    return {};
}

/// Capacitances along the points of a data sheet, in place of single values.
inline std::vector<ParameterKind> capacitanceCurves() {
    const auto one = [](const char* key, const char* label) {
        return ParameterKind{
            .key = key, .label = label, .symbol = "", .unit = "", .standard = "", .rung = 3, .text = true};
    };
    return {one("cosscurve", "or C_oss over voltage, '0 2n, 50 300p', or a CSV file"),
            one("crsscurve", "or C_rss over voltage, likewise"), one("cisscurve", "or C_iss over voltage, likewise")};
}
inline Status checkCapacitanceCurves(const std::function<std::string(std::string_view)>& text,
                                     const ProjectFolder& folder) {
    for (const char* key : {"cosscurve", "crsscurve", "cisscurve"})
        if (!text(key).empty())
            if (auto points = curvePoints(text(key), key, "V", "F", folder); !points) return points.error();
    return {};
}

/// A source of V_on or V_off behind R_g, between gate and source.
inline void addDriver(NetworkBuilder& b, int gate, int source) {
    const double resistance = b.value("rg");
    std::vector<Piece> pieces = {{1, -resistance, b.value("voff"), true}, {1, -resistance, b.value("von"), true}};
    pieces[0].gateOn = 1;
    pieces[1].gateOff = 0;
    const int branch = b.addBranch();
    b.addElement(std::make_unique<SegmentedBranch>(b.partName(), branch, gate, source, b.nodeCount(), std::move(pieces),
                                                   b.signal("g"), std::pair{0, 1}));
    b.offerForm("ig", "A", {{b.nodeCount() + branch, -1.0}});
    Terms control = {{gate, 1.0}};
    if (source >= 0) control.emplace_back(source, -1.0);
    b.offerForm("vgs", "V", control);
}

/// What conducts by a field has a resistance, even where none was given.
inline double channelResistance(const NetworkBuilder& b) { return std::max(b.value("ron"), 1e-6); }

/// The capacitances of a transistor over the voltage of its drain: from the points of its fields, else from single
/// values, constant on rung 3 and as depletion layers on rung 4.
class DrainCapacitances {
public:
    explicit DrainCapacitances(const NetworkBuilder& b)
        : reverse_(pointsOfField(b, "crsscurve")),
          output_(pointsOfField(b, "cosscurve")),
          input_(pointsOfField(b, "cisscurve")),
          curved_(b.rung() >= 4),
          layer_{curved_ ? b.value("phi") : 1, curved_ ? b.value("grading") : 0},
          // The data sheet gives capacitances at a voltage; the curves start at zero volts.
          atZero_(curved_ ? 1 / layer_(b.value("vc")).slope : 1),
          crss_(b.value("crss") * atZero_),
          coss_(b.value("coss") * atZero_),
          cgs_(b.value("ciss") - b.value("crss")) {}

    /// Hardly depends on the voltage: what C_iss is above C_rss at its last point.
    double ofGateAndSource() const {
        if (input_.empty()) return cgs_;
        const double whole = input_.back().value;
        return std::max(whole - reverseAt(input_.back().t), leastShare * whole);
    }
    int addToGate(NetworkBuilder& b, int from, int to, const Start& start) const {
        return reverse_.empty() ? addLayer(b, from, to, crss_, start) : addPoints(b, from, to, reverse_, start);
    }
    /// What the gate's share leaves of the output's; points of either curve bend it.
    int addToSource(NetworkBuilder& b, int from, int to, const Start& start) const {
        if (output_.empty()) return addLayer(b, from, to, coss_ - crss_, start);
        std::set<double> voltages;
        for (const auto* points : {&output_, &reverse_})
            for (const TablePoint& point : *points) voltages.insert(point.t);
        const TableCurve whole(output_);
        std::vector<TablePoint> rest;
        for (const double v : voltages) {
            const double c = whole.atZero() * whole(v).slope;
            rest.push_back({v, std::max(c - reverseAt(v), leastShare * c)});
        }
        return addPoints(b, from, to, rest, start);
    }

private:
    static constexpr double leastShare = 0.01;
    static std::vector<TablePoint> pointsOfField(const NetworkBuilder& b, const char* key) {
        const std::string text = b.text(key);
        return text.empty() ? std::vector<TablePoint>() : *curvePoints(text, key, "V", "F", b.folder());
    }
    double reverseAt(double v) const {
        if (reverse_.empty()) return crss_ * layer_(v).slope;
        const TableCurve curve(reverse_);
        return curve.atZero() * curve(v).slope;
    }
    int addLayer(NetworkBuilder& b, int from, int to, double capacitance, const Start& start) const {
        return curved_ ? addCurvedCapacitor(b, from, to, capacitance, layer_, 0, 0, start)
                       : addCapacitor(b, from, to, capacitance, 0, 0, start);
    }
    /// On rung 3 the mean between two points, which holds the same charge.
    int addPoints(NetworkBuilder& b, int from, int to, const std::vector<TablePoint>& points,
                  const Start& start) const {
        if (curved_) return addCurvedCapacitor(b, from, to, points.front().value, TableCurve(points), 0, 0, start);
        std::vector<PiecewiseCapacitor::LinearPiece> pieces;
        for (std::size_t k = 0; k < points.size(); ++k)
            pieces.push_back(
                {points[k].t, k + 1 < points.size() ? (points[k].value + points[k + 1].value) / 2 : points[k].value});
        return addPiecewiseCapacitor(b, from, to, std::move(pieces), start);
    }

    std::vector<TablePoint> reverse_, output_, input_;
    bool curved_;
    DepletionCharge layer_;
    double atZero_, crss_, coss_, cgs_;
};

/// Between gate and source, and those that end at the drain. @param sign  -1 of a p-channel
/// @return the branches of these, away from the drain; towards it of a p-channel
inline std::pair<int, int> addCapacitances(NetworkBuilder& b, const ChannelNodes& at, double sign = 1) {
    const DrainCapacitances all(b);
    const Start gate = startOf(b, "vg0"), output = startOf(b, "v0", sign);
    const Start between{output.value - sign * gate.value, output.given || gate.given};
    addCapacitor(b, at.gate, at.source, all.ofGateAndSource(), 0, 0, gate);
    if (sign > 0)
        return {all.addToGate(b, at.drain, at.gate, between), all.addToSource(b, at.drain, at.source, output)};
    return {all.addToGate(b, at.gate, at.drain, between), all.addToSource(b, at.source, at.drain, output)};
}

/// On rung 3 in straight pieces, on rung 4 as curves with heat.
/// @param share         of the current that the channel carries
/// @param ofResistance  of the on-resistance that lies in the channel
/// @param sign          -1 of a p-channel
/// @return its branch
inline int addChannel(NetworkBuilder& b, const ChannelNodes& at, bool symmetric = false, double share = 1,
                      double ofResistance = 1, double sign = 1) {
    const int branch = b.addBranch();
    if (b.rung() == 3) {
        const int element = b.addElement(std::make_unique<PiecewiseChannel>(
            b.partName(), branch, at, b.nodeCount(),
            PiecewiseChannel::Values{ofResistance * channelResistance(b) / share, b.value("gm") * share, b.value("vth"),
                                     1 / b.value("roff"), symmetric, sign}));
        b.offerConducting(element);
    } else {
        const Heat heat = addHeat(b);
        const double gain = share / (ofResistance * channelResistance(b) * (b.value("von") - b.value("vth")));
        b.addElement(std::make_unique<SmoothChannel>(
            b.partName(), branch, at, b.nodeCount(), heat,
            SmoothChannel::Values{gain, b.value("vth"), b.value("corner"), b.value("lambda"), b.value("kt"), sign}));
        b.offerForm("pch", "W", {{heat.power, 1.0}});
    }
    b.offerForm("ich", "A", {{b.nodeCount() + branch, 1.0}});
    return branch;
}

/// Takes further values into a kind, before its ratings, which come last.
inline PartKind withValues(PartKind kind, const std::vector<std::vector<ParameterKind>>& groups) {
    for (const auto& group : groups) {
        const auto ratings = std::find_if(kind.parameters.begin(), kind.parameters.end(),
                                          [](const ParameterKind& parameter) { return parameter.rating; });
        kind.parameters.insert(ratings, group.begin(), group.end());
    }
    return kind;
}

}  // namespace hedgerow::parts
