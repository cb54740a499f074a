#include <algorithm>
#include <cmath>

#include <QKeyEvent>
#include <QMenu>
#include <QMimeData>
#include <QPainter>
#include <QScrollArea>

#include "model/edits.h"
#include "model/quantity.h"
#include "style/theme.h"
#include "timeline/notation.h"
#include "timeline/timeline_view.h"
#include "timeline/trace_plottable.h"

namespace hedgerow::app {

namespace {

constexpr int leastLane = 64, rowHeight = 18;
constexpr double shortestWindow = 1e-12;
constexpr char quantityMime[] = "application/x-hedgerow-quantity";

/// Numbers of a value axis with the prefix of the largest of them.
class EngineeringTicker : public QCPAxisTicker {
public:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override {
        return QString::fromStdString(formatPrefixed(std::abs(tick) < 1e-9 * largest_ ? 0.0 : tick, 6));
    }
    void setLargest(double value) { largest_ = value; }

private:
    double largest_ = 1.0;
};

}  // namespace

LanesView::LanesView(Workspace& workspace, QWidget* parent)
    : QWidget(parent), workspace_(workspace), plot_(new QCustomPlot(this)) {
    setObjectName("lanes");
    setAccessibleName("timeline");
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAcceptDrops(true);
    plot_->setAttribute(Qt::WA_TransparentForMouseEvents);
    plot_->setNoAntialiasingOnDrag(false);
    plot_->plotLayout()->clear();
    plot_->plotLayout()->setRowSpacing(0);
    connect(&workspace, &Workspace::projectChanged, this, &LanesView::rebuild);
    connect(&workspace, &Workspace::runsChanged, this, [this] {
        rebuild();
        if (fitted_) fit();
        refresh();
    });
    connect(&workspace, &Workspace::fileChanged, this, [this] {
        fitted_ = true;
        fit();
    });
    connect(&workspace, &Workspace::runProgressed, this, &LanesView::refresh);
    connect(&workspace, &Workspace::cursorChanged, this, [this] {
        if (!workspace_.cursor()) pinned_ = false;
    });
    rebuild();
}

std::string LanesView::unitOf(const std::string& quantity) const {
    if (const auto unit = workspace_.runList().unitOf(quantity)) return *unit;
    const std::string letter = quantity.substr(quantity.rfind('.') + 1);
    return letter == "v" ? "V" : letter == "i" ? "A" : letter == "p" ? "W" : "";
}

void LanesView::rebuild() {
    const RunEntry* run = workspace_.shownRun().get();
    if (builtFrom_ == workspace_.project().lanes && builtFor_ == run && !lanes_.empty()) return;
    builtFrom_ = workspace_.project().lanes;
    builtFor_ = run;
    const Colours& p = colours();
    plot_->clearPlottables();
    plot_->plotLayout()->clear();
    plot_->setBackground(p.chalk);
    lanes_.clear();
    for (const Lane& lane : builtFrom_) {
        LaneView view;
        view.quantities = lane.quantities;
        view.unit = lane.quantities.empty() ? "" : unitOf(lane.quantities.front());
        view.area = new QCPAxisRect(plot_, true);
        view.area->setAutoMargins(QCP::msNone);
        view.area->setMargins(QMargins(TimelineColumns::axis, 6, 0, 6));
        view.area->setBackground(p.chalk);
        plot_->plotLayout()->addElement(static_cast<int>(lanes_.size()), 0, view.area);
        plot_->plotLayout()->setRowStretchFactor(static_cast<int>(lanes_.size()), lane.height);
        QCPAxis* x = view.area->axis(QCPAxis::atBottom);
        QCPAxis* y = view.area->axis(QCPAxis::atLeft);
        view.area->axis(QCPAxis::atTop)->setVisible(false);
        view.area->axis(QCPAxis::atRight)->setVisible(false);
        x->setTicker(QSharedPointer<QCPAxisTickerFixed>::create());
        x->setTickLabels(false);
        x->setTicks(true);
        x->setTickLength(0);
        x->setSubTicks(false);
        x->setBasePen(Qt::NoPen);
        x->setTickPen(Qt::NoPen);
        x->grid()->setPen(QPen(p.rule, 1));
        x->grid()->setZeroLinePen(QPen(p.rule, 1));
        y->setTicker(QSharedPointer<EngineeringTicker>::create());
        y->ticker()->setTickCount(3);
        y->setTickLabelFont(textFont(TextSize::small));
        y->setTickLabelColor(p.bark);
        y->setBasePen(Qt::NoPen);
        y->setTickPen(QPen(p.rule, 1));
        y->setTickLength(0);
        y->setSubTicks(false);
        y->setTickLabelPadding(6);
        y->grid()->setPen(Qt::NoPen);
        y->grid()->setZeroLinePen(QPen(p.rule, 1, Qt::DotLine));
        std::size_t colour = 0;
        for (const std::string& quantity : view.quantities) {
            auto* graph =
                new TracePlottable(x, y, [this, quantity]() -> const Trace* { return workspace_.trace(quantity); });
            QPen pen(p.traces[colour++ % p.traces.size()], 1.4);
            pen.setJoinStyle(Qt::RoundJoin);
            graph->setPen(pen);
        }
        lanes_.push_back(std::move(view));
    }
    setMinimumHeight(std::max(1, static_cast<int>(lanes_.size())) * leastLane);
    refresh();
}

void LanesView::changeEvent(QEvent* event) {
    // Another theme: pens and backgrounds are set when lanes are built.
    if (event->type() == QEvent::PaletteChange && !lanes_.empty()) {
        lanes_.clear();
        rebuild();
    }
    QWidget::changeEvent(event);
}

double LanesView::runEnd() const {
    if (workspace_.shownRun()) return toSeconds(workspace_.shownRun()->run->end());
    const auto end = evaluateField(workspace_.plan().end, *findUnit("s"), workspace_.parameters().lookup());
    return end && *end > 0 ? *end : 1e-3;
}

void LanesView::fit() {
    setWindow(0, runEnd());
    fitted_ = true;
}

void LanesView::setWindow(double from, double to) {
    const double end = runEnd(), slack = 0.02 * end;
    double length = std::clamp(to - from, shortestWindow, end + 2 * slack);
    from_ = std::clamp(from, -slack, std::max(-slack, end + slack - length));
    to_ = from_ + length;
    fitted_ = false;
    refresh();
    emit windowChanged();
}

void LanesView::zoom(double factor, double at) { setWindow(at - (at - from_) / factor, at + (to_ - at) / factor); }

void LanesView::scaleLane(LaneView& lane) {
    double low = INFINITY, high = -INFINITY;
    for (const std::string& quantity : lane.quantities) {
        const Trace* trace = workspace_.trace(quantity);
        if (!trace) continue;
        if (trace->logic()) {
            low = std::min(low, 0.0), high = std::max(high, 1.0);
            continue;
        }
        if (const auto m = trace->measure(toTicks(std::max(0.0, from_)), toTicks(std::min(to_, longestRunSeconds)))) {
            low = std::min(low, m->min);
            high = std::max(high, m->max);
        }
    }
    const bool empty = !(low <= high);
    lane.area->axis(QCPAxis::atLeft)->setTickLabels(!empty);
    if (empty) low = 0, high = 1;
    const double size = std::max(std::abs(low), std::abs(high));
    const double pad = std::max({0.08 * (high - low), 1e-9 * size, size == 0 ? 1.0 : 0.0});
    lane.area->axis(QCPAxis::atLeft)->setRange(low - pad, high + pad);
    static_cast<EngineeringTicker*>(lane.area->axis(QCPAxis::atLeft)->ticker().data())->setLargest(size + pad);
    lane.area->axis(QCPAxis::atBottom)->setRange(from_, to_);
    static_cast<QCPAxisTickerFixed*>(lane.area->axis(QCPAxis::atBottom)->ticker().data())
        ->setTickStep(roundStep(to_ - from_, rulerTicks));
}

void LanesView::refresh() {
    for (LaneView& lane : lanes_) scaleLane(lane);
    plot_->replot(QCustomPlot::rpQueuedReplot);
    update();
}

void LanesView::resizeEvent(QResizeEvent*) {
    plot_->setGeometry(TimelineColumns::names, 0, width() - TimelineColumns::names - TimelineColumns::measures,
                       height());
    emit windowChanged();
}

double LanesView::timeAt(double x) const {
    const double left = TimelineColumns::names + TimelineColumns::axis, right = width() - TimelineColumns::measures;
    return from_ + (x - left) / std::max(1.0, right - left) * (to_ - from_);
}

double LanesView::pixelOf(double time) const {
    const double left = TimelineColumns::names + TimelineColumns::axis, right = width() - TimelineColumns::measures;
    return left + (time - from_) / (to_ - from_) * (right - left);
}

int LanesView::laneAt(int y) const {
    for (std::size_t i = 0; i < lanes_.size(); ++i)
        if (y >= lanes_[i].area->outerRect().top() && y <= lanes_[i].area->outerRect().bottom())
            return static_cast<int>(i);
    return -1;
}

std::vector<int> LanesView::laneTops() const {
    std::vector<int> tops;
    for (const LaneView& lane : lanes_) tops.push_back(lane.area->outerRect().top());
    return tops;
}

// ---- names and measures

void LanesView::paintEvent(QPaintEvent*) {
    const Colours& p = colours();
    QPainter painter(this);
    painter.fillRect(rect(), p.chalk);
    for (const LaneView& lane : lanes_) paintLane(painter, lane);
    if (lanes_.empty()) {
        painter.setPen(p.bark);
        painter.setFont(textFont());
        painter.drawText(rect(), Qt::AlignCenter, "Drag a quantity here, or press Enter on it in the shelf");
    }
}

void LanesView::paintLane(QPainter& painter, const LaneView& lane) const {
    const Colours& p = colours();
    const QRect area = lane.area->outerRect();
    std::size_t row = 0;
    for (const std::string& quantity : lane.quantities) {
        const QColor colour = p.traces[row % p.traces.size()];
        const int y = area.top() + 10 + static_cast<int>(row) * rowHeight;
        if (y + rowHeight > area.bottom()) break;
        Trace* trace = workspace_.trace(quantity);
        const bool single = lane.quantities.size() == 1;
        drawNotation(painter, QRectF(16, y - 3, TimelineColumns::names + 10 - 16, rowHeight), notationOf(quantity),
                     single ? p.ink : colour);
        if (row + 1 == lane.quantities.size() && !lane.unit.empty() && y + 2 * rowHeight < area.bottom()) {
            painter.setFont(textFont(TextSize::small));
            painter.setPen(p.bark);
            painter.drawText(QRect(16, y + rowHeight - 2, 50, 14), Qt::AlignLeft | Qt::AlignVCenter,
                             QString::fromStdString(lane.unit));
        }
        ++row;
        const auto measures =
            trace ? trace->measure(toTicks(std::max(0.0, from_)), toTicks(std::clamp(to_, 0.0, longestRunSeconds)))
                  : std::nullopt;
        if (!trace && workspace_.shownRun()) {
            painter.setFont(textFont(TextSize::small));
            painter.setPen(p.bark);
            painter.drawText(QRect(width() - TimelineColumns::measures, y, TimelineColumns::measures - 8, rowHeight),
                             Qt::AlignRight | Qt::AlignVCenter, "not in this run");
        }
        if (!measures) continue;
        const double values[] = {measures->min, measures->mean, measures->max, measures->peakToPeak(), measures->rms};
        painter.setFont(textFont());
        painter.setPen(single ? p.traces[0] : colour);
        for (int column = 0; column < 5; ++column) {
            const QRect cell(width() - TimelineColumns::measures + column * TimelineColumns::measure, y,
                             TimelineColumns::measure - 4, rowHeight);
            painter.drawText(cell, Qt::AlignRight | Qt::AlignVCenter,
                             QString::fromStdString(formatPrefixed(values[column], 4)));
        }
    }
}

// ---- mouse and keys

void LanesView::wheelEvent(QWheelEvent* event) {
    if (event->modifiers() & Qt::ControlModifier) return QWidget::wheelEvent(event);  // scrolls the lanes
    zoom(std::pow(1.25, event->angleDelta().y() / 120.0), timeAt(event->position().x()));
    event->accept();
}

void LanesView::mousePressEvent(QMouseEvent* event) {
    setFocus();
    if (event->button() != Qt::LeftButton) return;
    pressed_ = event->position();
    pressedFrom_ = from_;
    pressedTo_ = to_;
    maybeClick_ = true;
}

void LanesView::mouseMoveEvent(QMouseEvent* event) {
    if (maybeClick_ && (event->position() - pressed_).manhattanLength() > 4) maybeClick_ = false, panning_ = true;
    if (panning_) {
        const double pixels =
            std::max(1, width() - TimelineColumns::names - TimelineColumns::axis - TimelineColumns::measures);
        const double by = (pressed_.x() - event->position().x()) / pixels * (pressedTo_ - pressedFrom_);
        setCursor(Qt::ClosedHandCursor);
        setWindow(pressedFrom_ + by, pressedTo_ + by);
        return;
    }
    const double x = event->position().x();
    const bool over = x >= TimelineColumns::names + TimelineColumns::axis && x <= width() - TimelineColumns::measures;
    if (over && !pinned_ && workspace_.shownRun()) workspace_.setCursor(toTicks(std::clamp(timeAt(x), 0.0, runEnd())));
}

void LanesView::mouseReleaseEvent(QMouseEvent* event) {
    setCursor(Qt::ArrowCursor);
    panning_ = false;
    if (!maybeClick_) return;
    maybeClick_ = false;
    const double x = event->position().x();
    if (x < TimelineColumns::names + TimelineColumns::axis || x > width() - TimelineColumns::measures ||
        !workspace_.shownRun())
        return;
    workspace_.setCursor(toTicks(std::clamp(timeAt(x), 0.0, runEnd())));
    pinned_ = true;
}

void LanesView::keyPressEvent(QKeyEvent* event) {
    const double middle = (from_ + to_) / 2, step = (to_ - from_) / 10;
    const bool shift = event->modifiers() & Qt::ShiftModifier;
    const auto moveCursor = [&](double by) {
        if (!workspace_.shownRun()) return;
        const double now = workspace_.cursor() ? toSeconds(*workspace_.cursor()) : middle;
        pinned_ = true;
        workspace_.setCursor(toTicks(std::clamp(now + by, 0.0, runEnd())));
    };
    switch (event->key()) {
        case Qt::Key_Left:
            return shift ? moveCursor(-step / 20) : setWindow(from_ - step, to_ - step);
        case Qt::Key_Right:
            return shift ? moveCursor(step / 20) : setWindow(from_ + step, to_ + step);
        case Qt::Key_Up:
        case Qt::Key_Plus:
            return zoom(1.25, middle);
        case Qt::Key_Down:
        case Qt::Key_Minus:
            return zoom(0.8, middle);
        case Qt::Key_Home:
            return fit();
        case Qt::Key_Escape:
            pinned_ = false;
            return workspace_.setCursor({});
        default:
            QWidget::keyPressEvent(event);
    }
}

void LanesView::contextMenuEvent(QContextMenuEvent* event) {
    const int index = laneAt(event->y());
    QMenu menu(this);
    if (index >= 0)
        for (const std::string& quantity : lanes_[static_cast<std::size_t>(index)].quantities)
            menu.addAction("Remove " + QString::fromStdString(quantity), this,
                           [this, index, quantity] { removeQuantity(index, quantity); });
    menu.addSeparator();
    menu.addAction("Show the whole run\tHome", this, &LanesView::fit);
    if (workspace_.cursor())
        menu.addAction("Let the cursor go\tEsc", this, [this] { pinned_ = false, workspace_.setCursor({}); });
    menu.exec(event->globalPos());
}

// ---- quantities come and go

void LanesView::show(const std::string& quantity, int index) {
    std::vector<Lane> lanes = workspace_.project().lanes;
    const std::string unit = unitOf(quantity);
    const auto fits = [&](std::size_t i) {
        return lanes[i].quantities.empty() || unitOf(lanes[i].quantities.front()) == unit;
    };
    int target =
        index >= 0 && index < static_cast<int>(lanes.size()) && fits(static_cast<std::size_t>(index)) ? index : -1;
    for (std::size_t i = 0; target < 0 && index < 0 && i < lanes.size(); ++i)
        if (fits(i)) target = static_cast<int>(i);
    if (target < 0) {
        const auto place =
            index < 0 ? lanes.end() : lanes.begin() + std::min<long>(index + 1, static_cast<long>(lanes.size()));
        lanes.insert(place, Lane{{quantity}, 96, ""});
    } else {
        auto& names = lanes[static_cast<std::size_t>(target)].quantities;
        if (std::find(names.begin(), names.end(), quantity) != names.end()) return;
        names.push_back(quantity);
    }
    (void)workspace_.apply(edits::setLanes(lanes, "show " + quantity));
}

void LanesView::removeQuantity(int index, const std::string& quantity) {
    std::vector<Lane> lanes = workspace_.project().lanes;
    auto& names = lanes[static_cast<std::size_t>(index)].quantities;
    std::erase(names, quantity);
    if (names.empty()) lanes.erase(lanes.begin() + index);
    (void)workspace_.apply(edits::setLanes(lanes, "remove " + quantity));
}

void LanesView::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasFormat(quantityMime)) event->acceptProposedAction();
}

void LanesView::dragMoveEvent(QDragMoveEvent* event) {
    if (event->mimeData()->hasFormat(quantityMime)) event->acceptProposedAction();
}

void LanesView::dropEvent(QDropEvent* event) {
    if (!event->mimeData()->hasFormat(quantityMime)) return;
    const int lane = laneAt(static_cast<int>(event->position().y()));
    show(QString::fromUtf8(event->mimeData()->data(quantityMime)).toStdString(),
         lane < 0 ? static_cast<int>(lanes_.size()) : lane);
    event->acceptProposedAction();
}

}  // namespace hedgerow::app
