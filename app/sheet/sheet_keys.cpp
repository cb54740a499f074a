// The sheet under the keyboard.

#include "sheet/sheet_view.h"

#include <algorithm>

#include <QKeyEvent>

#include "sheet/entry_line.h"

namespace hedgerow::app {

bool SheetView::event(QEvent* event) {
    // Tab goes from part to part here, and leaves the sheet after the last one.
    if (event->type() == QEvent::KeyPress) {
        auto* key = static_cast<QKeyEvent*>(event);
        const auto& parts = workspace_.project().sheet().parts;
        const bool forward = key->key() == Qt::Key_Tab, back = key->key() == Qt::Key_Backtab;
        if ((forward || back) && !parts.empty() && mode_ == Mode::idle) {
            const Part* now = workspace_.selectedPart();
            const bool atEnd = now && now->id == (forward ? parts.back().id : parts.front().id);
            if (!atEnd) {
                selectNext(forward ? 1 : -1);
                return true;
            }
        }
    }
    return QWidget::event(event);
}

void SheetView::selectNext(int step) {
    const auto& parts = workspace_.project().sheet().parts;
    const Part* now = workspace_.selectedPart();
    const auto found =
        std::find_if(parts.begin(), parts.end(), [&](const Part& part) { return now && part.id == now->id; });
    const long count = static_cast<long>(parts.size());
    const long index =
        found == parts.end() ? (step > 0 ? 0 : count - 1) : (found - parts.begin() + step + count) % count;
    workspace_.select({parts[static_cast<std::size_t>(index)].id});
}

bool SheetView::keyWhileHanging(QKeyEvent* event) {
    const bool shift = event->modifiers() & Qt::ShiftModifier;
    const double step = gridStep * zoom_;
    switch (event->key()) {
        case Qt::Key_Left:
            if (shift)
                pointer_.rx() -= step;
            else
                hanging_.turn = (hanging_.turn + 3) % 4;
            break;
        case Qt::Key_Right:
            if (shift)
                pointer_.rx() += step;
            else
                hanging_.turn = (hanging_.turn + 1) % 4;
            break;
        case Qt::Key_Up:
        case Qt::Key_Down:
            if (shift) {
                pointer_.ry() += event->key() == Qt::Key_Up ? -step : step;
            } else {
                // Top to bottom: a half turn of the mirror image left to right.
                hanging_.flip = !hanging_.flip;
                hanging_.turn = (6 - hanging_.turn) % 4;
            }
            break;
        case Qt::Key_Return:
        case Qt::Key_Enter:
            dropHanging(shift);
            break;
        case Qt::Key_Escape:
            setMode(Mode::idle);
            break;
        default:
            return false;
    }
    update();
    return true;
}

void SheetView::keyPressEvent(QKeyEvent* event) {
    if (mode_ == Mode::hanging && keyWhileHanging(event)) return;
    const bool control = event->modifiers() & Qt::ControlModifier;
    switch (event->key()) {
        case Qt::Key_Escape:
            if (mode_ != Mode::idle)
                setMode(Mode::idle);
            else
                workspace_.select({});
            return;
        case Qt::Key_Return:
        case Qt::Key_Enter:
            if (mode_ == Mode::wiring) return extendWire(wireTarget(), true);
            if (const Part* part = workspace_.selectedPart(); part && !control) return editValue(part->id);
            break;
        case Qt::Key_Delete:
        case Qt::Key_Backspace:
            return deleteSelection();
        case Qt::Key_PageUp:
            return climbSelection(1);
        case Qt::Key_PageDown:
            return climbSelection(-1);
        case Qt::Key_Home:
            return fit();
        case Qt::Key_Left:
            return control ? turnSelection() : moveSelection({-gridStep, 0});
        case Qt::Key_Right:
            return control ? turnSelection() : moveSelection({gridStep, 0});
        case Qt::Key_Up:
            return control ? flipSelection() : moveSelection({0, -gridStep});
        case Qt::Key_Down:
            return control ? flipSelection() : moveSelection({0, gridStep});
        case Qt::Key_Space:
            return repeatLast();
        case Qt::Key_F2:
            if (const Part* part = workspace_.selectedPart()) editName(part->id);
            return;
        default:
            break;
    }
    const QString text = event->text();
    if (!control && !(event->modifiers() & Qt::AltModifier) && !text.isEmpty() && text[0].isLetter() &&
        mode_ == Mode::idle) {
        if (!rect().contains(pointer_.toPoint()) || pointer_.isNull()) pointer_ = rect().center();
        return entry_->start(pointer_.toPoint(), text);
    }
    QWidget::keyPressEvent(event);
}

}  // namespace hedgerow::app
