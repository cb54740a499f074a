#include "card/time_list.h"

#include <algorithm>

#include <QPainter>

#include "analysis/time_spent.h"
#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

constexpr int rowHeight = 20;
QString words(const std::string& text) { return QString::fromStdString(text); }

}  // namespace

bool TimeList::of(const Workspace& workspace) {
    const RunPointer& shown = workspace.shownRun();
    return shown && !shown->running() && shown->run && shown->measuredFrom.isEmpty() &&
           shown->run->summary().second("total") > 0;
}

TimeList::TimeList(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    setObjectName("timeList");
    setAccessibleName("where the time went");
    connect(&workspace, &Workspace::runsChanged, this, &TimeList::fill);
    fill();
}

void TimeList::fill() {
    rows_.clear();
    if (of(workspace_)) {
        const TimeSpent spent = timeSpent(*workspace_.shownRun()->run);
        const RunSummary& summary = workspace_.shownRun()->run->summary();
        if (spent.spans.empty() && summary.priced > 0)
            rows_.push_back({"computing", words(formatQuantity(spent.seconds, "s", 2)) + " · price " +
                                              words(formatQuantity(summary.priced, "s", 2)), 1});
        for (std::size_t i = 0; i < spent.spans.size(); ++i) {
            const TimeRow& row = spent.spans[i];
            QString right = words(formatQuantity(row.seconds, "s", 2));
            if (i < summary.spans.size() && summary.spans[i].priced > 0)
                right += " · price " + words(formatQuantity(summary.spans[i].priced, "s", 2));
            rows_.push_back({words(row.what), right, row.share});
        }
        for (std::size_t i = 0; i < spent.kinds.size() && i < 3 && spent.spans.empty(); ++i)
            if (spent.kinds[i].share > 0.01)
                rows_.push_back({words(spent.kinds[i].what), words(formatQuantity(spent.kinds[i].seconds, "s", 2)),
                                 spent.kinds[i].share});
        for (std::size_t i = 0; i < spent.parts.size() && i < 4; ++i)
            if (spent.parts[i].share > 0.02)
                rows_.push_back({words(spent.parts[i].what),
                                 QString("%1 % of the %2")
                                     .arg(100 * spent.parts[i].share, 0, 'f', 0)
                                     .arg(spent.bySteps ? "steps" : "events"),
                                 spent.parts[i].share});
        if (!spent.first.empty()) rows_.push_back({"First: " + words(spent.first), {}, -1});
    }
    resizeEvent(nullptr);
    update();
}

void TimeList::resizeEvent(QResizeEvent*) {
    wordsHeight_ = 0;
    int height = 4;
    for (const Row& row : rows_) {
        if (row.share >= 0) {
            height += rowHeight;
            continue;
        }
        const QFontMetrics metrics(textFont());
        wordsHeight_ = metrics.boundingRect(QRect(0, 0, std::max(80, width()), 10'000), Qt::TextWordWrap, row.left).height();
        height += wordsHeight_ + 6;
    }
    if (minimumHeight() != height) setFixedHeight(height);
}

void TimeList::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    const Colours& p = colours();
    int y = 0;
    for (const Row& row : rows_) {
        if (row.share < 0) {
            painter.setFont(textFont());
            painter.setPen(p.ink);
            painter.drawText(QRect(0, y + 4, width(), wordsHeight_ + 2), Qt::TextWordWrap, row.left);
            y += wordsHeight_ + 6;
            continue;
        }
        // The bar lies behind the words.
        painter.setPen(Qt::NoPen);
        painter.setBrush(p.leafTint);
        painter.drawRoundedRect(QRectF(0, y + 1, std::clamp(row.share, 0.0, 1.0) * width(), rowHeight - 3), 3, 3);
        painter.setFont(textFont(TextSize::small));
        const QFontMetrics metrics(painter.font());
        const int right = metrics.horizontalAdvance(row.right) + 6;
        painter.setPen(p.ink);
        painter.drawText(QRect(4, y, width() - right - 10, rowHeight - 1), Qt::AlignLeft | Qt::AlignVCenter,
                         metrics.elidedText(row.left, Qt::ElideRight, width() - right - 10));
        painter.setPen(p.bark);
        painter.drawText(QRect(width() - right, y, right - 2, rowHeight - 1), Qt::AlignRight | Qt::AlignVCenter, row.right);
        y += rowHeight;
    }
}

}  // namespace hedgerow::app
