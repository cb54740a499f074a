#include "model/route.h"

#include <algorithm>

namespace hedgerow {

std::vector<Point> simplified(const std::vector<Point>& points) {
    std::vector<Point> kept;
    for (const Point point : points) {
        if (!kept.empty() && kept.back() == point) continue;
        while (kept.size() >= 2) {
            const Point a = kept[kept.size() - 2], b = kept.back();
            const bool straight = (a.x == b.x && b.x == point.x) || (a.y == b.y && b.y == point.y);
            if (!straight) break;
            kept.pop_back();
        }
        if (kept.empty() || !(kept.back() == point)) kept.push_back(point);
    }
    return kept;
}

std::vector<Point> withMovedEnd(std::vector<Point> points, bool front, Point to) {
    if (points.size() < 2) return points;
    if (front) std::reverse(points.begin(), points.end());
    const std::size_t last = points.size() - 1;
    const Point before = points[last - 1];
    const bool horizontal = before.y == points[last].y;
    points[last] = to;
    if (points.size() == 2) {
        const Point corner = horizontal ? Point{to.x, before.y} : Point{before.x, to.y};
        points.insert(points.begin() + 1, corner);
    } else {
        (horizontal ? points[last - 1].y : points[last - 1].x) = horizontal ? to.y : to.x;
    }
    if (front) std::reverse(points.begin(), points.end());
    return simplified(points);
}

}  // namespace hedgerow
