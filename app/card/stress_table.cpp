#include "card/stress_table.h"

#include <QHeaderView>

#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int lineHeight = 22;
constexpr int mostRows = 60;
constexpr std::size_t mostPoints = 2'000'000;  ///< of a run that is looked through in the window's thread
constexpr double nearLimit = 0.8;
}  // namespace

StressTable::StressTable(Workspace& workspace, QWidget* parent) : QTableWidget(parent), workspace_(workspace) {
    setObjectName("stressTable");
    setAccessibleName("stress of all parts");
    setColumnCount(4);
    horizontalHeader()->hide();
    verticalHeader()->hide();
    setShowGrid(false);
    setFrameShape(QFrame::NoFrame);
    setEditTriggers(QAbstractItemView::NoEditTriggers);
    setSelectionBehavior(QAbstractItemView::SelectRows);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    horizontalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
    horizontalHeader()->setSectionResizeMode(0, QHeaderView::Stretch);
    horizontalHeader()->setMinimumSectionSize(8);
    setStyleSheet("QTableWidget { background: transparent; }");
    connect(&workspace, &Workspace::runsChanged, this, &StressTable::fill);
    connect(this, &QTableWidget::cellClicked, this, &StressTable::choose);
    connect(this, &QTableWidget::cellActivated, this, &StressTable::choose);
    fill();
}

QSize StressTable::sizeHint() const { return {200, rowCount() * lineHeight + 2}; }

void StressTable::fill() {
    const auto& shown = workspace_.shownRun();
    const bool ready = shown && shown->run && !shown->running() && shown->run->points() < mostPoints;
    const RunEntry* now = ready ? shown.get() : nullptr;
    if (now && now == filledFor_) return;
    filledFor_ = now;
    rows_ = now ? stressOf(*shown->run) : std::vector<StressRow>();
    const Colours& p = colours();
    setRowCount(std::min(static_cast<int>(rows_.size()), mostRows));
    for (int i = 0; i < rowCount(); ++i) {
        const StressRow& row = rows_[static_cast<std::size_t>(i)];
        setRowHeight(i, lineHeight);
        const double share = row.share();
        const QString texts[] = {
            QString::fromStdString(row.quantity), QString::fromStdString(formatQuantity(row.peak, row.unit, 3)),
            row.limit > 0 ? "of " + QString::fromStdString(formatQuantity(row.limit, row.unit, 3)) : QString(),
            row.limit > 0 ? QString("%1 %").arg(100 * share, 0, 'f', 0) : QString()};
        for (int column = 0; column < 4; ++column) {
            auto* item = new QTableWidgetItem(texts[column]);
            item->setTextAlignment((column == 0 ? Qt::AlignLeft : Qt::AlignRight) | Qt::AlignVCenter);
            item->setForeground(share >= nearLimit ? p.haw : column == 0 ? p.ink : p.bark);
            item->setToolTip(QString("%1 at %2").arg(texts[0], QString::fromStdString(formatQuantity(row.at, "s", 5))));
            setItem(i, column, item);
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
