#pragma once
// Edits that make, take, change and share modules.

#include <set>
#include <string>
#include <vector>

#include "model/history.h"
#include "model/part_kind.h"

namespace hedgerow::edits {

/// The chosen parts of the sheet in view become a module with one place in their stead. Nets that lead out get pins;
/// wires between what stays, and between what goes, keep their shape. Lanes and tolerances follow the new names.
Edit makeModule(std::set<int> ids, std::string name, const Catalogue& catalogue);
/// Adds a module without parts.
Edit addModule(std::string name);
Edit renameModule(std::string from, std::string to);
Edit setModuleNote(std::string module, std::string note);
/// Refused while it has places.
Edit removeModule(std::string module);
/// A module from a library becomes the project's own; every place of it stays one.
Edit makeOwn(std::string module);
/// One place gets a copy of its module under a name of its own.
Edit copyForPlace(int place, std::string name);
/// As paste, with the modules that the clip needs; one that the project has under the same name stays as it is.
Edit pasteWithModules(Sheet clip, std::vector<Sheet> modules, Point by, const Catalogue& parts,
                      std::set<int>* added = nullptr);

/// Keeps a part under a word for the entry line; replaces one of the same word.
Edit keepPart(int part, std::string word);

/// Adds those modules that places of a project need and that it lacks, from `library`. @return whether any was added
bool takeMissingModules(Project& project, const std::vector<Sheet>& library);
/// Adds a module and those inside it; one that the project has under the same name stays as it is.
void takeModule(Project& project, const Sheet& module, const std::vector<Sheet>& library);
/// Why a name cannot be that of a new module of the project.
Status moduleNameFree(const Project& project, const std::string& name);

}  // namespace hedgerow::edits
