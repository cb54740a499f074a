#include "timeline/trace_plottable.h"

#include <algorithm>
#include <utility>
#include <cmath>
#include <limits>

namespace hedgerow::app {

namespace {
/// Up to this many points a pixel column every point is drawn.
constexpr double pointsPerColumn = 2.0;
/// Up to this many the columns end exactly where their pixels end; above, to within 16 points or, of very many, a
/// chunk.
constexpr double exactPoints = 64.0;
constexpr double chunksPerColumn = 4.0;  ///< from here on whole chunks are near enough
constexpr int chunksAtOnce = 64;         ///< of a trace in memory, fetched in any frame
constexpr double detailSeconds = 5e-3;   ///< from the start of a frame on what is not yet at hand may be fetched

Tick clampedTicks(double seconds) { return toTicks(std::clamp(seconds, -longestRunSeconds, longestRunSeconds)); }
}  // namespace

TracePlottable::TracePlottable(QCPAxis* key, QCPAxis* value, std::function<const Trace*()> trace)
    : QCPAbstractPlottable(key, value), trace_(std::move(trace)) {
    setAntialiased(true);
    connect(parentPlot(), &QCustomPlot::beforeReplot, this, [this] { frame_ = Stopwatch(); });
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
    const Tick from = clampedTicks(visible.lower), to = clampedTicks(visible.upper) + 1;
    const double columns = clipRect().width();
    applyDefaultAntialiasingHint(painter);
    painter->setPen(mPen);
    painter->setBrush(Qt::NoBrush);
    const std::size_t nearFirst = trace->near(from), nearLast = trace->near(to);
    const auto points = static_cast<double>(nearLast - std::min(nearFirst, nearLast));
    const bool onPaper = painter->modes().testFlag(QCPPainter::pmNoCaching);  // there is no next frame
    const bool wholeChunks = points > chunksPerColumn * PointSource::chunk * columns;
    const bool atHand = points < PointSource::chunk || wholeChunks || fetch(*trace, nearFirst, nearLast, onPaper);
    if (!atHand) parentPlot()->replot(QCustomPlot::rpQueuedReplot);
    if (!atHand || points > exactPoints * columns) {
        for (const QPolygonF& line : nearEnvelope(*trace)) painter->drawPolyline(line);
        return;
    }
    std::size_t first = trace->firstAtOrAfter(from), last = trace->firstAtOrAfter(to);
    first = first > 0 ? first - 1 : 0;
    last = std::min(trace->size(), last + 1);
    if (last < first + 2) return;
    const bool dense = static_cast<double>(last - first) > pointsPerColumn * columns;
    for (const QPolygonF& line : dense ? envelope(*trace) : eachPoint(*trace, first, last)) painter->drawPolyline(line);
}

TracePlottable::Lines TracePlottable::eachPoint(const Trace& trace, std::size_t first, std::size_t last) const {
    Lines lines(1);
    lines.back().reserve(static_cast<int>(last - first));
    for (std::size_t i = first; i < last; ++i) {
        const double x = mKeyAxis->coordToPixel(toSeconds(trace.time(i)));
        QPolygonF& line = lines.back();
        // Held values make a step where the next point has another.
        if (trace.holds() && !line.isEmpty()) line << QPointF(x, line.last().y());
        const double value = trace.value(i);
        if (std::isfinite(value))
            line << QPointF(x, pixel(value));
        else if (!line.isEmpty())
            lines.emplace_back();  // a gap, or what cannot be read
    }
    return lines;
}

/// Per pixel column a stroke from the least to the greatest value, led in by the value at its left edge.
TracePlottable::Lines TracePlottable::envelope(const Trace& trace) const {
    Lines lines(1);
    const QRect area = clipRect();
    std::size_t first = trace.firstAtOrAfter(clampedTicks(mKeyAxis->pixelToCoord(area.left())));
    for (int x = area.left(); x <= area.right(); ++x) {
        const std::size_t last = trace.firstAtOrAfter(clampedTicks(mKeyAxis->pixelToCoord(x + 1)));
        if (last > first) {
            const auto [low, high] = trace.range(first, last);
            const double begins = trace.value(first), ends = trace.value(last - 1);
            if (!std::isfinite(begins) && !lines.back().isEmpty()) lines.emplace_back();
            if (std::isfinite(low)) {
                if (std::isfinite(begins)) lines.back() << QPointF(x, pixel(begins));
                lines.back() << QPointF(x + 0.5, pixel(low)) << QPointF(x + 0.5, pixel(high));
                if (std::isfinite(ends)) lines.back() << QPointF(x + 1, pixel(ends));
            }
            if (!std::isfinite(ends) && !lines.back().isEmpty()) lines.emplace_back();
        }
        first = last;
    }
    return lines;
}

/// Brings the inside of chunks to hand, for a while or until all is there. @return whether all is at hand
bool TracePlottable::fetch(const Trace& trace, std::size_t first, std::size_t last, bool everything) {
    constexpr std::size_t chunk = PointSource::chunk;
    int left = everything ? std::numeric_limits<int>::max() : trace.inMemory() ? chunksAtOnce : 1;
    for (std::size_t k = first / chunk; k < (last + chunk - 1) / chunk; ++k) {
        if (trace.detailed(k)) continue;
        if (left-- <= 0 && frame_.seconds() > detailSeconds) return false;
        trace.detail(k);
    }
    return true;
}

/// The same of very many points, from what is at hand.
TracePlottable::Lines TracePlottable::nearEnvelope(const Trace& trace) const {
    const QRect area = clipRect();
    Lines lines(1);
    bool gap = false;
    for (int x = area.left(); x <= area.right(); ++x) {
        const auto seen =
            trace.rangeNear(clampedTicks(mKeyAxis->pixelToCoord(x)), clampedTicks(mKeyAxis->pixelToCoord(x + 1)));
        if (!seen) {
            gap = gap || !trace.at(clampedTicks(mKeyAxis->pixelToCoord(x + 0.5)));
            continue;
        }
        if (!std::isfinite(seen->first) || !std::isfinite(seen->second)) continue;
        if (std::exchange(gap, false) && !lines.back().isEmpty()) lines.emplace_back();
        lines.back() << QPointF(x + 0.5, pixel(seen->first)) << QPointF(x + 0.5, pixel(seen->second));
    }
    return lines;
}

}  // namespace hedgerow::app
