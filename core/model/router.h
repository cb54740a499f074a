#pragma once
// Finds ways for wires: at right angles, around parts, with few bends, and touching nothing that they do not join.
//
// The search is A* (P. E. Hart, N. J. Nilsson and B. Raphael, IEEE Trans. Systems Science and Cybernetics 4, 1968) on
// the grid of the sheet, with the direction of travel as part of the state, so that bends have a price.

#include <cstdint>
#include <vector>

#include "model/part_kind.h"
#include "model/project.h"

namespace hedgerow {

/// What stands on a part of a sheet, cell by cell.
class Router {
public:
    /// Looks at what lies in the rectangle from `low` to `high` and a margin around it.
    Router(const Sheet& sheet, const Catalogue& catalogue, Point low, Point high);

    void add(const Wire& wire) { mark(wire, 1); }
    void remove(const Wire& wire) { mark(wire, -1); }

    /// The cheapest way. Where there is none that touches nothing foreign, a plain one with one bend. Empty when both
    /// are the same point.
    std::vector<Point> route(Point from, Point to) const;
    /// Whether a wire goes around all parts and touches nothing between its ends.
    bool clean(const std::vector<Point>& points) const;

private:
    struct Cell {
        std::int8_t joints = 0;             ///< pins, ends of wires and names: a wire that passes here joins them
        std::int8_t along = 0, across = 0;  ///< wires that run horizontally and vertically
        std::int8_t inside = 0, edge = 0;   ///< parts: of their bodies, and of the edge around them
    };
    class Search;
    void mark(const Wire& wire, int count);
    Point place(Point at) const;  ///< column and row
    Cell* cell(Point at);
    const Cell* cell(Point at) const { return const_cast<Router*>(this)->cell(at); }
    int stepCost(const Cell& cell, bool horizontal) const;

    Point origin_;
    int columns_ = 0, rows_ = 0;
    std::vector<Cell> cells_;
};

}  // namespace hedgerow
