#include "sheet/symbol.h"

#include <cmath>
#include <sstream>
#include <unordered_map>

#include <QPainter>

#include "model/values.h"
#include "style/theme.h"

namespace hedgerow::app {

QPainterPath strokePath(const std::string& text) {
    QPainterPath path;
    std::istringstream in(text);
    for (std::string command; in >> command;) {
        double x = 0, y = 0, r = 0, start = 0, span = 0;
        if (command == "M" && in >> x >> y)
            path.moveTo(x, y);
        else if (command == "L" && in >> x >> y)
            path.lineTo(x, y);
        else if (command == "O" && in >> x >> y >> r)
            path.addEllipse(QPointF(x, y), r, r);
        else if (command == "A" && in >> x >> y >> r >> start >> span) {
            const QRectF box(x - r, y - r, 2 * r, 2 * r);
            path.arcMoveTo(box, start);
            path.arcTo(box, start, span);
        } else if (command == "Z")
            path.closeSubpath();
    }
    return path;
}

namespace {

/// The text in the middle of a symbol, upright however the part is turned.
void drawMark(QPainter& painter, const PartKind& kind, const QColor& colour) {
    const QTransform turned = painter.worldTransform();
    const double scale = std::sqrt(std::abs(turned.determinant()));
    painter.save();
    painter.setWorldTransform(QTransform(scale, 0, 0, scale, turned.dx(), turned.dy()));
    painter.setFont(textFont(TextSize::small));
    painter.setPen(colour);
    // Of a box with the names of several pins in it, above these.
    const double top = kind.pins.size() > 2 ? kind.bounds().first.y + 2 : -10;
    painter.drawText(QRectF(-40, top, 80, 20), Qt::AlignCenter, QString::fromStdString(kind.mark));
    painter.restore();
}

std::string wordOf(const Part* part, const PartKind& kind, const std::string& key) {
    const auto word = partChoice(part ? *part : Part{}, kind, key);
    return word ? *word : "";
}

}  // namespace

void drawSymbol(QPainter& painter, const PartKind& kind, const SymbolLook& look) {
    for (const Stroke& stroke : kind.symbol) {
        if (stroke.when == Stroke::When::conducting && !look.conducting) continue;
        if (stroke.when == Stroke::When::blocking && look.conducting) continue;
        if (stroke.choice && wordOf(look.part, kind, stroke.choice->key) != stroke.choice->word) continue;
        double width = stroke.weight == Stroke::Weight::thin     ? 1.2
                       : stroke.weight == Stroke::Weight::normal ? 2.0
                                                                 : 2.8;
        if (look.emphasised && stroke.weight != Stroke::Weight::thin) width += 1.2;
        painter.setPen(QPen(look.colour, width, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
        painter.setBrush(stroke.filled ? QBrush(look.colour) : QBrush(Qt::NoBrush));
        static std::unordered_map<std::string, QPainterPath> known;
        auto [path, fresh] = known.try_emplace(stroke.path);
        if (fresh) path->second = strokePath(stroke.path);
        painter.drawPath(path->second);
    }
    if (!kind.mark.empty()) drawMark(painter, kind, look.colour);
}

void enterPart(QPainter& painter, const Part& part) {
    painter.translate(part.at.x, part.at.y);
    painter.rotate(90.0 * part.turn);
    if (part.flip) painter.scale(-1, 1);
}

QRectF partBox(const Part& part, const PartKind& kind) {
    const auto [low, high] = kind.bounds();
    const Point a = part.toSheet(low), b = part.toSheet(high);
    return QRectF(QPointF(a.x, a.y), QPointF(b.x, b.y)).normalized();
}

}  // namespace hedgerow::app
