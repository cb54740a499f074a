#include "model/mover.h"

#include <algorithm>

#include "model/nets.h"
#include "model/route.h"
#include "model/router.h"

namespace hedgerow::edits {

namespace {

/// Calls `visit` with every point of a set that lies on a wire between its ends.
template <class Visit>
void forEachBetween(const Wire& wire, const std::set<Point>& points, Visit visit) {
    for (std::size_t i = 0; i + 1 < wire.points.size(); ++i) {
        const auto [low, high] = std::minmax(wire.points[i], wire.points[i + 1]);
        // Ordered by x, then y: along a vertical run only the points of its column are looked at.
        for (auto point = points.lower_bound(low); point != points.end() && *point <= high; ++point)
            if (point->y >= std::min(low.y, high.y) && point->y <= std::max(low.y, high.y) &&
                *point != wire.points.front() && *point != wire.points.back())
                visit(*point);
    }
}

bool touchedBetween(const Wire& wire, const std::set<Point>& points) {
    bool touched = false;
    forEachBetween(wire, points, [&](Point) { touched = true; });
    return touched;
}

}  // namespace

std::vector<Point> pinPoints(const Part& part, const Catalogue& catalogue) {
    std::vector<Point> points;
    if (const PartKind* kind = catalogue.find(part.kind))
        for (const PinKind& pin : kind->pins) points.push_back(part.toSheet(pin.at));
    return points;
}

Mover::Mover(Project& project, const std::set<int>& ids, const Catalogue& catalogue)
    : project_(project), sheet_(project.sheet()), catalogue_(catalogue) {
    for (const Part& part : sheet_.parts) {
        if (ids.contains(part.id))
            before_[part.id] = pinPoints(part, catalogue);
        else
            for (const Point point : pinPoints(part, catalogue)) staying_.insert(point);
    }
    for (const Wire& wire : sheet_.wires)
        if (ids.contains(wire.id) &&
            std::none_of(staying_.begin(), staying_.end(), [&](Point p) { return liesOn(wire, p); }))
            whole_.insert(wire.id);
}

void Mover::follow(Point by) {
    for (const Part& part : sheet_.parts) {
        if (!before_.contains(part.id)) continue;
        const auto after = pinPoints(part, catalogue_);
        if (const PartKind* kind = catalogue_.find(part.kind)) movedBoxes_.push_back(boxOf(part, *kind));
        for (std::size_t i = 0; i < after.size(); ++i) moved_[before_[part.id][i]] = after[i];
    }
    std::set<Point> touching = staying_;
    for (const Wire& wire : sheet_.wires) touching.insert({wire.points.front(), wire.points.back()});
    if (by != Point{}) moveWholeWires(by);
    std::vector<Wire> added;
    for (const auto& [from, to] : moved_) {
        if (from == to || !anchored(from)) continue;
        added.push_back(newWire(from, to));
        kept_.insert(from);
    }
    touching.insert(kept_.begin(), kept_.end());
    for (Wire& wire : sheet_.wires)
        if (by == Point{} || !movesWhole(wire)) bendEnds(wire, touching, added);
    sheet_.wires.insert(sheet_.wires.end(), added.begin(), added.end());
    std::erase_if(sheet_.wires, [](const Wire& w) { return w.points.size() < 2; });
    for (Label& label : sheet_.labels)
        if (const auto to = moved_.find(label.at); to != moved_.end() && !kept_.contains(label.at))
            label.at = to->second;
    makeWay();
    dropCovered();
}

Wire Mover::newWire(Point from, Point to) {
    const int id = project_.newId();
    free_.insert(id);
    return {id, simplified({from, {to.x, from.y}, to}), ""};
}

/// Finds new ways for wires that changed, and for those that run through a part that moved.
void Mover::makeWay() {
    std::set<Point> joints;
    for (const Part& part : sheet_.parts)
        for (const Point point : pinPoints(part, catalogue_)) joints.insert(point);
    for (const Label& label : sheet_.labels) joints.insert(label.at);
    for (const Wire& wire : sheet_.wires) joints.insert({wire.points.front(), wire.points.back()});
    for (const Wire& wire : sheet_.wires)
        if (!wire.bent && !free_.contains(wire.id) && throughMoved(wire) && !touchedBetween(wire, joints))
            free_.insert(wire.id);
    if (free_.empty()) return;
    Point low{INT32_MAX, INT32_MAX}, high{INT32_MIN, INT32_MIN};
    for (const Wire& wire : sheet_.wires)
        for (const Point point : wire.points) {
            if (!free_.contains(wire.id)) continue;
            low = {std::min(low.x, point.x), std::min(low.y, point.y)};
            high = {std::max(high.x, point.x), std::max(high.y, point.y)};
        }
    if (low.x > high.x) return;
    Router router(sheet_, catalogue_, low, high);
    for (Wire& wire : sheet_.wires) {
        if (!free_.contains(wire.id)) continue;
        router.remove(wire);
        if (!router.clean(wire.points)) wire.points = router.route(wire.points.front(), wire.points.back());
        router.add(wire);
    }
}
bool Mover::throughMoved(const Wire& wire) const {
    return std::any_of(movedBoxes_.begin(), movedBoxes_.end(), [&](const Box& box) {
        for (std::size_t i = 0; i + 1 < wire.points.size(); ++i)
            if (boxAround(wire.points[i], wire.points[i + 1]).overlaps(box)) return true;
        return false;
    });
}

/// Whole wires take along what ends on them.
void Mover::moveWholeWires(Point by) {
    for (Wire& wire : sheet_.wires) {
        if (!movesWhole(wire)) continue;
        for (const Wire& other : sheet_.wires)
            for (const Point end : {other.points.front(), other.points.back()})
                if (liesOn(wire, end)) moved_.emplace(end, end + by);
        for (const Label& label : sheet_.labels)
            if (liesOn(wire, label.at)) moved_.emplace(label.at, label.at + by);
    }
    for (Wire& wire : sheet_.wires)
        if (movesWhole(wire))
            for (Point& point : wire.points) point = point + by;
}

/// A straight wire that lies wholly on another one joins nothing that is not joined already.
void Mover::dropCovered() {
    auto& wires = sheet_.wires;
    for (std::size_t i = wires.size(); i-- > 0;) {
        if (wires[i].points.size() != 2) continue;
        const bool covered = std::any_of(wires.begin(), wires.end(), [&](const Wire& other) {
            if (&other == &wires[i]) return false;
            for (std::size_t k = 0; k + 1 < other.points.size(); ++k) {
                const Box run = boxAround(other.points[k], other.points[k + 1]);
                if (run.contains(wires[i].points[0]) && run.contains(wires[i].points[1])) return true;
            }
            return false;
        });
        if (covered) wires.erase(wires.begin() + static_cast<long>(i));
    }
}

/// True where a pin or the middle of a wire stays behind at `point`.
bool Mover::anchored(Point point) const {
    return staying_.contains(point) || std::any_of(sheet_.wires.begin(), sheet_.wires.end(), [&](const Wire& wire) {
               return !movesWhole(wire) && wire.points.front() != point && wire.points.back() != point &&
                      liesOn(wire, point);
           });
}

/// Bends a wire after its ends. Where something touches the middle that the bend would leave behind, the wire stays
/// and new ones reach from its ends to where those are now.
void Mover::bendEnds(Wire& wire, const std::set<Point>& touching, std::vector<Wire>& added) {
    const Wire old = wire;
    const Point oldFront = old.points.front(), oldBack = old.points.back(), front = target(oldFront),
                back = target(oldBack);
    if (front == oldFront && back == oldBack) return;
    if (front - oldFront == back - oldBack) {
        for (Point& point : wire.points) point = point + (front - oldFront);
    } else {
        if (front != oldFront) wire.points = withMovedEnd(wire.points, true, front);
        if (back != oldBack && wire.points.size() >= 2) wire.points = withMovedEnd(wire.points, false, back);
    }
    bool leaves = false, touched = false;
    forEachBetween(old, touching, [&](Point p) {
        touched = true;
        leaves = leaves || !liesOn(wire, p);
    });
    if (!touched && !wire.bent) free_.insert(wire.id);
    if (!leaves) return;
    wire = old;
    if (front != oldFront) added.push_back(newWire(oldFront, front));
    if (back != oldBack) added.push_back(newWire(oldBack, back));
}
Point Mover::target(Point from) const {
    const auto to = moved_.find(from);
    return to == moved_.end() || kept_.contains(from) ? from : to->second;
}

}  // namespace hedgerow::edits
