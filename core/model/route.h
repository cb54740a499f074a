#pragma once
// Right-angled wires: finding a way for a new one, and bending an old one when its end moves.

#include <vector>

#include "model/part_kind.h"
#include "model/project.h"

namespace hedgerow {

/// An area wires had better not cross, in sheet coordinates.
struct Obstacle {
    Point low, high;
};
std::vector<Obstacle> obstaclesOf(const Sheet& sheet, const Catalogue& catalogue);

/// A right-angled way from `from` to `to` with few bends, around the obstacles where there is a way with up to three
/// bends, straight over them otherwise. Empty when the two are the same point.
std::vector<Point> route(Point from, Point to, const std::vector<Obstacle>& obstacles);

/// The polyline after one of its ends moved to `to`; stays right-angled, keeps its shape as far as it can.
std::vector<Point> withMovedEnd(std::vector<Point> points, bool front, Point to);

/// Drops repeated points and points in the middle of straight runs. Fewer than two points mean: no wire is left.
std::vector<Point> simplified(const std::vector<Point>& points);

}  // namespace hedgerow
