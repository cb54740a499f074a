#include "card/stress_table.h"

#include <QHeaderView>

#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int mostRows = 60;
constexpr std::size_t mostPoints = 2'000'000;  ///< of a run that is looked through
constexpr double nearLimit = 0.8;
}  // namespace

void makePlain(QTableWidget& table, int columns) {
    table.setColumnCount(columns);
    table.horizontalHeader()->hide();
    table.verticalHeader()->hide();
    table.setShowGrid(false);
    table.setFrameShape(QFrame::NoFrame);
    table.setEditTriggers(QAbstractItemView::NoEditTriggers);
    table.setSelectionBehavior(QAbstractItemView::SelectRows);
    table.setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    table.setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    table.horizontalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
    table.horizontalHeader()->setSectionResizeMode(0, QHeaderView::Stretch);
    table.horizontalHeader()->setMinimumSectionSize(8);
    table.setStyleSheet("QTableWidget { background: transparent; }");
}

void setCell(QTableWidget& table, int row, int column, const QString& text, const QColor& colour) {
    auto* item = new QTableWidgetItem(text);
    item->setTextAlignment((column == 0 ? Qt::AlignLeft : Qt::AlignRight) | Qt::AlignVCenter);
    item->setForeground(colour);
    table.setRowHeight(row, lineHeight);
    table.setItem(row, column, item);
}

StressTable::StressTable(Workspace& workspace, QWidget* parent) : QTableWidget(parent), workspace_(workspace) {
    setObjectName("stressTable");
    setAccessibleName("stress of all parts");
    makePlain(*this, 4);
    connect(&workspace, &Workspace::runsChanged, this, &StressTable::fill);
    connect(this, &QTableWidget::cellClicked, this, &StressTable::choose);
    connect(this, &QTableWidget::cellActivated, this, &StressTable::choose);
    fill();
}

QSize StressTable::sizeHint() const { return {200, rowCount() * lineHeight + 2}; }

/// Going through the waveforms takes its time: it is done beside the window.
void StressTable::fill() {
    const auto& shown = workspace_.shownRun();
    const bool ready = shown && shown->run && !shown->running() && shown->run->points() < mostPoints;
    const std::shared_ptr<const RunRecord> now = ready ? shown->run : nullptr;
    if (now && now == filledFor_.lock()) return;
    filledFor_ = now;
    rows_.clear();
    looking_.drop();
    if (now)
        looking_.start([this, now](const CancelToken&) -> std::function<void()> {
            auto found = stressOf(*now);
            return [this, found = std::move(found)] {
                rows_ = found;
                list();
            };
        });
    list();
}

void StressTable::list() {
    const Colours& p = colours();
    setRowCount(std::min(static_cast<int>(rows_.size()), mostRows));
    for (int i = 0; i < rowCount(); ++i) {
        const StressRow& row = rows_[static_cast<std::size_t>(i)];
        const double share = row.share();
        const QString texts[] = {
            QString::fromStdString(row.quantity), QString::fromStdString(formatQuantity(row.peak, row.unit, 3)),
            row.limit > 0 ? "of " + QString::fromStdString(formatQuantity(row.limit, row.unit, 3)) : QString(),
            row.limit > 0 ? QString("%1 %").arg(100 * share, 0, 'f', 0) : QString()};
        for (int column = 0; column < 4; ++column) {
            setCell(*this, i, column, texts[column], share >= nearLimit ? p.haw : column == 0 ? p.ink : p.bark);
            item(i, column)->setToolTip(
                QString("%1 at %2").arg(texts[0], QString::fromStdString(formatQuantity(row.at, "s", 5))));
        }
    }
    updateGeometry();
}

void StressTable::choose(int row) {
    if (row < 0 || row >= static_cast<int>(rows_.size())) return;
    const double at = rows_[static_cast<std::size_t>(row)].at;
    workspace_.setCursor(toTicks(at));
    emit instantAsked(at);
}

}  // namespace hedgerow::app
