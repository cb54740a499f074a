#pragma once
// Where the sheet in view stands: the places of modules that lead to it from the main sheet, each a way back.

#include <functional>

#include <QFrame>

class QHBoxLayout;

namespace hedgerow::app {

class Workspace;

class PathLine : public QFrame {
    Q_OBJECT

public:
    PathLine(Workspace& workspace, QWidget* sheet);

signals:
    void resized();

private:
    void refresh();
    void addWord(const QString& text, const QString& name, std::function<void()> go);

    Workspace& workspace_;
    QHBoxLayout* row_;
};

}  // namespace hedgerow::app
