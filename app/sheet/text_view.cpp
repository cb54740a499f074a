#include "sheet/text_view.h"

#include <QScrollBar>
#include <QTextBlock>

#include "model/text_form.h"
#include "base/workspace.h"
#include "style/theme.h"

namespace hedgerow::app {

TextView::TextView(Workspace& workspace, QWidget* parent) : MarkedEdit("textMistake", parent), workspace_(workspace) {
    setObjectName("textView");
    setAccessibleName("circuit as text");
    setTabChangesFocus(true);
    setPlaceholderText("name kind nets… key value…\nR1 resistor in out r 47");
    connect(this, &QPlainTextEdit::cursorPositionChanged, this, [this] {
        if (hasFocus() && !taking_) selectAtCursor();
    });
    connect(&workspace, &Workspace::projectChanged, this, [this] {
        // While it is typed in, the text is the user's; what the sheet does meanwhile shows when it is left.
        if (isVisible() && !taking_ && !(hasFocus() && typing())) showProject();
    });
    connect(&workspace, &Workspace::selectionChanged, this, [this] {
        if (isVisible() && !hasFocus()) markSelection();
    });
}

void TextView::showEvent(QShowEvent* event) {
    showProject();
    MarkedEdit::showEvent(event);
}

void TextView::showProject() {
    const QString text =
        QString::fromStdString(writeText(workspace_.project(), workspace_.catalogue(), workspace_.nets()));
    if (text == toPlainText() || (hasFocus() && !mistake().isEmpty())) return;
    replaceText(text);
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

/// The lines of the selected parts.
void TextView::markSelection() {
    if (!mistake().isEmpty()) return;
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
    takeNow();
    MarkedEdit::focusOutEvent(event);
    if (mistake().isEmpty()) showProject();
}

/// Kinds behind a name, then nets, then keys.
QStringList TextView::offered(const QString& word) const {
    const QStringList before =
        textCursor().block().text().left(textCursor().positionInBlock() - word.size()).split(' ', Qt::SkipEmptyParts);
    QStringList list;
    const PartKind* kind = before.size() > 1 ? workspace_.catalogue().find(before[1].toStdString()) : nullptr;
    if (before.size() == 1) {
        for (const PartKind* known : workspace_.catalogue().all()) list << QString::fromStdString(known->id);
    } else if (kind && before.size() < 2 + static_cast<qsizetype>(kind->pins.size())) {
        for (const Net& net : workspace_.nets().nets)
            if (net.labelled || net.pins.size() > 1) list << QString::fromStdString(net.name);
    } else if (kind && (before.size() - static_cast<qsizetype>(kind->pins.size())) % 2 == 0) {
        for (const ParameterKind& parameter : kind->parameters) list << QString::fromStdString(parameter.key);
        list << "rung";
    }
    return list;
}

void TextView::undoAsked(bool redo) { redo ? workspace_.redo() : workspace_.undo(); }

}  // namespace hedgerow::app
