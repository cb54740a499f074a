#pragma once
// Times as multiples of the period of a source: "3 periods of V1".

#include <string>

#include "model/values.h"

namespace hedgerow {

/// A typed time, s. "N periods of V1" counts periods of a source, carrier or clock, a part with a frequency "f" or a
/// "period", as its values stand at the start; they can stand in sums: "2.5 periods of V1 + 1m". Without such words it
/// is an expression like any other.
Result<double> evaluateTime(const std::string& text, const Project& project, const Catalogue& catalogue,
                            const ParameterLookup& lookup);

/// The period of a part that has one, s; an error that says so where it has none.
Result<double> periodOf(const std::string& part, const Project& project, const Catalogue& catalogue,
                        const ParameterLookup& lookup);

/// A typed time in pieces: expressions, and between them the words and signs that are none: " periods of V1 +".
struct TimePiece {
    std::string expression, words;
    std::string part = {};  ///< whose periods the words count
};
std::vector<TimePiece> timePieces(const std::string& text);

}  // namespace hedgerow
