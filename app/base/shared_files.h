#pragma once
// What ships with the application: examples and libraries.

#include <QString>

namespace hedgerow::app {

/// What ships with the application, by name: "examples", "library". "" when it is not there.
QString sharedFolder(const QString& name);

/// Whether a file ships with the application: nothing is written beside such a one.
bool ships(const QString& path);

}  // namespace hedgerow::app
