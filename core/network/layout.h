#pragma once
// What the tracks and terminals at a part's pins add from rung 3 on: a series inductance, and a capacitance from the
// net to the reference. They are values of the part, so that no further parts are drawn for them.

#include <map>
#include <string>

#include "network/part_type.h"

namespace hedgerow {

/// Gives a kind that has a rung 3 two more values for each of its power pins: l_<pin> and c_<pin>, 0 unless typed; and
/// the frequency f_e of eddyConductance().
void addLayoutValues(PartKind& kind);

/// What eddy currents in conductors and their surroundings take, beside an inductance of a package, lead or track:
/// G = 1 / (2 pi f_e L), in S. A ring at f then has a quality of f_e / f, and direct currents lose nothing.
/// @pre the kind at hand has layout values
double eddyConductance(const NetworkBuilder& builder, double inductance);

/// Puts the inductances and capacitances of the part at hand into the network.
/// @return the node behind the inductance, by pins that have one
std::map<std::string, int, std::less<>> layoutOf(NetworkBuilder& builder, const PartKind& kind);

}  // namespace hedgerow
