#include <algorithm>
#include <cmath>

#include <QApplication>
#include <QClipboard>
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

constexpr int leastLane = 64, foldedLane = 26, logicLane = 48, rowHeight = 18, borderReach = 4;
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
    connect(&workspace, &Workspace::measuredChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::chosenTraceChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::cursorChanged, this, [this] {
        if (!workspace_.cursor()) pinned_ = false;
        if (workspace_.mark()) update();
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
    const std::vector<RunPointer> beside = workspace_.runList().beside();
    if (builtFrom_ == workspace_.project().lanes && builtFor_ == run && builtBeside_ == beside && !lanes_.empty())
        return;
    builtBeside_ = beside;
    builtFrom_ = workspace_.project().lanes;
    builtFor_ = run;
    const Colours& p = colours();
    plot_->clearPlottables();
    plot_->plotLayout()->clear();
    plot_->setBackground(p.chalk);
    lanes_.clear();
    for (const Lane& lane : builtFrom_) {
        LaneView view;
        view.lane = lane;
        view.unit = lane.quantities.empty() ? "" : unitOf(lane.quantities.front());
        view.area = new QCPAxisRect(plot_, true);
        view.area->setAutoMargins(QCP::msNone);
        view.area->setMargins(QMargins(TimelineColumns::axis, 6, 0, 6));
        view.area->setBackground(p.chalk);
        plot_->plotLayout()->addElement(static_cast<int>(lanes_.size()), 0, view.area);
        plot_->plotLayout()->setRowStretchFactor(static_cast<int>(lanes_.size()), lane.height);
        if (lane.folded) view.area->setMaximumSize(QWIDGETSIZE_MAX, foldedLane);
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
        addTraces(view);
        lanes_.push_back(std::move(view));
    }
    int least = 0;
    for (const Lane& lane : builtFrom_) least += lane.folded ? foldedLane : std::max(foldedLane, lane.height * 2 / 3);
    setMinimumHeight(std::max(leastLane, least));
    refresh();
}

bool LanesView::isLogic(const std::string& quantity) {
    const Trace* trace = workspace_.trace(quantity);
    return trace && trace->logic();
}

/// Those of the shown run, and dashed those of the runs beside it.
void LanesView::addTraces(LaneView& view) {
    const Colours& p = colours();
    QCPAxis* x = view.area->axis(QCPAxis::atBottom);
    QCPAxis* y = view.area->axis(QCPAxis::atLeft);
    const auto& quantities = view.lane.quantities;
    view.logic = !quantities.empty() && std::all_of(quantities.begin(), quantities.end(),
                                                    [this](const std::string& quantity) { return isLogic(quantity); });
    if (view.lane.log && !view.logic) {
        y->setScaleType(QCPAxis::stLogarithmic);
        y->setTicker(QSharedPointer<QCPAxisTickerLog>::create());
        y->setNumberFormat("gb");
        y->setNumberPrecision(1);
    }
    for (std::size_t i = 0; i < quantities.size(); ++i) {
        const std::string& quantity = quantities[i];
        const auto add = [&](const QPen& pen, std::function<const Trace*()> trace) {
            auto* graph = new TracePlottable(x, y, std::move(trace));
            graph->setPen(pen);
            if (view.logic) graph->place(static_cast<double>(quantities.size() - 1 - i) + 0.1, 0.75);
        };
        for (std::size_t k = 0; k < builtBeside_.size(); ++k) {
            QPen pen(p.traces[(i + 4 + k) % p.traces.size()], 1.3, Qt::CustomDashLine);
            pen.setDashPattern({4, 3});
            add(pen, [this, quantity, entry = builtBeside_[k]]() -> const Trace* {
                return workspace_.runList().trace(*entry, quantity);
            });
        }
        QPen pen(p.traces[i % p.traces.size()], 1.4);
        pen.setJoinStyle(Qt::RoundJoin);
        add(pen, [this, quantity]() -> const Trace* { return workspace_.trace(quantity); });
    }
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
    const auto ticks = [](double t) { return toTicks(std::clamp(t, 0.0, longestRunSeconds)); };
    workspace_.setWindow(ticks(from_), ticks(to_));
    refresh();
    emit windowChanged();
}

void LanesView::zoom(double factor, double at) { setWindow(at - (at - from_) / factor, at + (to_ - at) / factor); }

void LanesView::scaleLane(LaneView& lane) {
    QCPAxis* x = lane.area->axis(QCPAxis::atBottom);
    QCPAxis* y = lane.area->axis(QCPAxis::atLeft);
    x->setRange(from_, to_);
    static_cast<QCPAxisTickerFixed*>(x->ticker().data())->setTickStep(roundStep(to_ - from_, rulerTicks));
    if (lane.logic) {
        y->setTickLabels(false);
        y->setRange(0, static_cast<double>(lane.lane.quantities.size()));
        return;
    }
    double low = INFINITY, high = -INFINITY;
    const auto include = [&](const Trace* trace) {
        if (!trace) return;
        if (const auto m = trace->measure(toTicks(std::max(0.0, from_)), toTicks(std::min(to_, longestRunSeconds)))) {
            low = std::min(low, m->min);
            high = std::max(high, m->max);
        }
    };
    for (const std::string& quantity : lane.lane.quantities) {
        include(workspace_.trace(quantity));
        for (const RunPointer& entry : builtBeside_) include(workspace_.runList().trace(*entry, quantity));
    }
    const bool empty = !(low <= high);
    y->setTickLabels(!empty && !lane.lane.folded);
    if (empty) low = 0, high = 1;
    const double size = std::max(std::abs(low), std::abs(high));
    const double pad = std::max({0.08 * (high - low), 1e-9 * size, size == 0 ? 1.0 : 0.0});
    const auto typed = [](const std::string& text, double otherwise) {
        const auto value = text.empty() ? Result<Quantity>(Quantity{otherwise, {}}) : evaluate(text);
        return value ? value->value : otherwise;
    };
    low = typed(lane.lane.low, low - pad);
    high = typed(lane.lane.high, high + pad);
    if (lane.lane.log) {
        high = high > 0 ? high : 1.0;
        y->setRange(std::max(low, 1e-9 * high), high);
        return;
    }
    y->setRange(low, high > low ? high : low + 1);
    static_cast<EngineeringTicker*>(y->ticker().data())->setLargest(std::max(std::abs(low), std::abs(high)));
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
    const auto& quantities = lane.lane.quantities;
    const bool single = quantities.size() == 1;
    const std::pair<Tick, Tick> span = workspace_.measured();
    const Tick from = span.first, to = span.second;
    for (std::size_t row = 0; row < quantities.size(); ++row) {
        const std::string& quantity = quantities[row];
        const QColor colour = p.traces[row % p.traces.size()];
        const int y = rowTop(lane, row);
        if (y + rowHeight > area.bottom() + 4) break;
        if (quantity == workspace_.chosenTrace()) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(p.leafTint);
            painter.drawRoundedRect(QRect(8, y - 3, TimelineColumns::names - 4, rowHeight + 2), 4, 4);
        }
        Trace* trace = workspace_.trace(quantity);
        drawNotation(painter, QRectF(16, y - 3, TimelineColumns::names + 10 - 16, rowHeight), notationOf(quantity),
                     single ? p.ink : colour, lane.logic ? 13 : 15);
        if (row + 1 == quantities.size() && !lane.unit.empty() && y + 2 * rowHeight < area.bottom()) {
            painter.setFont(textFont(TextSize::small));
            painter.setPen(p.bark);
            painter.drawText(QRect(16, y + rowHeight - 2, 50, 14), Qt::AlignLeft | Qt::AlignVCenter,
                             QString::fromStdString(lane.unit));
        }
        const auto measures = trace ? trace->measure(from, to) : std::nullopt;
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

/// Where the name of a quantity stands: logic traces beside their lines.
int LanesView::rowTop(const LaneView& lane, std::size_t row) const {
    const QRect area = lane.area->outerRect();
    if (!lane.logic) return area.top() + (lane.lane.folded ? 5 : 10) + static_cast<int>(row) * rowHeight;
    const double inside = area.height() - 12.0, part = inside / static_cast<double>(lane.lane.quantities.size());
    return area.top() + 6 + static_cast<int>((static_cast<double>(row) + 0.5) * part) - rowHeight / 2 + 2;
}

std::string LanesView::quantityAt(const QPointF& at) const {
    const int index = laneAt(static_cast<int>(at.y()));
    if (index < 0 || at.x() > TimelineColumns::names) return {};
    const LaneView& lane = lanes_[static_cast<std::size_t>(index)];
    for (std::size_t row = 0; row < lane.lane.quantities.size(); ++row) {
        const int top = rowTop(lane, row) - 3;
        if (at.y() >= top && at.y() < top + rowHeight) return lane.lane.quantities[row];
    }
    return {};
}

/// The lane whose lower edge is here; -1 for none.
int LanesView::borderAt(int y) const {
    for (std::size_t i = 0; i < lanes_.size(); ++i)
        if (std::abs(lanes_[i].area->outerRect().bottom() - y) <= borderReach && !lanes_[i].lane.folded)
            return static_cast<int>(i);
    return -1;
}

void LanesView::changeLane(int index, const std::string& label, const std::function<void(Lane&)>& change) {
    std::vector<Lane> lanes = workspace_.project().lanes;
    if (index < 0 || index >= static_cast<int>(lanes.size())) return;
    change(lanes[static_cast<std::size_t>(index)]);
    (void)workspace_.apply(edits::setLanes(lanes, label));
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
    if (const std::string name = quantityAt(event->position()); !name.empty()) return workspace_.chooseTrace(name);
    border_ = borderAt(static_cast<int>(event->position().y()));
    if (border_ >= 0) {
        borderHeight_ = lanes_[static_cast<std::size_t>(border_)].area->outerRect().height();
        return;
    }
    pressedFrom_ = from_;
    pressedTo_ = to_;
    maybeClick_ = true;
}

void LanesView::mouseMoveEvent(QMouseEvent* event) {
    if (border_ >= 0) {
        const LaneView& lane = lanes_[static_cast<std::size_t>(border_)];
        const double wanted = std::max<double>(foldedLane, borderHeight_ + event->position().y() - pressed_.y());
        const int height =
            std::clamp(static_cast<int>(lane.lane.height * wanted / std::max(1.0, borderHeight_)), 24, 2000);
        plot_->plotLayout()->setRowStretchFactor(border_, height);
        borderWanted_ = height;
        plot_->replot(QCustomPlot::rpQueuedReplot);
        update();
        return;
    }
    if (!maybeClick_ && !panning_)
        setCursor(borderAt(static_cast<int>(event->position().y())) >= 0 ? Qt::SplitVCursor : Qt::ArrowCursor);
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
    if (const int border = std::exchange(border_, -1); border >= 0) {
        if (borderWanted_ > 0) changeLane(border, "lane height", [this](Lane& lane) { lane.height = borderWanted_; });
        borderWanted_ = 0;
        return;
    }
    if (!maybeClick_) return;
    maybeClick_ = false;
    const double x = event->position().x();
    if (x < TimelineColumns::names + TimelineColumns::axis || x > width() - TimelineColumns::measures ||
        !workspace_.shownRun())
        return;
    const Tick here = toTicks(std::clamp(timeAt(x), 0.0, runEnd()));
    if (event->modifiers() & Qt::ShiftModifier) return workspace_.setMark(here);
    workspace_.setCursor(here);
    pinned_ = true;
}

/// The next or previous instant at which a chosen trace, or any that is seen, jumps or turns around.
void LanesView::stepToEdge(bool forward) {
    if (!workspace_.shownRun()) return;
    const Tick now = workspace_.cursor().value_or(toTicks(std::clamp(forward ? from_ : to_, 0.0, longestRunSeconds)));
    std::optional<Tick> best;
    const auto look = [&](const Trace* trace) {
        if (!trace || trace->size() < 3) return;
        constexpr std::size_t mostSteps = 2'000'000;
        std::size_t i = trace->firstAtOrAfter(forward ? now + 1 : now);
        for (std::size_t steps = 0; steps < mostSteps; ++steps) {
            if (forward ? i + 1 >= trace->size() : i < 2) return;
            if (!forward) --i;
            const double before = trace->value(i) - trace->value(i - (i > 0 ? 1 : 0)),
                         after = trace->value(i + 1) - trace->value(i);
            const bool jump = trace->time(i + 1) == trace->time(i) && after != 0;
            if (jump || before * after < 0) {
                const Tick t = trace->time(i);
                if (t != now && (!best || (forward ? t < *best : t > *best))) best = t;
                if (t != now) return;
            }
            if (forward) ++i;
        }
    };
    if (!workspace_.chosenTrace().empty())
        look(workspace_.trace(workspace_.chosenTrace()));
    else
        for (const LaneView& lane : lanes_)
            for (const std::string& quantity : lane.lane.quantities) look(workspace_.trace(quantity));
    if (!best) return;
    pinned_ = true;
    workspace_.setCursor(best);
    const double t = toSeconds(*best);
    if (t < from_ || t > to_) setWindow(t - (to_ - from_) / 2, t + (to_ - from_) / 2);
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
        case Qt::Key_M:
            return workspace_.setMark(workspace_.mark() ? std::nullopt : workspace_.cursor());
        case Qt::Key_Left:
            if (event->modifiers() & Qt::ControlModifier) return stepToEdge(false);
            return shift ? moveCursor(-step / 20) : setWindow(from_ - step, to_ - step);
        case Qt::Key_Right:
            if (event->modifiers() & Qt::ControlModifier) return stepToEdge(true);
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
            workspace_.setMark({});
            return workspace_.setCursor({});
        default:
            QWidget::keyPressEvent(event);
    }
}

void LanesView::contextMenuEvent(QContextMenuEvent* event) {
    const int index = laneAt(event->y());
    QMenu menu(this);
    if (index >= 0) addLaneActions(menu, index);
    menu.addSeparator();
    menu.addAction("Show the whole run\tHome", this, &LanesView::fit);
    if (workspace_.cursor())
        menu.addAction("Let the cursor go\tEsc", this, [this] { pinned_ = false, workspace_.setCursor({}); });
    menu.exec(event->globalPos());
}

void LanesView::addLaneActions(QMenu& menu, int index) {
    const LaneView& view = lanes_[static_cast<std::size_t>(index)];
    const Lane& lane = view.lane;
    for (const std::string& quantity : lane.quantities)
        menu.addAction("Remove " + QString::fromStdString(quantity), this,
                       [this, index, quantity] { removeQuantity(index, quantity); });
    menu.addSeparator();
    menu.addAction(lane.folded ? "Unfold the lane" : "Fold the lane", this, [this, index] {
        changeLane(index, "fold lane", [](Lane& changed) { changed.folded = !changed.folded; });
    });
    if (!view.logic) {
        const QCPRange range = view.area->axis(QCPAxis::atLeft)->range();
        if (lane.low.empty() && lane.high.empty())
            menu.addAction("Hold this range", this, [this, index, range] {
                changeLane(index, "hold range", [&](Lane& changed) {
                    changed.low = QString::number(range.lower, 'g', 6).toStdString();
                    changed.high = QString::number(range.upper, 'g', 6).toStdString();
                });
            });
        else
            menu.addAction("Scale by itself", this, [this, index] {
                changeLane(index, "scale lane", [](Lane& changed) { changed.low = changed.high = ""; });
            });
        menu.addAction(lane.log ? "Linear" : "Logarithmic", this, [this, index] {
            changeLane(index, "lane scale", [](Lane& changed) { changed.log = !changed.log; });
        });
    }
    menu.addAction("Copy the measures", this, [this, index] { copyMeasures(index); });
    menu.addAction("Copy as picture", this, [this, index] {
        const QRect box = lanes_[static_cast<std::size_t>(index)].area->outerRect();
        QApplication::clipboard()->setPixmap(grab(QRect(0, box.top(), width(), box.height())));
    });
}

/// As a table that other programs read.
void LanesView::copyMeasures(int index) const {
    const std::pair<Tick, Tick> span = workspace_.measured();
    const Tick from = span.first, to = span.second;
    QString text = "quantity\tunit\tmin\tmean\tmax\tpeak to peak\trms\n";
    for (const std::string& quantity : lanes_[static_cast<std::size_t>(index)].lane.quantities) {
        const Trace* trace = workspace_.trace(quantity);
        const auto m = trace ? trace->measure(from, to) : std::nullopt;
        if (!m) continue;
        text += QString::fromStdString(quantity) + "\t" + QString::fromStdString(trace->unit());
        for (const double value : {m->min, m->mean, m->max, m->peakToPeak(), m->rms})
            text += "\t" + QString::number(value, 'g', 12);
        text += "\n";
    }
    QApplication::clipboard()->setText(text);
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
        Lane added;
        added.quantities = {quantity};
        if (isLogic(quantity)) added.height = logicLane;
        lanes.insert(place, std::move(added));
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
