#pragma once
// From the events of a scene to intervals of a run between which values change.

#include <vector>

#include "base/time.h"
#include "network/elaborate.h"

namespace hedgerow {

/// A part of a run in which no value jumps.
struct SceneInterval {
    Tick from = 0, to = 0;
    Changes changes;
    std::string what;  ///< the event it begins with, as text; "" for the first
};

/// An event at its instant.
struct TimedEvent {
    double at = 0, until = 0;  ///< s; both alike for a step
    std::size_t index = 0;     ///< in the scene
};

/// When the events come, in the order of time; those of one instant in the order of the scene. Errors name the event
/// and its field.
Result<std::vector<TimedEvent>> timesOf(const Scene& scene, const Project& project, const PartLibrary& library);

/// The intervals of a run that ends at `end`. Errors name the event and its field.
Result<std::vector<SceneInterval>> sceneIntervals(const Scene& scene, const Project& project, const PartLibrary& library,
                                         Tick end);

/// Whether a simulation of one network can go on in the other (Simulation::goOnIn): their unknowns, pieces and states are
/// the same.
bool sameShape(const Network& before, const Network& after);
/// What keeps a network from taking over the states of another one, if anything.
Status mayFollow(const Network& before, const Network& after);

}  // namespace hedgerow
