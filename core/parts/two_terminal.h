#pragma once
// What the parts with two power pins share.

#include <limits>
#include <string>
#include <vector>

#include "network/part_type.h"

namespace hedgerow::parts {

/// An element with one branch from `from` to `to`.
class Branch : public Element {
public:
    Branch(std::string part, int branch, int from, int to)
        : Element(std::move(part)), branch_(branch), from_(from), to_(to) {}
    int branch() const override { return branch_; }

protected:
    int branch_, from_, to_;
};

/// A branch whose voltage or current is given, whatever the other one.
class StiffBranch : public Branch {
protected:
    StiffBranch(std::string part, int branch, int from, int to, bool voltage)
        : Branch(std::move(part), branch, from, to), voltage_(voltage) {}
    /// Writes the branch. @return the row that says what it is: it still wants its right-hand side
    int stampStiff(LinearStamp& s) const {
        const int row = s.branchRow(branch_);
        s.currentLaw(branch_, from_, to_);
        if (voltage_)
            s.voltage(row, from_, to_, 1.0);
        else
            s.unknown(row, s.branchCurrent(branch_), 1.0);
        return row;
    }

private:
    bool voltage_;
};

/// Where a state begins: V or A.
struct Start {
    double value = 0;
    bool given = false;  ///< whether the user typed it
};
/// As the field of a start value says. @param sign  of the direction that the part counts in
inline Start startOf(const NetworkBuilder& b, std::string_view key, double sign = 1) {
    return {sign * b.value(key), b.typed(key)};
}
/// The field of a start value of a part's upper rungs.
inline ParameterKind startValue(const char* key, const char* label, const char* symbol, const char* unit,
                                int rung = 3) {
    return {.key = key, .label = label, .symbol = symbol, .unit = unit, .standard = "0", .rung = rung, .atStart = true};
}
inline ParameterKind startVoltage() { return startValue("v0", "voltage at the start", "v_0", "V"); }
inline ParameterKind startCurrent() { return startValue("i0", "current at the start", "i_0", "A"); }

/// What a voltage source has inside.
struct InnerImpedance {
    double resistance = 0, inductance = 0;
    int state = -1, emf = -1;  ///< of the inductance; -1 without
};

/// Reads them from the checked keys "ri" and "li", with a state where there is an inductance.
/// @param resistance, inductance  of what comes behind them
inline InnerImpedance innerImpedance(NetworkBuilder& b, double resistance = 0, double inductance = 0,
                                     const Start& start = {}) {
    InnerImpedance inner;
    inner.resistance = b.value("ri") + resistance;
    inner.inductance = b.value("li") + inductance;
    if (inner.inductance > 0) {
        inner.state = b.addComposedState(StateSort::windingCurrent, start.value, inner.inductance, start.given);
        inner.emf = b.addBranch();
    }
    return inner;
}

/// v = e + R i + L di/dt in the branch from `from` to `to`. @param drive  writes e into the row it is given
template <class Drive>
void stampBehind(LinearStamp& s, int branch, int from, int to, const InnerImpedance& inner, const Drive& drive) {
    const int row = s.branchRow(branch), current = s.branchCurrent(branch);
    if (inner.state < 0) {
        s.voltage(row, from, to, 1.0);
        s.unknown(row, current, -inner.resistance);
        return drive(row);
    }
    const int emf = s.branchCurrent(inner.emf);
    s.unknown(s.branchRow(inner.emf), emf, 1.0);
    drive(s.branchRow(inner.emf));
    s.unknown(row, current, 1.0);
    s.state(row, inner.state, 1.0);
    s.rate(inner.state, from, 1.0 / inner.inductance);
    s.rate(inner.state, to, -1.0 / inner.inductance);
    s.rate(inner.state, current, -inner.resistance / inner.inductance);
    s.rate(inner.state, emf, -1.0 / inner.inductance);
}

/// Two power pins on a vertical axis, 64 px apart.
inline std::vector<PinKind> verticalPins(const char* upper, const char* lower) {
    return {{upper, {0, -32}}, {lower, {0, 32}}};
}
inline std::vector<PinKind> horizontalPins(const char* left, const char* right) {
    return {{left, {-32, 0}}, {right, {32, 0}}};
}

/// A number that must be above 0.
inline ParameterKind positiveValue(const char* key, const char* label, const char* symbol, const char* unit,
                                   const char* standard, int rung) {
    return {.key = key,
            .label = label,
            .symbol = symbol,
            .unit = unit,
            .standard = standard,
            .least = 0,
            .aboveLeast = true,
            .rung = rung};
}
/// The same, or 0.
inline ParameterKind notNegative(const char* key, const char* label, const char* symbol, const char* unit,
                                 const char* standard, int rung) {
    ParameterKind kind = positiveValue(key, label, symbol, unit, standard, rung);
    kind.aboveLeast = false;
    return kind;
}

/// A resistance in series, off until it is given: "none" is 0.
inline ParameterKind seriesLoss(std::string key, std::string label, std::string symbol, int rung = 2) {
    return {.key = std::move(key),
            .label = std::move(label),
            .symbol = std::move(symbol),
            .unit = "Ω",
            .standard = "none",
            .least = 0,
            .rung = rung,
            .none = 0};
}
/// A resistance beside something, off until it is given: "none" is infinite.
inline ParameterKind parallelLoss(std::string key, std::string label, std::string symbol, int rung = 2) {
    ParameterKind p = seriesLoss(std::move(key), std::move(label), std::move(symbol), rung);
    p.none = std::numeric_limits<double>::infinity(), p.aboveLeast = true;
    return p;
}
/// The same value, which can be left out: "none" is 0.
inline ParameterKind orNone(ParameterKind p) {
    p.none = 0;
    return p;
}

inline ParameterKind ratedVoltage() {
    return {.key = "vmax",
            .label = "rated voltage",
            .symbol = "V_max",
            .unit = "V",
            .standard = "",
            .least = 0,
            .aboveLeast = true,
            .rating = true};
}
inline ParameterKind ratedCurrent() {
    return {.key = "imax",
            .label = "rated peak current",
            .symbol = "I_max",
            .unit = "A",
            .standard = "",
            .least = 0,
            .aboveLeast = true,
            .rating = true};
}
/// How far the first value of what is built may lie off; no equation has it, studies draw from it.
inline ParameterKind tolerance() {
    return {.key = "tolerance",
            .label = "tolerance",
            .symbol = "δ",
            .unit = "%",
            .standard = "",
            .least = 0,
            .most = 0.99,
            .aboveLeast = true,
            .rating = true};
}
/// @param suffix  behind the names of the quantities
inline void offerRatings(NetworkBuilder& builder, const std::string& suffix = "") {
    builder.rate("vmax", "v" + suffix);
    builder.rate("imax", "i" + suffix);
}

}  // namespace hedgerow::parts
