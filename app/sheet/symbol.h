#pragma once
// Drawing symbols of parts from their strokes.

#include <QPainterPath>
#include <QRectF>

#include "model/part_kind.h"

class QPainter;

namespace hedgerow::app {

struct SymbolLook {
    QColor colour;
    bool conducting = false;     ///< of switching parts
    bool emphasised = false;     ///< carries current at the cursor: heavier strokes
    const Part* part = nullptr;  ///< whose choices count; without one the kind's own
};

QPainterPath strokePath(const std::string& path);
/// Draws around the origin of the painter.
void drawSymbol(QPainter& painter, const PartKind& kind, const SymbolLook& look);
/// Moves the painter to where the part stands, turned and flipped as it is.
void enterPart(QPainter& painter, const Part& part);
/// The symbol's box on the sheet, pins included.
QRectF partBox(const Part& part, const PartKind& kind);

}  // namespace hedgerow::app
