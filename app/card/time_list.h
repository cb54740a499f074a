#pragma once
// Where the time of the shown run went: by span beside its price, by part, and the one thing to change first.

#include <QWidget>

#include "base/workspace.h"

namespace hedgerow::app {

class TimeList : public QWidget {
    Q_OBJECT

public:
    explicit TimeList(Workspace& workspace, QWidget* parent);
    /// Whether there is a run that is over.
    static bool of(const Workspace& workspace);

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    void fill();
    struct Row {
        QString left, right;
        double share = -1;  ///< of a bar; -1 for words over the whole width
    };
    std::vector<Row> rows_;
    Workspace& workspace_;
    int wordsHeight_ = 0;

protected:
    void resizeEvent(QResizeEvent* event) override;
};

}  // namespace hedgerow::app
