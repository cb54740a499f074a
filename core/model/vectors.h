#pragma once
// Wires that carry three signals at once, as those of three phases.
//
// One part makes three signals one wire, another takes them out again. In between, a part of the control whose
// inputs come from such a wire stands for three: its outputs are such wires too. Where a pin takes three
// (PinKind::three), the wire goes to that pin and the two after it instead.

#include <set>
#include <vector>

#include "model/modules.h"

namespace hedgerow {

inline constexpr std::string_view gatherKind = "three-in-one", scatterKind = "one-in-three";
/// Behind the names of the three parts and nets that one stands for.
inline constexpr std::string_view ofThree[] = {".a", ".b", ".c"};

/// The name without such an end.
std::string_view withoutOfThree(std::string_view name);

/// What carries three signals on a sheet, as far as the sheet alone tells.
struct WiresOfThree {
    std::vector<char> nets;  ///< one per net
    std::set<PinRef> fed;    ///< pins without a wire that are fed by that of a pin before them
};
WiresOfThree wiresOfThree(const Sheet& sheet, const NetList& nets, const Catalogue& catalogue);

/// Lays a flat project out in single signals: the parts that join and part wires are gone, others stand three times
/// where they stand for three.
void spreadVectors(FlatProject& flat, const Catalogue& parts);

}  // namespace hedgerow
