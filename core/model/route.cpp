#include "model/route.h"

#include <algorithm>
#include <cstdlib>
#include <set>

namespace hedgerow {

namespace {

bool crosses(const Obstacle& o, Point a, Point b) {
    return std::max(std::min(a.x, b.x), o.low.x) < std::min(std::max(a.x, b.x), o.high.x) + (a.x == b.x ? 1 : 0) &&
           std::max(std::min(a.y, b.y), o.low.y) < std::min(std::max(a.y, b.y), o.high.y) + (a.y == b.y ? 1 : 0) &&
           !(a.x == b.x && (a.x <= o.low.x || a.x >= o.high.x)) && !(a.y == b.y && (a.y <= o.low.y || a.y >= o.high.y));
}

/// Length plus penalties: a bend costs as much as 40 px, a crossed part more than any detour.
long long cost(const std::vector<Point>& way, const std::vector<Obstacle>& obstacles) {
    long long total = 40LL * static_cast<long long>(way.size());
    for (std::size_t i = 0; i + 1 < way.size(); ++i) {
        total += std::abs(way[i + 1].x - way[i].x) + std::abs(way[i + 1].y - way[i].y);
        for (const Obstacle& obstacle : obstacles)
            if (crosses(obstacle, way[i], way[i + 1])) total += 100'000;
    }
    return total;
}

}  // namespace

std::vector<Obstacle> obstaclesOf(const Sheet& sheet, const Catalogue& catalogue) {
    std::vector<Obstacle> all;
    for (const Part& part : sheet.parts) {
        const PartKind* kind = catalogue.find(part.kind);
        if (!kind) continue;
        const auto [low, high] = kind->bounds();
        const Point a = part.toSheet(low), b = part.toSheet(high);
        all.push_back({{std::min(a.x, b.x), std::min(a.y, b.y)}, {std::max(a.x, b.x), std::max(a.y, b.y)}});
    }
    return all;
}

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

std::vector<Point> route(Point from, Point to, const std::vector<Obstacle>& obstacles) {
    if (from == to) return {};
    std::set<int> columns = {from.x, to.x, snapped((from.x + to.x) / 2.0, 0).x};
    std::set<int> rows = {from.y, to.y, snapped(0, (from.y + to.y) / 2.0).y};
    for (const Obstacle& obstacle : obstacles) {
        columns.insert({snapped(obstacle.low.x - gridStep, 0).x, snapped(obstacle.high.x + gridStep, 0).x});
        rows.insert({snapped(0, obstacle.low.y - gridStep).y, snapped(0, obstacle.high.y + gridStep).y});
    }
    std::vector<Point> best;
    long long least = -1;
    const auto consider = [&](std::vector<Point> way) {
        way = simplified(way);
        const long long now = cost(way, obstacles);
        if (least < 0 || now < least) least = now, best = std::move(way);
    };
    for (const int x : columns) consider({from, {x, from.y}, {x, to.y}, to});
    for (const int y : rows) consider({from, {from.x, y}, {to.x, y}, to});
    if (least >= 100'000) {
        for (const int x : columns)
            for (const int y : rows) {
                consider({from, {x, from.y}, {x, y}, {to.x, y}, to});
                consider({from, {from.x, y}, {x, y}, {x, to.y}, to});
            }
    }
    return best;
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
