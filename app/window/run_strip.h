#pragma once
// The run strip: what will run, the button that runs it, and the price before, during and after.

#include <QWidget>

#include "base/workspace.h"

class QComboBox;
class QLabel;
class QPushButton;

namespace hedgerow::app {

class RunStrip : public QWidget {
    Q_OBJECT

public:
    explicit RunStrip(Workspace& workspace, QWidget* parent = nullptr);
    QPushButton* menuButton() const { return menu_; }

signals:
    void tradeAsked();
    void studyAsked();

private:
    void refresh();
    void refreshPrice();

    Workspace& workspace_;
    QPushButton *menu_, *run_, *settle_;
    QLabel *title_, *description_, *price_, *detail_;
    QComboBox *scene_, *plan_;
};

}  // namespace hedgerow::app
