#pragma once
// What comes again by itself: the periods that drive a network.

#include <string>
#include <vector>

#include "base/time.h"

namespace hedgerow {

/// How something goes on while nothing acts on it.
struct Recurrence {
    enum class Sort {
        periodic,  ///< again and again after `period`
        varies,    ///< again and again, after a time that a signal sets
        once,      ///< up to `until`, and constant from there on
    };
    Sort sort = Sort::periodic;
    FineTime period = 0;
    Tick until = 0;  ///< neverTick for what never ends

    static Recurrence every(FineTime period) { return {.sort = Sort::periodic, .period = period}; }
    static Recurrence of(double frequency) { return every(toFinePeriod(1.0L / static_cast<long double>(frequency))); }
    static Recurrence varying() { return {.sort = Sort::varies}; }
    static Recurrence up(Tick until) { return {.sort = Sort::once, .until = until}; }
};

/// Of one thing; empty where it is constant, or does nothing but follow.
using Recurrences = std::vector<Recurrence>;

struct Network;

/// One of a part.
struct PartRecurrence {
    std::string part;
    Recurrence recurrence;
};
/// Of all sources and signal blocks of a network, in its order.
std::vector<PartRecurrence> recurrencesOf(const Network& network);

}  // namespace hedgerow
