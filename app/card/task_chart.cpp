#include "card/task_chart.h"

#include <QFontMetrics>
#include <QPainter>

#include "model/quantity.h"
#include "network/elaborate.h"
#include "network/task.h"
#include "runs/registry.h"
#include "base/workspace.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int rowHeight = 22, nameWidth = 40, axisHeight = 18, lineHeight = 17;
constexpr int mostSamples = 400;
}  // namespace

TaskChart::TaskChart(Workspace& workspace, const QString& task, QWidget* parent)
    : QWidget(parent), workspace_(workspace), task_(task) {
    setObjectName("taskChart");
    setAccessibleName("tasks over time");
    const auto again = [this] {
        read();
        updateGeometry();
        update();
    };
    connect(&workspace, &Workspace::checksChanged, this, again);
    read();
}

void TaskChart::read() {
    rows_.clear();
    const auto elaboration = elaborate(workspace_.project(), partLibrary());
    if (!elaboration) return;
    for (const SignalConnection& c : elaboration->network.signalBlocks) {
        const auto* block = dynamic_cast<const TaskBlock*>(c.block.get());
        if (!block) continue;
        Row row{QString::fromStdString(c.part),
                {},
                block->setting().period,
                block->setting().offset,
                block->setting().delay};
        for (const TaskStep& step : block->steps()) row.parts << QString::fromStdString(step.part);
        rows_.push_back(row);
    }
}

QSize TaskChart::sizeHint() const {
    return {200, axisHeight + static_cast<int>(rows_.size()) * rowHeight + 3 * lineHeight + 8};
}

void TaskChart::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    const Colours& p = colours();
    painter.setFont(textFont(TextSize::small));
    painter.setPen(p.bark);
    if (rows_.empty()) {
        painter.drawText(rect(), Qt::AlignLeft | Qt::AlignTop | Qt::TextWordWrap,
                         "No part of the sheet names a task yet, or the sheet cannot run as it is.");
        return;
    }
    double longest = 0, shortest = 1e30, latest = 0;
    for (const Row& row : rows_) {
        longest = std::max(longest, row.period);
        shortest = std::min(shortest, row.period);
        latest = std::max(latest, row.offset);
    }
    const double span = std::min(latest + 2.2 * longest, latest + 30 * shortest);
    const double left = nameWidth, right = width() - 8;
    const auto x = [&](double t) { return left + (right - left) * t / span; };
    painter.drawText(QRectF(left, 0, right - left, axisHeight), Qt::AlignLeft | Qt::AlignVCenter, "0");
    painter.drawText(QRectF(left, 0, right - left, axisHeight), Qt::AlignRight | Qt::AlignVCenter,
                     QString::fromStdString(formatQuantity(span, "s", 3)));
    double top = axisHeight;
    for (const Row& row : rows_) {
        const bool own = row.name == task_;
        painter.setPen(own ? p.ink : p.bark);
        painter.drawText(QRectF(0, top, nameWidth - 4, rowHeight), Qt::AlignLeft | Qt::AlignVCenter, row.name);
        painter.setPen(QPen(p.rule, 1));
        painter.drawLine(QPointF(left, top + rowHeight - 5), QPointF(right, top + rowHeight - 5));
        for (int k = 0; k < mostSamples; ++k) {
            const double t = row.offset + k * row.period;
            if (t > span) break;
            const QRectF wait(x(t), top + 8, std::min(x(t + row.delay), right) - x(t), rowHeight - 13);
            if (row.delay > 0) painter.fillRect(wait, own ? p.leafTint : p.linen);
            painter.setPen(QPen(own ? p.leaf : p.bark, 2));
            painter.drawLine(QPointF(x(t), top + 4), QPointF(x(t), top + rowHeight - 5));
        }
        top += rowHeight;
    }
    painter.setPen(p.ink);
    for (const Row& row : rows_) {
        if (row.name != task_) continue;
        const QString order = row.parts.isEmpty() ? QString("no part names it") : row.parts.join(" → ");
        painter.drawText(QRectF(0, top + 6, width() - 8, 3 * lineHeight),
                         Qt::AlignLeft | Qt::AlignTop | Qt::TextWordWrap,
                         QString("every %1, outputs %2 later\n%3")
                             .arg(QString::fromStdString(formatQuantity(row.period, "s", 4)),
                                  QString::fromStdString(formatQuantity(row.delay, "s", 3)), order));
    }
}

}  // namespace hedgerow::app
