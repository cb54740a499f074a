#pragma once
// Spans of a plan as one line of text, as they are typed and shown.

#include <string>
#include <string_view>

#include "base/result.h"
#include "model/project.h"

namespace hedgerow {

inline constexpr std::string_view keepNothing = "nothing";
/// What a span may wait for, besides conditions.
inline constexpr std::string_view untilSettled = "settled";

/// What ends a span before its time: a quantity that passes a value.
struct SpanCondition {
    std::string quantity;
    bool above = true;
    std::string value;  ///< an expression
};
/// Reads "out.v > 23".
Result<SpanCondition> readSpanCondition(std::string_view text);

/// How a span ends: "until 3m", "for 3m", "until 100u after event 2", "until settled or 5m", "settle", "to the end",
/// "every 10m for 20u until 50m".
std::string spanEndText(const Span& span);
/// How it is solved: "all on 2, exact, tolerance 1e-5, keep nothing"; "as drawn" where all is as the plan says.
std::string spanWayText(const Span& span);
/// Both: "until 3m: all on 2, exact".
std::string spanText(const Span& span);
/// Reads such a line; without a colon it is solved as drawn. What no line shows stays as in `like`. Errors carry the
/// position.
Result<Span> readSpanText(std::string_view text, const Span& like = {});

}  // namespace hedgerow
