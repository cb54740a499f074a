#include "sheet/text_view.h"

#include <QAbstractItemView>
#include <QCompleter>
#include <QKeyEvent>
#include <QLabel>
#include <QScrollBar>
#include <QStringListModel>
#include <QTextBlock>

#include "model/text_form.h"
#include "shell/workspace.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int typingMilliseconds = 350, leastCompleted = 2;
}

TextView::TextView(Workspace& workspace, QWidget* parent)
    : QPlainTextEdit(parent),
      workspace_(workspace),
      note_(new QLabel(this)),
      completer_(new QCompleter(this)),
      words_(new QStringListModel(this)) {
    setObjectName("textView");
    setAccessibleName("circuit as text");
    setFrameShape(QFrame::NoFrame);
    setLineWrapMode(QPlainTextEdit::NoWrap);
    setTabChangesFocus(true);
    setStyleSheet("QPlainTextEdit { font-family: 'Noto Sans Mono', 'DejaVu Sans Mono', monospace; font-size: 11px; }");
    document()->setDocumentMargin(10);
    setPlaceholderText("name kind nets… key value…\nR1 resistor in out r 47");
    note_->setObjectName("textMistake");
    note_->setWordWrap(true);
    note_->hide();
    completer_->setModel(words_);
    completer_->setWidget(this);
    completer_->setCaseSensitivity(Qt::CaseInsensitive);
    typed_.setSingleShot(true);
    typed_.setInterval(typingMilliseconds);
    connect(completer_, qOverload<const QString&>(&QCompleter::activated), this, &TextView::complete);
    connect(this, &QPlainTextEdit::textChanged, this, [this] {
        if (!taking_) typed_.start();
    });
    connect(&typed_, &QTimer::timeout, this, &TextView::takeText);
    connect(this, &QPlainTextEdit::cursorPositionChanged, this, [this] {
        if (hasFocus() && !taking_) selectAtCursor();
    });
    connect(&workspace, &Workspace::projectChanged, this, [this] {
        // While it is typed in, the text is the user's; what the sheet does meanwhile shows when it is left.
        if (isVisible() && !taking_ && !(hasFocus() && typed_.isActive())) showProject();
    });
    connect(&workspace, &Workspace::selectionChanged, this, [this] {
        if (isVisible() && !hasFocus()) markSelection();
    });
}

void TextView::showEvent(QShowEvent* event) {
    showProject();
    QPlainTextEdit::showEvent(event);
}

void TextView::showProject() {
    const QString text =
        QString::fromStdString(writeText(workspace_.project(), workspace_.catalogue(), workspace_.nets()));
    if (text == toPlainText() || (hasFocus() && !mistake_.isEmpty())) return;
    taking_ = true;
    const int line = textCursor().blockNumber(), column = textCursor().positionInBlock();
    const int scrolled = verticalScrollBar()->value();
    setPlainText(text);
    QTextCursor cursor(document()->findBlockByNumber(std::min(line, document()->blockCount() - 1)));
    cursor.movePosition(QTextCursor::Right, QTextCursor::MoveAnchor, std::min(column, cursor.block().length() - 1));
    setTextCursor(cursor);
    verticalScrollBar()->setValue(scrolled);
    taking_ = false;
    showMistakes({});
    if (!hasFocus()) markSelection();
}

/// What was typed becomes the circuit, if all of it can be read.
void TextView::takeText() {
    TextCircuit circuit = readText(toPlainText().toStdString(), workspace_.catalogue());
    std::vector<Mark> marks;
    for (const Error& error : circuit.errors)
        marks.push_back({error.line, error.column, QString::fromStdString(error.text())});
    showMistakes(marks);
    if (!marks.empty()) return;
    taking_ = true;
    (void)workspace_.apply(edits::becomeText(std::move(circuit), workspace_.catalogue()));
    taking_ = false;
}

void TextView::showMistakes(const std::vector<Mark>& marks) {
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

void TextView::resizeEvent(QResizeEvent* event) {
    if (event) QPlainTextEdit::resizeEvent(event);
    const int height = note_->isHidden() ? 0 : note_->heightForWidth(width());
    note_->setGeometry(0, this->height() - height, width(), height);
}

/// The lines of the selected parts.
void TextView::markSelection() {
    if (!mistake_.isEmpty()) return;
    QList<QTextEdit::ExtraSelection> marked;
    for (QTextBlock block = document()->begin(); block.isValid(); block = block.next()) {
        const Part* part = workspace_.project().findPart(block.text().section(' ', 0, 0).toStdString());
        if (!part || !workspace_.selection().contains(part->id)) continue;
        QTextEdit::ExtraSelection selection;
        selection.cursor = QTextCursor(block);
        selection.format.setBackground(colours().sloeTint);
        selection.format.setProperty(QTextFormat::FullWidthSelection, true);
        if (marked.isEmpty()) {
            setTextCursor(selection.cursor);
            ensureCursorVisible();
            horizontalScrollBar()->setValue(0);
        }
        marked << selection;
    }
    setExtraSelections(marked);
}

void TextView::selectAtCursor() {
    const Part* part = workspace_.project().findPart(textCursor().block().text().section(' ', 0, 0).toStdString());
    if (part) workspace_.select({part->id});
}

void TextView::focusOutEvent(QFocusEvent* event) {
    if (typed_.isActive()) {
        typed_.stop();
        takeText();
    }
    QPlainTextEdit::focusOutEvent(event);
    if (mistake_.isEmpty()) showProject();
}

// ---- completion: kinds behind a name, then nets, then keys

QString TextView::wordAtCursor() const {
    const QString before = textCursor().block().text().left(textCursor().positionInBlock());
    return before.mid(before.lastIndexOf(' ') + 1);
}

void TextView::offerWords() {
    const QString word = wordAtCursor();
    const QStringList before =
        textCursor().block().text().left(textCursor().positionInBlock() - word.size()).split(' ', Qt::SkipEmptyParts);
    QStringList offered;
    const PartKind* kind = before.size() > 1 ? workspace_.catalogue().find(before[1].toStdString()) : nullptr;
    if (before.size() == 1) {
        for (const PartKind* known : workspace_.catalogue().all()) offered << QString::fromStdString(known->id);
    } else if (kind && before.size() < 2 + static_cast<qsizetype>(kind->pins.size())) {
        for (const Net& net : workspace_.nets().nets)
            if (net.labelled || net.pins.size() > 1) offered << QString::fromStdString(net.name);
    } else if (kind && (before.size() - static_cast<qsizetype>(kind->pins.size())) % 2 == 0) {
        for (const ParameterKind& parameter : kind->parameters) offered << QString::fromStdString(parameter.key);
        offered << "rung";
    }
    offered.sort();
    words_->setStringList(offered);
    completer_->setCompletionPrefix(word);
    if (word.size() < leastCompleted || offered.contains(word) || completer_->completionCount() == 0)
        return completer_->popup()->hide();
    QRect place = cursorRect();
    place.setWidth(200);
    completer_->complete(place);
    completer_->popup()->setCurrentIndex(completer_->completionModel()->index(0, 0));
}

void TextView::complete(const QString& word) {
    QTextCursor cursor = textCursor();
    cursor.movePosition(QTextCursor::Left, QTextCursor::KeepAnchor, static_cast<int>(wordAtCursor().size()));
    cursor.insertText(word);
    setTextCursor(cursor);
}

void TextView::keyPressEvent(QKeyEvent* event) {
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
    // One history for both views: undo is the project's.
    if (event->matches(QKeySequence::Undo) || event->matches(QKeySequence::Redo)) {
        event->matches(QKeySequence::Undo) ? workspace_.undo() : workspace_.redo();
        return;
    }
    QPlainTextEdit::keyPressEvent(event);
    if (!event->text().isEmpty() && event->text()[0].isPrint()) offerWords();
}

}  // namespace hedgerow::app
