#include "sheet/code_view.h"

#include <QMouseEvent>
#include <QPainter>
#include <QRegularExpression>
#include <QScrollBar>
#include <QSyntaxHighlighter>
#include <QTextBlock>

#include "control/st/program.h"
#include "control/st/words.h"
#include "model/edits.h"
#include "model/quantity.h"
#include "base/workspace.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

QStringList listed(std::span<const std::string_view> words) {
    QStringList list;
    for (const std::string_view word : words) list << QString::fromLatin1(word.data(), qsizetype(word.size()));
    return list;
}
const QStringList& reserved() {
    static const QStringList words = listed(st::reservedWords());
    return words;
}
const QStringList& standard() {
    static const QStringList names = listed(st::standardNames());
    return names;
}

/// Words of the language, numbers and comments.
class Colouring final : public QSyntaxHighlighter {
public:
    explicit Colouring(QTextDocument* document) : QSyntaxHighlighter(document) {}

protected:
    void highlightBlock(const QString& text) override {
        const Colours& p = colours();
        static const QRegularExpression word("[A-Za-z_][A-Za-z_0-9]*"),
            number("\\b[0-9][0-9_]*(\\.[0-9]+)?([eE][+-]?[0-9]+)?\\b");
        QTextCharFormat of;
        of.setForeground(p.gorse);
        for (auto it = number.globalMatch(text); it.hasNext();) {
            const auto match = it.next();
            setFormat(static_cast<int>(match.capturedStart()), static_cast<int>(match.capturedLength()), of);
        }
        for (auto it = word.globalMatch(text); it.hasNext();) {
            const auto match = it.next();
            const QString upper = match.captured().toUpper();
            const bool key = reserved().contains(upper);
            if (!key && !standard().contains(upper)) continue;
            of.setForeground(key ? p.leaf : p.sloe);
            of.setFontWeight(key ? QFont::Bold : QFont::Normal);
            setFormat(static_cast<int>(match.capturedStart()), static_cast<int>(match.capturedLength()), of);
        }
        comments(text, p.bark);
    }

private:
    void comments(const QString& text, const QColor& colour) {
        QTextCharFormat quiet;
        quiet.setForeground(colour);
        quiet.setFontItalic(true);
        setCurrentBlockState(0);
        qsizetype start = previousBlockState() == 1 ? 0 : text.indexOf("(*");
        const qsizetype line = text.indexOf("//");
        if (line >= 0 && (start < 0 || line < start))
            return setFormat(static_cast<int>(line), static_cast<int>(text.size() - line), quiet);
        while (start >= 0) {
            const qsizetype end = text.indexOf("*)", start);
            const qsizetype length = end < 0 ? text.size() - start : end - start + 2;
            if (end < 0) setCurrentBlockState(1);
            setFormat(static_cast<int>(start), static_cast<int>(length), quiet);
            if (end < 0) return;
            start = text.indexOf("(*", start + length);
        }
    }
};

constexpr int numberWidth = 34;

}  // namespace

/// Numbers of lines, to the left of them.
class CodeView::Numbers : public QWidget {
public:
    explicit Numbers(CodeView& view) : QWidget(&view), view_(view) {}

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        painter.fillRect(rect(), colours().linen);
        painter.setPen(colours().bark);
        painter.setFont(textFont(TextSize::small));
        QTextBlock block = view_.firstVisibleBlock();
        double top = view_.blockBoundingGeometry(block).translated(view_.contentOffset()).top();
        for (; block.isValid() && top < height(); block = block.next()) {
            const double line = view_.blockBoundingRect(block).height();
            const int number = block.blockNumber() + 1;
            if (number == view_.stopLine()) {
                painter.setPen(Qt::NoPen);
                painter.setBrush(colours().haw);
                painter.setRenderHint(QPainter::Antialiasing);
                painter.drawEllipse(QPointF(8, top + line / 2), 4, 4);
                painter.setPen(colours().bark);
            }
            painter.drawText(QRectF(0, top, width() - 6, line), Qt::AlignRight | Qt::AlignVCenter,
                             QString::number(number));
            top += line;
        }
    }

    /// Stops the run at a line, or no longer.
    void mousePressEvent(QMouseEvent* event) override {
        const int line = view_.cursorForPosition(QPoint(0, event->position().toPoint().y())).blockNumber() + 1;
        view_.setStopLine(line == view_.stopLine() ? 0 : line);
    }

private:
    CodeView& view_;
};

CodeView::CodeView(Workspace& workspace, QWidget* parent)
    : MarkedEdit("codeMistake", parent),
      workspace_(workspace),
      numbers_(new Numbers(*this)),
      colouring_(new Colouring(document())) {
    setObjectName("codeView");
    numbers_->setObjectName("codeLines");
    numbers_->setToolTip("a click stops the run where the code first comes to this line, and shows its variables");
    setAccessibleName("control code");
    setPlaceholderText("VAR_INPUT e : LREAL; END_VAR\nVAR_OUTPUT y : LREAL; END_VAR\ny := 0.5 * e;");
    setTabStopDistance(4 * fontMetrics().horizontalAdvance(' '));
    breaks_ = " \t()[]:;,.+-*/<>=&#";
    setViewportMargins(numberWidth, 0, 0, 0);
    connect(this, &QPlainTextEdit::updateRequest, numbers_, [this](const QRect&, int) { numbers_->update(); });
    connect(&workspace, &Workspace::projectChanged, this, [this] {
        if (isVisible() && !taking_ && !typing()) follow();
    });
    connect(&workspace, &Workspace::selectionChanged, this, [this] {
        const Part* part = workspace_.selectedPart();
        if (isVisible() && part && part->id != part_ && part->kind.starts_with("code")) edit(part->id);
    });
}

CodeView::~CodeView() = default;

int CodeView::stopLine() const {
    const Part* part = workspace_.project().findPart(part_);
    const std::string* typed = part ? part->values.find("stop") : nullptr;
    const auto line = typed ? evaluate(*typed) : Result<Quantity>(Quantity{});
    return line ? static_cast<int>(line->value) : 0;
}

void CodeView::setStopLine(int line) {
    if (isReadOnly()) return;
    (void)workspace_.apply(edits::setValue({part_}, "stop", line > 0 ? std::to_string(line) : ""));
    numbers_->update();
}

void CodeView::edit(int part) {
    takeNow();
    part_ = part;
    follow();
    horizontalScrollBar()->setValue(0);
}

/// Shows what the project says.
void CodeView::follow() {
    const Part* part = workspace_.project().findPart(part_);
    const PartKind* kind = part ? workspace_.catalogue().find(part->kind) : nullptr;
    setReadOnly(!kind || !kind->findParameter("code"));
    const QString text = isReadOnly() ? QString() : QString::fromStdString(textValue(*part, *kind, "code"));
    if (text != toPlainText()) replaceText(text);
    judge();
}

void CodeView::takeText() {
    if (isReadOnly()) return;
    taking_ = true;
    (void)workspace_.apply(edits::setValue({part_}, "code", toPlainText().toStdString()));
    taking_ = false;
    judge();
}

/// Marks the first mistake.
void CodeView::judge() {
    const Part* part = workspace_.project().findPart(part_);
    const QString text = toPlainText();
    if (!part || isReadOnly() || (text.endsWith(".st") && !text.contains('\n'))) return showMistakes({});
    st::Program::Constants constants;
    const std::string* given = part->values.find("values");
    for (const QString& item :
         QString::fromStdString(given ? *given : "").split(QRegularExpression("[,;]"), Qt::SkipEmptyParts))
        constants.emplace_back(item.section('=', 0, 0).trimmed().toUpper().toStdString(), 1.0);
    const auto program = st::Program::compile(text.toStdString(), 1.0, constants);
    if (program) return showMistakes({});
    const Error& error = program.error();
    showMistakes({{error.line, error.column, QString::fromStdString(error.text())}});
}

QStringList CodeView::offered(const QString& word) const {
    QStringList list = reserved() + standard();
    static const QRegularExpression name("[A-Za-z_][A-Za-z_0-9]+");
    for (auto it = name.globalMatch(toPlainText()); it.hasNext();)
        if (const QString found = it.next().captured(); found != word) list << found;
    list.removeDuplicates();
    return list;
}

void CodeView::undoAsked(bool redo) { redo ? workspace_.redo() : workspace_.undo(); }

void CodeView::focusOutEvent(QFocusEvent* event) {
    takeNow();
    MarkedEdit::focusOutEvent(event);
}

void CodeView::changeEvent(QEvent* event) {
    if (event->type() == QEvent::PaletteChange) colouring_->rehighlight();
    MarkedEdit::changeEvent(event);
}

void CodeView::resizeEvent(QResizeEvent* event) {
    MarkedEdit::resizeEvent(event);
    numbers_->setGeometry(0, 0, numberWidth, height());
}

}  // namespace hedgerow::app
