#pragma once
// Expressions over the traces of a run: `out.v * L1.i`, `mean(V1.p, 1/fsw)`, `dB(out.v / 24 V)`.
//
// Numbers with units and prefixes, + - * / ^, parentheses, quantities with dotted names, parameters, and the functions
//   sqrt abs exp ln log10 sin cos min max      value by value
//   d(x)  int(x)                               derivative, and integral from the start, along the stored lines
//   mean(x, period)                            mean over the period before each instant
//   lowpass(x, f)                              first order with the corner frequency f, exact on the stored lines
//   dB(x)                                      20 log10 |x|

#include <functional>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "model/quantity.h"
#include "traces/trace.h"

namespace hedgerow {

/// Gives the trace of a quantity, up to date, or nullptr when there is none. All share their instants.
using TraceLookup = std::function<std::shared_ptr<const Trace>(std::string_view name)>;

/// The expression as a trace, named by its text, of the points there are now. A product of two quantities is one
/// between the points too; anything else runs along straight lines. Errors carry the position, and name what is unknown
/// or of the wrong unit.
Result<std::shared_ptr<Trace>> traceOf(std::string_view expression, const TraceLookup& quantities,
                                       const ParameterLookup& parameters = {});

}  // namespace hedgerow
