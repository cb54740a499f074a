#pragma once
// The circuit as text beside the sheet. Both show the same project: what is typed here is drawn there a moment later,
// and the other way round.

#include <vector>

#include <QPlainTextEdit>
#include <QTimer>

class QCompleter;
class QLabel;
class QStringListModel;

namespace hedgerow::app {

class Workspace;

/// A place in the text and what is wrong there.
struct Mark {
    int line, column;  ///< 1-based
    QString message;
};

class TextView : public QPlainTextEdit {
    Q_OBJECT

public:
    explicit TextView(Workspace& workspace, QWidget* parent = nullptr);

    /// The message at the first mistake; "" when there is none.
    QString mistake() const { return mistake_; }

protected:
    void keyPressEvent(QKeyEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void showEvent(QShowEvent* event) override;

private:
    void takeText();
    void showProject();
    void markSelection();
    void selectAtCursor();
    void showMistakes(const std::vector<Mark>& marks);
    void offerWords();
    void complete(const QString& word);
    QString wordAtCursor() const;

    Workspace& workspace_;
    QLabel* note_;
    QCompleter* completer_;
    QStringListModel* words_;
    QTimer typed_;
    QString mistake_;
    bool taking_ = false;  ///< a change of the project comes from here
};

}  // namespace hedgerow::app
