#pragma once
// What the parts with two power pins share.

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

/// Two power pins on a vertical axis, 64 px apart.
inline std::vector<PinKind> verticalPins(const char* upper, const char* lower) {
    return {{upper, {0, -32}}, {lower, {0, 32}}};
}
inline std::vector<PinKind> horizontalPins(const char* left, const char* right) {
    return {{left, {-32, 0}}, {right, {32, 0}}};
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
inline void offerRatings(NetworkBuilder& builder) {
    builder.rate("vmax", "v");
    builder.rate("imax", "i");
}

}  // namespace hedgerow::parts
