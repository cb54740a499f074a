#include "timeline/notation.h"

#include <QFontMetricsF>
#include <QPainter>
#include <QRegularExpression>

#include "style/theme.h"

namespace hedgerow::app {

Notation notationOf(const std::string& quantity) {
    const QString name = QString::fromStdString(quantity);
    static const QRegularExpression plain(R"(^[\w.]+$)");
    if (!plain.match(name).hasMatch()) return {name, {}, true};
    const auto dot = name.lastIndexOf('.');
    if (dot < 0) return {name, {}, false};
    return {name.mid(dot + 1), name.left(dot), false};
}

double drawNotation(QPainter& painter, const QRectF& box, const Notation& notation, const QColor& colour,
                    int pixelSize) {
    painter.setPen(colour);
    if (notation.expression) {
        painter.setFont(textFont(pixelSize > 16 ? TextSize::large : TextSize::small, true, true));
        const QString shown =
            painter.fontMetrics().elidedText(notation.letter, Qt::ElideRight, static_cast<int>(box.width()));
        painter.drawText(box, Qt::AlignLeft | Qt::AlignVCenter, shown);
        return painter.fontMetrics().horizontalAdvance(shown);
    }
    QFont letter = textFont(TextSize::normal, true, true);
    letter.setPixelSize(pixelSize);
    QFont subscript = textFont(TextSize::normal, true);
    subscript.setPixelSize(pixelSize * 3 / 4);
    painter.setFont(letter);
    const double width = QFontMetricsF(letter).horizontalAdvance(notation.letter);
    painter.drawText(box, Qt::AlignLeft | Qt::AlignVCenter, notation.letter);
    painter.setFont(subscript);
    const QRectF rest = box.adjusted(width + 1, pixelSize * 0.4, 0, pixelSize * 0.4);
    const QString shown = QFontMetricsF(subscript).elidedText(notation.subscript, Qt::ElideRight, rest.width());
    painter.drawText(rest, Qt::AlignLeft | Qt::AlignVCenter, shown);
    return width + 1 + QFontMetricsF(subscript).horizontalAdvance(shown);
}

}  // namespace hedgerow::app
