#pragma once
// Where names are used: parameters in expressions, and finding things on a sheet.

#include <optional>
#include <set>
#include <string>
#include <vector>

#include "model/nets.h"
#include "model/part_kind.h"
#include "model/project.h"

namespace hedgerow {

/// The expressions of a value, each with what ends it; `list` tells whether there are several, as in "1, 2*k". Of
/// constants, "kp = 2*k", only what stands behind the sign is an expression.
std::vector<std::pair<std::string, std::string>> piecesOf(const std::string& text, bool list);

/// One typed value that uses a parameter.
struct ParameterUse {
    std::string where;      ///< "L1 winding resistance", "parameter Ts", "plan look"
    int part = 0;           ///< id of the part; 0 when it is not in a part
    std::size_t sheet = 0;  ///< on which the part stands
    std::string key;        ///< of the value in the part
};
/// Of a parameter of the list in view.
std::vector<ParameterUse> usesOf(const Project& project, const Catalogue& catalogue, std::string_view parameter);

/// Renames a parameter of the list in view in all expressions that mean it.
void renameInExpressions(Project& project, const Catalogue& catalogue, std::string_view from, std::string_view to);

/// A text with every `from.` that begins a name as `to.`.
std::string withRenamedPrefix(const std::string& text, const std::string& from, const std::string& to);

/// A part or a net of the sheet in view has another name: what is called after it follows, in lanes, tolerances,
/// events, measured quantities and the fields that name parts. @param net  whether it is a net, of which only "out.v"
/// is called
void renameThing(Project& project, const std::string& from, const std::string& to, bool net);

/// Names that expressions use and that no parameter has; of a module in view, those on its sheet.
std::vector<std::string> undefinedParameters(const Project& project, const Catalogue& catalogue);

/// The wires and labels of the nets that the given wires and labels belong to, or, without any, those of the given
/// parts.
std::set<int> wholeNets(const Sheet& sheet, const NetList& nets, const std::set<int>& items);
/// Where a pin lies, named as "C1.a"; or the place of a net's name, named as "out".
std::optional<Point> placeNamed(const Project& project, const Catalogue& catalogue, std::string_view name);

/// All parts of the kinds of the given parts.
std::set<int> similarParts(const Sheet& sheet, const std::set<int>& items);

/// What can be looked for on a sheet.
struct Found {
    enum class What { part, net } what = What::part;
    std::set<int> ids;   ///< to select
    std::string title;   ///< "L1", "out"
    std::string detail;  ///< "Inductor, 47u", "4 pins"
};
/// Parts by name, kind and value, and nets by name; those whose name begins with the typed text come first.
std::vector<Found> findOnSheet(const Project& project, const Catalogue& catalogue, const NetList& nets,
                               std::string_view typed);

}  // namespace hedgerow
