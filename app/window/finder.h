#pragma once
// The finder: one line that finds commands, parts and nets on the sheet, kinds of parts, and their help.

#include <functional>
#include <vector>

#include <QFrame>

class QLineEdit;
class QListWidget;

namespace hedgerow::app {

class Commands;
class Workspace;
class SheetView;

class Finder : public QFrame {
    Q_OBJECT

public:
    Finder(Workspace& workspace, const Commands& commands, SheetView& sheet, QWidget* window);

    void open();

signals:
    /// The help of a kind of part is asked for.
    void helpAsked(const QString& kind);

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    struct Row {
        QString title, detail, sort;
        std::function<void()> choose;
    };
    void fill();
    void addRow(Row row);
    void addKinds(const QStringList& typed, bool help);
    void choose(int index);

    Workspace& workspace_;
    const Commands& commands_;
    SheetView& sheet_;
    QLineEdit* line_;
    QListWidget* list_;
    std::vector<Row> rows_;
};

}  // namespace hedgerow::app
