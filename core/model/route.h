#pragma once
// Right-angled wires: bending one when its end moves.

#include <vector>

#include "model/project.h"

namespace hedgerow {

/// The polyline after one of its ends moved to `to`; stays right-angled, keeps its shape as far as it can.
std::vector<Point> withMovedEnd(std::vector<Point> points, bool front, Point to);

/// Drops repeated points and points in the middle of straight runs. Fewer than two points mean: no wire is left.
std::vector<Point> simplified(const std::vector<Point>& points);

}  // namespace hedgerow
