// Quantities over the first one of the lane, within the window of the timeline.

#include <algorithm>
#include <cmath>

#include <QPainter>

#include "model/quantity.h"
#include "style/theme.h"
#include "timeline/columns.h"
#include "timeline/lane_view.h"

namespace hedgerow::app {

namespace {

constexpr std::size_t mostDrawn = 20'000;  ///< points of a curve

class XyLane : public LaneView {
public:
    XyLane(const LaneSource& source, const Lane& lane);
    bool overTime() const override { return false; }
    void follow(double from, double to) override { from_ = from, to_ = to; }
    void settle() override;
    QString readings() const override;

protected:
    void paintReading(QPainter& painter, std::size_t row, int width, int y) const override;

private:
    struct Curve {
        QCPCurve* drawn;
        std::string quantity;
        RunPointer entry;  ///< nullptr for the shown run
    };
    const Trace* trace(const RunPointer& entry, const std::string& quantity) const;

    std::vector<Curve> curves_;
    double from_ = 0, to_ = 0;
};

XyLane::XyLane(const LaneSource& source, const Lane& lane) : LaneView(source, lane) {
    x().setTicker(QSharedPointer<EngineeringTicker>::create());
    showOwnAxis();
    for (std::size_t i = 1; i < lane.quantities.size(); ++i) {
        const auto add = [&](const QPen& pen, RunPointer entry) {
            auto* curve = new QCPCurve(&x(), &y());
            curve->setPen(pen);
            curves_.push_back({curve, lane.quantities[i], std::move(entry)});
        };
        for (std::size_t k = 0; k < source.beside.size(); ++k) add(penBeside(i, k), source.beside[k]);
        add(penOf(i), nullptr);
    }
}

const Trace* XyLane::trace(const RunPointer& entry, const std::string& quantity) const {
    return entry ? source_.workspace.runList().trace(*entry, quantity) : source_.workspace.trace(quantity);
}

/// The stored points of both quantities, or as many instants evenly apart when there are more than can be seen.
std::vector<Tick> instantsOf(const Trace& a, const Trace& b, Tick from, Tick to) {
    std::vector<Tick> instants;
    const std::size_t stored =
        a.firstAtOrAfter(to) - a.firstAtOrAfter(from) + b.firstAtOrAfter(to) - b.firstAtOrAfter(from);
    if (stored > mostDrawn) {
        for (std::size_t i = 0; i <= mostDrawn; ++i)
            instants.push_back(from +
                               static_cast<Tick>(static_cast<double>(to - from) * static_cast<double>(i) / mostDrawn));
        return instants;
    }
    for (const Trace* trace : {&a, &b})
        for (std::size_t i = trace->firstAtOrAfter(from); i < trace->size() && trace->time(i) <= to; ++i)
            // Both sides of a jump.
            instants.push_back(i + 1 < trace->size() && trace->time(i + 1) == trace->time(i) ? trace->time(i) - 1
                                                                                             : trace->time(i));
    std::sort(instants.begin(), instants.end());
    instants.erase(std::unique(instants.begin(), instants.end()), instants.end());
    return instants;
}

void XyLane::settle() {
    const Tick from = toTicks(std::max(0.0, from_)), to = toTicks(std::min(to_, longestRunSeconds));
    double low = INFINITY, high = -INFINITY, left = INFINITY, right = -INFINITY;
    for (Curve& curve : curves_) {
        curve.drawn->data()->clear();
        const Trace *across = trace(curve.entry, lane_.quantities.front()), *up = trace(curve.entry, curve.quantity);
        if (!across || !up) continue;
        QVector<double> order, xs, ys;
        for (const Tick t : instantsOf(*across, *up, from, to)) {
            const auto a = across->at(t), b = up->at(t);
            if (!a || !b) continue;
            order << static_cast<double>(order.size());
            xs << *a;
            ys << *b;
            left = std::min(left, *a), right = std::max(right, *a);
            low = std::min(low, *b), high = std::max(high, *b);
        }
        curve.drawn->setData(order, xs, ys, true);
    }
    setValues(low, high);
    if (!(left <= right)) return;
    const double pad = right > left ? 0.04 * (right - left) : 1.0;
    x().setRange(left - pad, right + pad);
    static_cast<EngineeringTicker*>(x().ticker().data())->setLargest(std::max(std::abs(left), std::abs(right)));
}

void XyLane::paintReading(QPainter& painter, std::size_t row, int width, int y) const {
    painter.setPen(row == 0 ? colours().bark : colourOf(row));
    const Trace* values = source_.workspace.trace(lane_.quantities[row]);
    QString text = row == 0 ? "across" : "";
    if (const auto cursor = source_.workspace.cursor())
        if (const auto value = values->at(*cursor))
            text += (text.isEmpty() ? "" : ", ") + QString::fromStdString(formatQuantity(*value, values->unit(), 4));
    painter.drawText(readingBox(width, y), Qt::AlignRight | Qt::AlignVCenter, text);
}

QString XyLane::readings() const {
    QString text;
    for (const Curve& curve : curves_) {
        if (curve.entry) continue;
        text += QString::fromStdString(lane_.quantities.front() + "\t" + curve.quantity + "\n");
        for (const QCPCurveData& point : *curve.drawn->data())
            text += QString("%1\t%2\n").arg(point.key, 0, 'g', 12).arg(point.value, 0, 'g', 12);
    }
    return text;
}

}  // namespace

std::unique_ptr<LaneView> makeXyLane(const LaneSource& source, const Lane& lane) {
    return std::make_unique<XyLane>(source, lane);
}

}  // namespace hedgerow::app
