#pragma once
// Draws one trace from its pyramid: as many strokes as there are pixels, however many points were stored.

#include <functional>

#include <qcustomplot.h>

#include "traces/trace.h"

namespace hedgerow::app {

class TracePlottable : public QCPAbstractPlottable {
    Q_OBJECT

public:
    /// @param trace  asked for at every drawing; may give nullptr
    TracePlottable(QCPAxis* key, QCPAxis* value, std::function<const Trace*()> trace);

    /// Draws `offset + scale * value`: logic traces stand above each other.
    void place(double offset, double scale) { offset_ = offset, scale_ = scale; }

    double selectTest(const QPointF&, bool, QVariant*) const override { return -1; }
    QCPRange getKeyRange(bool& found, QCP::SignDomain) const override;
    QCPRange getValueRange(bool& found, QCP::SignDomain, const QCPRange& key) const override;

protected:
    void draw(QCPPainter* painter) override;
    void drawLegendIcon(QCPPainter*, const QRectF&) const override {}

private:
    /// Lines with gaps between them.
    using Lines = std::vector<QPolygonF>;
    Lines eachPoint(const Trace& trace, std::size_t first, std::size_t last) const;
    Lines envelope(const Trace& trace) const;
    bool fetch(const Trace& trace, std::size_t first, std::size_t last, bool everything);
    Lines nearEnvelope(const Trace& trace) const;
    double pixel(double value) const { return mValueAxis->coordToPixel(offset_ + scale_ * value); }
    std::function<const Trace*()> trace_;
    Stopwatch frame_;  ///< since the start of the present drawing
    double offset_ = 0, scale_ = 1;
};

}  // namespace hedgerow::app
