#pragma once
// Draws a sheet: parts, wires, names, values, rungs; and, after a run, what happens at the time cursor.

#include <map>
#include <optional>
#include <set>
#include <string>

#include <QPointF>
#include <QRectF>

#include "base/workspace.h"

class QPainter;

namespace hedgerow::app {

/// The words beside a part.
struct PartText {
    QString name, value;
    QRectF nameBox, valueBox, ticksBox;
};
PartText partText(const Part& part, const PartKind& kind, const ParameterLookup& lookup);

/// The shown run at the time cursor, looked up by names: parts that were renamed or added since show nothing.
class Instant {
public:
    /// Nothing when there is no run, no cursor, or the circuit has changed since.
    static std::optional<Instant> of(Workspace& workspace);

    std::optional<double> value(const std::string& quantity) const;
    std::optional<bool> conducting(const std::string& part) const;
    /// The largest current of any part now: the scale of arrows and heavy strokes.
    double largestCurrent() const { return largestCurrent_; }

private:
    explicit Instant(Workspace& workspace) : workspace_(&workspace) {}
    Workspace* workspace_;
    double largestCurrent_ = 0.0;
};

struct SheetScene {
    Workspace& workspace;
    const Sheet& sheet;  ///< what is drawn: the project's, or a preview of a drag
    std::optional<Instant> instant;
    bool working = true;  ///< with pins, selection and marks at faults; false on paper
    QRectF visible = {};  ///< part of the sheet that is seen: notes stay within it; empty for pictures
};

void paintSheet(QPainter& painter, const SheetScene& scene);
/// The box around everything on a sheet, texts included.
QRectF sheetBox(Workspace& workspace, const Sheet& sheet);

}  // namespace hedgerow::app
