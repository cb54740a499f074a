#pragma once
// What is wrong or doubtful on the sheet, while it is edited: a pill in its corner, and a list that jumps to each.

#include <QFrame>

class QListWidget;
class QPushButton;

namespace hedgerow::app {

class SheetView;
class Workspace;

class CheckList : public QFrame {
    Q_OBJECT

public:
    /// Lives in the lower right corner of the sheet.
    CheckList(Workspace& workspace, SheetView& sheet);

    void toggle();

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void fill();
    void place();
    void choose(int row);

    Workspace& workspace_;
    SheetView& sheet_;
    QPushButton* pill_;
    QListWidget* list_;
};

}  // namespace hedgerow::app
