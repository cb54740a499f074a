#pragma once
// Changes the places of some items of a sheet and takes what hangs on them along.

#include <map>
#include <set>
#include <vector>

#include "model/part_kind.h"
#include "model/project.h"

namespace hedgerow::edits {

/// Where the pins of a part lie on its sheet.
std::vector<Point> pinPoints(const Part& part, const Catalogue& catalogue);

/// A chosen wire moves as a whole unless one of its ends hangs on a part that stays: then it only bends.
class Mover {
public:
    /// @pre the items are still where they were
    Mover(Project& project, const std::set<int>& ids, const Catalogue& catalogue);

    /// Call after the parts themselves were changed. `by` is how far whole wires are to go; labels on what moves
    /// follow.
    void follow(Point by);

private:
    bool movesWhole(const Wire& wire) const { return whole_.contains(wire.id); }
    Wire newWire(Point from, Point to);
    void makeWay();
    bool throughMoved(const Wire& wire) const;
    void moveWholeWires(Point by);
    void dropCovered();
    bool anchored(Point point) const;
    void bendEnds(Wire& wire, const std::set<Point>& touching, std::vector<Wire>& added);
    Point target(Point from) const;

    Project& project_;
    Sheet& sheet_;
    const Catalogue& catalogue_;
    std::map<int, std::vector<Point>> before_;
    std::set<Point> staying_, kept_;
    std::set<int> free_;  ///< wires that the router may lay anew
    std::set<int> whole_;
    std::vector<Box> movedBoxes_;
    std::map<Point, Point> moved_;
};

}  // namespace hedgerow::edits
