#pragma once
// Nets by geometry and by label.

#include <map>
#include <string>
#include <vector>

#include "model/part_kind.h"
#include "model/project.h"

namespace hedgerow {

struct PinRef {
    int part = 0;  ///< id of the part
    int pin = 0;   ///< index into the kind's pins
    friend auto operator<=>(const PinRef&, const PinRef&) = default;
};

struct Net {
    std::string name;  ///< the label, the name of a module's pin, or "part.pin" of the first by alphabet
    bool labelled = false;
    std::vector<PinRef> pins;
    std::vector<int> wires;
    std::vector<int> labels;
};

/// The nets of a sheet. Wires join where an end touches; two that merely cross do not. Equal labels join.
struct NetList {
    std::vector<Net> nets;
    std::map<PinRef, int> netOfPin;  ///< index into nets; every pin has one
    std::map<int, int> netOfWire;
    std::vector<Point> junctions;  ///< points where three or more wire ends or pins meet

    const Net& of(PinRef pin) const { return nets[static_cast<std::size_t>(netOfPin.at(pin))]; }
};

NetList findNets(const Sheet& sheet, const Catalogue& catalogue);

/// True when `point` lies on the polyline, ends included.
bool liesOn(const Wire& wire, Point point);

}  // namespace hedgerow
