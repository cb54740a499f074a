#pragma once
// The equations of all rungs of a part and where they come from, on demand.

#include <QWidget>

#include "model/part_kind.h"

class QToolButton;

namespace hedgerow::app {

class Equations : public QWidget {
    Q_OBJECT

public:
    /// @param open  whether they are seen at once
    Equations(const PartKind& kind, bool open, QWidget* parent = nullptr);

    /// Puts another button on the line of its own.
    void addBeside(QWidget* button);

signals:
    void opened(bool open);

private:
    QToolButton* button_;
    class QHBoxLayout* line_;
};

}  // namespace hedgerow::app
