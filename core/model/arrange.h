#pragma once
// Edits that put several items in order: in line, evenly apart, in rows of copies.

#include <set>

#include "model/history.h"
#include "model/part_kind.h"

namespace hedgerow::edits {

enum class Edge { left, right, top, bottom, column, row };  ///< column, row: the middles

/// Moves parts until the given edges of their symbols, or their middles, are in line with the outermost one, or with
/// the mean of the middles.
Edit align(std::set<int> ids, Edge edge, const Catalogue& catalogue);
/// Moves parts so that the distances of their middles are equal, the outermost two staying. @pre at least three parts
Edit distribute(std::set<int> ids, bool horizontally, const Catalogue& catalogue);
/// `copies` more of the given items, each moved by `step` from the one before; parts get counted names.
Edit array(std::set<int> ids, int copies, Point step, const Catalogue& catalogue);

}  // namespace hedgerow::edits
