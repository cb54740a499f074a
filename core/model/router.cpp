#include "model/router.h"

#include <algorithm>
#include <cstdlib>
#include <queue>
#include <tuple>

#include "model/route.h"

namespace hedgerow {

namespace {

constexpr int margin = 20;  ///< cells around what is asked for
constexpr std::int64_t mostCells = 6'000'000;
constexpr int straightCost = 2, bendCost = 12, crossingCost = 6, insideCost = 60, edgeCost = 3, coveredCost = 400;
constexpr Point steps[] = {{gridStep, 0}, {0, gridStep}, {-gridStep, 0}, {0, -gridStep}};

int sign(int x) { return (x > 0) - (x < 0); }

}  // namespace

Router::Router(const Sheet& sheet, const Catalogue& catalogue, Point low, Point high) {
    origin_ = Point{std::min(low.x, high.x), std::min(low.y, high.y)} - Point{margin * gridStep, margin * gridStep};
    const std::int64_t columns = (std::int64_t{std::max(low.x, high.x)} - origin_.x) / gridStep + margin + 1;
    const std::int64_t rows = (std::int64_t{std::max(low.y, high.y)} - origin_.y) / gridStep + margin + 1;
    if (columns * rows > mostCells) return;  // a sheet without measure: wires are plain
    columns_ = static_cast<int>(columns);
    rows_ = static_cast<int>(rows);
    cells_.resize(static_cast<std::size_t>(columns * rows));
    const auto joint = [this](Point at) {
        if (Cell* c = cell(at)) ++c->joints;
    };
    for (const Part& part : sheet.parts) {
        const PartKind* kind = catalogue.find(part.kind);
        if (!kind) continue;
        for (const PinKind& pin : kind->pins) joint(part.toSheet(pin.at));
        const Box box = boxOf(part, *kind);
        const Point least{std::max(box.low.x, origin_.x), std::max(box.low.y, origin_.y)};
        const Point most{std::min(box.high.x, origin_.x + columns_ * gridStep),
                         std::min(box.high.y, origin_.y + rows_ * gridStep)};
        for (int x = snapped(least.x, 0).x; x <= most.x; x += gridStep)
            for (int y = snapped(0, least.y).y; y <= most.y; y += gridStep)
                if (Cell* c = cell({x, y})) {
                    const bool inside = x > box.low.x && x < box.high.x && y > box.low.y && y < box.high.y;
                    ++(inside ? c->inside : c->edge);
                }
    }
    for (const Label& label : sheet.labels) joint(label.at);
    for (const Wire& wire : sheet.wires) mark(wire, 1);
}

Point Router::place(Point at) const { return {(at.x - origin_.x) / gridStep, (at.y - origin_.y) / gridStep}; }

Router::Cell* Router::cell(Point at) {
    const Point p = place(at);
    if (at.x < origin_.x || at.y < origin_.y || p.x >= columns_ || p.y >= rows_) return nullptr;
    return &cells_[static_cast<std::size_t>(p.y) * static_cast<std::size_t>(columns_) + static_cast<std::size_t>(p.x)];
}

void Router::mark(const Wire& wire, int count) {
    const auto add = [count](std::int8_t& number) {
        number = static_cast<std::int8_t>(std::clamp(number + count, 0, 100));
    };
    for (std::size_t i = 0; i + 1 < wire.points.size(); ++i) {
        const Point a = wire.points[i], b = wire.points[i + 1];
        const Point step{gridStep * sign(b.x - a.x), gridStep * sign(b.y - a.y)};
        if (std::abs(b.x - a.x) / gridStep > columns_ + std::abs(a.x - origin_.x) ||
            std::abs(b.y - a.y) / gridStep > rows_ + std::abs(a.y - origin_.y))
            continue;  // far beyond what is looked at
        for (Point at = a;; at = at + step) {
            if (Cell* c = cell(at)) add(step.x != 0 ? c->along : c->across);
            if (at == b) break;
        }
    }
    if (wire.points.empty()) return;
    for (const Point end : {wire.points.front(), wire.points.back()})
        if (Cell* c = cell(end)) add(c->joints);
}

/// Of entering a cell; negative where a wire must not go.
int Router::stepCost(const Cell& cell, bool horizontal) const {
    if (cell.joints > 0) return -1;
    return straightCost + (cell.inside > 0 ? insideCost : 0) + (cell.edge > 0 ? edgeCost : 0) +
           ((horizontal ? cell.along : cell.across) > 0 ? coveredCost : 0) +
           ((horizontal ? cell.across : cell.along) > 0 ? crossingCost : 0);
}

bool Router::clean(const std::vector<Point>& points) const {
    if (cells_.empty()) return true;
    for (std::size_t i = 0; i + 1 < points.size(); ++i) {
        const Point a = points[i], b = points[i + 1];
        const Point step{gridStep * sign(b.x - a.x), gridStep * sign(b.y - a.y)};
        for (Point at = a; !(at == b); at = at + step) {
            if (at == points.front()) continue;
            const Cell* c = cell(at);
            if (!c) continue;
            if (c->joints > 0 || c->inside > 0 || (step.x != 0 ? c->along : c->across) > 0) return false;
            if (at == a && (c->along > 0 || c->across > 0)) return false;  // a bend on another wire
        }
    }
    return true;
}

/// The part of the grid in which one way is looked for, and the cheapest known way to each of its cells.
class Router::Search {
public:
    Search(const Router& router, Point from, Point to, int room) : router_(router), from_(from), to_(to) {
        const auto within = [](int x, int most) { return std::clamp(x, 0, most - 1); };
        const Point a = router.place(from), b = router.place(to);
        low_ = {within(std::min(a.x, b.x) - room, router.columns_), within(std::min(a.y, b.y) - room, router.rows_)};
        columns_ = within(std::max(a.x, b.x) + room, router.columns_) - low_.x + 1;
        rows_ = within(std::max(a.y, b.y) + room, router.rows_) - low_.y + 1;
        known_.resize(static_cast<std::size_t>(columns_) * static_cast<std::size_t>(rows_) * 4);
    }

    /// The cheapest way, or nothing. After that cost() is what it costs.
    std::vector<Point> find() {
        for (int d = 0; d < 4; ++d) offer(from_, d, 0, 4);
        while (!open_.empty()) {
            const Open now = open_.top();
            open_.pop();
            if (now.cost > known(now.at, now.direction).cost) continue;
            cost_ = now.cost;
            if (now.at == to_) return wayTo(now.direction);
            leave(now.at, now.direction, now.cost);
        }
        return {};
    }
    int cost() const { return cost_; }

private:
    struct Known {
        int cost = INT32_MAX;
        int cameBy = 4;  ///< direction in which the cell before was entered
    };
    struct Open {
        int estimate, cost, direction;
        Point at;
        bool operator<(const Open& other) const {
            return std::tie(estimate, at, direction) > std::tie(other.estimate, other.at, other.direction);
        }
    };

    Known& known(Point at, int direction) {
        const Point place = router_.place(at) - low_;
        return known_[(static_cast<std::size_t>(place.y) * static_cast<std::size_t>(columns_) +
                       static_cast<std::size_t>(place.x)) *
                          4 +
                      static_cast<std::size_t>(direction)];
    }
    bool within(Point at) const {
        const Point place = router_.place(at) - low_;
        return at.x >= router_.origin_.x && at.y >= router_.origin_.y && place.x >= 0 && place.y >= 0 &&
               place.x < columns_ && place.y < rows_;
    }
    /// What is left costs at least its length, and a bend unless it lies straight ahead.
    int atLeast(Point at, int direction) const {
        const Point left = to_ - at, step = steps[direction];
        const bool ahead = step.x != 0 ? left.y == 0 && left.x * step.x >= 0 : left.x == 0 && left.y * step.y >= 0;
        return (std::abs(left.x) + std::abs(left.y)) / gridStep * straightCost + (ahead ? 0 : bendCost);
    }
    void offer(Point at, int direction, int cost, int cameBy) {
        Known& place = known(at, direction);
        if (cost >= place.cost) return;
        place = {cost, cameBy};
        open_.push({cost + atLeast(at, direction), cost, direction, at});
    }
    void leave(Point at, int direction, int cost) {
        const Cell& here = *router_.cell(at);
        const bool start = at == from_;
        for (int d = 0; d < 4; ++d) {
            const bool bends = d != direction && !start;
            if (d == (direction + 2) % 4 && !start) continue;
            if (bends && (here.along > 0 || here.across > 0)) continue;  // it would look joined
            const Point next = at + steps[d];
            if (!within(next)) continue;
            const int step = next == to_ ? straightCost : router_.stepCost(*router_.cell(next), steps[d].x != 0);
            if (step >= 0) offer(next, d, cost + step + (bends ? bendCost : 0), direction);
        }
    }
    std::vector<Point> wayTo(int direction) {
        std::vector<Point> way = {to_};
        for (Point place = to_; !(place == from_);) {
            const int before = known(place, direction).cameBy;
            place = place - steps[direction];
            way.push_back(place);
            direction = before;
        }
        std::reverse(way.begin(), way.end());
        return simplified(way);
    }

    const Router& router_;
    Point from_, to_, low_;
    int columns_, rows_, cost_ = 0;
    std::vector<Known> known_;
    std::priority_queue<Open> open_;
};

std::vector<Point> Router::route(Point from, Point to) const {
    if (from == to) return {};
    std::vector<Point> best = simplified({from, {to.x, from.y}, to});
    if (cells_.empty() || !cell(from) || !cell(to)) return best;
    int least = INT32_MAX;
    for (const int room : {margin / 2, 4 * margin}) {
        Search search(*this, from, to, room);
        auto way = search.find();
        if (!way.empty() && search.cost() < least) best = std::move(way), least = search.cost();
        if (least < insideCost +
                        static_cast<int>((std::abs(to.x - from.x) + std::abs(to.y - from.y)) / gridStep) * straightCost)
            break;
    }
    return best;
}

}  // namespace hedgerow
