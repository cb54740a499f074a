#pragma once
// What the search for the periodic state of the shown run found: period, residual, stability, motions.

#include <QWidget>

#include "base/workspace.h"

namespace hedgerow::app {

class SettledList : public QWidget {
    Q_OBJECT

public:
    explicit SettledList(Workspace& workspace, QWidget* parent);
    /// Whether the shown run began in the periodic state.
    static bool of(const Workspace& workspace);

protected:
    void resizeEvent(QResizeEvent* event) override;

private:
    void fill();
    void arrange();

    Workspace& workspace_;
};

}  // namespace hedgerow::app
