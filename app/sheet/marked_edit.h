#pragma once
// A text with a completion list, marks at mistakes and a note that says the first of them.

#include <vector>

#include <QPlainTextEdit>
#include <QTimer>

class QCompleter;
class QLabel;
class QStringListModel;

namespace hedgerow::app {

/// A place in the text and what is wrong there.
struct Mark {
    int line, column;  ///< 1-based
    QString message;
};

class MarkedEdit : public QPlainTextEdit {
    Q_OBJECT

public:
    explicit MarkedEdit(const QString& noteName, QWidget* parent = nullptr);

    /// The message at the first mistake; "" when there is none.
    QString mistake() const { return mistake_; }

protected:
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    /// @param source  null where the middle button pastes and nothing is selected on the desktop
    void insertFromMimeData(const QMimeData* source) override;

    /// Undo and redo belong to the project, not to the text.
    virtual void undoAsked(bool redo) = 0;
    /// What may stand at the cursor, where `word` is typed so far.
    virtual QStringList offered(const QString& word) const = 0;
    /// A moment after the last letter was typed.
    virtual void takeText() = 0;

    void showMistakes(const std::vector<Mark>& marks);
    /// Shows another text without taking it for typed.
    void replaceText(const QString& text);
    QString wordAtCursor() const;
    /// What was typed and not taken yet is taken now.
    void takeNow();
    bool typing() const { return typed_.isActive(); }
    bool taking_ = false;  ///< a change does not come from the keyboard
    /// What ends a word that is completed.
    QString breaks_ = " ";

private:
    void offerWords();
    void complete(const QString& word);

    QLabel* note_;
    QCompleter* completer_;
    QStringListModel* words_;
    QTimer typed_;
    QString mistake_;
};

}  // namespace hedgerow::app
