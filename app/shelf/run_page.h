#pragma once
// The ledger on the shelf: all runs, what can be done with the shown one, and what changed since the one before.

#include <QWidget>

#include "base/workspace.h"

class QLabel;
class QLineEdit;
class QListWidget;
class QPushButton;

namespace hedgerow::app {

class RunPage : public QWidget {
    Q_OBJECT

public:
    explicit RunPage(Workspace& workspace, QWidget* parent = nullptr);

private:
    void fill();
    void fillDetails();
    void fillChanges();
    RunPointer entryOf(int row) const;
    void setTiming();
    bool eventFilter(QObject* watched, QEvent* event) override;

    Workspace& workspace_;
    QListWidget* list_;
    QWidget *details_, *timing_;
    QLineEdit *name_, *note_, *bound_, *offset_, *scale_;
    QPushButton *star_, *pin_, *back_, *remove_;
    QLabel *count_, *changes_, *disk_;
    const RunEntry* described_ = nullptr;
};

}  // namespace hedgerow::app
