#include "sheet/check_list.h"

#include <QEvent>
#include <QKeyEvent>
#include <QListWidget>
#include <QPushButton>
#include <QVBoxLayout>

#include "model/quantity.h"
#include "sheet/sheet_view.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int listWidth = 420, mostHeight = 260, margin = 12;
}

CheckList::CheckList(Workspace& workspace, SheetView& sheet)
    : QFrame(&sheet),
      workspace_(workspace),
      sheet_(sheet),
      pill_(new QPushButton(&sheet)),
      list_(new QListWidget(this)) {
    hide();
    setObjectName("checks");
    pill_->setObjectName("checksPill");
    pill_->setFocusPolicy(Qt::TabFocus);
    pill_->hide();
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(6, 6, 6, 6);
    list_->setObjectName("checksList");
    list_->setAccessibleName("what to look at");
    list_->setFrameShape(QFrame::NoFrame);
    list_->setWordWrap(true);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    column->addWidget(list_);
    connect(pill_, &QPushButton::clicked, this, &CheckList::toggle);
    connect(list_, &QListWidget::itemClicked, this, [this](QListWidgetItem* item) { choose(list_->row(item)); });
    connect(&workspace, &Workspace::checksChanged, this, &CheckList::fill);
    sheet.installEventFilter(this);
    list_->installEventFilter(this);
}

void CheckList::fill() {
    const auto& checks = workspace_.checks();
    const Colours& p = colours();
    const auto faults = std::count_if(checks.begin(), checks.end(), [](const Check& c) { return c.keepsFromRunning; });
    const auto cautions = static_cast<long>(checks.size()) - faults;
    QStringList words;
    if (faults > 0) words << QString("%1 to put right").arg(faults);
    if (cautions > 0) words << QString("%1 to look at").arg(cautions);
    pill_->setText(words.join(", "));
    const QColor line = faults > 0 ? p.haw : p.gorse, fill = faults > 0 ? p.hawTint : p.gorseTint;
    pill_->setStyleSheet(QString("QPushButton { background: %1; color: %2; border: 1px solid %3; border-radius: 11px; "
                                 "padding: 2px 10px; font-size: 11px; }")
                             .arg(fill.name(), p.ink.name(), line.name()));
    pill_->setVisible(!checks.empty() && !workspace_.project().sheet().parts.empty());
    list_->clear();
    for (const Check& check : checks) {
        const QString when =
            check.at ? "at " + QString::fromStdString(formatQuantity(*check.at, "s", 4)) + ": " : QString();
        auto* item = new QListWidgetItem(when + QString::fromStdString(check.error.message), list_);
        item->setForeground(check.keepsFromRunning ? p.haw : p.ink);
    }
    setStyleSheet(QString("QFrame#checks { background: %1; border: 1px solid %2; border-radius: 8px; } "
                          "QListWidget { background: transparent; }")
                      .arg(p.paper.name(), p.rule.name()));
    if (checks.empty()) hide();
    place();
}

void CheckList::place() {
    pill_->adjustSize();
    pill_->move(sheet_.width() - pill_->width() - margin, sheet_.height() - pill_->height() - margin);
    pill_->raise();
    const int width = std::min(listWidth, sheet_.width() - 2 * margin);
    int height = 16;
    for (int i = 0; i < list_->count() && height < mostHeight; ++i)
        height += list_->fontMetrics()
                      .boundingRect(QRect(0, 0, width - 40, 400), Qt::TextWordWrap, list_->item(i)->text())
                      .height() +
                  10;
    height = std::clamp(height, 40, mostHeight);
    setGeometry(sheet_.width() - width - margin, pill_->y() - height - 6, width, height);
}

void CheckList::toggle() {
    if (isVisible()) {
        hide();
        return sheet_.setFocus();
    }
    if (list_->count() == 0) return;
    place();
    show();
    raise();
    list_->setCurrentRow(0);
    list_->setFocus();
}

void CheckList::choose(int row) {
    const auto& checks = workspace_.checks();
    if (row < 0 || row >= static_cast<int>(checks.size())) return;
    const Error error = checks[static_cast<std::size_t>(row)].error;
    if (const auto at = checks[static_cast<std::size_t>(row)].at) workspace_.setCursor(toTicks(*at));
    std::set<int> ids;
    if (const auto part = workspace_.lookAtPart(error.part)) ids = {*part};
    for (const Net& net : workspace_.nets().nets) {
        if (!ids.empty() || error.net.empty() || net.name != error.net) continue;
        ids.insert(net.wires.begin(), net.wires.end());
        ids.insert(net.labels.begin(), net.labels.end());
        for (const PinRef& pin : net.pins) ids.insert(pin.part);
    }
    sheet_.reveal(ids);
}

bool CheckList::eventFilter(QObject* watched, QEvent* event) {
    if (watched == &sheet_ && event->type() == QEvent::Resize) place();
    if (watched == list_ && event->type() == QEvent::KeyPress) {
        const int key = static_cast<QKeyEvent*>(event)->key();
        if (key == Qt::Key_Escape) {
            toggle();
            return true;
        }
        if (key == Qt::Key_Return || key == Qt::Key_Enter) {
            choose(list_->currentRow());
            return true;
        }
    }
    return QFrame::eventFilter(watched, event);
}

}  // namespace hedgerow::app
