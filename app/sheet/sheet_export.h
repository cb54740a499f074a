#pragma once
// The sheet on paper and in files, in light colours whatever the screen shows.

#include <QByteArray>
#include <QString>

#include "base/result.h"
#include "model/project.h"

class QPrinter;

namespace hedgerow::app {

class Workspace;

/// Writes the sheet as PNG, SVG or PDF, by the ending of the file name. Errors: an unknown ending; it cannot be
/// written.
Status exportSheet(Workspace& workspace, const QString& path);
/// A sheet, or some items of one, as SVG.
QByteArray sheetAsSvg(Workspace& workspace, const Sheet& sheet);
/// The sheet in view, at three pixels a unit of the sheet.
QByteArray sheetAsPng(Workspace& workspace);
void printSheet(Workspace& workspace, QPrinter& printer);

}  // namespace hedgerow::app
