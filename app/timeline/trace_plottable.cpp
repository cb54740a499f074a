#include "timeline/trace_plottable.h"

#include <algorithm>

namespace hedgerow::app {

namespace {
/// Up to this many points a pixel column every point is drawn.
constexpr double pointsPerColumn = 2.0;

Tick clampedTicks(double seconds) { return toTicks(std::clamp(seconds, -longestRunSeconds, longestRunSeconds)); }
}  // namespace

TracePlottable::TracePlottable(QCPAxis* key, QCPAxis* value, std::function<const Trace*()> trace)
    : QCPAbstractPlottable(key, value), trace_(std::move(trace)) {
    setAntialiased(true);
}

QCPRange TracePlottable::getKeyRange(bool& found, QCP::SignDomain) const {
    const Trace* trace = trace_();
    found = trace && trace->size() > 0;
    return found ? QCPRange(toSeconds(trace->time(0)), toSeconds(trace->time(trace->size() - 1))) : QCPRange();
}

QCPRange TracePlottable::getValueRange(bool& found, QCP::SignDomain, const QCPRange& key) const {
    const Trace* trace = trace_();
    const bool all = key.lower >= key.upper;
    const auto measures = trace ? trace->measure(all ? 0 : clampedTicks(key.lower),
                                                 all ? toTicks(longestRunSeconds) : clampedTicks(key.upper))
                                : std::nullopt;
    found = measures.has_value();
    return found ? QCPRange(measures->min, measures->max) : QCPRange();
}

void TracePlottable::draw(QCPPainter* painter) {
    const Trace* trace = trace_();
    if (!trace || trace->size() < 2) return;
    const QCPRange visible = mKeyAxis->range();
    std::size_t first = trace->firstAtOrAfter(clampedTicks(visible.lower)),
                last = trace->firstAtOrAfter(clampedTicks(visible.upper) + 1);
    first = first > 0 ? first - 1 : 0;
    last = std::min(trace->size(), last + 1);
    if (last < first + 2) return;
    const bool dense = static_cast<double>(last - first) > pointsPerColumn * clipRect().width();
    applyDefaultAntialiasingHint(painter);
    painter->setPen(mPen);
    painter->setBrush(Qt::NoBrush);
    painter->drawPolyline(dense ? envelope(*trace) : points(*trace, first, last));
}

QPolygonF TracePlottable::points(const Trace& trace, std::size_t first, std::size_t last) const {
    QPolygonF line;
    line.reserve(static_cast<int>(last - first));
    for (std::size_t i = first; i < last; ++i) {
        const double x = mKeyAxis->coordToPixel(toSeconds(trace.time(i)));
        // Held values make a step where the next point has another.
        if (trace.holds() && !line.isEmpty()) line << QPointF(x, line.last().y());
        line << QPointF(x, pixel(trace.value(i)));
    }
    return line;
}

/// Per pixel column a stroke from the least to the greatest value, led in by the value at its left edge.
QPolygonF TracePlottable::envelope(const Trace& trace) const {
    QPolygonF line;
    const QRect area = clipRect();
    std::size_t first = trace.firstAtOrAfter(clampedTicks(mKeyAxis->pixelToCoord(area.left())));
    for (int x = area.left(); x <= area.right(); ++x) {
        const std::size_t last = trace.firstAtOrAfter(clampedTicks(mKeyAxis->pixelToCoord(x + 1)));
        if (last > first) {
            const auto [low, high] = trace.range(first, last);
            line << QPointF(x, pixel(trace.value(first))) << QPointF(x + 0.5, pixel(low))
                 << QPointF(x + 0.5, pixel(high)) << QPointF(x + 1, pixel(trace.value(last - 1)));
        }
        first = last;
    }
    return line;
}

}  // namespace hedgerow::app
