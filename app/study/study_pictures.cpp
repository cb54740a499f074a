#include "study/study_pictures.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

#include <fmt/format.h>
#include <qcustomplot.h>

#include "base/text.h"
#include "model/periods.h"
#include "model/quantity.h"
#include "model/values.h"
#include "runs/registry.h"
#include "style/theme.h"
#include "traces/trace.h"

namespace hedgerow::app {

namespace {

constexpr int mostBins = 40, mostBars = 12, raster = 64;
constexpr std::size_t mostMatrix = 5;         ///< axes of the matrix of scatters
constexpr std::size_t mostDots = 4000;        ///< of each of its drawings
constexpr std::size_t mostKnots = 1500;       ///< points from which a contour is drawn
constexpr std::size_t mostCurvePoints = 1200; ///< of a trace
constexpr double reach = 12;                  ///< px, of a click

QString words(const std::string& text) { return QString::fromStdString(text); }

/// Numbers with the prefix of the largest: its factor and the text behind the name of an axis.
std::pair<double, QString> scaled(const std::string& unit, const QVector<double>& values) {
    double largest = 0;
    for (const double value : values)
        if (std::isfinite(value)) largest = std::max(largest, std::abs(value));
    const FormattedQuantity parts = formatParts(largest > 0 ? largest : 1, unit, 4);
    const double factor = largest > 0 ? std::pow(10.0, 3 * std::floor(std::log10(largest) / 3 + 1e-12)) : 1;
    const bool plain = unit.empty() && largest >= 1e-3 && largest < 1e6;
    return {plain ? 1.0 : factor, plain ? QString() : ", " + words(parts.unit)};
}

/// A column of the table for an axis: what varies, words by their places, or a measure.
struct Column {
    QString name;
    QVector<double> values;  ///< by row, scaled; not a number where there is none
    std::map<std::string, double> places = {};  ///< of words
    double factor = 1;
};

Column columnOf(const StudyTable& table, std::size_t which) {
    Column column;
    column.values.resize(static_cast<int>(table.rows()));
    if (which >= table.varied.size()) {
        const std::size_t m = which - table.varied.size();
        for (std::size_t row = 0; row < table.rows(); ++row) column.values[static_cast<int>(row)] = table.values[m][row];
        const auto [factor, unit] = scaled(table.measuredUnits[m], column.values);
        column.factor = factor;
        column.name = shortMeasure(words(table.measured[m])) + unit;
    } else {
        const bool numbers = std::isfinite(table.number(0, which));
        QString unit;
        for (std::size_t row = 0; row < table.rows(); ++row)
            column.values[static_cast<int>(row)] =
                numbers ? table.number(row, which)
                        : column.places.emplace(table.points[row][which], static_cast<double>(column.places.size())).first->second;
        if (numbers) std::tie(column.factor, unit) = scaled(table.variedUnits[which], column.values);
        column.name = words(table.varied[which]) + unit;
    }
    for (double& value : column.values) value /= column.factor;
    return column;
}

std::pair<double, double> rangeOf(const QVector<double>& values) {
    double low = INFINITY, high = -INFINITY;
    for (const double value : values)
        if (std::isfinite(value)) low = std::min(low, value), high = std::max(high, value);
    return {low, high};
}

void style(QCPAxis& axis) {
    const Colours& p = colours();
    axis.setBasePen(QPen(p.rule));
    axis.setTickPen(QPen(p.rule)), axis.setSubTickPen(Qt::NoPen);
    axis.setTickLabelColor(p.bark), axis.setLabelColor(p.bark);
    axis.setTickLabelFont(textFont(TextSize::small)), axis.setLabelFont(textFont(TextSize::small));
    axis.grid()->setPen(QPen(p.rule, 1, Qt::DotLine));
    axis.grid()->setZeroLinePen(QPen(p.rule, 1, Qt::DotLine));
}

QCPAxisRect* addRect(QCustomPlot& plot, int row, int column) {
    auto* rect = new QCPAxisRect(&plot);
    plot.plotLayout()->addElement(row, column, rect);
    rect->setLayer("background");
    rect->setBackground(colours().paper);
    for (QCPAxis* axis : rect->axes()) {
        axis->setLayer("axes");
        axis->grid()->setLayer("grid");
        style(*axis);
    }
    return rect;
}

QCPAxisRect* single(QCustomPlot& plot) {
    clearStudy(plot);
    auto* rect = addRect(plot, 0, 0);
    plot.xAxis = rect->axis(QCPAxis::atBottom), plot.yAxis = rect->axis(QCPAxis::atLeft);
    return rect;
}

/// An axis over a column: room at its ends, words at their places, by ratio where the numbers go far.
void fit(QCPAxis& axis, const Column& column, bool mayBeLog) {
    auto [low, high] = rangeOf(column.values);
    if (!(low <= high)) return;
    if (!column.places.empty()) {
        QSharedPointer<QCPAxisTickerText> ticker(new QCPAxisTickerText);
        for (const auto& [word, place] : column.places) ticker->addTick(place, words(word));
        axis.setTicker(ticker);
        return axis.setRange(low - 0.5, high + 0.5);
    }
    if (mayBeLog && low > 0 && high / low > 30) {
        axis.setScaleType(QCPAxis::stLogarithmic);
        axis.setTicker(QSharedPointer<QCPAxisTicker>(new QCPAxisTickerLog));
        const double room = std::pow(high / low, 0.04);
        return axis.setRange(low / room, high * room);
    }
    const double room = high > low ? 0.06 * (high - low) : std::max(0.5, 0.05 * std::abs(high));
    axis.setRange(low - room, high + room);
}

void dots(QCustomPlot& plot, QCPAxisRect* rect, const QVector<double>& x, const QVector<double>& y, const QColor& colour, double size) {
    auto* graph = plot.addGraph(rect->axis(QCPAxis::atBottom), rect->axis(QCPAxis::atLeft));
    graph->setLineStyle(QCPGraph::lsNone);
    graph->setScatterStyle(QCPScatterStyle(QCPScatterStyle::ssCircle, QPen(colour), QBrush(colour), size));
    graph->setData(x, y);
}

/// Rows as dots: those that keep their limits, those that do not, and those that are chosen.
void scatter(QCustomPlot& plot, QCPAxisRect* rect, const Column& cx, const Column& cy, const StudyLook& look, double size, StudySpots& spots,
             std::size_t most = SIZE_MAX) {
    const Colours& p = colours();
    QVector<double> gx, gy, bx, by, mx, my;
    const std::size_t every = std::max<std::size_t>(1, look.table.rows() / most);
    for (std::size_t row = 0; row < look.table.rows(); row += every) {
        const double x = cx.values[static_cast<int>(row)], y = cy.values[static_cast<int>(row)];
        if (!std::isfinite(x) || !std::isfinite(y)) continue;
        const bool marked = std::binary_search(look.chosen.begin(), look.chosen.end(), row);
        (marked ? mx : look.table.good[row] ? gx : bx).push_back(x);
        (marked ? my : look.table.good[row] ? gy : by).push_back(y);
        spots.points.push_back({rect, x, y, row});
    }
    dots(plot, rect, gx, gy, p.sloe, size), dots(plot, rect, bx, by, p.haw, size), dots(plot, rect, mx, my, p.ink, size + 4);
}

/// A limit as a dashed line across.
void limit(QCustomPlot& plot, double at, bool upright) {
    auto* line = new QCPItemStraightLine(&plot);
    line->setPen(QPen(colours().haw, 1.2, Qt::DashLine));
    line->point1->setCoords(upright ? at : 0, upright ? 0 : at);
    line->point2->setCoords(upright ? at : 1, upright ? 1 : at);
}
void limits(QCustomPlot& plot, const StudyLook& look, double factor, bool upright) {
    for (const auto& value : {look.table.above[look.measure], look.table.below[look.measure]})
        if (value) limit(plot, *value / factor, upright);
}

StudySpots drawOver(QCustomPlot& plot, const StudyLook& look) {
    StudySpots spots;
    auto* rect = single(plot);
    const Column x = columnOf(look.table, look.over), y = columnOf(look.table, look.table.varied.size() + look.measure);
    scatter(plot, rect, x, y, look, 5, spots);
    fit(*plot.xAxis, x, true), fit(*plot.yAxis, y, false);
    if (const double at = plot.xAxis->range().lower; plot.xAxis->scaleType() == QCPAxis::stLogarithmic) {
        // A straight item is drawn between two places that the axis has.
        for (const auto& value : {look.table.above[look.measure], look.table.below[look.measure]})
            if (value) {
                auto* line = new QCPItemLine(&plot);
                line->setPen(QPen(colours().haw, 1.2, Qt::DashLine));
                line->start->setCoords(at, *value / y.factor), line->end->setCoords(plot.xAxis->range().upper, *value / y.factor);
            }
    } else {
        limits(plot, look, y.factor, false);
    }
    plot.xAxis->setLabel(x.name), plot.yAxis->setLabel(y.name);
    return spots;
}

StudySpots drawHistogram(QCustomPlot& plot, const StudyLook& look) {
    StudySpots spots;
    auto* rect = single(plot);
    const Colours& p = colours();
    const Column column = columnOf(look.table, look.table.varied.size() + look.measure);
    auto [low, high] = rangeOf(column.values);
    if (!(low <= high)) return spots;
    if (!(high > low)) low -= 0.5, high += 0.5;
    const auto all = static_cast<double>(std::count_if(column.values.begin(), column.values.end(), [](double v) { return std::isfinite(v); }));
    const int count = std::clamp(static_cast<int>(std::sqrt(all)), 4, mostBins);
    const double width = (high - low) / count;
    QVector<double> at(count), of(count);
    for (int i = 0; i < count; ++i) {
        at[i] = low + (i + 0.5) * width;
        spots.bands.push_back({rect, low + i * width, low + (i + 1) * width, {}});
    }
    for (std::size_t row = 0; row < look.table.rows(); ++row) {
        const double value = column.values[static_cast<int>(row)];
        if (!std::isfinite(value)) continue;
        const int bin = std::min(count - 1, static_cast<int>((value - low) / width));
        of[bin] += 1;
        spots.bands[static_cast<std::size_t>(bin)].rows.push_back(row);
    }
    auto* bars = new QCPBars(plot.xAxis, plot.yAxis);
    bars->setWidth(width);
    bars->setPen(QPen(p.paper)), bars->setBrush(p.sloe);
    bars->setData(at, of);
    // The normal distribution of the same mean and deviation.
    double peak = *std::max_element(of.begin(), of.end());
    const MeasureStatistics s = statisticsOf(look.table, look.measure);
    if (s.deviation > 0) {
        auto* curve = plot.addGraph();
        curve->setPen(QPen(p.ink, 1.2));
        QVector<double> cx, cy;
        for (int i = 0; i <= 120; ++i) {
            const double x = low + (high - low) * i / 120, z = (x * column.factor - s.mean) / s.deviation;
            cx.push_back(x);
            cy.push_back(all * width * column.factor / s.deviation * std::exp(-z * z / 2) / std::sqrt(2 * M_PI));
        }
        peak = std::max(peak, *std::max_element(cy.begin(), cy.end()));
        curve->setData(cx, cy);
    }
    plot.xAxis->setRange(low - 0.04 * (high - low), high + 0.04 * (high - low));
    plot.yAxis->setRange(0, std::max(1.0, peak * 1.1));
    limits(plot, look, column.factor, true);
    plot.xAxis->setLabel(column.name), plot.yAxis->setLabel("runs");
    return spots;
}

/// Which part of the runs stays below a value: the distribution function, with the limits of the measure.
StudySpots drawYield(QCustomPlot& plot, const StudyLook& look) {
    StudySpots spots;
    auto* rect = single(plot);
    const Column column = columnOf(look.table, look.table.varied.size() + look.measure);
    std::vector<std::size_t> order;
    for (std::size_t row = 0; row < look.table.rows(); ++row)
        if (std::isfinite(column.values[static_cast<int>(row)])) order.push_back(row);
    if (order.empty()) return spots;
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return column.values[static_cast<int>(a)] < column.values[static_cast<int>(b)]; });
    QVector<double> x{column.values[static_cast<int>(order.front())]}, y{0};
    for (std::size_t i = 0; i < order.size(); ++i) {
        x.push_back(column.values[static_cast<int>(order[i])]);
        // Of all runs: those that failed stay below nothing.
        y.push_back(100.0 * static_cast<double>(i + 1) / static_cast<double>(look.table.rows()));
        spots.points.push_back({rect, x.back(), y.back(), order[i]});
    }
    auto* graph = plot.addGraph();
    graph->setLineStyle(QCPGraph::lsStepLeft);
    graph->setPen(QPen(colours().sloe, 1.6));
    graph->setData(x, y, true);
    fit(*plot.xAxis, column, false);
    plot.yAxis->setRange(0, 104);
    limits(plot, look, column.factor, true);
    plot.xAxis->setLabel(column.name), plot.yAxis->setLabel("runs at or below, %");
    return spots;
}

/// How far a measure moves while each thing goes through its range, the greatest on top.
StudySpots drawMovedBy(QCustomPlot& plot, const StudyLook& look) {
    single(plot);
    const Colours& p = colours();
    const auto all = sensitivitiesOf(look.table, look.measure);
    const auto count = static_cast<int>(std::min<std::size_t>(all.size(), mostBars));
    if (count == 0) return {};
    QVector<double> swings;
    for (int i = 0; i < count; ++i) swings.push_back(all[static_cast<std::size_t>(i)].swing);
    const auto [factor, unit] = scaled(look.table.measuredUnits[look.measure], swings);
    QSharedPointer<QCPAxisTickerText> ticker(new QCPAxisTickerText);
    auto* bars = new QCPBars(plot.yAxis, plot.xAxis);
    bars->setPen(Qt::NoPen), bars->setBrush(p.sloe);
    bars->setWidth(0.6);
    QVector<double> at, of;
    double most = 0;
    for (int i = 0; i < count; ++i) {
        at.push_back(count - 1 - i), of.push_back(swings[i] / factor);
        most = std::max(most, std::abs(of.back()));
        ticker->addTick(count - 1 - i, words(look.table.varied[all[static_cast<std::size_t>(i)].axis]));
    }
    bars->setData(at, of);
    plot.yAxis->setTicker(ticker);
    plot.yAxis->setRange(-0.6, count - 0.4);
    plot.xAxis->setRange(-1.15 * std::max(most, 1e-12), 1.15 * std::max(most, 1e-12));
    plot.xAxis->setLabel("change of " + shortMeasure(words(look.table.measured[look.measure])) + unit + ", from the least to the greatest value");
    return {};
}

/// Each column over each other one, below the diagonal: things that vary, then measures.
StudySpots drawMatrix(QCustomPlot& plot, const StudyLook& look) {
    StudySpots spots;
    clearStudy(plot);
    const std::size_t all = look.table.varied.size() + look.table.measured.size();
    std::vector<std::size_t> shown;
    // The measure that is looked at comes last, and so it always has a row.
    for (std::size_t i = 0; i < all && shown.size() + 1 < mostMatrix; ++i)
        if (i != look.table.varied.size() + look.measure) shown.push_back(i);
    shown.push_back(look.table.varied.size() + look.measure);
    std::vector<Column> columns;
    for (const std::size_t which : shown) columns.push_back(columnOf(look.table, which));
    const auto n = static_cast<int>(columns.size());
    if (n == 1) return drawOver(plot, look);
    auto* left = new QCPMarginGroup(&plot);
    auto* bottom = new QCPMarginGroup(&plot);
    for (int row = 1; row < n; ++row)
        for (int column = 0; column < row; ++column) {
            auto* rect = addRect(plot, row - 1, column);
            QCPAxis &x = *rect->axis(QCPAxis::atBottom), &y = *rect->axis(QCPAxis::atLeft);
            const Column &cx = columns[static_cast<std::size_t>(column)], &cy = columns[static_cast<std::size_t>(row)];
            scatter(plot, rect, cx, cy, look, 3, spots, mostDots);
            fit(x, cx, true), fit(y, cy, true);
            for (QCPAxis* axis : {&x, &y}) axis->ticker()->setTickCount(3);
            x.setTickLabels(row == n - 1), y.setTickLabels(column == 0);
            if (row == n - 1) x.setLabel(cx.name);
            if (column == 0)
                y.setLabel(QFontMetrics(y.labelFont()).elidedText(cy.name, Qt::ElideRight, std::max(24, plot.height() / (n - 1) - 24)));
            rect->setMinimumMargins(QMargins(2, 2, 6, 2));
            if (column == 0) rect->setMarginGroup(QCP::msLeft, left);
            if (row == n - 1) rect->setMarginGroup(QCP::msBottom, bottom);
        }
    plot.plotLayout()->setRowSpacing(2), plot.plotLayout()->setColumnSpacing(2);
    return spots;
}

/// A value between scattered points: a plane through the nearest ones, those that are nearer count more (moving least squares, P. Lancaster and
/// K. Salkauskas, Math. Comp. 37, 1981).
class Surface {
public:
    Surface(std::vector<std::array<double, 3>> knots) : knots_(std::move(knots)) {}
    double at(double x, double y) const {
        double w0 = 0, wx = 0, wy = 0, wxx = 0, wxy = 0, wyy = 0, wz = 0, wxz = 0, wyz = 0;
        double nearest = INFINITY;
        for (const auto& [kx, ky, z] : knots_) nearest = std::min(nearest, (kx - x) * (kx - x) + (ky - y) * (ky - y));
        const double smooth = std::max(nearest, 1e-5);
        for (const auto& [kx, ky, z] : knots_) {
            const double dx = kx - x, dy = ky - y, square = dx * dx + dy * dy, w = 1 / ((square + smooth) * (square + smooth));
            w0 += w, wx += w * dx, wy += w * dy, wxx += w * dx * dx, wxy += w * dx * dy, wyy += w * dy * dy;
            wz += w * z, wxz += w * dx * z, wyz += w * dy * z;
        }
        // The plane's height where x and y are: by Cramer's rule; without one, the mean.
        const double det = w0 * (wxx * wyy - wxy * wxy) - wx * (wx * wyy - wxy * wy) + wy * (wx * wxy - wxx * wy);
        if (!(std::abs(det) > 1e-9 * w0 * wxx * wyy)) return wz / w0;
        return (wz * (wxx * wyy - wxy * wxy) - wx * (wxz * wyy - wxy * wyz) + wy * (wxz * wxy - wxx * wyz)) / det;
    }

private:
    std::vector<std::array<double, 3>> knots_;
};

QCPColorGradient shades() {
    const Colours& p = colours();
    QCPColorGradient gradient;
    gradient.clearColorStops();
    gradient.setColorStopAt(0, p.sloe), gradient.setColorStopAt(0.5, p.leaf), gradient.setColorStopAt(1, p.gorse);
    return gradient;
}

QCPColorScale* addScale(QCustomPlot& plot, QCPAxisRect* rect, const Column& column) {
    auto* scale = new QCPColorScale(&plot);
    plot.plotLayout()->addElement(0, 1, scale);
    scale->setGradient(shades());
    scale->setBarWidth(12);
    // The frame of the scale, too.
    for (QCPAxis* axis : plot.findChildren<QCPAxis*>()) style(*axis);
    auto [low, high] = rangeOf(column.values);
    if (!(high > low)) low -= 0.5, high += 0.5;
    scale->setDataRange(QCPRange(low, high));
    if (!column.places.empty()) {
        QSharedPointer<QCPAxisTickerText> ticker(new QCPAxisTickerText);
        for (const auto& [word, place] : column.places) ticker->addTick(place, words(word));
        scale->axis()->setTicker(ticker);
    }
    scale->axis()->setLabel(column.name);
    auto* group = new QCPMarginGroup(&plot);
    rect->setMarginGroup(QCP::msBottom | QCP::msTop, group), scale->setMarginGroup(QCP::msBottom | QCP::msTop, group);
    return scale;
}

StudySpots drawContour(QCustomPlot& plot, const StudyLook& look) {
    StudySpots spots;
    auto* rect = single(plot);
    const Column x = columnOf(look.table, look.over), y = columnOf(look.table, look.against),
                 z = columnOf(look.table, look.table.varied.size() + look.measure);
    fit(*plot.xAxis, x, true), fit(*plot.yAxis, y, true);
    plot.xAxis->setLabel(x.name), plot.yAxis->setLabel(y.name);
    const auto part = [](const QCPAxis& axis, double value) {
        const QCPRange range = axis.range();
        return axis.scaleType() == QCPAxis::stLogarithmic ? std::log(value / range.lower) / std::log(range.upper / range.lower)
                                                          : (value - range.lower) / range.size();
    };
    std::vector<std::array<double, 3>> knots;
    const std::size_t every = std::max<std::size_t>(1, look.table.rows() / mostKnots);
    for (std::size_t row = 0; row < look.table.rows(); row += every) {
        const auto i = static_cast<int>(row);
        if (std::isfinite(x.values[i]) && std::isfinite(y.values[i]) && std::isfinite(z.values[i]))
            knots.push_back({part(*plot.xAxis, x.values[i]), part(*plot.yAxis, y.values[i]), z.values[i]});
    }
    auto* scale = addScale(plot, rect, z);
    if (knots.size() > 2 && look.over != look.against) {
        const Surface surface(std::move(knots));
        auto* map = new QCPColorMap(plot.xAxis, plot.yAxis);
        map->setLayer("grid");
        QCPColorGradient bands = shades();
        bands.setLevelCount(12);
        map->data()->setSize(raster, raster);
        // A map is even on its own axes: where they go by ratio, so does it.
        map->data()->setRange(plot.xAxis->range(), plot.yAxis->range());
        const auto [low, high] = rangeOf(z.values);
        for (int i = 0; i < raster; ++i)
            for (int k = 0; k < raster; ++k) {
                double kx = 0, ky = 0;
                map->data()->cellToCoord(i, k, &kx, &ky);
                const double px = part(*plot.xAxis, kx), py = part(*plot.yAxis, ky);
                map->data()->setCell(i, k, std::clamp(surface.at(px, py), low, high));
            }
        map->setInterpolate(plot.xAxis->scaleType() == QCPAxis::stLinear && plot.yAxis->scaleType() == QCPAxis::stLinear);
        map->setColorScale(scale);
        scale->setGradient(bands);
        map->setGradient(bands);
        map->setDataRange(scale->dataRange());
    }
    // Where the runs were: seen on every shade.
    QVector<double> px, py, mx, my;
    for (std::size_t row = 0; row < look.table.rows(); ++row) {
        const double kx = x.values[static_cast<int>(row)], ky = y.values[static_cast<int>(row)];
        if (!std::isfinite(kx) || !std::isfinite(ky)) continue;
        const bool marked = std::binary_search(look.chosen.begin(), look.chosen.end(), row);
        (marked ? mx : px).push_back(kx), (marked ? my : py).push_back(ky);
        spots.points.push_back({rect, kx, ky, row});
    }
    dots(plot, rect, px, py, colours().paper, 4), dots(plot, rect, mx, my, colours().ink, 9);
    return spots;
}

StudySpots drawTraces(QCustomPlot& plot, const StudyLook& look) {
    StudySpots spots;
    auto* rect = single(plot);
    if (!look.family || look.family->curves.empty()) return spots;
    const Column colour = columnOf(look.table, look.over);
    auto* scale = addScale(plot, rect, colour);
    QVector<double> times, values;
    for (const StudyFamily::Curve& curve : look.family->curves) {
        const auto [tl, th] = rangeOf(curve.t);
        const auto [yl, yh] = rangeOf(curve.y);
        times << tl << th, values << yl << yh;
    }
    const auto [ft, ut] = scaled("s", times);
    const auto [fy, uy] = scaled(look.family->unit, values);
    QCPColorGradient gradient = shades();
    for (const StudyFamily::Curve& curve : look.family->curves) {
        const bool marked = std::binary_search(look.chosen.begin(), look.chosen.end(), curve.row);
        QVector<double> t = curve.t, y = curve.y;
        for (double& one : t) one /= ft;
        for (double& one : y) one /= fy;
        auto* graph = plot.addGraph();
        const double shade = colour.values[static_cast<int>(curve.row)];
        graph->setPen(QPen(marked ? colours().ink : QColor::fromRgba(gradient.color(shade, scale->dataRange())), marked ? 2.4 : 1.2));
        const std::size_t step = std::max<std::size_t>(1, static_cast<std::size_t>(t.size()) / 60);
        for (int i = 0; i < t.size(); i += static_cast<int>(step)) spots.points.push_back({rect, t[i], y[i], curve.row});
        graph->setData(t, y, true);
    }
    const auto [tl, th] = rangeOf(times);
    const auto [yl, yh] = rangeOf(values);
    const double room = yh > yl ? 0.06 * (yh - yl) : std::max(0.5 * fy, 0.05 * std::abs(yh));
    plot.xAxis->setRange(tl / ft, th > tl ? th / ft : tl / ft + 1);
    plot.yAxis->setRange((yl - room) / fy, (yh + room) / fy);
    plot.xAxis->setLabel("t" + ut), plot.yAxis->setLabel(words(look.family->quantity) + uy);
    return spots;
}

}  // namespace

std::vector<std::size_t> StudySpots::at(const QPointF& place) const {
    const Point* nearest = nullptr;
    double least = reach;
    for (const Point& point : points) {
        if (!point.rect->rect().contains(place.toPoint())) continue;
        const double away = std::hypot(point.rect->axis(QCPAxis::atBottom)->coordToPixel(point.x) - place.x(),
                                       point.rect->axis(QCPAxis::atLeft)->coordToPixel(point.y) - place.y());
        if (away < least) least = away, nearest = &point;
    }
    if (nearest) return {nearest->row};
    for (const Band& band : bands) {
        const double x = band.rect->axis(QCPAxis::atBottom)->pixelToCoord(place.x());
        if (band.rect->rect().contains(place.toPoint()) && x >= band.low && x < band.high) return band.rows;
    }
    return {};
}

void clearStudy(QCustomPlot& plot) {
    plot.clearPlottables();
    plot.clearItems();
    plot.plotLayout()->clear();
    plot.xAxis = plot.yAxis = plot.xAxis2 = plot.yAxis2 = nullptr;
    plot.setBackground(colours().paper);
}

StudySpots drawStudy(QCustomPlot& plot, StudyPicture picture, const StudyLook& look) {
    switch (picture) {
        case StudyPicture::over: return drawOver(plot, look);
        case StudyPicture::histogram: return drawHistogram(plot, look);
        case StudyPicture::yield: return drawYield(plot, look);
        case StudyPicture::movedBy: return drawMovedBy(plot, look);
        case StudyPicture::matrix: return drawMatrix(plot, look);
        case StudyPicture::contour: return drawContour(plot, look);
        case StudyPicture::traces: return drawTraces(plot, look);
    }
    return {};
}

Result<Alignment> readAlignment(const std::string& typed) {
    const std::string text(trimmed(typed));
    if (text.empty()) return Alignment{};
    if (text.starts_with("event ")) {
        const auto number = numberIn(trimmed(std::string_view(text).substr(6)));
        if (!number || *number != std::floor(*number) || *number < 1 || *number > 1e6)
            return Error{ErrorCode::syntax, "events are counted from 1: event 1"};
        return Alignment{.sort = Alignment::Sort::event, .event = static_cast<std::size_t>(*number)};
    }
    if (text.front() == '>' || text.front() == '<') {
        const auto level = evaluate(text.substr(1));
        if (!level) return level.error();
        return Alignment{.sort = text.front() == '>' ? Alignment::Sort::rise : Alignment::Sort::fall, .level = level->value};
    }
    return Alignment{.time = text};
}

std::optional<double> alignedAt(const Alignment& alignment, const Trace& trace, const Project& project, const std::string& scene) {
    std::string time = alignment.time;
    if (alignment.sort == Alignment::Sort::event) {
        const Scene* const found = project.findScene(scene);
        if (!found || alignment.event > found->events.size()) return std::nullopt;
        time = found->events[alignment.event - 1].at;
    } else if (alignment.sort != Alignment::Sort::time) {
        const double sign = alignment.sort == Alignment::Sort::rise ? 1 : -1;
        for (std::size_t i = 1; i < trace.size(); ++i) {
            const double before = sign * (trace.value(i - 1) - alignment.level), after = sign * (trace.value(i) - alignment.level);
            if (!(before <= 0) || !(after > 0)) continue;
            const double t0 = toSeconds(trace.time(i - 1)), t1 = toSeconds(trace.time(i));
            return t0 + (t1 - t0) * (before < 0 ? -before / (after - before) : 0);
        }
        return std::nullopt;
    }
    const ParameterTable parameters(project.parameters);
    const auto value = evaluateTime(time, project, partLibrary().catalogue(), parameters.lookup());
    return value ? std::optional(*value) : std::nullopt;
}

StudyFamily::Curve curveOf(const Trace& trace, std::size_t row, double zero) {
    StudyFamily::Curve curve{.row = row};
    const auto add = [&](std::size_t i, double value) {
        curve.t.push_back(toSeconds(trace.time(i)) - zero);
        curve.y.push_back(value);
    };
    if (trace.size() <= mostCurvePoints) {
        for (std::size_t i = 0; i < trace.size(); ++i) add(i, trace.value(i));
        return curve;
    }
    // Of each stretch the least and the greatest value, in an order that does not matter at this width.
    const std::size_t stretches = mostCurvePoints / 2;
    for (std::size_t k = 0; k < stretches; ++k) {
        const std::size_t from = k * trace.size() / stretches, to = (k + 1) * trace.size() / stretches;
        const auto [low, high] = trace.range(from, to);
        add(from, low), add(from + (to - from) / 2, high);
    }
    return curve;
}

QString valueText(const StudyTable& table, std::size_t row, std::size_t axis) {
    const double value = table.number(row, axis);
    return std::isfinite(value) ? words(formatQuantity(value, table.variedUnits[axis], 4)) : words(table.points[row][axis]);
}

QString shortMeasure(const QString& measure) {
    const qsizetype equals = measure.indexOf('=');
    return equals > 0 ? measure.left(equals).trimmed() : measure.section(" above ", 0, 0).section(" below ", 0, 0);
}

}  // namespace hedgerow::app
