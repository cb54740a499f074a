#pragma once
// The full example run without a display: opens projects, runs them, and saves pictures of what a user would see.

#include <QString>
#include <QStringList>

class QApplication;

namespace hedgerow::app {

/// Runs each project in a real window of 1280x800 and writes PNG pictures and CSV and HDF5 data to `folder`.
/// Returns the exit code of the program.
int makePictures(QApplication& application, const QString& folder, const QStringList& projects);

}  // namespace hedgerow::app
