#include "sheet/entry_line.h"

#include <algorithm>

#include <QKeyEvent>
#include <QPainter>

#include "base/text.h"
#include "model/references.h"
#include "sheet/symbol.h"
#include "base/workspace.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int entryWidth = 328, lineHeight = 38, rowHeight = 32;
constexpr std::size_t mostRows = 6;

/// A kept part with what was typed behind its word.
Entry keptEntry(const Part& kept, const PartKind& kind, const Entry& typed) {
    Entry entry{&kind, kept.values, typed.understood, kept.rung};
    for (const auto& [key, text] : typed.values.all()) entry.values.set(key, text);
    if (!typed.understood.empty()) return entry;
    for (const auto& [key, text] : kept.values.all())
        entry.understood += (entry.understood.empty() ? "" : ", ") + key + " " + text;
    return entry;
}
}  // namespace

EntryLine::EntryLine(Workspace& workspace, QWidget* sheet)
    : QFrame(sheet), workspace_(workspace), line_(new QLineEdit(this)) {
    hide();
    setAccessibleName("entry line");
    line_->setAccessibleName("part and values");
    line_->setGeometry(8, 6, entryWidth - 80, 26);
    line_->setFrame(false);
    line_->setStyleSheet("border: 0; background: transparent; font-size: 14px;");
    line_->installEventFilter(this);
    connect(line_, &QLineEdit::textChanged, this, &EntryLine::refresh);
    // Kinds and kept parts it offers are those of now.
    connect(&workspace, &Workspace::catalogueChanged, this, [this] {
        matches_.clear();
        entry_ = {};
        if (isVisible()) refresh();
    });
}

void EntryLine::start(const QPoint& at, const QString& typed) {
    row_ = 0;
    line_->setText(typed);
    refresh();
    const QSize room = parentWidget()->size();
    move(std::clamp(at.x() + 12, 4, std::max(4, room.width() - entryWidth - 4)),
         std::clamp(at.y() + 12, 4,
                    std::max(4, room.height() - lineHeight - rowHeight * static_cast<int>(mostRows) - 12)));
    show();
    raise();
    line_->setFocus();
    line_->end(false);
}

void EntryLine::cancel() {
    if (!isVisible()) return;
    hide();
    parentWidget()->setFocus();
    emit closed();
}

void EntryLine::refresh() {
    const QString typed = line_->text().trimmed();
    const QString word = typed.section(' ', 0, 0);
    verb_ = word == "net" ? Verb::net : word == "join" ? Verb::join : Verb::place;
    matches_.clear();
    if (!word.isEmpty()) findMatches(word.toStdString());
    if (matches_.size() > mostRows) matches_.resize(mostRows);
    if (verb_ != Verb::place) matches_.clear();
    row_ = matches_.empty() ? 0 : std::min(row_, matches_.size() - 1);
    understood_.clear();
    error_.clear();
    if (!matches_.empty()) {
        const auto& [kind, kept] = matches_[row_];
        auto entry = readEntryValues(typed.section(' ', 1).toStdString(), *kind, workspace_.parameters().lookup());
        if (entry) {
            entry_ = kept ? keptEntry(*kept, *kind, *entry) : *entry;
            understood_ = QString::fromStdString(entry_.understood);
        } else {
            error_ = QString::fromStdString(entry.error().message);
        }
    } else if (verb_ != Verb::place) {
        readVerb(typed);
    } else if (!word.isEmpty()) {
        error_ = "no part is called '" + word + "'";
    }
    const int rows = static_cast<int>(matches_.size()) + (verb_ != Verb::place ? 1 : 0);
    resize(entryWidth, lineHeight + rows * rowHeight + (error_.isEmpty() ? 8 : rowHeight));
    update();
}

/// The user's own parts come first.
void EntryLine::findMatches(const std::string& word) {
    for (const Part& kept : workspace_.keptParts())
        if (const PartKind* kind = workspace_.catalogue().find(kept.kind);
            kind && lowerCase(kept.name).starts_with(lowerCase(word)))
            matches_.push_back({kind, &kept});
    for (const PartKind* kind : workspace_.catalogue().search(word, workspace_.recentKinds()))
        matches_.push_back({kind, nullptr});
}

/// "net out" and "join C1.a out".
void EntryLine::readVerb(const QString& typed) {
    const QStringList names = typed.split(' ', Qt::SkipEmptyParts).mid(1);
    if (verb_ == Verb::net) {
        understood_ = names.isEmpty() ? "type a name" : names.join(" at ");
        if (names.size() > 1 && !placeNamed(workspace_.project(), workspace_.catalogue(), names[1].toStdString()))
            error_ = names[1] + " is neither a pin, as C1.a, nor a named net";
        return;
    }
    understood_ = names.size() < 2 ? "type two pins or nets, as C1.a out" : names[0] + " and " + names[1];
    for (qsizetype i = 0; i < std::min<qsizetype>(names.size(), 2); ++i)
        if ((i == 0 && names.size() > 1) || i == 1)
            if (!placeNamed(workspace_.project(), workspace_.catalogue(), names[i].toStdString()))
                error_ = names[i] + " is neither a pin, as C1.a, nor a named net";
}

void EntryLine::accept() {
    const QString typed = line_->text().trimmed();
    const QStringList names = typed.split(' ', Qt::SkipEmptyParts).mid(1);
    if (verb_ == Verb::net) {
        if (names.isEmpty() || names.size() > 2 || !error_.isEmpty()) return;
        cancel();
        emit netNamed(names[0], names.value(1));
        return;
    }
    if (verb_ == Verb::join) {
        if (names.size() != 2 || !error_.isEmpty()) return;
        cancel();
        emit joinNamed(names[0], names[1]);
        return;
    }
    if (matches_.empty() || !error_.isEmpty()) return;
    const Entry entry = entry_;
    cancel();
    emit chosen(entry);
}

bool EntryLine::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::KeyPress) {
        switch (static_cast<QKeyEvent*>(event)->key()) {
            case Qt::Key_Escape:
                cancel();
                return true;
            case Qt::Key_Return:
            case Qt::Key_Enter:
                accept();
                return true;
            case Qt::Key_Down:
                if (row_ + 1 < matches_.size()) ++row_, refresh();
                return true;
            case Qt::Key_Up:
                if (row_ > 0) --row_, refresh();
                return true;
            default:
                break;
        }
    }
    if (event->type() == QEvent::FocusOut && isVisible()) cancel();
    return QFrame::eventFilter(watched, event);
}

int EntryLine::rowAt(int y) const { return y < lineHeight ? -1 : (y - lineHeight) / rowHeight; }

void EntryLine::mousePressEvent(QMouseEvent* event) {
    const int row = rowAt(static_cast<int>(event->position().y()));
    if (row < 0 || row >= static_cast<int>(matches_.size())) return;
    row_ = static_cast<std::size_t>(row);
    refresh();
    accept();
}

void EntryLine::paintEvent(QPaintEvent*) {
    const Colours& p = colours();
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(QPen(p.sloe, 1.5));
    painter.setBrush(p.paper);
    painter.drawRoundedRect(QRectF(rect()).adjusted(0.75, 0.75, -0.75, -0.75), 8, 8);
    painter.setFont(textFont());
    painter.setPen(p.bark);
    painter.drawText(QRect(entryWidth - 76, 0, 64, lineHeight), Qt::AlignRight | Qt::AlignVCenter,
                     verb_ == Verb::net    ? "↵ name"
                     : verb_ == Verb::join ? "↵ join"
                                           : "↵ hang");
    painter.setPen(p.rule);
    painter.drawLine(1, lineHeight - 1, entryWidth - 2, lineHeight - 1);
    for (std::size_t i = 0; i < matches_.size(); ++i) {
        const QRect row(6, lineHeight + static_cast<int>(i) * rowHeight + 2, entryWidth - 12, rowHeight - 4);
        if (i == row_) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(p.leafTint);
            painter.drawRoundedRect(row, 4, 4);
        }
        painter.save();
        const auto& [kind, kept] = matches_[i];
        const QRectF box = partBox(Part{}, *kind);
        const double scale = std::min(0.42, 24.0 / std::max(box.width(), box.height()));
        painter.translate(row.left() + 18, row.center().y());
        painter.scale(scale, scale);
        painter.translate(-box.center());
        drawSymbol(painter, *kind, {i == row_ ? p.ink : p.bark});
        painter.restore();
        const QString title = QString::fromStdString(kept ? kept->name + ", " + lowerCase(kind->title) : kind->title);
        painter.setFont(textFont());
        painter.setPen(i == row_ ? p.ink : p.bark);
        const QRect text = row.adjusted(40, 0, -6, 0);
        painter.drawText(text, Qt::AlignLeft | Qt::AlignVCenter, title);
        if (i == row_ && error_.isEmpty()) {
            const int room = text.width() - painter.fontMetrics().horizontalAdvance(title) - 12;
            painter.setPen(p.bark);
            painter.drawText(text, Qt::AlignRight | Qt::AlignVCenter,
                             painter.fontMetrics().elidedText(understood_, Qt::ElideRight, room));
        }
    }
    if (verb_ != Verb::place) {
        painter.setPen(p.ink);
        painter.drawText(QRect(16, lineHeight, entryWidth - 24, rowHeight), Qt::AlignVCenter,
                         verb_ == Verb::net ? "Name this net" : "Join by a wire");
        painter.setPen(p.bark);
        painter.drawText(QRect(16, lineHeight, entryWidth - 32, rowHeight), Qt::AlignRight | Qt::AlignVCenter,
                         understood_);
    }
    if (!error_.isEmpty()) {
        painter.setPen(p.haw);
        painter.setFont(textFont(TextSize::small));
        const int rows = static_cast<int>(matches_.size()) + (verb_ != Verb::place ? 1 : 0);
        const QRect row(14, lineHeight + rows * rowHeight, entryWidth - 24, rowHeight);
        painter.drawText(row, Qt::AlignVCenter | Qt::TextWordWrap, error_);
    }
}

}  // namespace hedgerow::app
