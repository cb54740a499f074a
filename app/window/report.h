#pragma once
// A report of the shown run: sheet, plan, parameters, lanes, measures and timings in one file that needs no other.

#include <QString>

#include "base/result.h"

namespace hedgerow::app {

class TimelineView;
class Workspace;

/// Writes HTML or, by the ending of the path, PDF. @pre there is a shown run that is over
Status writeReport(Workspace& workspace, TimelineView& timeline, const QString& path);

}  // namespace hedgerow::app
