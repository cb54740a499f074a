#pragma once
// What a part did in the shown run: peaks against ratings as bars, and the mean power.

#include <string>
#include <vector>

#include <QWidget>

#include "base/workspace.h"

namespace hedgerow::app {

class Stress : public QWidget {
public:
    Stress(Workspace& workspace, std::string part, QWidget* parent);
    void refresh();

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    struct Row {
        QString label, text;
        double part;  ///< of the rating; below 0 without one
    };
    Workspace& workspace_;
    std::string part_;
    QString heading_;
    std::vector<Row> rows_;
};

}  // namespace hedgerow::app
