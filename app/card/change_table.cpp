#include "card/change_table.h"

#include <QLabel>

#include "card/stress_table.h"
#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

constexpr int laterMilliseconds = 150;
constexpr std::size_t mostPoints = 500'000;  ///< of runs that are measured while one waits
constexpr std::size_t mostRows = 24;

QString share(double now, double before) {
    if (now == before) return "=";
    if (before == 0) return "new";
    const double percent = 100 * (now / before - 1);
    if (!(std::abs(percent) < 1000)) return "≫";
    return QString("%1%2 %")
        .arg(percent < 0 ? "−" : "+")
        .arg(std::abs(percent), 0, 'f', std::abs(percent) < 10 ? 1 : 0);
}

}  // namespace

ChangeTable::ChangeTable(Workspace& workspace, QLabel* heading, QWidget* parent)
    : QTableWidget(parent), workspace_(workspace), heading_(heading) {
    setObjectName("changeTable");
    setAccessibleName("what changed against the pinned run");
    makePlain(*this, 4);
    later_.setSingleShot(true);
    later_.setInterval(laterMilliseconds);
    connect(&later_, &QTimer::timeout, this, &ChangeTable::fill);
    const auto soon = [this] { later_.start(); };
    connect(&workspace, &Workspace::runsChanged, this, soon);
    connect(&workspace, &Workspace::measuredChanged, this, soon);
    fill();
}

QSize ChangeTable::sizeHint() const { return {200, rowCount() * lineHeight + 2}; }

void ChangeTable::fill() {
    changes_.clear();
    setRowCount(0);
    const auto& shown = workspace_.shownRun();
    const auto beside = workspace_.runList().beside();
    const bool ready = shown && shown->run && !shown->running() && shown->run->points() > 1 && !beside.empty() &&
                       beside.front()->run && !beside.front()->running() &&
                       shown->run->points() + beside.front()->run->points() < mostPoints;
    if (ready) {
        const std::pair<Tick, Tick> span = workspace_.measured();
        changes_ = changesBetween(*shown->run, *beside.front()->run, span.first, span.second);
        if (changes_.size() > mostRows) changes_.resize(mostRows);
    }
    setVisible(!changes_.empty());
    heading_->setVisible(!changes_.empty());
    if (changes_.empty()) return updateGeometry();
    const QString name = QString::fromStdString(beside.front()->about.name);
    heading_->setText(
        QString("Changed against %1").arg(name.isEmpty() ? QString("run %1").arg(beside.front()->number) : name));
    const Colours& p = colours();
    setRowCount(static_cast<int>(changes_.size()) + 1);
    const char* const heads[] = {"", "peak", "mean", "rms"};
    for (int column = 0; column < 4; ++column) setCell(*this, 0, column, heads[column], p.bark);
    for (int i = 1; i < rowCount(); ++i) {
        const RunChange& change = changes_[static_cast<std::size_t>(i - 1)];
        setCell(*this, i, 0, QString::fromStdString(change.quantity), p.ink);
        const std::pair<double, double> numbers[] = {{change.now.peak, change.other.peak},
                                                     {change.now.mean, change.other.mean},
                                                     {change.now.rms, change.other.rms}};
        for (int column = 1; column < 4; ++column) {
            const auto [now, before] = numbers[column - 1];
            setCell(*this, i, column, share(now, before), p.bark);
            item(i, column)->setToolTip(QString::fromStdString(formatQuantity(before, change.unit, 4) + " → " +
                                                               formatQuantity(now, change.unit, 4)));
        }
    }
    updateGeometry();
}

}  // namespace hedgerow::app
