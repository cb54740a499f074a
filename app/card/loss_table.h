#pragma once
// What the switches of the shown run lose over what is measured, the largest first: conduction, switching, junction.

#include <QTableWidget>
#include <QTimer>

#include "analysis/losses.h"
#include "base/background.h"
#include "base/workspace.h"

namespace hedgerow::app {

class LossTable : public QTableWidget {
    Q_OBJECT

public:
    /// @param part  alone; "" for all switches
    LossTable(Workspace& workspace, std::string part, QWidget* parent = nullptr);
    QSize sizeHint() const override;
    QSize minimumSizeHint() const override { return sizeHint(); }
    const std::vector<LossRow>& losses() const { return rows_; }

private:
    void fill();
    void list();

    Workspace& workspace_;
    std::string part_;
    std::vector<LossRow> rows_;
    QTimer later_;  ///< a moment after the last change of the window
    Background counting_;
};

}  // namespace hedgerow::app
