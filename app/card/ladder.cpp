#include "card/ladder.h"

#include <QKeyEvent>
#include <QPainter>

#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int topRung = 4;
constexpr double tall = 38, flat = 17;  ///< of a rung the part has, and of one it lacks
constexpr double leftRail = 14, rightRail = 60, textLeft = 76;
const char* const names[] = {"averaged", "ideal", "lossy", "dynamic", "physical"};

const RungKind* findRung(const PartKind& kind, int rung) {
    for (const RungKind& candidate : kind.rungs)
        if (candidate.rung == rung) return &candidate;
    return nullptr;
}
}  // namespace

const char* nameOfRung(int rung) { return names[rung]; }

Ladder::Ladder(QWidget* parent) : QWidget(parent) {
    setObjectName("ladder");
    setAccessibleName("ladder");
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
}

void Ladder::show(const PartKind* kind, int rung, const std::map<int, double>& measured) {
    kind_ = kind ? std::optional(*kind) : std::nullopt;
    measured_ = measured;
    rung_ = kind ? kind->rungAtOrBelow(rung).rung : rung;
    double height = 16;
    for (int r = 0; kind && r <= topRung; ++r) height += heightOf(r);
    setFixedHeight(static_cast<int>(height));
    QString said = kind ? QString("rung %1, %2").arg(rung_).arg(names[rung_]) : QString();
    if (!measured_.empty()) said += ", prices measured here";
    setAccessibleDescription(said);
    update();
}

double Ladder::heightOf(int rung) const { return kind_ && kind_->hasRung(rung) ? tall : flat; }

double Ladder::centre(int rung) const {
    double y = 8;
    for (int r = topRung; r > rung; --r) y += heightOf(r);
    return y + heightOf(rung) / 2;
}

int Ladder::rungAt(double y) const {
    for (int r = 0; r <= topRung; ++r)
        if (std::abs(y - centre(r)) <= heightOf(r) / 2) return r;
    return -1;
}

void Ladder::paintEvent(QPaintEvent*) {
    if (!kind_) return;
    const Colours& p = colours();
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(Qt::NoPen);
    painter.setBrush(p.leafTint);
    painter.drawRoundedRect(QRectF(4, centre(rung_) - tall / 2 + 1, width() - 8, tall - 2), 6, 6);
    if (hovered_ >= 0 && hovered_ != rung_ && kind_->hasRung(hovered_)) {
        painter.setBrush(p.chalk);
        painter.drawRoundedRect(QRectF(4, centre(hovered_) - tall / 2 + 1, width() - 8, tall - 2), 6, 6);
    }
    painter.setPen(QPen(p.bark, 2.4, Qt::SolidLine, Qt::RoundCap));
    painter.drawLine(QPointF(leftRail, 2), QPointF(leftRail, height() - 2));
    painter.drawLine(QPointF(rightRail, 2), QPointF(rightRail, height() - 2));
    for (int r = 0; r <= topRung; ++r) {
        const double y = centre(r);
        const RungKind* rung = findRung(*kind_, r);
        if (!rung) {
            painter.setPen(p.bark);
            painter.setFont(textFont(TextSize::small, false, true));
            painter.drawText(QRectF(textLeft, y - flat / 2, width() - textLeft - 12, flat),
                             Qt::AlignLeft | Qt::AlignVCenter, QString("%1: absent").arg(names[r]));
            continue;
        }
        const bool here = r == rung_;
        painter.setPen(QPen(here ? p.leaf : p.bark, here ? 4 : 1.6));
        painter.drawLine(QPointF(leftRail, y), QPointF(rightRail, y));
        if (here) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(p.leaf);
            painter.drawEllipse(QPointF((leftRail + rightRail) / 2, y), 9, 9);
        }
        painter.setPen(here ? p.ink : p.bark);
        painter.setFont(textFont(TextSize::normal, here));
        const QRectF line(textLeft, y - 17, width() - textLeft - 12, 17);
        painter.drawText(line, Qt::AlignLeft | Qt::AlignVCenter, names[r]);
        painter.setFont(textFont());
        const auto measured = measured_.find(r);
        const bool known = measured != measured_.end();
        if (known) painter.setPen(p.leaf);
        const double price = known ? measured->second : rung->price;
        painter.drawText(
            line, Qt::AlignRight | Qt::AlignVCenter,
            "× " + (price < 100 ? QString::number(price, 'g', known ? 2 : 3) : QString::number(price, 'f', 0)));
        painter.setFont(textFont(TextSize::small));
        painter.setPen(p.bark);
        const QString adds = painter.fontMetrics().elidedText(QString::fromStdString(rung->adds), Qt::ElideRight,
                                                              static_cast<int>(line.width()));
        painter.drawText(line.translated(0, 16), Qt::AlignLeft | Qt::AlignVCenter, adds);
    }
    if (hasFocus()) {
        painter.setPen(QPen(p.sloe, 1));
        painter.setBrush(Qt::NoBrush);
        painter.drawRoundedRect(QRectF(rect()).adjusted(1, 1, -1, -1), 6, 6);
    }
}

void Ladder::mousePressEvent(QMouseEvent* event) {
    const int rung = rungAt(event->position().y());
    if (kind_ && rung >= 0 && kind_->hasRung(rung) && rung != rung_) emit climbed(rung);
}

void Ladder::mouseMoveEvent(QMouseEvent* event) {
    const int rung = rungAt(event->position().y());
    if (rung == hovered_) return;
    hovered_ = rung;
    const RungKind* found = kind_ && rung >= 0 ? findRung(*kind_, rung) : nullptr;
    QString tip = found ? QString::fromStdString(found->equations + "\n" + found->source) : QString();
    if (found && measured_.contains(rung)) tip += "\n× as measured in this circuit on this machine";
    setToolTip(tip);
    update();
}

void Ladder::leaveEvent(QEvent*) {
    hovered_ = -1;
    update();
}

void Ladder::keyPressEvent(QKeyEvent* event) {
    const int step = event->key() == Qt::Key_Up ? 1 : event->key() == Qt::Key_Down ? -1 : 0;
    if (!kind_ || step == 0) return QWidget::keyPressEvent(event);
    for (int rung = rung_ + step; rung >= 0 && rung <= topRung; rung += step)
        if (kind_->hasRung(rung)) return emit climbed(rung);
}

}  // namespace hedgerow::app
