#include "sheet/marked_edit.h"

#include <QAbstractItemView>
#include <QCompleter>
#include <QKeyEvent>
#include <QLabel>
#include <QScrollBar>
#include <QStringListModel>
#include <QTextBlock>

#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int typingMilliseconds = 350, leastCompleted = 2;
}

MarkedEdit::MarkedEdit(const QString& noteName, QWidget* parent)
    : QPlainTextEdit(parent),
      note_(new QLabel(this)),
      completer_(new QCompleter(this)),
      words_(new QStringListModel(this)) {
    setFrameShape(QFrame::NoFrame);
    setLineWrapMode(QPlainTextEdit::NoWrap);
    setStyleSheet("QPlainTextEdit { font-family: 'Noto Sans Mono', 'DejaVu Sans Mono', monospace; font-size: 11px; }");
    document()->setDocumentMargin(10);
    note_->setObjectName(noteName);
    note_->setWordWrap(true);
    note_->hide();
    completer_->setModel(words_);
    completer_->setWidget(this);
    completer_->setCaseSensitivity(Qt::CaseInsensitive);
    typed_.setSingleShot(true);
    typed_.setInterval(typingMilliseconds);
    connect(completer_, qOverload<const QString&>(&QCompleter::activated), this, &MarkedEdit::complete);
    connect(this, &QPlainTextEdit::textChanged, this, [this] {
        if (!taking_) typed_.start();
    });
    connect(&typed_, &QTimer::timeout, this, [this] { takeText(); });
}

void MarkedEdit::takeNow() {
    if (!typed_.isActive()) return;
    typed_.stop();
    takeText();
}

void MarkedEdit::replaceText(const QString& text) {
    taking_ = true;
    const int line = textCursor().blockNumber(), column = textCursor().positionInBlock();
    const int scrolled = verticalScrollBar()->value();
    setPlainText(text);
    QTextCursor cursor(document()->findBlockByNumber(std::min(line, document()->blockCount() - 1)));
    cursor.movePosition(QTextCursor::Right, QTextCursor::MoveAnchor, std::min(column, cursor.block().length() - 1));
    setTextCursor(cursor);
    verticalScrollBar()->setValue(scrolled);
    taking_ = false;
}

void MarkedEdit::showMistakes(const std::vector<Mark>& marks) {
    const Colours& p = colours();
    QList<QTextEdit::ExtraSelection> underlined;
    for (const Mark& mark : marks) {
        const QTextBlock block = document()->findBlockByNumber(mark.line - 1);
        if (!block.isValid()) continue;
        QTextEdit::ExtraSelection selection;
        selection.cursor = QTextCursor(block);
        selection.cursor.movePosition(QTextCursor::Right, QTextCursor::MoveAnchor,
                                      std::clamp(mark.column - 1, 0, block.length() - 1));
        selection.cursor.movePosition(QTextCursor::EndOfWord, QTextCursor::KeepAnchor);
        if (!selection.cursor.hasSelection())
            selection.cursor.movePosition(QTextCursor::StartOfBlock, QTextCursor::KeepAnchor);
        selection.format.setUnderlineStyle(QTextCharFormat::WaveUnderline);
        selection.format.setUnderlineColor(p.haw);
        selection.format.setBackground(p.hawTint);
        underlined << selection;
    }
    setExtraSelections(underlined);
    mistake_ = marks.empty() ? QString() : marks.front().message;
    note_->setStyleSheet(QString("background: %1; color: %2; border-top: 1px solid %3; padding: 6px 8px;")
                             .arg(p.hawTint.name(), p.ink.name(), p.haw.name()));
    note_->setText(mistake_);
    note_->setVisible(!mistake_.isEmpty());
    resizeEvent(nullptr);
}

void MarkedEdit::resizeEvent(QResizeEvent* event) {
    if (event) QPlainTextEdit::resizeEvent(event);
    const int height = note_->isHidden() ? 0 : note_->heightForWidth(width());
    note_->setGeometry(0, this->height() - height, width(), height);
}

void MarkedEdit::insertFromMimeData(const QMimeData* source) {
    if (source) QPlainTextEdit::insertFromMimeData(source);
}

QString MarkedEdit::wordAtCursor() const {
    const QString before = textCursor().block().text().left(textCursor().positionInBlock());
    qsizetype start = before.size();
    while (start > 0 && !breaks_.contains(before[start - 1])) --start;
    return before.mid(start);
}

void MarkedEdit::offerWords() {
    const QString word = wordAtCursor();
    QStringList list = offered(word);
    list.sort();
    words_->setStringList(list);
    completer_->setCompletionPrefix(word);
    if (word.size() < leastCompleted || list.contains(word) || completer_->completionCount() == 0)
        return completer_->popup()->hide();
    QRect place = cursorRect();
    place.setWidth(200);
    completer_->complete(place);
    completer_->popup()->setCurrentIndex(completer_->completionModel()->index(0, 0));
}

void MarkedEdit::complete(const QString& word) {
    QTextCursor cursor = textCursor();
    cursor.movePosition(QTextCursor::Left, QTextCursor::KeepAnchor, static_cast<int>(wordAtCursor().size()));
    cursor.insertText(word);
    setTextCursor(cursor);
}

void MarkedEdit::keyPressEvent(QKeyEvent* event) {
    if (completer_->popup()->isVisible()) {
        switch (event->key()) {
            case Qt::Key_Return:
            case Qt::Key_Enter:
            case Qt::Key_Tab:
            case Qt::Key_Escape:
                event->ignore();  // the list takes them
                return;
            default:
                break;
        }
    }
    if (event->matches(QKeySequence::Undo) || event->matches(QKeySequence::Redo)) {
        takeNow();
        return undoAsked(event->matches(QKeySequence::Redo));
    }
    QPlainTextEdit::keyPressEvent(event);
    if (!event->text().isEmpty() && event->text()[0].isPrint()) offerWords();
}

}  // namespace hedgerow::app
