#include "card/stress.h"

#include <algorithm>
#include <cmath>

#include <QPainter>

#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr int rowHeight = 20, headingHeight = 22;
constexpr double nearLimit = 0.8;
}  // namespace

Stress::Stress(Workspace& workspace, std::string part, QWidget* parent)
    : QWidget(parent), workspace_(workspace), part_(std::move(part)) {
    setObjectName("stress");
    refresh();
}

void Stress::refresh() {
    rows_.clear();
    const auto& shown = workspace_.shownRun();
    if (shown) {
        heading_ = QString("In run %1").arg(shown->number);
        const auto measured = [&](const char* quantity) -> std::optional<Measures> {
            Trace* trace = workspace_.trace(part_ + quantity);
            return trace && trace->size() > 1 ? trace->measure(trace->time(0), trace->time(trace->size() - 1))
                                              : std::nullopt;
        };
        const auto rated = [&](const std::string& quantity) {
            for (const RatingInfo& rating : shown->run->ratings())
                if (rating.part == part_ && rating.quantity == part_ + quantity) return rating.limit;
            return 0.0;
        };
        const auto peak = [&](const char* quantity, const char* label, const char* unit) {
            const auto m = measured(quantity);
            if (!m) return;
            const double largest = std::max(std::abs(m->min), std::abs(m->max)), limit = rated(quantity);
            QString text = QString::fromStdString(formatQuantity(largest, unit, 3));
            if (limit > 0) text += " of " + QString::fromStdString(formatQuantity(limit, unit, 3));
            rows_.push_back({label, text, limit > 0 ? largest / limit : -1.0});
        };
        peak(".v", "v peak", "V");
        peak(".i", "i peak", "A");
        if (const auto m = measured(".i"))
            rows_.push_back({"i rms", QString::fromStdString(formatQuantity(m->rms, "A", 3)), -1});
        if (const auto m = measured(".p"))
            rows_.push_back({"p mean", QString::fromStdString(formatQuantity(m->mean, "W", 3)), -1});
    }
    QStringList said{heading_};
    for (const Row& row : rows_) said << QString("%1 %2").arg(row.label, row.text);
    setAccessibleDescription(said.join(", "));
    setFixedHeight(rows_.empty() ? 0 : headingHeight + static_cast<int>(rows_.size()) * rowHeight);
    update();
}

void Stress::paintEvent(QPaintEvent*) {
    const Colours& p = colours();
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setFont(textFont(TextSize::normal, true));
    painter.setPen(p.bark);
    painter.drawText(QRect(0, 0, width(), headingHeight), Qt::AlignLeft | Qt::AlignVCenter, heading_);
    int y = headingHeight;
    for (const Row& row : rows_) {
        painter.setFont(textFont());
        painter.setPen(p.ink);
        painter.drawText(QRect(0, y, 60, rowHeight), Qt::AlignLeft | Qt::AlignVCenter, row.label);
        painter.drawText(QRect(60, y, width() - 60, rowHeight), Qt::AlignRight | Qt::AlignVCenter, row.text);
        if (row.part >= 0) {
            const QRectF bar(56, y + rowHeight / 2.0 - 4, width() - 56 - 116, 8);
            painter.setPen(QPen(p.rule, 1));
            painter.setBrush(p.paper);
            painter.drawRoundedRect(bar, 4, 4);
            painter.setPen(Qt::NoPen);
            painter.setBrush(row.part > nearLimit ? p.haw : p.leaf);
            painter.drawRoundedRect(
                QRectF(bar.topLeft(), QSizeF(std::clamp(row.part, 0.03, 1.0) * bar.width(), bar.height())), 4, 4);
        }
        y += rowHeight;
    }
}

}  // namespace hedgerow::app
