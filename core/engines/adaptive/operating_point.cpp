#include "engines/adaptive/operating_point.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "engines/adaptive/switching.h"
#include "network/clock.h"

namespace hedgerow::adaptive {

namespace {

constexpr double tolerance = 1e-6, first = 1e-9, longest = 1e9;
constexpr int mostSteps = 2000;

/// Grows steps until nothing moves. @param rising  steps over which sources rise, 0 for none
Result<std::vector<double>> search(const Network& network, int rising) {
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
        if (step >= rising && length >= longest && moved < 1e-9) return at.x;
        length = std::min(length * 4, 100 * longest);
    }
    const std::string part = at.x.empty() ? "" : network.states[slowest].part;
    return Error{ErrorCode::numeric,
                 fmt::format("{} finds no rest: there is no operating point", part.empty() ? "the circuit" : part),
                 part};
}

}  // namespace

Result<std::vector<double>> operatingPoint(const Network& network) {
    auto found = search(network, 0);
    if (found) return found;
    constexpr int rise = 60;
    auto raised = search(network, rise);
    return raised ? std::move(raised) : std::move(found);
}

}  // namespace hedgerow::adaptive
