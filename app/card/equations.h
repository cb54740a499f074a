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

signals:
    void opened(bool open);

private:
    QToolButton* button_;
};

}  // namespace hedgerow::app
