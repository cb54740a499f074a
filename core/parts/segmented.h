#pragma once
// Branches that are straight lines in pieces: switches, diodes and their kin as tables.

#include <cmath>
#include <optional>
#include <vector>

#include "parts/two_terminal.h"

namespace hedgerow::parts {

/// One piece: voltage * v + current * i = constant, with the conditions that keep the branch in it.
struct Piece {
    /// factor * (v or i) + constant >= 0, else `next`.
    struct Bound {
        enum class Of { voltage, current } of;
        double factor, constant;
        int next;
    };
    double voltage = 0, current = 0, constant = 0;
    bool conducts = false;
    std::vector<Bound> bounds = {};
    int gateOn = -1, gateOff = -1;  ///< pieces that follow when the gate turns; -1 for this one
    int gateOffReverse = -1;        ///< instead of gateOff when the current is negative; -1 for gateOff
    int gateOffIdle = -1;           ///< instead of gateOff when the magnitude of the current is not above `idle`
    double idle = 0;
    std::optional<Timeout> timeout = {};
};

inline Piece::Bound voltageAbove(double least, int next) { return {Piece::Bound::Of::voltage, 1, -least, next}; }
inline Piece::Bound voltageBelow(double most, int next) { return {Piece::Bound::Of::voltage, -1, most, next}; }
inline Piece::Bound currentAbove(double least, int next) { return {Piece::Bound::Of::current, 1, -least, next}; }
inline Piece::Bound currentBelow(double most, int next) { return {Piece::Bound::Of::current, -1, most, next}; }

/// i = conductance * v.
inline Piece blocking(double conductance) { return {-conductance, 1, 0, false}; }
/// v = knee + resistance * (i - conductance * knee): meets blocking(conductance) at v = knee.
inline Piece conducting(double knee, double resistance, double conductance) {
    return {1, -resistance, knee * (1 - resistance * conductance), true};
}

class SegmentedBranch final : public Branch {
public:
    /// @param gate    signal, or -1
    /// @param starts  pieces a run starts in with the gate off and on
    SegmentedBranch(std::string part, int branch, int from, int to, int nodeCount, std::vector<Piece> pieces,
                    int gate = -1, std::pair<int, int> starts = {0, 0})
        : Branch(std::move(part), branch, from, to),
          current_(nodeCount + branch),
          pieces_(std::move(pieces)),
          gate_(gate),
          starts_(starts) {}

    int segmentCount() const override { return static_cast<int>(pieces_.size()); }
    int gateSignal() const override { return gate_; }
    int initialSegment(bool gate) const override { return gate ? starts_.second : starts_.first; }
    bool conducts(int segment) const override { return piece(segment).conducts; }
    std::optional<Timeout> timeout(int segment) const override { return piece(segment).timeout; }

    int equations(int segment) const override {
        for (int other = 0; other < segment; ++other) {
            const Piece &a = piece(other), &b = piece(segment);
            if (a.voltage == b.voltage && a.current == b.current && a.constant == b.constant &&
                a.conducts == b.conducts)
                return other;
        }
        return segment;
    }

    void stamp(LinearStamp& s, int segment) const override {
        const Piece& p = piece(segment);
        const int row = s.branchRow(branch_), current = s.branchCurrent(branch_);
        s.currentLaw(branch_, from_, to_);
        if (p.voltage != 0) s.voltage(row, from_, to_, p.voltage);
        if (p.current != 0) s.unknown(row, current, p.current);
        if (p.constant != 0) s.source(row, 0, p.constant);
        if (p.conducts) {
            s.relax(row, current, -1.0);
        } else {
            s.relax(row, from_, -1.0);
            s.relax(row, to_, 1.0);
        }
    }

    std::vector<Guard> guards(int segment) const override {
        std::vector<Guard> result;
        for (const Piece::Bound& bound : piece(segment).bounds) {
            Guard guard{{}, bound.constant, bound.next};
            if (bound.of == Piece::Bound::Of::current) {
                guard.terms.emplace_back(current_, bound.factor);
            } else {
                if (from_ >= 0) guard.terms.emplace_back(from_, bound.factor);
                if (to_ >= 0) guard.terms.emplace_back(to_, -bound.factor);
            }
            result.push_back(std::move(guard));
        }
        return result;
    }

    int gated(int segment, bool on, double sensed) const override {
        const Piece& p = piece(segment);
        const int next = on                                                 ? p.gateOn
                         : p.gateOffIdle >= 0 && std::abs(sensed) <= p.idle ? p.gateOffIdle
                         : p.gateOffReverse >= 0 && sensed < 0              ? p.gateOffReverse
                                                                            : p.gateOff;
        return next >= 0 ? next : segment;
    }
    Terms sense() const override {
        for (const Piece& p : pieces_)
            if (p.gateOffReverse >= 0 || p.gateOffIdle >= 0) return {{current_, 1.0}};
        return {};
    }

private:
    const Piece& piece(int segment) const { return pieces_[static_cast<std::size_t>(segment)]; }
    int current_;
    std::vector<Piece> pieces_;
    int gate_;
    std::pair<int, int> starts_;
};

/// Adds the branch with what every switching part offers. @param suffix  behind the names of its quantities
inline void addSegmented(NetworkBuilder& b, int from, int to, std::vector<Piece> pieces, int gate = -1,
                         std::pair<int, int> starts = {0, 0}, const std::string& suffix = "") {
    const int branch = b.addBranch();
    const int element = b.addElement(std::make_unique<SegmentedBranch>(b.partName(), branch, from, to, b.nodeCount(),
                                                                       std::move(pieces), gate, starts));
    b.offerBranch(branch, from, to, suffix);
    b.offerConducting(element, suffix);
    offerRatings(b, suffix);
}

inline ParameterKind onResistance(const char* label = "on-resistance", const char* key = "ron",
                                  const char* symbol = "R_on", const char* standard = "10m") {
    return {.key = key,
            .label = label,
            .symbol = symbol,
            .unit = "Ω",
            .standard = standard,
            .least = 0,
            .rung = 2,
            .none = 0};
}
/// There by default: without it the voltages of blocked parts in series have no unique value.
inline ParameterKind offResistance() {
    ParameterKind p = parallelLoss("roff", "off-resistance", "R_off");
    p.standard = "10M";
    return p;
}
inline ParameterKind kneeVoltage(const char* key, const char* label, const char* symbol, const char* standard) {
    return {.key = key,
            .label = label,
            .symbol = symbol,
            .unit = "V",
            .standard = standard,
            .least = 0,
            .rung = 2,
            .none = 0};
}

/// What parts with an on- and an off-resistance check alike.
class SwitchingPart : public PartType {
public:
    Status check(const std::function<double(std::string_view)>& value) const override {
        if (value("ron") >= value("roff"))
            return Error{ErrorCode::range, "the on-resistance must be below the off-resistance", {}, {}, "ron"};
        return {};
    }
};

}  // namespace hedgerow::parts
