#include "timeline/lane_view.h"

#include <algorithm>
#include <cmath>

#include <QPainter>

#include "model/quantity.h"
#include "style/theme.h"
#include "timeline/columns.h"
#include "timeline/notation.h"

namespace hedgerow::app {

QString EngineeringTicker::getTickLabel(double tick, const QLocale&, QChar, int) {
    return QString::fromStdString(formatPrefixed(std::abs(tick) < 1e-9 * largest_ ? 0.0 : tick, 6));
}

QString DecadeTicker::getTickLabel(double tick, const QLocale&, QChar, int) {
    return QString::fromStdString(formatPrefixed(tick, 3));
}

double typedOr(const std::string& text, double otherwise) {
    const auto value = text.empty() ? Result<Quantity>(Quantity{otherwise, {}}) : evaluate(text);
    return value ? value->value : otherwise;
}

std::unique_ptr<LaneView> LaneView::make(const LaneSource& source, const Lane& lane) {
    if (lane.kind == LaneKind::spectrum) return makeSpectrumLane(source, lane);
    if (lane.kind == LaneKind::xy && lane.quantities.size() > 1) return makeXyLane(source, lane);
    return makeTimeLane(source, lane);
}

LaneView::LaneView(const LaneSource& source, const Lane& lane)
    : source_(source),
      lane_(lane),
      unit_(lane.quantities.empty() ? "" : source.workspace.unitOf(lane.quantities.back())),
      area_(new QCPAxisRect(&source.plot, true)) {
    const Colours& p = colours();
    area_->setAutoMargins(QCP::msNone);
    area_->setMargins(QMargins(TimelineColumns::axis, 6, 0, 6));
    area_->setBackground(p.chalk);
    if (lane.folded) area_->setMaximumSize(QWIDGETSIZE_MAX, foldedLane);
    area_->axis(QCPAxis::atTop)->setVisible(false);
    area_->axis(QCPAxis::atRight)->setVisible(false);
    x().setTickLabels(false);
    x().setTicks(true);
    x().setTickLength(0);
    x().setSubTicks(false);
    x().setBasePen(Qt::NoPen);
    x().setTickPen(Qt::NoPen);
    x().grid()->setPen(QPen(p.rule, 1));
    x().grid()->setZeroLinePen(QPen(p.rule, 1));
    y().setTicker(QSharedPointer<EngineeringTicker>::create());
    y().ticker()->setTickCount(3);
    y().setTickLabelFont(textFont(TextSize::small));
    y().setTickLabelColor(p.bark);
    y().setBasePen(Qt::NoPen);
    y().setTickPen(QPen(p.rule, 1));
    y().setTickLength(0);
    y().setSubTicks(false);
    y().setTickLabelPadding(6);
    y().grid()->setPen(Qt::NoPen);
    y().grid()->setZeroLinePen(QPen(p.rule, 1, Qt::DotLine));
}

void LaneView::showOwnAxis() {
    area_->setMargins(QMargins(TimelineColumns::axis, 6, 0, 22));
    x().setTickLabels(!lane_.folded);
    x().setTickLabelFont(textFont(TextSize::small));
    x().setTickLabelColor(colours().bark);
    x().setTickLabelPadding(3);
}

QColor LaneView::colourOf(std::size_t row) const { return colours().traces[row % colours().traces.size()]; }

QPen LaneView::penOf(std::size_t row) const {
    QPen pen(colourOf(row), 1.4);
    pen.setJoinStyle(Qt::RoundJoin);
    return pen;
}

QPen LaneView::penBeside(std::size_t row, std::size_t run) const {
    QPen pen(colourOf(row + 4 + run), 1.3, Qt::CustomDashLine);
    pen.setDashPattern({4, 3});
    return pen;
}

QRect LaneView::readingBox(int width, int y) const {
    return {width - TimelineColumns::measures, y, TimelineColumns::measures - 8, rowHeight};
}

void LaneView::setValues(double low, double high) {
    const bool empty = !(low <= high);
    y().setTickLabels(!empty && !lane_.folded);
    if (empty) low = 0, high = 1;
    const double size = std::max(std::abs(low), std::abs(high));
    const double pad = std::max({0.08 * (high - low), 1e-9 * size, size == 0 ? 1.0 : 0.0});
    low = typedOr(lane_.low, low - pad);
    high = typedOr(lane_.high, high + pad);
    if (y().scaleType() == QCPAxis::stLogarithmic) {
        high = high > 0 ? high : 1.0;
        y().setRange(std::max(low, 1e-9 * high), high);
        return;
    }
    y().setRange(low, high > low ? high : low + 1);
    if (auto* ticker = dynamic_cast<EngineeringTicker*>(y().ticker().data()))
        ticker->setLargest(std::max(std::abs(low), std::abs(high)));
}

int LaneView::rowTop(std::size_t row) const {
    return box().top() + (lane_.folded ? 5 : 10) + static_cast<int>(row) * rowHeight;
}

void LaneView::paint(QPainter& painter, int width) const {
    const Colours& p = colours();
    const auto& quantities = lane_.quantities;
    for (std::size_t row = 0; row < quantities.size(); ++row) {
        const std::string& quantity = quantities[row];
        const int y = rowTop(row);
        if (y + rowHeight > box().bottom() + 4) break;
        if (quantity == source_.workspace.chosenTrace()) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(p.leafTint);
            painter.drawRoundedRect(QRect(8, y - 3, TimelineColumns::names - 4, rowHeight + 2), 4, 4);
        }
        drawNotation(painter, QRectF(16, y - 3, TimelineColumns::names + 10 - 16, rowHeight), notationOf(quantity),
                     quantities.size() == 1 ? p.ink : colourOf(row), logic() ? 13 : 15);
        if (row + 1 == quantities.size() && !unit_.empty() && y + 2 * rowHeight < box().bottom()) {
            painter.setFont(textFont(TextSize::small));
            painter.setPen(p.bark);
            painter.drawText(QRect(16, y + rowHeight - 2, 50, 14), Qt::AlignLeft | Qt::AlignVCenter,
                             QString::fromStdString(unit_));
        }
        painter.setFont(textFont());
        painter.setPen(colourOf(row));
        if (source_.workspace.trace(quantity)) {
            paintReading(painter, row, width, y);
        } else if (source_.workspace.shownRun()) {
            painter.setFont(textFont(TextSize::small));
            painter.setPen(p.bark);
            painter.drawText(readingBox(width, y), Qt::AlignRight | Qt::AlignVCenter, "not in this run");
        }
    }
    if (const QString text = notice(); !text.isEmpty()) {
        painter.setFont(textFont(TextSize::small));
        painter.setPen(p.bark);
        painter.drawText(readingBox(width, box().top() + 6), Qt::AlignRight | Qt::AlignTop | Qt::TextWordWrap, text);
    }
}

}  // namespace hedgerow::app
