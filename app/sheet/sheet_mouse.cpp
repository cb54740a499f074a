// The sheet under the mouse.

#include "sheet/sheet_view.h"

#include <algorithm>
#include <cmath>

#include <QContextMenuEvent>
#include <QMenu>
#include <QMouseEvent>

#include "model/edits.h"
#include "sheet/symbol.h"
#include "base/commands.h"

namespace hedgerow::app {

namespace {
constexpr double leastZoom = 0.15, mostZoom = 6.0;
constexpr int dragDistance = 4;
}  // namespace

void SheetView::mousePressEvent(QMouseEvent* event) {
    pointer_ = pressed_ = event->position();
    closeEditor(true);
    if (editor_) return;
    setFocus();
    if (event->button() == Qt::MiddleButton) return setMode(Mode::panning);
    if (event->button() != Qt::LeftButton) return;
    if (mode_ == Mode::hanging) return dropHanging(event->modifiers() & Qt::ShiftModifier);
    if (mode_ == Mode::wiring) return extendWire(wireTarget(), false);
    maybeClick_ = true;
    pressedHit_ = hit(toSheet(pointer_));
    const bool add = event->modifiers() & (Qt::ControlModifier | Qt::ShiftModifier);
    switch (pressedHit_.what) {
        case Hit::What::nothing:
            if (!add) workspace_.select({});
            break;
        case Hit::What::pin:
            break;
        default: {
            std::set<int> ids = workspace_.selection();
            if (add) {
                if (!ids.insert(pressedHit_.id).second) ids.erase(pressedHit_.id);
            } else if (!ids.contains(pressedHit_.id)) {
                ids = {pressedHit_.id};
            }
            workspace_.select(ids);
        }
    }
}

void SheetView::mouseMoveEvent(QMouseEvent* event) {
    const QPointF before = pointer_;
    pointer_ = event->position();
    if (mode_ == Mode::panning) {
        offset_ += pointer_ - before;
        fitted_ = false;
    } else if (maybeClick_ && (pointer_ - pressed_).manhattanLength() > dragDistance) {
        maybeClick_ = false;
        const bool alt = event->modifiers() & Qt::AltModifier;
        if (pressedHit_.what == Hit::What::nothing) {
            lasso_ = QPolygonF({pressed_});
            setMode(alt ? Mode::lassoing : Mode::banding);
        } else if (pressedHit_.what == Hit::What::pin || branchesWire()) {
            startWire(pressedHit_.at);
        } else if (!workspace_.selection().empty()) {
            startDragging(alt);
        }
    }
    if (mode_ == Mode::lassoing) lasso_ << pointer_;
    if (mode_ == Mode::dragging) dragged_ = grid(toSheet(pointer_)) - grid(toSheet(pressed_));
    update();
}

void SheetView::mouseReleaseEvent(QMouseEvent* event) {
    pointer_ = event->position();
    const Mode was = mode_;
    if (was == Mode::panning) return setMode(Mode::idle);
    const bool fromNet = pressedHit_.what == Hit::What::pin || pressedHit_.what == Hit::What::wire;
    if (was == Mode::wiring && !maybeClick_ && fromNet && (pointer_ - pressed_).manhattanLength() > dragDistance) {
        pressedHit_ = {};
        return extendWire(wireTarget(), false);
    }
    if (was == Mode::dragging) {
        const Point by = dragged_;
        dragged_ = {};
        setMode(Mode::idle);
        if (by != Point{}) (void)workspace_.apply(edits::move(workspace_.selection(), by, workspace_.catalogue()));
        return;
    }
    if (was == Mode::banding) {
        selectInside(QPolygonF(QRectF(toSheet(pressed_), toSheet(pointer_)).normalized()));
        return setMode(Mode::idle);
    }
    if (was == Mode::lassoing) {
        QPolygonF outline;
        for (const QPointF& point : lasso_) outline << toSheet(point);
        selectInside(outline);
        return setMode(Mode::idle);
    }
    if (!maybeClick_ || event->button() != Qt::LeftButton) return;
    maybeClick_ = false;
    if (event->modifiers() & (Qt::ControlModifier | Qt::ShiftModifier)) return;
    if (pressedHit_.what == Hit::What::pin)
        startWire(pressedHit_.at);
    else if (pressedHit_.what == Hit::What::name)
        editName(pressedHit_.id);
    else if (pressedHit_.what == Hit::What::value)
        editValue(pressedHit_.id);
    else if (pressedHit_.what == Hit::What::label) {
        const Label* label = workspace_.project().findLabel(pressedHit_.id);
        openEditor(QRectF(label->at.x - 24, label->at.y - 22, 60, 16), QString::fromStdString(label->net),
                   [this, id = label->id](const QString& name) {
                       return workspace_.apply(edits::renameLabel(id, name.toStdString()));
                   });
    }
}

/// Selects what lies wholly inside.
void SheetView::selectInside(const QPolygonF& outline) {
    const auto holds = [&](const QPointF& point) { return outline.containsPoint(point, Qt::OddEvenFill); };
    std::set<int> ids;
    const Sheet& sheet = workspace_.project().sheet();
    for (const Part& part : sheet.parts) {
        const PartKind* kind = workspace_.catalogue().find(part.kind);
        if (!kind) continue;
        const QRectF box = partBox(part, *kind);
        if (holds(box.topLeft()) && holds(box.topRight()) && holds(box.bottomLeft()) && holds(box.bottomRight()))
            ids.insert(part.id);
    }
    for (const Wire& wire : sheet.wires)
        if (std::all_of(wire.points.begin(), wire.points.end(), [&](Point p) { return holds(QPointF(p.x, p.y)); }))
            ids.insert(wire.id);
    for (const Label& label : sheet.labels)
        if (holds(QPointF(label.at.x, label.at.y))) ids.insert(label.id);
    workspace_.select(ids);
}

/// @param copies  drags copies and leaves what is selected where it is
void SheetView::startDragging(bool copies) {
    if (copies) {
        std::set<int> added;
        const Sheet clip = edits::copied(workspace_.project().sheet(), workspace_.selection());
        if (!workspace_.apply(edits::paste(clip, {}, workspace_.catalogue(), &added))) return;
        workspace_.select(added);
    }
    setMode(Mode::dragging);
}

void SheetView::zoomAt(const QPointF& at, double factor) {
    const double zoom = std::clamp(zoom_ * factor, leastZoom, mostZoom);
    offset_ = at - (at - offset_) * (zoom / zoom_);
    zoom_ = zoom;
    fitted_ = false;
    update();
}

void SheetView::wheelEvent(QWheelEvent* event) {
    closeEditor(true);
    if (event->modifiers() & Qt::ShiftModifier) {
        offset_ += QPointF(event->angleDelta().y(), 0) / 2;
        fitted_ = false;
        update();
    } else {
        zoomAt(event->position(), std::pow(1.2, event->angleDelta().y() / 120.0));
    }
    event->accept();
}

void SheetView::contextMenuEvent(QContextMenuEvent* event) {
    if (mode_ != Mode::idle) {
        setMode(Mode::idle);
        return;
    }
    QMenu menu(this);
    if (commands_)
        commands_->fill(menu, {"Turn",
                               "Flip",
                               "Climb the ladder",
                               "Descend the ladder",
                               "",
                               "Copy",
                               "Cut",
                               "Paste",
                               "Delete",
                               "Copies in a row…",
                               "",
                               "Align left edges",
                               "Align right edges",
                               "Align top edges",
                               "Align bottom edges",
                               "Distribute across",
                               "Distribute down",
                               "",
                               "Select the whole net",
                               "Select all of this kind",
                               "Make a parameter of the value…",
                               "",
                               "Show everything"});
    menu.exec(event->globalPos());
}

}  // namespace hedgerow::app
