#include "timeline/events_row.h"

#include <algorithm>
#include <cmath>

#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>

#include <fmt/format.h>

#include "model/edits.h"
#include "model/event_text.h"
#include "network/scene.h"
#include "runs/registry.h"
#include "style/theme.h"
#include "timeline/typed_time.h"

namespace hedgerow::app {

namespace {
constexpr double grip = 7;  ///< px on both sides of a mark
}

EventsRow::EventsRow(Workspace& workspace, LanesView& lanes, QWidget* parent)
    : QWidget(parent), workspace_(workspace), lanes_(lanes) {
    setObjectName("eventsRow");
    setAccessibleName("events of the scene");
    setMouseTracking(true);
}

bool EventsRow::wanted() const { return !marks().empty(); }

std::vector<EventsRow::Mark> EventsRow::marks() const {
    std::vector<Mark> list;
    const Scene& scene = workspace_.scene();
    if (const auto times = timesOf(scene, workspace_.project(), partLibrary()))
        for (const TimedEvent& timed : *times) {
            std::string text = eventText(scene.events[timed.index]);
            list.push_back({timed.at, timed.until, QString::fromStdString(text.substr(text.find(": ") + 2)),
                            static_cast<int>(timed.index)});
        }
    for (const Check& check : workspace_.checks())
        if (check.at) list.push_back({*check.at, *check.at, QString::fromStdString(check.error.message), -1});
    return list;
}

int EventsRow::markAt(double x) const {
    const auto list = marks();
    int nearest = -1;
    double least = grip;
    for (std::size_t i = 0; i < list.size(); ++i)
        if (const double away = std::abs(lanes_.pixelOf(list[i].at) - x); away <= least)
            nearest = static_cast<int>(i), least = away;
    return nearest;
}

void EventsRow::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    const Colours& p = colours();
    painter.setFont(textFont());
    painter.setPen(p.bark);
    painter.drawText(QRect(16, 0, 100, height() - 4), Qt::AlignLeft | Qt::AlignVCenter, "events");
    const double left = TimelineColumns::names + TimelineColumns::axis, right = width() - TimelineColumns::measures;
    painter.setClipRect(QRectF(left - 8, 0, right - left + 16, height()));
    const auto list = marks();
    painter.setFont(textFont(TextSize::small));
    for (std::size_t i = 0; i < list.size(); ++i) {
        const Mark& mark = list[i];
        const bool moved = moving_ && mark.event == pressed_;
        const double x = lanes_.pixelOf(mark.at + (moved ? dragged_ : 0)),
                     end = lanes_.pixelOf(mark.until + (moved ? dragged_ : 0));
        const double middle = height() / 2.0 - 2;
        if (end > x + 1) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(p.gorseTint);
            painter.drawRect(QRectF(x, middle - 5, end - x, 10));
        }
        painter.setPen(Qt::NoPen);
        painter.setBrush(mark.event < 0 ? p.haw : p.gorse);
        if (mark.event < 0)
            painter.drawEllipse(QPointF(x, middle), 5, 5);
        else
            painter.drawPolygon(
                QPolygonF({QPointF(x, middle + 5), QPointF(x - 5, middle - 5), QPointF(x + 5, middle - 5)}));
        // The text ends where the next mark begins.
        double room = right;
        for (const Mark& other : list)
            if (const double at = lanes_.pixelOf(other.at); at > x + 1) room = std::min(room, at - 8);
        const QRectF box(std::max(x, end) + 8, 0, room - std::max(x, end) - 8, height() - 4);
        if (box.width() < 16) continue;
        painter.setPen(mark.event < 0 ? p.haw : p.gorse);
        painter.drawText(box, Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(mark.text, Qt::ElideRight, static_cast<int>(box.width())));
    }
}

bool EventsRow::event(QEvent* event) {
    if (event->type() == QEvent::ToolTip) {
        const auto* help = static_cast<QHelpEvent*>(event);
        const int mark = markAt(help->pos().x());
        if (mark >= 0)
            QToolTip::showText(help->globalPos(), marks()[static_cast<std::size_t>(mark)].text, this);
        else
            QToolTip::hideText();
        return true;
    }
    return QWidget::event(event);
}

void EventsRow::mousePressEvent(QMouseEvent* event) {
    const int mark = markAt(event->position().x());
    if (event->button() != Qt::LeftButton || mark < 0) return;
    const Mark chosenMark = marks()[static_cast<std::size_t>(mark)];
    if (chosenMark.event < 0) return workspace_.setCursor(toTicks(chosenMark.at));
    pressed_ = chosenMark.event;
    pressedAt_ = event->position().x();
    moving_ = false;
}

void EventsRow::mouseMoveEvent(QMouseEvent* event) {
    setCursor(pressed_ >= 0 || markAt(event->position().x()) >= 0 ? Qt::SizeHorCursor : Qt::ArrowCursor);
    if (pressed_ < 0) return;
    moving_ = moving_ || std::abs(event->position().x() - pressedAt_) > 3;
    dragged_ = lanes_.timeAt(event->position().x()) - lanes_.timeAt(pressedAt_);
    update();
}

/// Where it was dropped, in digits that the width of a pixel bears out.
void EventsRow::mouseReleaseEvent(QMouseEvent*) {
    const int moved = std::exchange(pressed_, -1);
    if (moved < 0) return;
    if (!std::exchange(moving_, false)) {
        emit chosen(static_cast<std::size_t>(moved));
        return;
    }
    const auto times = timesOf(workspace_.scene(), workspace_.project(), partLibrary());
    if (!times) return;
    for (const TimedEvent& timed : *times) {
        if (static_cast<int>(timed.index) != moved) continue;
        const double pixel = lanes_.timeAt(1) - lanes_.timeAt(0);
        Scene changed = workspace_.scene();
        SceneEvent& event = changed.events[timed.index];
        event.wave.clear();
        event.at = typedTime(timed.at + dragged_, pixel);
        (void)workspace_.apply(edits::setScene(changed.name, changed));
        return;
    }
}

}  // namespace hedgerow::app
