#pragma once
// Modules: sheets that stand as one part on other sheets.
//
// A part whose kind is "module:leg" is a place of the module "leg". The pins of a module are the pin parts on its
// sheet; the names of its nets and parts are its own, and from outside they are "X1.Q2" for the part Q2 in the place
// X1.

#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "model/nets.h"
#include "model/part_kind.h"
#include "model/project.h"

namespace hedgerow {

/// The kinds of the parts that are pins of a module, by what the pin is from outside.
inline constexpr std::string_view powerPinKind = "pin", signalInKind = "pin-in", signalOutKind = "pin-out";
bool isModulePin(const Part& part);

/// The value of a place that says whether the parts inside keep their rungs or all take that of the place.
inline constexpr std::string_view insideKey = "inside", ownRungs = "their own", oneRung = "the module's";

/// The kind of a part that is a place of the module, and the module of such a kind; "" for any other.
std::string moduleKindId(std::string_view module);
std::string_view moduleOf(std::string_view kind);

/// A module as a kind of part: a box with its pins on the sides they name, in their order on the sheet.
PartKind moduleKind(const Sheet& sheet, const Catalogue& catalogue);
/// The catalogue with the modules of a project, those of `others` too where the project has none of the name.
Catalogue withModules(const Catalogue& parts, const Project& project, const std::vector<Sheet>& others = {});

/// The modules that a sheet needs, itself first, each once; those that are missing are left out.
std::vector<const Sheet*> modulesUnder(const Sheet& sheet, const std::vector<Sheet>& sheets);
/// Whether a place of `module` on the sheet called `sheet` would put a module into itself.
bool wouldContainItself(const Project& project, std::string_view sheet, std::string_view module);

/// The view of the sheet at the end of a path of places, as far as these exist.
View viewAlong(const Project& project, const std::vector<int>& path);
/// Names of the places that lead to the sheet in view, as a prefix of its names from outside: "X1.X2.".
std::string prefixInView(const Project& project);
/// The places that lead to the sheet in view.
std::vector<const Part*> placesInView(const Project& project);

/// Where a part of a flat project comes from.
struct PartOrigin {
    std::vector<int> path;  ///< the modules' places down from the main sheet
    int id = 0;             ///< on its own sheet
};

/// A project without modules and wires of three signals: the insides of modules stand on the main sheet, which has neither
/// wires nor labels of theirs.
struct FlatProject {
    Project project;
    NetList nets;
    std::map<int, PartOrigin> origins;  ///< of the parts from modules, or of three, by their id on the flat sheet
    std::vector<Error> errors;          ///< what kept modules from being laid out, named by part
};
/// @param parts  the catalogue without modules
FlatProject flattened(const Project& project, const Catalogue& parts);
/// What the nets of the module in view, `nets`, are called from outside.
std::map<std::string, std::string> netNamesOutside(const Project& project, const NetList& nets, const Catalogue& parts);

}  // namespace hedgerow
