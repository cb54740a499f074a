#include "window/finder.h"

#include <QKeyEvent>
#include <QLineEdit>
#include <QListWidget>
#include <QPainter>
#include <QStyledItemDelegate>
#include <QVBoxLayout>

#include "model/references.h"
#include "sheet/sheet_view.h"
#include "base/commands.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

constexpr int finderWidth = 540, finderHeight = 372, rowHeight = 30, mostOfEach = 12;
enum Role { detailRole = Qt::UserRole, sortRole };

/// Name, what is known of it, and what sort of thing it is.
class RowPainter : public QStyledItemDelegate {
public:
    using QStyledItemDelegate::QStyledItemDelegate;
    QSize sizeHint(const QStyleOptionViewItem&, const QModelIndex&) const override { return {finderWidth, rowHeight}; }
    void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const Colours& p = colours();
        const bool current = option.state & QStyle::State_Selected;
        painter->setRenderHint(QPainter::Antialiasing);
        if (current) {
            painter->setPen(Qt::NoPen);
            painter->setBrush(p.leafTint);
            painter->drawRoundedRect(QRectF(option.rect).adjusted(2, 1, -2, -1), 4, 4);
        }
        const QRect text = option.rect.adjusted(12, 0, -12, 0);
        const QString title = index.data(Qt::DisplayRole).toString(), detail = index.data(detailRole).toString();
        painter->setFont(textFont());
        painter->setPen(p.ink);
        painter->drawText(text, Qt::AlignVCenter | Qt::AlignLeft, title);
        const int used = painter->fontMetrics().horizontalAdvance(title);
        painter->setFont(textFont(TextSize::small));
        painter->setPen(p.bark);
        const QString sort = index.data(sortRole).toString();
        painter->drawText(text, Qt::AlignVCenter | Qt::AlignRight, sort);
        const int right = painter->fontMetrics().horizontalAdvance(sort) + 16;
        const QRect middle = text.adjusted(used + 12, 0, -right, 0);
        painter->drawText(middle, Qt::AlignVCenter | Qt::AlignLeft,
                          painter->fontMetrics().elidedText(detail, Qt::ElideRight, middle.width()));
    }
};

/// Whether all typed words occur in a text.
bool matches(const QString& text, const QStringList& typed) {
    return std::all_of(typed.begin(), typed.end(),
                       [&](const QString& word) { return text.contains(word, Qt::CaseInsensitive); });
}

}  // namespace

Finder::Finder(Workspace& workspace, const Commands& commands, SheetView& sheet, QWidget* window)
    : QFrame(window),
      workspace_(workspace),
      commands_(commands),
      sheet_(sheet),
      line_(new QLineEdit(this)),
      list_(new QListWidget(this)) {
    hide();
    setObjectName("finder");
    setAccessibleName("finder");
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(8, 8, 8, 8);
    column->setSpacing(6);
    line_->setObjectName("finderLine");
    line_->setPlaceholderText("a command, a part or net of the sheet, a value, a kind of part, or help and a kind");
    line_->setAccessibleName("what to find");
    list_->setObjectName("finderList");
    list_->setAccessibleName("found");
    list_->setItemDelegate(new RowPainter(list_));
    list_->setFrameShape(QFrame::NoFrame);
    list_->setFocusPolicy(Qt::NoFocus);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    column->addWidget(line_);
    column->addWidget(list_, 1);
    line_->installEventFilter(this);
    connect(line_, &QLineEdit::textChanged, this, &Finder::fill);
    connect(list_, &QListWidget::itemClicked, this, [this](QListWidgetItem* item) { choose(list_->row(item)); });
}

void Finder::open() {
    const Colours& p = colours();
    setStyleSheet(QString("QFrame#finder { background: %1; border: 1px solid %2; border-radius: 8px; } "
                          "QListWidget { background: transparent; }")
                      .arg(p.paper.name(), p.sloe.name()));
    const int width = std::min(finderWidth, parentWidget()->width() - 32);
    setGeometry((parentWidget()->width() - width) / 2, 56, width,
                std::min(finderHeight, parentWidget()->height() - 80));
    line_->clear();
    fill();
    show();
    raise();
    line_->setFocus();
}

void Finder::addRow(Row row) {
    auto* item = new QListWidgetItem(row.title, list_);
    item->setData(detailRole, row.detail);
    item->setData(sortRole, row.sort);
    rows_.push_back(std::move(row));
}

void Finder::fill() {
    list_->clear();
    rows_.clear();
    const QString typed = line_->text().trimmed();
    const QStringList words = typed.split(' ', Qt::SkipEmptyParts);
    // Those whose name begins with what was typed come first.
    const auto addCommands = [&] {
        for (const bool first : {true, false})
            for (const Command& command : commands_.all()) {
                if (!matches(command.name, words) || command.name.startsWith(typed, Qt::CaseInsensitive) != first)
                    continue;
                addRow({command.name, command.canRun() ? "" : "not now", command.keys, [command] {
                            if (command.canRun()) command.run();
                        }});
            }
    };
    if (typed.isEmpty()) {
        addCommands();
    } else {
        const auto found =
            findOnSheet(workspace_.project(), workspace_.catalogue(), workspace_.nets(), typed.toStdString());
        for (std::size_t i = 0; i < found.size() && i < mostOfEach; ++i)
            addRow({QString::fromStdString(found[i].title), QString::fromStdString(found[i].detail),
                    found[i].what == Found::What::part ? "on the sheet" : "net",
                    [this, ids = found[i].ids] { sheet_.reveal(ids); }});
        addCommands();
        const bool help = QString("help").startsWith(words.first());
        addKinds(help ? words.mid(1) : words, help);
    }
    if (list_->count() > 0) list_->setCurrentRow(0);
}

/// Kinds of parts in whose title or synonyms every word begins a word: to place, or to read about.
void Finder::addKinds(const QStringList& typed, bool help) {
    int count = 0;
    for (const PartKind* kind : workspace_.catalogue().all()) {
        QString text = " " + QString::fromStdString(kind->title);
        for (const std::string& synonym : kind->synonyms) text += " " + QString::fromStdString(synonym);
        const bool fits = std::all_of(typed.begin(), typed.end(), [&](const QString& word) {
            return text.contains(" " + word, Qt::CaseInsensitive);
        });
        if (!fits || ++count > mostOfEach) continue;
        const QString title = QString::fromStdString(kind->title), summary = QString::fromStdString(kind->summary);
        if (help)
            addRow({title, summary, "help", [this, id = QString::fromStdString(kind->id)] { emit helpAsked(id); }});
        else
            addRow({title, summary, "place", [this, kind] { sheet_.hang({kind, {}, {}}); }});
    }
}

void Finder::choose(int index) {
    if (index < 0 || index >= static_cast<int>(rows_.size())) return;
    const auto action = rows_[static_cast<std::size_t>(index)].choose;
    hide();
    sheet_.setFocus();
    action();
}

bool Finder::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::KeyPress) {
        auto* key = static_cast<QKeyEvent*>(event);
        const int row = list_->currentRow(), last = list_->count() - 1;
        switch (key->key()) {
            case Qt::Key_Escape:
                hide();
                sheet_.setFocus();
                return true;
            case Qt::Key_Return:
            case Qt::Key_Enter:
                choose(row);
                return true;
            case Qt::Key_Down:
                list_->setCurrentRow(std::min(row + 1, last));
                return true;
            case Qt::Key_Up:
                list_->setCurrentRow(std::max(row - 1, 0));
                return true;
            case Qt::Key_PageDown:
                list_->setCurrentRow(std::min(row + 8, last));
                return true;
            case Qt::Key_PageUp:
                list_->setCurrentRow(std::max(row - 8, 0));
                return true;
            default:
                break;
        }
    }
    if (event->type() == QEvent::FocusOut && isVisible()) hide();
    return QFrame::eventFilter(watched, event);
}

}  // namespace hedgerow::app
