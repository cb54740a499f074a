// What mouse and keys do on the lanes.

#include "timeline/lanes_view.h"

#include <algorithm>
#include <cmath>

#include <QKeyEvent>
#include <QMimeData>

#include "style/theme.h"
#include "timeline/lane_view.h"
#include "traces/measures.h"

namespace hedgerow::app {

namespace {
constexpr char quantityMime[] = "application/x-hedgerow-quantity";
}  // namespace

void LanesView::wheelEvent(QWheelEvent* event) {
    if (event->modifiers() & Qt::ControlModifier) return QWidget::wheelEvent(event);  // scrolls the lanes
    zoom(std::pow(1.25, event->angleDelta().y() / 120.0), timeAt(event->position().x()));
    event->accept();
}

void LanesView::mousePressEvent(QMouseEvent* event) {
    setFocus();
    if (event->button() != Qt::LeftButton) return;
    pressed_ = event->position();
    if (const std::string name = quantityAt(event->position()); !name.empty()) return workspace_.chooseTrace(name);
    border_ = borderAt(static_cast<int>(event->position().y()));
    if (border_ >= 0) {
        borderHeight_ = lane(border_).box().height();
        return;
    }
    if ((event->modifiers() & Qt::AltModifier) && overTime(event->position())) {
        if ((dragged_ = workspace_.runList().measured())) {
            draggedOffset_ = dragged_->offset;
            draggedScale_ = dragged_->scale;
            return;
        }
    }
    pressedFrom_ = from_;
    pressedTo_ = to_;
    maybeClick_ = true;
}

/// Measured data follow the pointer; stretched, they do so around the cursor, or around the left edge without one.
void LanesView::dragMeasured(const QPointF& at, bool stretch) {
    const double start = timeAt(pressed_.x()), now = timeAt(at.x());
    if (!stretch) return workspace_.runList().setTiming(dragged_, draggedOffset_ + now - start, draggedScale_);
    const double fixed = workspace_.cursor() ? toSeconds(*workspace_.cursor()) : from_;
    const double factor = start == fixed ? 0 : (now - fixed) / (start - fixed);
    if (factor > 0)
        workspace_.runList().setTiming(dragged_, fixed + factor * (draggedOffset_ - fixed), factor * draggedScale_);
}

void LanesView::mouseMoveEvent(QMouseEvent* event) {
    if (dragged_) {
        setCursor(Qt::SizeHorCursor);
        return dragMeasured(event->position(), event->modifiers() & Qt::ShiftModifier);
    }
    if (border_ >= 0) {
        const double wanted = std::max<double>(foldedLane, borderHeight_ + event->position().y() - pressed_.y());
        const int height =
            std::clamp(static_cast<int>(lane(border_).lane().height * wanted / std::max(1.0, borderHeight_)), 24, 2000);
        plot_->plotLayout()->setRowStretchFactor(border_, height);
        borderWanted_ = height;
        plot_->replot(QCustomPlot::rpQueuedReplot);
        update();
        return;
    }
    if (!maybeClick_ && !panning_)
        setCursor(borderAt(static_cast<int>(event->position().y())) >= 0 ? Qt::SplitVCursor : Qt::ArrowCursor);
    if (maybeClick_ && (event->position() - pressed_).manhattanLength() > 4) maybeClick_ = false, panning_ = true;
    if (panning_) {
        const double pixels =
            std::max(1, width() - TimelineColumns::names - TimelineColumns::axis - TimelineColumns::measures);
        const double by = (pressed_.x() - event->position().x()) / pixels * (pressedTo_ - pressedFrom_);
        setCursor(Qt::ClosedHandCursor);
        setWindow(pressedFrom_ + by, pressedTo_ + by);
        return;
    }
    if (overTime(event->position()) && !pinned_ && workspace_.shownRun())
        workspace_.setCursor(toTicks(std::clamp(timeAt(event->position().x()), 0.0, runEnd())));
}

void LanesView::mouseReleaseEvent(QMouseEvent* event) {
    setCursor(Qt::ArrowCursor);
    panning_ = false;
    if (std::exchange(dragged_, nullptr)) return;
    if (const int border = std::exchange(border_, -1); border >= 0) {
        if (borderWanted_ > 0) changeLane(border, "lane height", [this](Lane& lane) { lane.height = borderWanted_; });
        borderWanted_ = 0;
        return;
    }
    if (!maybeClick_) return;
    maybeClick_ = false;
    if (!overTime(event->position()) || !workspace_.shownRun()) return;
    const Tick here = toTicks(std::clamp(timeAt(event->position().x()), 0.0, runEnd()));
    if (event->modifiers() & Qt::ShiftModifier) return workspace_.setMark(here);
    workspace_.setCursor(here);
    pinned_ = true;
}

bool LanesView::overTime(const QPointF& at) const {
    if (at.x() < TimelineColumns::names + TimelineColumns::axis || at.x() > width() - TimelineColumns::measures)
        return false;
    const int index = laneAt(static_cast<int>(at.y()));
    return index < 0 || lane(index).overTime();
}

/// The next or previous instant at which a chosen trace, or any that is seen, jumps or turns around.
void LanesView::stepToEdge(bool forward) {
    if (!workspace_.shownRun()) return;
    const Tick now = workspace_.cursor().value_or(toTicks(std::clamp(forward ? from_ : to_, 0.0, longestRunSeconds)));
    std::optional<Tick> best;
    const auto look = [&](const Trace* trace) {
        if (!trace || trace->size() < 3) return;
        constexpr std::size_t mostSteps = 2'000'000;
        std::size_t i = trace->firstAtOrAfter(forward ? now + 1 : now);
        for (std::size_t steps = 0; steps < mostSteps; ++steps) {
            if (forward ? i + 1 >= trace->size() : i < 2) return;
            if (!forward) --i;
            const double before = trace->value(i) - trace->value(i - (i > 0 ? 1 : 0)),
                         after = trace->value(i + 1) - trace->value(i);
            const bool jump = trace->time(i + 1) == trace->time(i) && after != 0;
            if (jump || before * after < 0) {
                const Tick t = trace->time(i);
                if (t != now && (!best || (forward ? t < *best : t > *best))) best = t;
                if (t != now) return;
            }
            if (forward) ++i;
        }
    };
    if (!workspace_.chosenTrace().empty())
        look(workspace_.trace(workspace_.chosenTrace()));
    else
        for (const auto& lane : lanes_)
            for (const std::string& quantity : lane->lane().quantities) look(workspace_.trace(quantity));
    if (best) moveCursorTo(*best);
}

void LanesView::moveCursorTo(Tick instant) {
    pinned_ = true;
    workspace_.setCursor(instant);
    const double t = toSeconds(instant);
    if (t < from_ || t > to_) setWindow(t - (to_ - from_) / 2, t + (to_ - from_) / 2);
}

/// The chosen trace, or the first that is seen.
const Trace* LanesView::steppedTrace() {
    if (!workspace_.chosenTrace().empty()) return workspace_.trace(workspace_.chosenTrace());
    for (const auto& lane : lanes_)
        if (lane->overTime() && !lane->lane().quantities.empty()) return workspace_.trace(lane->lane().quantities[0]);
    return nullptr;
}

/// Where the trace next passes the value it has at the mark, or zero without a mark.
void LanesView::stepToCrossing(bool forward) {
    const Trace* const trace = steppedTrace();
    if (!trace || trace->size() < 2) return;
    const double level = workspace_.mark() ? trace->at(*workspace_.mark()).value_or(0) : 0;
    const Tick now = workspace_.cursor().value_or(toTicks(std::clamp(forward ? from_ : to_, 0.0, longestRunSeconds)));
    if (const auto found = nextCrossing(*trace, now, level, forward)) moveCursorTo(*found);
}

void LanesView::keyPressEvent(QKeyEvent* event) {
    const double middle = (from_ + to_) / 2, step = (to_ - from_) / 10;
    const bool shift = event->modifiers() & Qt::ShiftModifier;
    const auto moveCursor = [&](double by) {
        if (!workspace_.shownRun()) return;
        const double now = workspace_.cursor() ? toSeconds(*workspace_.cursor()) : middle;
        pinned_ = true;
        workspace_.setCursor(toTicks(std::clamp(now + by, 0.0, runEnd())));
    };
    switch (event->key()) {
        case Qt::Key_M:
            return workspace_.setMark(workspace_.mark() ? std::nullopt : workspace_.cursor());
        case Qt::Key_Left:
            if (event->modifiers() & Qt::ControlModifier) return stepToEdge(false);
            if (event->modifiers() & Qt::AltModifier) return stepToCrossing(false);
            return shift ? moveCursor(-step / 20) : setWindow(from_ - step, to_ - step);
        case Qt::Key_Right:
            if (event->modifiers() & Qt::ControlModifier) return stepToEdge(true);
            if (event->modifiers() & Qt::AltModifier) return stepToCrossing(true);
            return shift ? moveCursor(step / 20) : setWindow(from_ + step, to_ + step);
        case Qt::Key_Up:
        case Qt::Key_Plus:
            return zoom(1.25, middle);
        case Qt::Key_Down:
        case Qt::Key_Minus:
            return zoom(0.8, middle);
        case Qt::Key_Home:
            return fit();
        case Qt::Key_Escape:
            pinned_ = false;
            workspace_.setMark({});
            return workspace_.setCursor({});
        default:
            QWidget::keyPressEvent(event);
    }
}

void LanesView::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasFormat(quantityMime)) event->acceptProposedAction();
}

void LanesView::dragMoveEvent(QDragMoveEvent* event) {
    if (event->mimeData()->hasFormat(quantityMime)) event->acceptProposedAction();
}

void LanesView::dropEvent(QDropEvent* event) {
    if (!event->mimeData()->hasFormat(quantityMime)) return;
    const int lane = laneAt(static_cast<int>(event->position().y()));
    show(QString::fromUtf8(event->mimeData()->data(quantityMime)).toStdString(),
         lane < 0 ? static_cast<int>(lanes_.size()) : lane);
    event->acceptProposedAction();
}

}  // namespace hedgerow::app
