#pragma once
// Where things stand on the timeline.

namespace hedgerow::app {

/// Where the columns of the timeline stand, in pixels.
struct TimelineColumns {
    static constexpr int names = 76;    ///< names of quantities
    static constexpr int axis = 56;     ///< numbers of the value axis
    static constexpr int measure = 56;  ///< each of the five columns on the right
    static constexpr int measures = 5 * measure + 8;
};

/// 1, 2 or 5 times a power of ten, so that about `count` steps fill the length: the ticks of ruler and lanes alike.
double roundStep(double length, int count);
inline constexpr int rulerTicks = 7;

}  // namespace hedgerow::app
