#pragma once
// The edit commands: every change the interface and the command line can make to a project.

#include <set>
#include <string>
#include <vector>

#include "model/history.h"
#include "model/part_kind.h"

namespace hedgerow::edits {

/// The first free name with the prefix of the kind: L1, L2, ...
std::string freeName(const Project& project, const PartKind& kind);

/// Places a part. An empty name gets a free one. A part with two pins that both lie on one straight run of a wire
/// is spliced in: the wire between its pins goes.
Edit place(Part part, const Catalogue& catalogue);
/// Removes parts, wires and labels by id. Where a single part was spliced into a straight wire, the wire is closed.
Edit remove(std::set<int> ids, const Catalogue& catalogue);
/// Moves parts and wires; wires and labels that hang on what moves follow, and a pin that leaves another pin or the
/// middle of a wire takes a new wire along. Nothing that was joined comes apart.
Edit move(std::set<int> ids, Point by, const Catalogue& catalogue);
/// Turns parts a quarter clockwise, or mirrors them, about their own origin, or about the middle of several.
Edit turn(std::set<int> ids, const Catalogue& catalogue);
Edit flip(std::set<int> ids, const Catalogue& catalogue);
/// @param bent  by hand: it keeps its shape as far as it can when its ends move
Edit addWire(std::vector<Point> points, bool bent = false);
Edit setLabel(Point at, std::string net);
Edit renameLabel(int id, std::string net);
Edit renamePart(int id, std::string name);
Edit setValue(std::set<int> ids, std::string key, std::string text);
/// Moves parts up or down their ladders, each to the next rung it has.
Edit climb(std::set<int> ids, int steps, const Catalogue& catalogue);
Edit setRung(std::set<int> ids, int rung, const Catalogue& catalogue);
/// Changes the parameter called `name` of the list in view, or adds one; a new name follows into all expressions, and
/// that of a module's parameter into what its places set.
Edit setParameter(std::string name, Parameter parameter, const Catalogue& catalogue);
Edit removeParameter(std::string name);
/// Makes a parameter of the list in view of a part's value: it takes the typed text, the value refers to it.
Edit promote(int part, std::string key, std::string name, const Catalogue& catalogue);
Edit setPlan(std::string name, Plan plan);
/// Changes a trade study, or adds it.
Edit setStudy(std::string name, TradeStudy study);
/// Changes the scene called `name`, or adds one. A new name must be free.
Edit setScene(std::string name, Scene scene);
/// Refuses the last one.
Edit removeScene(std::string name);
Edit removeStudy(std::string name);
Edit setParameterStudy(std::string name, ParameterStudy study);
Edit removeParameterStudy(std::string name);
Edit setLanes(std::vector<Lane> lanes, std::string label);
/// Keeps the present lanes under a name; an older set of that name is replaced. Refuses an empty name.
Edit keepLaneSet(std::string name);
/// Shows the lanes of a set.
Edit showLaneSet(std::string name);
Edit removeLaneSet(std::string name);
/// Shows them from now on when a run of a plan follows one of another; "" for of no plan.
Edit setPlanOfLanes(std::string name, std::string plan);
Edit setMeasured(MeasuredPeriods measured);
/// Adds copies of the given items, moved by `by`; parts get free names. The new ids are written to `added`.
Edit paste(Sheet clip, Point by, const Catalogue& catalogue, std::set<int>* added = nullptr);
/// The chosen items of a sheet, for the clipboard.
Sheet copied(const Sheet& sheet, const std::set<int>& ids);

}  // namespace hedgerow::edits
