#pragma once
// A small tone that is put into a circuit, and what it meets there: cut wires, sources in series, currents into nets.

#include <string>
#include <vector>

#include "base/result.h"
#include "model/modules.h"
#include "model/part_kind.h"

namespace hedgerow {

/// Where a tone acts.
struct Injection {
    enum class Sort {
        wire,     ///< it is added to what a signal output of a part says: `at` is "REG1.y"
        voltage,  ///< in series with a source or any other part: `at` is "V1", at its first pin
        current,  ///< from outside into the net `at`, back out of the net `from`, "" for the reference
    };
    Sort sort = Sort::wire;
    std::string at = {}, from = {};
};

/// Parts that an injection adds. No part of a user's circuit has such a name.
inline constexpr const char* toneName = "~tone";    ///< a running sine that is zero, to be replaced
inline constexpr const char* actingName = "~acts";  ///< the sum, or the source, by which it acts

/// What a user writes: "REG1.y", "K1" and "K1.value" for the output of a part of the control, "V1" for a source, "into
/// out" and "into out from n" for a current.
/// Errors: no such part, pin or net.
Result<Injection> injectionOf(const std::string& text, const FlatProject& flat, const Catalogue& catalogue);

/// Puts it into a project that is laid out. @pre injectionOf() made it from the same project
Status inject(FlatProject& flat, const Injection& injection, const Catalogue& catalogue);

}  // namespace hedgerow
