#include "shelf/run_page.h"

#include <algorithm>

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPainter>
#include <QPushButton>
#include <QStyledItemDelegate>
#include <QVBoxLayout>

#include "model/changes.h"
#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

QString shown(double value, const char* unit, int digits) {
    return QString::fromStdString(formatQuantity(value, unit, digits));
}

/// Number and name or plan, time taken; below, how it ended and what it was made of.
class RunRow : public QStyledItemDelegate {
public:
    RunRow(Workspace& workspace, QObject* parent) : QStyledItemDelegate(parent), workspace_(workspace) {}
    QSize sizeHint(const QStyleOptionViewItem&, const QModelIndex&) const override { return {160, 50}; }
    void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const auto& runs = workspace_.runs();
        if (index.row() >= static_cast<int>(runs.size())) return;
        const RunEntry& entry = *runs[static_cast<std::size_t>(index.row())];
        const Colours& p = colours();
        painter->save();
        painter->setRenderHint(QPainter::Antialiasing);
        const QRect box = option.rect.adjusted(4, 1, -4, -1);
        const bool here = workspace_.shownRun().get() == &entry;
        if (here || option.state & (QStyle::State_MouseOver | QStyle::State_HasFocus)) {
            painter->setPen(option.state & QStyle::State_HasFocus ? QPen(p.sloe, 1) : QPen(Qt::NoPen));
            painter->setBrush(here ? p.leafTint : p.chalk);
            painter->drawRoundedRect(box, 4, 4);
        }
        if (entry.pinned && !here) {
            painter->setPen(QPen(p.sloe, 2, Qt::DashLine));
            painter->drawLine(box.left() + 1, box.top() + 5, box.left() + 1, box.bottom() - 5);
        }
        painter->setFont(textFont(TextSize::normal, true));
        painter->setPen(p.ink);
        const QString name = QString::fromStdString(entry.about.name);
        QString head = QString::number(entry.number) + (entry.about.star ? " ★" : "");
        if (!name.isEmpty()) head += "  " + name;
        const QString time = entry.running() ? "running" : shown(entry.about.seconds, "s", 2);
        painter->setFont(textFont());
        const int timeWidth = painter->fontMetrics().horizontalAdvance(time) + 8;
        painter->setFont(textFont(TextSize::normal, true));
        painter->drawText(box.adjusted(8, 4, -8 - timeWidth, 0), Qt::AlignLeft | Qt::AlignTop,
                          painter->fontMetrics().elidedText(head, Qt::ElideRight, box.width() - 16 - timeWidth));
        painter->setFont(textFont());
        painter->setPen(p.bark);
        painter->drawText(box.adjusted(0, 4, -8, 0), Qt::AlignRight | Qt::AlignTop, time);
        QString line = QString::fromStdString(entry.about.plan);
        if ((entry.live && entry.live->settles()) || entry.about.outcome.starts_with(RunSummary::settledMark))
            line += " · settled";
        if (entry.run && !entry.running()) {
            const RunSummary& summary = entry.run->summary();
            if (summary.end == RunEnd::failed) painter->setPen(p.haw);
            if (summary.end != RunEnd::finished)
                line += ", " + QString::fromStdString(std::string(describe(summary.end)));
            if (entry.measuredFrom.isEmpty() && workspace_.isOld(entry)) line += " · other circuit";
        } else if (!entry.about.started.empty()) {
            line += " · " + QString::fromStdString(entry.about.started).left(16).replace('T', ' ');
        }
        painter->drawText(box.adjusted(8, 0, -8, -5), Qt::AlignLeft | Qt::AlignBottom,
                          painter->fontMetrics().elidedText(line, Qt::ElideRight, box.width() - 16));
        painter->restore();
    }

private:
    Workspace& workspace_;
};

}  // namespace

RunPage::RunPage(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(8, 12, 4, 8);
    column->setSpacing(6);
    auto* head = new QHBoxLayout;
    auto* title = new QLabel("Runs");
    title->setStyleSheet("font-weight: bold; padding-left: 8px;");
    count_ = new QLabel;
    count_->setProperty("quiet", true);
    count_->setContentsMargins(0, 0, 8, 0);
    head->addWidget(title);
    head->addStretch(1);
    head->addWidget(count_);
    column->addLayout(head);
    list_ = new QListWidget;
    list_->setObjectName("runList");
    list_->setAccessibleName("runs");
    list_->setItemDelegate(new RunRow(workspace_, list_));
    list_->setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    list_->setMouseTracking(true);
    list_->installEventFilter(this);
    column->addWidget(list_, 1);

    details_ = new QWidget;
    auto* about = new QVBoxLayout(details_);
    about->setContentsMargins(4, 0, 8, 0);
    about->setSpacing(4);
    const auto field = [&](const char* object, const char* what) {
        auto* edit = new QLineEdit;
        edit->setObjectName(object);
        edit->setPlaceholderText(what);
        edit->setAccessibleName(what);
        about->addWidget(edit);
        return edit;
    };
    name_ = field("runName", "name this run");
    note_ = field("runNote", "note");
    auto* row = new QHBoxLayout;
    row->setSpacing(3);
    const auto button = [&](const char* object, const char* text, const char* tip) {
        auto* made = new QPushButton(text);
        made->setObjectName(object);
        made->setToolTip(tip);
        made->setStyleSheet("padding: 2px 3px; border-radius: 10px; font-size: 11px; min-width: 0;");
        row->addWidget(made);
        made->setMinimumWidth(made->fontMetrics().horizontalAdvance(text) + 8);
        return made;
    };
    star_ = button("starRun", "★", "keep it whatever the bound says");
    pin_ = button("pinRun", "Pin", "show it dashed beside other runs (Space in the list)");
    back_ = button("bringBack", "Bring back", "make the circuit what it was in this run; this can be undone");
    remove_ = button("removeRun", "Delete", "delete the run (Del in the list)");
    row->addStretch(1);
    about->addLayout(row);
    timing_ = new QWidget;
    auto* timing = new QHBoxLayout(timing_);
    timing->setContentsMargins(0, 0, 0, 0);
    offset_ = new QLineEdit;
    offset_->setObjectName("timeOffset");
    offset_->setAccessibleName("time offset in s");
    offset_->setToolTip("is added to the time of the measured data, as 1.5 ms");
    scale_ = new QLineEdit;
    scale_->setObjectName("timeScale");
    scale_->setAccessibleName("time scale");
    scale_->setToolTip("multiplies the time of the measured data");
    for (const auto& [text, edit] : {std::pair{"time +", offset_}, {"×", scale_}}) {
        auto* label = new QLabel(text);
        label->setProperty("quiet", true);
        timing->addWidget(label);
        timing->addWidget(edit);
        connect(edit, &QLineEdit::editingFinished, this, &RunPage::setTiming);
    }
    about->addWidget(timing_);
    changes_ = new QLabel;
    changes_->setObjectName("changes");
    changes_->setWordWrap(true);
    about->addWidget(changes_);
    column->addWidget(details_);
    auto* foot = new QHBoxLayout;
    disk_ = new QLabel;
    disk_->setObjectName("runDisk");
    disk_->setProperty("quiet", true);
    disk_->setContentsMargins(4, 0, 0, 0);
    bound_ = new QLineEdit;
    bound_->setObjectName("runBound");
    bound_->setAccessibleName("runs kept without a name or a star");
    bound_->setToolTip("how many runs without a name or a star are kept; 0 for all");
    bound_->setFixedWidth(40);
    bound_->setAlignment(Qt::AlignRight);
    foot->addWidget(disk_, 1);
    foot->addWidget(bound_);
    column->addLayout(foot);

    connect(list_, &QListWidget::itemClicked, this, [this](QListWidgetItem* item) {
        if (const RunPointer entry = entryOf(list_->row(item))) workspace_.runList().show(entry);
    });
    connect(list_, &QListWidget::itemActivated, this, [this](QListWidgetItem* item) {
        if (const RunPointer entry = entryOf(list_->row(item))) workspace_.runList().show(entry);
    });
    const auto withShown = [this](auto action) {
        return [this, action] {
            if (const RunPointer entry = workspace_.shownRun()) action(entry);
        };
    };
    connect(name_, &QLineEdit::editingFinished, this, withShown([this](const RunPointer& entry) {
                if (name_->isModified()) workspace_.runList().setName(entry, name_->text().trimmed().toStdString());
            }));
    connect(note_, &QLineEdit::editingFinished, this, withShown([this](const RunPointer& entry) {
                if (note_->isModified()) workspace_.runList().setNote(entry, note_->text().trimmed().toStdString());
            }));
    connect(star_, &QPushButton::clicked, this,
            withShown([this](const RunPointer& entry) { workspace_.runList().setStar(entry, !entry->about.star); }));
    connect(pin_, &QPushButton::clicked, this,
            withShown([this](const RunPointer& entry) { workspace_.runList().pin(entry, !entry->pinned); }));
    connect(back_, &QPushButton::clicked, this,
            withShown([this](const RunPointer& entry) { workspace_.bringBack(*entry); }));
    connect(remove_, &QPushButton::clicked, this,
            withShown([this](const RunPointer& entry) { workspace_.runList().remove(entry); }));
    connect(bound_, &QLineEdit::editingFinished, this, [this] {
        bool good = false;
        const int most = bound_->text().toInt(&good);
        if (good && bound_->isModified() && workspace_.runList().ledger())
            (void)workspace_.runList().ledger()->setBound(most);
        bound_->setModified(false);
        fill();
    });
    connect(&workspace, &Workspace::runsChanged, this, &RunPage::fill);
    connect(&workspace, &Workspace::projectChanged, this, [this] { list_->viewport()->update(); });
    fill();
}

RunPointer RunPage::entryOf(int row) const {
    const auto& runs = workspace_.runs();
    return row >= 0 && row < static_cast<int>(runs.size()) ? runs[static_cast<std::size_t>(row)] : nullptr;
}

bool RunPage::eventFilter(QObject* watched, QEvent* event) {
    if (watched == list_ && event->type() == QEvent::KeyPress) {
        const RunPointer entry = entryOf(list_->currentRow());
        switch (static_cast<QKeyEvent*>(event)->key()) {
            case Qt::Key_Space:
                if (entry) workspace_.runList().pin(entry, !entry->pinned);
                return true;
            case Qt::Key_Delete:
                if (entry) workspace_.runList().remove(entry);
                return true;
            case Qt::Key_F2:
                name_->setFocus();
                return true;
            default:
                break;
        }
    }
    return QWidget::eventFilter(watched, event);
}

void RunPage::fill() {
    const auto& runs = workspace_.runs();
    count_->setText(runs.empty() ? "" : QString::number(runs.size()));
    const int current = list_->currentRow();
    while (list_->count() > static_cast<int>(runs.size())) delete list_->takeItem(list_->count() - 1);
    while (list_->count() < static_cast<int>(runs.size())) new QListWidgetItem(list_);
    for (std::size_t i = 0; i < runs.size(); ++i)
        list_->item(static_cast<int>(i))->setText("run " + QString::number(runs[i]->number));
    if (current >= 0 && current < list_->count()) list_->setCurrentRow(current);
    list_->viewport()->update();
    fillDetails();
    fillChanges();
    const auto& ledger = workspace_.runList().ledger();
    bound_->setVisible(ledger != nullptr);
    disk_->setText(
        !ledger ? (runs.empty() ? "" : "Save the project to keep runs.")
                : QString("%1 on disk · keep last").arg(shown(static_cast<double>(ledger->bytes()), "", 3) + "B"));
    if (ledger && !bound_->hasFocus()) bound_->setText(QString::number(ledger->bound()));
}

void RunPage::setTiming() {
    const RunPointer entry = workspace_.runList().measured();
    if (!entry || (!offset_->isModified() && !scale_->isModified())) return;
    offset_->setModified(false);
    scale_->setModified(false);
    const auto lookup = workspace_.parameters().lookup();
    const auto offset = evaluateField(offset_->text().toStdString(), *findUnit("s"), lookup);
    const auto scale = evaluateField(scale_->text().toStdString(), *findUnit(""), lookup);
    if (offset && scale && *scale > 0) workspace_.runList().setTiming(entry, *offset, *scale);
    fillDetails();
}

void RunPage::fillDetails() {
    const RunPointer measured = workspace_.runList().measured();
    timing_->setVisible(measured != nullptr);
    if (measured) {
        offset_->setText(QString::fromStdString(formatQuantity(measured->offset, "s", 9)));
        scale_->setText(QString::number(measured->scale, 'g', 9));
    }
    const RunPointer entry = workspace_.shownRun();
    details_->setVisible(entry != nullptr);
    if (!entry) return;
    const bool other = described_ != entry.get();
    described_ = entry.get();
    for (const auto& [edit, text] : {std::pair{name_, &entry->about.name}, {note_, &entry->about.note}})
        if (other || !edit->hasFocus()) edit->setText(QString::fromStdString(*text));
    star_->setText(entry->about.star ? "★" : "☆");
    pin_->setText(entry->pinned ? "Unpin" : "Pin");
    back_->setEnabled(entry->measuredFrom.isEmpty() && workspace_.isOld(*entry));
    remove_->setEnabled(!entry->running());
}

/// What is different in the shown run from the one before it.
void RunPage::fillChanges() {
    const auto& runs = workspace_.runs();
    QString text;
    for (std::size_t i = 0; i + 1 < runs.size(); ++i) {
        if (runs[i] != workspace_.shownRun() || !runs[i + 1]->run) continue;
        QStringList lines;
        const std::string &scene = runs[i]->run->scene(), &before = runs[i + 1]->run->scene();
        if (scene != before) lines << QString::fromStdString("scene " + before + " → " + scene).toHtmlEscaped();
        for (const std::string& line :
             changesBetween(runs[i + 1]->run->project(), runs[i]->run->project(), workspace_.catalogue()))
            lines << QString::fromStdString(line).toHtmlEscaped();
        if (lines.size() > 6) lines = lines.mid(0, 5) << QString("and %1 more").arg(lines.size() - 5);
        text = QString("<b>Changed since %1</b><br>%2")
                   .arg(runs[i + 1]->number)
                   .arg(lines.isEmpty() ? "nothing" : lines.join("<br>"));
    }
    changes_->setText(text);
    changes_->setVisible(!text.isEmpty());
}

}  // namespace hedgerow::app
