#pragma once
// The libraries of a user and those that ship: reading them, and sharing modules and parts through them.

#include <QString>

#include "base/result.h"

namespace hedgerow::app {

class Workspace;

void readLibraries(Workspace& workspace);
/// The module of the selected place, or that in view, or else the project's kept parts go into the user's own library.
/// @return what to say
Result<QString> shareInOwnLibrary(Workspace& workspace);
/// Copies a file with modules and parts to the user's libraries. @return what to say
Result<QString> addLibrary(Workspace& workspace, const QString& path);
/// Reads makers' model cards into a library of their own. @return a page that says what became of each, and what of
/// the text was not taken, line by line
Result<QString> addCards(Workspace& workspace, const QString& path);

}  // namespace hedgerow::app
