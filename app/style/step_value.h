#pragma once
// Values in a field step along the preferred ones: by the wheel, and by the up and down keys.

class QEvent;
class QLineEdit;

namespace hedgerow::app {

/// Steps the number in a field when the event is a turn of the wheel over it while it is edited, or an arrow up or
/// down; with Shift in fine steps. @return whether the event was used up
bool stepValue(QLineEdit* field, QEvent* event);

}  // namespace hedgerow::app
