#include "engines/adaptive/operating_point.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "engines/adaptive/switching.h"
#include "network/clock.h"

namespace hedgerow::adaptive {

namespace {

constexpr double tolerance = 1e-6, first = 1e-9;
/// Steps that say what rests. Over the long ones small windings and capacitances lose their digits: then shorter ones
/// do.
constexpr double longestSteps[] = {1e9, 1e3, 1.0};
constexpr double blink = 1e-6, still = 1e-2;  ///< s, and of its scale, by which a state at rest may move meanwhile
constexpr int mostSteps = 2000, enough = 20;

/// Whether the states stay where they are when time goes on from them, by their rates.
bool rests(Stepper& stepper, const Scales& scales, const Instant& at) {
    constexpr double moment = 0x1p-40;
    Instant next = at;
    if (stepper.euler(next, 0, moment) != Outcome::good) return false;
    for (std::size_t i = 0; i < at.x.size(); ++i)
        if (std::abs(next.x[i] - at.x[i]) * (blink / moment) > still * scales.ofState(i)) return false;
    return true;
}

/// Long steps leave of a small winding what rounding of its voltage makes over them. Shorter and shorter ones take that
/// away, while what is slow stays where it is. @return whether the states rest in the end
bool polish(Stepper& stepper, const Scales& scales, Instant& at) {
    constexpr double longest = 0.1, shortest = 1e-11;
    constexpr int stepsEach = 4;
    Instant next = at;
    for (double length = longest; length > shortest; length /= 10) {
        for (int k = 0; k < stepsEach; ++k) {
            Instant trial = next;
            if (stepper.euler(trial, 0, length) != Outcome::good) break;  // a shorter one may be solved
            next = std::move(trial);
        }
        if (!rests(stepper, scales, next)) continue;
        at = std::move(next);
        return true;
    }
    return false;
}

/// Grows steps until nothing moves. @param rising  steps over which sources rise, 0 for none
Result<std::vector<double>> search(const Network& network, int rising, double longest) {
    System system(network);
    Scales scales(network);
    Stepper stepper(system, trBdf2(), scales, tolerance);
    Switching switching(system, stepper, scales);
    const Clock clock(network);
    Instant at{{}, Values(system.unknowns(), 0.0)};
    for (const StateInfo& state : network.states) at.x.push_back(rising > 0 ? 0.0 : state.initial);
    std::vector<int> segments;
    for (std::size_t i = 0; i < network.elements.size(); ++i)
        segments.push_back(network.elements[i]->initialSegment(clock.gate(i)));
    switching.set(segments);
    stepper.newton().setSourceFactor(rising > 0 ? 1.0 / rising : 1.0);
    stepper.newton().setHeld(clock.signals());
    if (auto settled = switching.settle(at, 0, "at the operating point"); !settled) return settled.error();
    double length = first;
    int atLength = 0;  // steps of the longest length
    std::size_t slowest = 0;
    for (int step = 0; step < mostSteps; ++step) {
        if (rising > 0) stepper.newton().setSourceFactor(std::min(1.0, (step + 1.0) / rising));
        Instant next = at;
        if (stepper.euler(next, 0, length) != Outcome::good) {
            length /= 8;
            if (length < 1e-15) break;
            continue;
        }
        if (switching.flipViolated(next.z, next.z, step % 8 == 7)) continue;
        double moved = 0;
        for (std::size_t i = 0; i < at.x.size(); ++i)
            if (const double part = std::abs(next.x[i] - at.x[i]) / scales.ofState(i); part > moved)
                moved = part, slowest = i;
        at = std::move(next);
        scales.see(at.z, at.x);
        // Over the longest steps a small winding may never stop moving by its rounding.
        if (step >= rising && length >= longest && (moved < 1e-9 || ++atLength > enough)) {
            if (rests(stepper, scales, at) || polish(stepper, scales, at)) return at.x;
            break;
        }
        length = std::min(length * 4, 100 * longest);
    }
    const std::string part = at.x.empty() ? "" : network.states[slowest].part;
    return Error{ErrorCode::numeric,
                 fmt::format("{} finds no rest: there is no operating point", part.empty() ? "the circuit" : part),
                 part};
}

}  // namespace

Result<std::vector<double>> operatingPoint(const Network& network) {
    constexpr int rise = 60;
    std::optional<Error> first;
    for (const int rising : {0, rise})
        for (const double longest : longestSteps) {
            auto found = search(network, rising, longest);
            if (found) return found;
            if (!first) first = found.error();
        }
    return *first;
}

}  // namespace hedgerow::adaptive
