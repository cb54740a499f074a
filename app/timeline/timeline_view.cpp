#include "timeline/timeline_view.h"

#include <algorithm>
#include <cmath>

#include <QPainter>
#include <QPushButton>
#include <QScrollArea>
#include <QScrollBar>

#include "model/quantity.h"
#include "style/theme.h"
#include "timeline/events_row.h"
#include "timeline/response_view.h"
#include "timeline/spans_row.h"

namespace hedgerow::app {

namespace {

constexpr int rulerHeight = 28;

}  // namespace

double roundStep(double length, int count) {
    const double raw = length / count, power = std::pow(10.0, std::floor(std::log10(raw)));
    for (const double factor : {1.0, 2.0, 5.0})
        if (factor * power >= raw) return factor * power;
    return 10 * power;
}

/// The line of the time cursor, over header and lanes; lets every event through.
class TimelineView::CursorLine : public QWidget {
public:
    CursorLine(TimelineView& view) : QWidget(&view), view_(view) {
        setAttribute(Qt::WA_TransparentForMouseEvents);
        setAttribute(Qt::WA_NoSystemBackground);
    }

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        const Colours& p = colours();
        const int headerHeight = view_.headerHeight();
        painter.setPen(QPen(p.rule, 1));
        for (const int top : view_.lanes_->laneTops()) {
            const int y = view_.lanes_->mapTo(&view_, QPoint(0, top)).y();
            if (y >= headerHeight) painter.drawLine(0, y, width(), y);
        }
        const auto cursor = view_.workspace_.cursor(), mark = view_.workspace_.mark();
        const auto shown = [](double value, const char* unit, int digits) {
            return QString::fromStdString(formatQuantity(value, unit, digits));
        };
        painter.setRenderHint(QPainter::Antialiasing);
        if (mark) drawLine(painter, toSeconds(*mark), shown(toSeconds(*mark), "s", 7), Qt::DashLine, p.gorse);
        if (!cursor) return;
        QString text = shown(toSeconds(*cursor), "s", 7);
        if (mark && *mark != *cursor) {
            const double apart = toSeconds(*cursor - *mark);
            text += QString("   Δ %1, %2").arg(shown(apart, "s", 5), shown(1 / std::abs(apart), "Hz", 5));
        }
        drawLine(painter, toSeconds(*cursor), text, Qt::SolidLine, p.sloe);
    }

private:
    void drawLine(QPainter& painter, double time, const QString& text, Qt::PenStyle style, const QColor& colour) const {
        const double x = view_.lanes_->pixelOf(time);
        const int headerHeight = view_.headerHeight();
        const int left = TimelineColumns::names + TimelineColumns::axis, right = width() - TimelineColumns::measures;
        if (x < left - 1 || x > right + 1) return;
        painter.setPen(QPen(colour, 1.2, style));
        painter.drawLine(QPointF(x, rulerHeight), QPointF(x, headerHeight));
        // Over the lanes whose axis is the time; those between are passed by.
        for (const auto& [top, bottom] : view_.lanes_->timeBands()) {
            const double from = view_.lanes_->mapTo(&view_, QPoint(0, top)).y(),
                         to = view_.lanes_->mapTo(&view_, QPoint(0, bottom)).y();
            if (to > headerHeight)
                painter.drawLine(QPointF(x, std::max<double>(from, headerHeight)),
                                 QPointF(x, std::min<double>(to, height() - 20)));
        }
        painter.setFont(textFont(TextSize::small));
        const double width = painter.fontMetrics().horizontalAdvance(text) + 18;
        const QRectF pill(std::clamp(x - width / 2, double(left), right - width), height() - 21, width, 18);
        painter.setPen(Qt::NoPen);
        painter.setBrush(colour);
        painter.drawRoundedRect(pill, 9, 9);
        painter.setPen(colours().paper);
        painter.drawText(pill, Qt::AlignCenter, text);
    }
    TimelineView& view_;
};

TimelineView::TimelineView(Workspace& workspace, QWidget* parent)
    : QWidget(parent), workspace_(workspace), scroll_(new QScrollArea(this)) {
    setMinimumHeight(rulerHeight + SpansRow::rowHeight + EventsRow::rowHeight + 100);
    lanes_ = new LanesView(workspace, scroll_);
    scroll_->setWidget(lanes_);
    scroll_->setWidgetResizable(true);
    scroll_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    scroll_->setFrameShape(QFrame::NoFrame);
    spans_ = new SpansRow(workspace, *lanes_, this);
    events_ = new EventsRow(workspace, *lanes_, this);
    cursor_ = new CursorLine(*this);
    response_ = new ResponseView(workspace, this);
    response_->hide();
    toResponse_ = new QPushButton("response", this);
    toResponse_->setObjectName("toResponse");
    toResponse_->setToolTip("Gain and phase over frequency, about the periodic state (Ctrl+Shift+F)");
    toResponse_->setStyleSheet("padding: 0 6px; border-radius: 9px; font-size: 11px; min-width: 0;");
    connect(toResponse_, &QPushButton::clicked, this, [this] { showResponse(true); });
    connect(response_, &ResponseView::left, this, [this] { showResponse(false); });
    connect(lanes_, &LanesView::windowChanged, this, [this] { update(), cursor_->update(), events_->update(), spans_->update(); });
    connect(&workspace, &Workspace::projectChanged, this, &TimelineView::arrange);
    connect(&workspace, &Workspace::checksChanged, this, &TimelineView::arrange);
    connect(&workspace, &Workspace::cursorChanged, cursor_, [this] { cursor_->update(); });
    connect(&workspace, &Workspace::measuredChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::projectChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::runsChanged, this, [this] { update(), spans_->update(); });
    connect(&workspace, &Workspace::runProgressed, spans_, qOverload<>(&QWidget::update));
}

int TimelineView::headerHeight() const {
    return rulerHeight + SpansRow::rowHeight + (events_->isHidden() ? 0 : EventsRow::rowHeight);
}

/// The row of events takes room only when there is something on it.
void TimelineView::arrange() {
    spans_->setGeometry(0, rulerHeight, width(), SpansRow::rowHeight);
    spans_->update();
    events_->setVisible(events_->wanted());
    events_->setGeometry(0, rulerHeight + SpansRow::rowHeight, width(), EventsRow::rowHeight);
    const int header = headerHeight();
    scroll_->setGeometry(0, header, width(), height() - header);
    cursor_->setGeometry(rect());
    cursor_->raise();
    toResponse_->setGeometry(62, rulerHeight + 2, 66, 20);
    response_->setGeometry(rect());
    response_->raise();
    events_->update();
}

void TimelineView::showResponse(bool shown) {
    response_->setVisible(shown);
    if (!shown) return lanes_->setFocus();
    response_->open();
    response_->raise();
    response_->setFocus();
}

bool TimelineView::showsResponse() const { return !response_->isHidden(); }

void TimelineView::resizeEvent(QResizeEvent*) { arrange(); }

void TimelineView::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.fillRect(rect(), colours().chalk);
    paintRuler(painter);
}

void TimelineView::paintRuler(QPainter& painter) const {
    const Colours& p = colours();
    const double from = lanes_->from(), to = lanes_->to(), step = roundStep(to - from, rulerTicks);
    // One prefix for all ticks, and digits enough to tell neighbours apart.
    const double largest = std::max({std::abs(from), std::abs(to), step});
    const int group = static_cast<int>(std::floor(std::log10(largest) / 3 + 1e-9));
    const double unit = std::pow(10.0, 3 * group);
    const int decimals = std::clamp(static_cast<int>(std::ceil(-std::log10(step / unit) - 1e-9)), 0, 12);
    const QString prefixed = QString::fromStdString(formatParts(unit, "s").unit);
    painter.setFont(textFont(TextSize::small));
    painter.setPen(p.bark);
    painter.drawText(QRect(16, 0, 120, rulerHeight), Qt::AlignLeft | Qt::AlignVCenter,
                     QString::fromStdString(formatQuantity(to - from, "s", 3)) + " shown");
    if (const std::string over = workspace_.measuredOver(); !over.empty())
        painter.drawText(
            QRect(width() - TimelineColumns::measures, rulerHeight, TimelineColumns::measures - 8, 22),
            Qt::AlignRight | Qt::AlignVCenter,
            painter.fontMetrics().elidedText("measured " + QString::fromStdString(over), Qt::ElideRight,
                                             TimelineColumns::measures - 8));
    const int right = width() - TimelineColumns::measures;
    for (double tick = std::ceil(from / step - 1e-9) * step; tick <= to + 1e-9 * step; tick += step) {
        const double x = lanes_->pixelOf(tick);
        if (x > right - 20) break;
        if (x < TimelineColumns::names + TimelineColumns::axis - 1) continue;
        painter.drawText(QRectF(x - 50, 0, 100, rulerHeight), Qt::AlignCenter,
                         QString::number(std::abs(tick) < step * 1e-6 ? 0.0 : tick / unit, 'f', decimals));
    }
    painter.drawText(QRect(right - 20, 0, 30, rulerHeight), Qt::AlignLeft | Qt::AlignVCenter, prefixed);
    static const char* const columns[] = {"min", "mean", "max", "pp", "rms"};
    for (int i = 0; i < 5; ++i)
        painter.drawText(QRect(width() - TimelineColumns::measures + i * TimelineColumns::measure, 0,
                               TimelineColumns::measure - 4, rulerHeight),
                         Qt::AlignRight | Qt::AlignVCenter, columns[i]);
}

}  // namespace hedgerow::app
