#pragma once
// Textbook notation of quantities: "L1.i" is shown as an italic i with the subscript L1.

#include <QString>

class QPainter;
class QRectF;
class QColor;

namespace hedgerow::app {

struct Notation {
    QString letter, subscript;
    bool expression = false;  ///< `letter` holds all of it, as typed
};
Notation notationOf(const std::string& quantity);
/// Draws it with its left edge at the left of the box, centred in height. Returns the width used.
double drawNotation(QPainter& painter, const QRectF& box, const Notation& notation, const QColor& colour,
                    int pixelSize = 15);

}  // namespace hedgerow::app
