#include "style/step_value.h"

#include <QKeyEvent>
#include <QLineEdit>
#include <QWheelEvent>

#include "model/quantity.h"

namespace hedgerow::app {

bool stepValue(QLineEdit* field, QEvent* event) {
    int steps = 0;
    bool fine = false;
    if (event->type() == QEvent::Wheel && field->hasFocus()) {
        auto* wheel = static_cast<QWheelEvent*>(event);
        // With Shift some systems turn the wheel sideways.
        const int turn = wheel->angleDelta().y() != 0 ? wheel->angleDelta().y() : wheel->angleDelta().x();
        steps = turn > 0 ? 1 : turn < 0 ? -1 : 0;
        fine = wheel->modifiers() & Qt::ShiftModifier;
    } else if (event->type() == QEvent::KeyPress) {
        auto* key = static_cast<QKeyEvent*>(event);
        steps = key->key() == Qt::Key_Up ? 1 : key->key() == Qt::Key_Down ? -1 : 0;
        fine = key->modifiers() & Qt::ShiftModifier;
    }
    if (steps == 0) return false;
    const auto stepped = steppedValue(field->text().trimmed().toStdString(), steps, fine);
    if (!stepped) return false;
    field->setText(QString::fromStdString(*stepped));
    field->setModified(true);
    emit field->textEdited(field->text());
    return true;
}

}  // namespace hedgerow::app
