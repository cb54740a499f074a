#pragma once
// What differs from a project in one interval of a run: values that were set, and values that ramp.

#include <map>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "network/part_type.h"

namespace hedgerow {

/// What differs from the project in one interval of a run. Targets are parameters of the project, or values of parts as
/// "R1.r"; values are as typed.
struct Changes {
    using List = std::vector<std::pair<std::string, std::string>>;
    List sets;
    List ends = {};                        ///< of what ramps in this interval: the value at its end
    /// What steps in any interval of the run: levels among it are sources, so that the equations stay as they are.
    std::vector<std::string> stepped = {};
    std::vector<std::string> ramped = {};  ///< what ramps in any interval of the run
    Tick from = 0, to = 0;                 ///< of the interval
    std::string rungs = {};                ///< which rungs parts stand on (model/rung_rule.h); "" as drawn
};

/// A value that ramps: (value, slope), straight from one instant to another and constant outside.
struct Ramp {
    double before = 0, after = 0;
    Tick from = 0, to = 0;
    bool steps = false;  ///< it only steps: constant in each interval
};
using Ramps = std::map<std::pair<std::string, std::string>, Ramp>;  ///< by part and key

/// Makes the wave of such a value.
std::unique_ptr<SourceGenerator> rampWave(const Ramp& ramp);

/// Sets parameters of a project that is not laid out yet, then values of parts of one that is.
void setParameters(Project& project, const Changes::List& list);
void setValues(Project& flat, const Changes::List& list);

/// Names that move when some do: those themselves, and the parameters that follow from them.
using Moving = std::set<std::string, std::less<>>;
Moving movingWith(const std::vector<std::string>& names, const std::vector<Parameter>& parameters);
/// Whether a value of a part moves with them.
bool moves(const Part& part, const ParameterKind& parameter, const Moving& moving);

/// Values of parts that are not the same at the end of an interval as at its start, or may not be in another one; and
/// those that may step, where a source can take their place. @pre what moves with `changes.ramped` ramps
Ramps rampsBetween(const Project& start, const Project& end, const Changes& changes, const PartLibrary& library,
                   std::vector<Error>& errors);

}  // namespace hedgerow
