// Quantities over the time axis of the timeline.

#include <algorithm>
#include <cmath>

#include <QPainter>

#include "model/quantity.h"
#include "style/theme.h"
#include "timeline/columns.h"
#include "timeline/lane_view.h"
#include "timeline/trace_plottable.h"

namespace hedgerow::app {

namespace {

class TimeLane : public LaneView {
public:
    TimeLane(const LaneSource& source, const Lane& lane);
    bool logic() const override { return logic_; }
    void follow(double from, double to) override;
    int rowTop(std::size_t row) const override;
    QString readings() const override;

protected:
    void paintReading(QPainter& painter, std::size_t row, int width, int y) const override;

private:
    void showLogarithmic();
    void showAsNumbers();

    bool logic_;
    std::vector<TracePlottable*> graphs_;
};

bool allLogic(Workspace& workspace, const Lane& lane) {
    return !lane.quantities.empty() &&
           std::all_of(lane.quantities.begin(), lane.quantities.end(), [&](const std::string& quantity) {
               const Trace* trace = workspace.trace(quantity);
               return trace && trace->logic();
           });
}

TimeLane::TimeLane(const LaneSource& source, const Lane& lane)
    : LaneView(source, lane), logic_(allLogic(source.workspace, lane)) {
    x().setTicker(QSharedPointer<QCPAxisTickerFixed>::create());
    if (lane.log && !logic_) showLogarithmic();
    const auto& quantities = lane.quantities;
    Workspace& workspace = source.workspace;
    for (std::size_t i = 0; i < quantities.size(); ++i) {
        const std::string& quantity = quantities[i];
        const auto add = [&](const QPen& pen, std::function<const Trace*()> trace) {
            auto* graph = new TracePlottable(&x(), &y(), std::move(trace));
            graph->setPen(pen);
            graphs_.push_back(graph);
            if (logic_) graph->place(static_cast<double>(quantities.size() - 1 - i) + 0.1, 0.75);
        };
        for (std::size_t k = 0; k < source.beside.size(); ++k)
            add(penBeside(i, k), [&workspace, quantity, entry = source.beside[k]]() -> const Trace* {
                return workspace.runList().trace(*entry, quantity);
            });
        add(penOf(i), [&workspace, quantity]() -> const Trace* { return workspace.trace(quantity); });
    }
}

void TimeLane::showLogarithmic() {
    y().setScaleType(QCPAxis::stLogarithmic);
    y().setTicker(QSharedPointer<DecadeTicker>::create());
}

/// A signal that had been 0 and 1 became something else while the run went on.
void TimeLane::showAsNumbers() {
    logic_ = false;
    for (TracePlottable* graph : graphs_) graph->place(0, 1);
    if (lane_.log) showLogarithmic();
}

void TimeLane::follow(double from, double to) {
    x().setRange(from, to);
    if (logic_ && !allLogic(source_.workspace, lane_)) showAsNumbers();
    static_cast<QCPAxisTickerFixed*>(x().ticker().data())->setTickStep(roundStep(to - from, rulerTicks));
    if (logic_) {
        y().setTickLabels(false);
        y().setRange(0, static_cast<double>(lane_.quantities.size()));
        return;
    }
    double low = INFINITY, high = -INFINITY;
    const auto include = [&](const Trace* trace) {
        if (!trace) return;
        if (const auto m = trace->measure(toTicks(std::max(0.0, from)), toTicks(std::min(to, longestRunSeconds)))) {
            low = std::min(low, m->min);
            high = std::max(high, m->max);
        }
    };
    for (const std::string& quantity : lane_.quantities) {
        include(source_.workspace.trace(quantity));
        for (const RunPointer& entry : source_.beside) include(source_.workspace.runList().trace(*entry, quantity));
    }
    setValues(low, high);
}

/// Logic traces have their names beside their lines.
int TimeLane::rowTop(std::size_t row) const {
    if (!logic_) return LaneView::rowTop(row);
    const double part = (box().height() - 12.0) / static_cast<double>(lane_.quantities.size());
    return box().top() + 6 + static_cast<int>((static_cast<double>(row) + 0.5) * part) - rowHeight / 2 + 2;
}

void TimeLane::paintReading(QPainter& painter, std::size_t row, int width, int y) const {
    const std::pair<Tick, Tick> span = source_.workspace.measured();
    const auto measures = source_.workspace.trace(lane_.quantities[row])->measure(span.first, span.second);
    if (!measures) return;
    const double values[] = {measures->min, measures->mean, measures->max, measures->peakToPeak(), measures->rms};
    for (int column = 0; column < 5; ++column) {
        const QRect cell(width - TimelineColumns::measures + column * TimelineColumns::measure, y,
                         TimelineColumns::measure - 4, rowHeight);
        painter.drawText(cell, Qt::AlignRight | Qt::AlignVCenter,
                         QString::fromStdString(formatPrefixed(values[column], 4)));
    }
}

QString TimeLane::readings() const {
    const std::pair<Tick, Tick> span = source_.workspace.measured();
    QString text = "quantity\tunit\tmin\tmean\tmax\tpeak to peak\trms\n";
    for (const std::string& quantity : lane_.quantities) {
        const Trace* trace = source_.workspace.trace(quantity);
        const auto m = trace ? trace->measure(span.first, span.second) : std::nullopt;
        if (!m) continue;
        text += QString::fromStdString(quantity) + "\t" + QString::fromStdString(trace->unit());
        for (const double value : {m->min, m->mean, m->max, m->peakToPeak(), m->rms})
            text += "\t" + QString::number(value, 'g', 12);
        text += "\n";
    }
    return text;
}

}  // namespace

std::unique_ptr<LaneView> makeTimeLane(const LaneSource& source, const Lane& lane) {
    return std::make_unique<TimeLane>(source, lane);
}

}  // namespace hedgerow::app
