#pragma once
// What changed against the pinned run: by how much peaks, means and rms values differ, and what parts burn.

#include <QTableWidget>
#include <QTimer>

#include "runs/run_changes.h"
#include "base/workspace.h"

class QLabel;

namespace hedgerow::app {

class ChangeTable : public QTableWidget {
    Q_OBJECT

public:
    /// @param heading  says which run it is; hidden with the table when nothing is pinned
    ChangeTable(Workspace& workspace, QLabel* heading, QWidget* parent = nullptr);
    QSize sizeHint() const override;
    QSize minimumSizeHint() const override { return sizeHint(); }
    const std::vector<RunChange>& changes() const { return changes_; }

private:
    void fill();

    Workspace& workspace_;
    QLabel* heading_;
    std::vector<RunChange> changes_;
    QTimer later_;  ///< a moment after the last change of the window
};

}  // namespace hedgerow::app
