#include "timeline/lanes_view.h"

#include <algorithm>
#include <cmath>

#include <QPainter>
#include <QScrollArea>

#include "model/edits.h"
#include "model/quantity.h"
#include "style/picture_file.h"
#include "style/plot.h"
#include "style/theme.h"
#include "timeline/lane_view.h"

namespace hedgerow::app {

namespace {

constexpr int leastLane = 64, logicLane = 48, borderReach = 4;
constexpr int settleMilliseconds = 60;
constexpr double shortestWindow = 1e-12;

}  // namespace

LanesView::LanesView(Workspace& workspace, QWidget* parent)
    : QWidget(parent), workspace_(workspace), plot_(new Plot(this)) {
    setObjectName("lanes");
    setAccessibleName("timeline");
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAcceptDrops(true);
    plot_->setAttribute(Qt::WA_TransparentForMouseEvents);
    plot_->setNoAntialiasingOnDrag(false);
    plot_->plotLayout()->clear();
    plot_->plotLayout()->setRowSpacing(0);
    settle_.setSingleShot(true);
    settle_.setInterval(settleMilliseconds);
    connect(&settle_, &QTimer::timeout, this, [this] {
        for (const auto& lane : lanes_) lane->settle();
        plot_->replot(QCustomPlot::rpQueuedReplot);
        update();
    });
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
    connect(&workspace, &Workspace::measuredChanged, this, [this] {
        settle_.start();
        update();
    });
    connect(&workspace, &Workspace::chosenTraceChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::cursorChanged, this, [this] {
        if (!workspace_.cursor()) pinned_ = false;
        if (workspace_.mark()) settle_.start();
        update();
    });
    rebuild();
}

LanesView::~LanesView() = default;

void LanesView::rebuild() {
    const RunEntry* run = workspace_.shownRun().get();
    const std::vector<RunPointer> beside = workspace_.runList().beside();
    if (builtFrom_ == workspace_.project().lanes && builtFor_ == run && builtBeside_ == beside && !lanes_.empty())
        return;
    builtBeside_ = beside;
    builtFrom_ = workspace_.project().lanes;
    builtFor_ = run;
    lanes_.clear();
    border_ = -1, borderWanted_ = 0;  // a border that is just being dragged was one of the old lanes
    plot_->clearPlottables();
    plot_->plotLayout()->clear();
    plot_->setBackground(colours().chalk);
    int least = 0;
    for (const Lane& lane : builtFrom_) {
        const int row = static_cast<int>(lanes_.size());
        lanes_.push_back(LaneView::make({*plot_, workspace_, builtBeside_}, lane));
        plot_->plotLayout()->addElement(row, 0, &lanes_.back()->area());
        plot_->plotLayout()->setRowStretchFactor(row, lane.height);
        least += lane.folded ? foldedLane : std::max(foldedLane, lane.height * 2 / 3);
    }
    setMinimumHeight(std::max(leastLane, least));
    refresh();
}

bool LanesView::isLogic(const std::string& quantity) {
    const Trace* trace = workspace_.trace(quantity);
    return trace && trace->logic();
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
    const auto end = workspace_.timeOf(workspace_.plan().end);
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

void LanesView::refresh() {
    for (const auto& lane : lanes_) lane->follow(from_, to_);
    settle_.start();
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
        if (y >= lanes_[i]->box().top() && y <= lanes_[i]->box().bottom()) return static_cast<int>(i);
    return -1;
}

std::vector<int> LanesView::laneTops() const {
    std::vector<int> tops;
    for (const auto& lane : lanes_) tops.push_back(lane->box().top());
    return tops;
}

std::vector<std::pair<int, int>> LanesView::timeBands() const {
    std::vector<std::pair<int, int>> bands;
    for (const auto& lane : lanes_)
        if (lane->overTime()) bands.emplace_back(lane->box().top(), lane->box().bottom() + 1);
    return bands;
}

void LanesView::paintEvent(QPaintEvent*) {
    const Colours& p = colours();
    QPainter painter(this);
    painter.fillRect(rect(), p.chalk);
    for (const auto& lane : lanes_) lane->paint(painter, width());
    if (lanes_.empty()) {
        painter.setPen(p.bark);
        painter.setFont(textFont());
        painter.drawText(rect(), Qt::AlignCenter, "Drag a quantity here, or press Enter on it in the shelf");
    }
}

Status LanesView::writePicture(const QString& path, int only) {
    for (const auto& lane : lanes_) lane->settle();
    const QRect part = only < 0 ? rect() : QRect(0, lane(only).box().top(), width(), lane(only).box().height());
    return writePictureFile(path, "traces", part.size(), [&](QPaintDevice& device, double scale) {
        QCPPainter painter;
        if (!painter.begin(&device)) return false;
        painter.scale(scale, scale);
        painter.translate(-part.topLeft());
        painter.setClipRect(part);
        painter.fillRect(part, colours().chalk);
        for (const auto& lane : lanes_) lane->paint(painter, width());
        painter.translate(plot_->pos());
        painter.setMode(QCPPainter::pmVectorized);
        painter.setMode(QCPPainter::pmNoCaching);
        plot_->toPainter(&painter, plot_->width(), plot_->height());
        return painter.end();
    });
}

std::string LanesView::quantityAt(const QPointF& at) const {
    const int index = laneAt(static_cast<int>(at.y()));
    if (index < 0 || at.x() > TimelineColumns::names) return {};
    const LaneView& view = lane(index);
    for (std::size_t row = 0; row < view.lane().quantities.size(); ++row) {
        const int top = view.rowTop(row) - 3;
        if (at.y() >= top && at.y() < top + rowHeight) return view.lane().quantities[row];
    }
    return {};
}

/// The lane whose lower edge is here; -1 for none.
int LanesView::borderAt(int y) const {
    for (std::size_t i = 0; i < lanes_.size(); ++i)
        if (std::abs(lanes_[i]->box().bottom() - y) <= borderReach && !lanes_[i]->lane().folded)
            return static_cast<int>(i);
    return -1;
}

void LanesView::changeLane(int index, const std::string& label, const std::function<void(Lane&)>& change) {
    std::vector<Lane> lanes = workspace_.project().lanes;
    if (index < 0 || index >= static_cast<int>(lanes.size())) return;
    change(lanes[static_cast<std::size_t>(index)]);
    (void)workspace_.apply(edits::setLanes(lanes, label));
}

// ---- quantities come and go

void LanesView::show(const std::string& quantity, int index) {
    std::vector<Lane> lanes = workspace_.project().lanes;
    const std::string unit = workspace_.unitOf(quantity);
    const auto fits = [&](std::size_t i) {
        if (lanes[i].kind == LaneKind::xy) return false;
        return lanes[i].quantities.empty() || workspace_.unitOf(lanes[i].quantities.front()) == unit;
    };
    int target =
        index >= 0 && index < static_cast<int>(lanes.size()) && fits(static_cast<std::size_t>(index)) ? index : -1;
    for (std::size_t i = 0; target < 0 && index < 0 && i < lanes.size(); ++i)
        if (fits(i) && lanes[i].kind == LaneKind::time) target = static_cast<int>(i);
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

void LanesView::addLane(Lane lane, int after, const std::string& label) {
    std::vector<Lane> lanes = workspace_.project().lanes;
    const auto place =
        after < 0 ? lanes.end() : lanes.begin() + std::min<long>(after + 1, static_cast<long>(lanes.size()));
    lanes.insert(place, std::move(lane));
    (void)workspace_.apply(edits::setLanes(std::move(lanes), label));
}

void LanesView::showOver(const std::string& quantity, const std::string& across, int after) {
    Lane lane;
    lane.kind = LaneKind::xy;
    lane.quantities = {across, quantity};
    lane.height = 150;
    addLane(std::move(lane), after, "show " + quantity + " over " + across);
}

void LanesView::removeQuantity(int index, const std::string& quantity) {
    std::vector<Lane> lanes = workspace_.project().lanes;
    auto& names = lanes[static_cast<std::size_t>(index)].quantities;
    std::erase(names, quantity);
    if (names.empty()) lanes.erase(lanes.begin() + index);
    (void)workspace_.apply(edits::setLanes(lanes, "remove " + quantity));
}

}  // namespace hedgerow::app
