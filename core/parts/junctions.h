#pragma once
// Diodes as rungs 3 and 4 model them, alone and inside transistors: a lumped charge that must be swept out before the
// junction blocks.
//
//     i = (q_E - q_M) / T_M,   dq_M/dt = i - q_M / tau
//
// P. O. Lauritzen, C. L. Ma, A simple diode model with reverse recovery, IEEE Trans. Power Electronics 6 (1991), 188.
// The state is x = q_M / T_M, as a voltage over 1 ohm.

#include "parts/smooth.h"

namespace hedgerow::parts {

struct Recovery {
    double lifetime, transit;  ///< tau and T_M in s
};

/// Rung 3: q_E is free while the junction conducts (v = V_f + R i) and zero while it blocks (i = -q_M / T_M + G v).
class RecoveringDiode final : public Branch {
public:
    /// @param stored  the unknown that holds x
    RecoveringDiode(std::string part, int branch, int from, int to, int nodeCount, int stored, int state, double knee,
                    double resistance, double leak, Recovery recovery)
        : Branch(std::move(part), branch, from, to),
          current_(nodeCount + branch),
          stored_(stored),
          state_(state),
          knee_(knee),
          resistance_(resistance),
          leak_(leak),
          recovery_(recovery) {}
    int segmentCount() const override { return 2; }
    int initialSegment(bool) const override { return 0; }
    void stamp(LinearStamp& s, int segment) const override {
        const int row = s.branchRow(branch_);
        s.currentLaw(branch_, from_, to_);
        s.unknown(stored_, stored_, 1.0);
        s.state(stored_, state_, 1.0);
        s.rate(state_, current_, 1 / recovery_.transit);
        s.rate(state_, stored_, -1 / recovery_.lifetime);
        if (segment == 1) {
            s.voltage(row, from_, to_, 1.0);
            s.unknown(row, current_, -resistance_);
            s.source(row, 0, knee_);
            s.relax(row, current_, -1.0);
        } else {
            s.unknown(row, current_, 1.0);
            s.unknown(row, stored_, 1.0);
            s.voltage(row, from_, to_, -leak_);
            s.relax(row, from_, -1.0);
            s.relax(row, to_, 1.0);
        }
    }
    std::vector<Guard> guards(int segment) const override {
        // q_E on the one side, and how far v is below the conducting line on the other: one of them is always zero.
        Guard guard = segment == 1 ? Guard{{{current_, 1.0}, {stored_, 1.0}}, 0.0, 0}
                                   : Guard{{{current_, resistance_}}, knee_, 1};
        const double ofVoltage = segment == 1 ? -leak_ : -1.0;
        if (from_ >= 0) guard.terms.emplace_back(from_, ofVoltage);
        if (to_ >= 0) guard.terms.emplace_back(to_, -ofVoltage);
        return {guard};
    }

private:
    int current_, stored_, state_;
    double knee_, resistance_, leak_;
    Recovery recovery_;
};

/// Rung 4: q_E / T_M = (1 + tau / T_M) I_s (exp(v_j / (n V_T)) - 1), so that a direct current follows the exponential.
class ExponentialDiode final : public Branch {
public:
    struct Values {
        double saturation, emission;  ///< I_s in A, n
        double resistance;            ///< in series
        Recovery recovery;
    };
    /// @param junction, stored  the unknowns that hold v_j and x
    ExponentialDiode(std::string part, int branch, int from, int to, int nodeCount, int junction, int stored, int state,
                     const Values& values)
        : Branch(std::move(part), branch, from, to),
          current_(nodeCount + branch),
          junction_(junction),
          stored_(stored),
          state_(state),
          values_(values),
          thermal_(values.emission * thermalVoltage),
          factor_((1 + values.recovery.lifetime / values.recovery.transit) * values.saturation),
          knee_(thermal_ * std::log(thermal_ / (std::sqrt(2.0) * values.saturation))) {}
    bool smooth() const override { return true; }
    void stamp(LinearStamp& s, int) const override {
        s.currentLaw(branch_, from_, to_);
        s.unknown(stored_, stored_, 1.0);
        s.state(stored_, state_, 1.0);
        s.rate(state_, current_, 1 / values_.recovery.transit);
        s.rate(state_, stored_, -1 / values_.recovery.lifetime);
        s.voltage(junction_, from_, to_, -1.0);
        s.unknown(junction_, current_, values_.resistance);
        s.unknown(junction_, junction_, 1.0);
        const int row = s.branchRow(branch_);
        s.unknown(row, current_, 1.0);
        s.unknown(row, stored_, 1.0);
    }
    void evaluate(const SmoothPoint& at, SmoothStamp& out) const override {
        const int row = out.branchRow(branch_);
        const Point2 e = limitedExp(at.unknown(junction_) / thermal_);
        out.flow(row, -factor_ * (e.value - 1) - least * at.unknown(junction_));
        out.byUnknown(row, junction_, -factor_ * e.slope / thermal_ - least);
    }
    /// Beyond the knee the logarithm of the current may grow, not the voltage: L. W. Nagel, UCB/ERL M520 (1975), 3.4.
    void tame(std::span<const double> before, std::span<double> after) const override {
        const double old = before[static_cast<std::size_t>(junction_)];
        double& now = after[static_cast<std::size_t>(junction_)];
        if (now <= knee_ || std::abs(now - old) <= 2 * thermal_) return;
        if (old <= 0) {
            now = thermal_ * std::log(now / thermal_);
        } else {
            const double u = 1 + (now - old) / thermal_;
            now = u > 0 ? old + thermal_ * std::log(u) : knee_;
        }
    }

private:
    static constexpr double thermalVoltage = 0.025693;  ///< k T / e at 25 °C
    static constexpr double least = 1e-12;              ///< S: keeps a blocking junction from losing its slope
    int current_, junction_, stored_, state_;
    Values values_;
    double thermal_, factor_, knee_;
};

/// Adds a diode of rung 3 from `from` to `to`. @return its branch; `element` becomes the index of the element
inline int addRecoveringDiode(NetworkBuilder& b, int from, int to, double knee, double resistance, double leak,
                              Recovery recovery, int* element = nullptr) {
    const int branch = b.addBranch(), stored = b.addNode();
    const int state = b.addState(StateSort::capacitorVoltage, "", recovery.transit);
    const int index = b.addElement(std::make_unique<RecoveringDiode>(b.partName(), branch, from, to, b.nodeCount(),
                                                                     stored, state, knee, resistance, leak, recovery));
    if (element) *element = index;
    b.offerForm("q", "C", {{stored, recovery.transit}});
    return branch;
}

inline int addExponentialDiode(NetworkBuilder& b, int from, int to, const ExponentialDiode::Values& values) {
    const int branch = b.addBranch(), junction = b.addNode(), stored = b.addNode();
    const int state = b.addState(StateSort::capacitorVoltage, "", values.recovery.transit);
    b.addElement(std::make_unique<ExponentialDiode>(b.partName(), branch, from, to, b.nodeCount(), junction, stored,
                                                    state, values));
    b.offerForm("q", "C", {{stored, values.recovery.transit}});
    return branch;
}

inline ParameterKind lifetime(const char* standard) {
    return {.key = "tau",
            .label = "lifetime of the stored charge",
            .symbol = "τ",
            .unit = "s",
            .standard = standard,
            .least = 0,
            .aboveLeast = true,
            .rung = 3};
}
inline ParameterKind transit(const char* standard) {
    return {.key = "tm",
            .label = "transit time of the stored charge",
            .symbol = "T_M",
            .unit = "s",
            .standard = standard,
            .least = 0,
            .aboveLeast = true,
            .rung = 3};
}
inline ParameterKind saturationCurrent() {
    return {.key = "is",
            .label = "saturation current of the junction",
            .symbol = "I_s",
            .unit = "A",
            .standard = "1n",
            .least = 0,
            .aboveLeast = true,
            .rung = 4};
}
inline ParameterKind emission() {
    return {.key = "n",
            .label = "emission coefficient",
            .symbol = "n",
            .unit = "",
            .standard = "1.4",
            .least = 0.5,
            .most = 10,
            .rung = 4};
}
inline ParameterKind builtIn() {
    return {.key = "phi",
            .label = "built-in voltage of depletion layers",
            .symbol = "φ",
            .unit = "V",
            .standard = "0.8",
            .least = 0,
            .aboveLeast = true,
            .rung = 4};
}
inline ParameterKind grading() {
    return {.key = "grading",
            .label = "grading of depletion layers",
            .symbol = "m",
            .unit = "",
            .standard = "0.5",
            .least = 0,
            .most = 0.9,
            .rung = 4};
}

}  // namespace hedgerow::parts
