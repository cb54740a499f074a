#include "card/loss_table.h"

#include "card/stress_table.h"
#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int laterMilliseconds = 150;
constexpr std::size_t mostPoints = 500'000;  ///< of a window that is looked through
}  // namespace

LossTable::LossTable(Workspace& workspace, std::string part, QWidget* parent)
    : QTableWidget(parent), workspace_(workspace), part_(std::move(part)) {
    setObjectName("lossTable");
    setAccessibleName("losses of all switches");
    makePlain(*this, 5);
    later_.setSingleShot(true);
    later_.setInterval(laterMilliseconds);
    connect(&later_, &QTimer::timeout, this, &LossTable::fill);
    const auto soon = [this] { later_.start(); };
    connect(&workspace, &Workspace::runsChanged, this, soon);
    connect(&workspace, &Workspace::measuredChanged, this, soon);
    fill();
}

QSize LossTable::sizeHint() const { return {200, rowCount() * lineHeight + 2}; }

/// Going through the waveforms takes its time: it is done beside the window.
void LossTable::fill() {
    const auto& shown = workspace_.shownRun();
    rows_.clear();
    counting_.drop();
    if (shown && shown->run && !shown->running() && shown->run->points() > 1) {
        const std::pair<Tick, Tick> span = workspace_.measured();
        const auto share = static_cast<double>(span.second - span.first) /
                           static_cast<double>(std::max<Tick>(1, shown->run->reached()));
        if (share * static_cast<double>(shown->run->points()) < static_cast<double>(mostPoints))
            counting_.start([this, run = std::shared_ptr<const RunRecord>(shown->run),
                             span](const CancelToken&) -> std::function<void()> {
                auto found = lossesOf(*run, span.first, span.second);
                return [this, found = std::move(found)] {
                    rows_ = found;
                    list();
                };
            });
    }
    list();
}

void LossTable::list() {
    setRowCount(0);
    if (!part_.empty()) std::erase_if(rows_, [this](const LossRow& row) { return row.part != part_; });
    setVisible(!rows_.empty());
    if (rows_.empty()) return updateGeometry();
    const Colours& p = colours();
    setRowCount(static_cast<int>(rows_.size()) + 1);
    const char* const heads[] = {"losses", "conducting", "switching, core", "all", "junction"};
    for (int column = 0; column < 5; ++column) setCell(*this, 0, column, heads[column], p.bark);
    const auto watts = [](double value) { return QString::fromStdString(formatQuantity(value, "W", 3)); };
    for (int i = 1; i < rowCount(); ++i) {
        const LossRow& row = rows_[static_cast<std::size_t>(i - 1)];
        const QString texts[] = {QString::fromStdString(row.part), watts(row.conduction),
                                 watts(row.switching() + row.core), watts(row.total()),
                                 row.mean ? QString("%1 °C").arg(*row.mean, 0, 'f', 0) : QString()};
        for (int column = 0; column < 5; ++column) {
            setCell(*this, i, column, texts[column], column == 0 ? p.ink : p.bark);
            QString told = QString("turning on %1, off %2, recovery %3; %4 events")
                               .arg(watts(row.on), watts(row.off), watts(row.rr))
                               .arg(row.events);
            if (row.mean)
                told += QString("; junction at %1 °C when this goes on, up to %2 °C")
                            .arg(*row.mean, 0, 'f', 1)
                            .arg(*row.peak, 0, 'f', 1);
            item(i, column)->setToolTip(told);
        }
    }
    updateGeometry();
}

}  // namespace hedgerow::app
