#pragma once
// What the rows of a study are drawn as, and where on a drawing each row is found again.

#include <optional>
#include <string>
#include <vector>

#include <QRectF>
#include <QString>
#include <QVector>

#include "studies/study_statistics.h"

class QCPAxisRect;
class QCustomPlot;

namespace hedgerow::app {

enum class StudyPicture { over, histogram, yield, movedBy, matrix, contour, traces };

/// One quantity of the runs whose traces are kept, thinned out for drawing.
struct StudyFamily {
    struct Curve {
        std::size_t row = 0;  ///< of the table
        QVector<double> t = {}, y = {};  ///< s and SI, from the instant at which the curves are aligned
    };
    std::string quantity = {}, unit = {};
    std::vector<Curve> curves = {};
};

/// What is looked at.
struct StudyLook {
    const StudyTable& table;
    std::size_t measure = 0;
    /// A thing that varies, counted from 0, or behind these a measure: the horizontal axis, or what colours the traces.
    std::size_t over = 0;
    std::size_t against = 0;  ///< likewise, the vertical axis of a contour
    std::vector<std::size_t> chosen = {};  ///< rows, in order
    const StudyFamily* family = nullptr;
};

/// Where rows are on a drawing.
struct StudySpots {
    struct Point {
        QCPAxisRect* rect;
        double x, y;  ///< in the units of its axes
        std::size_t row;
    };
    struct Band {
        QCPAxisRect* rect;
        double low, high;  ///< on the horizontal axis
        std::vector<std::size_t> rows;
    };
    std::vector<Point> points = {};
    std::vector<Band> bands = {};
    /// Rows at a place of the plot: the nearest point within reach, or a band; empty where there is nothing.
    std::vector<std::size_t> at(const QPointF& place) const;
};

/// Draws anew. @pre the table has rows, and its indices lie within it
StudySpots drawStudy(QCustomPlot& plot, StudyPicture picture, const StudyLook& look);
/// An empty drawing.
void clearStudy(QCustomPlot& plot);

/// Aligns a trace of a row: the instant that becomes 0. "" or "0" for the start; "1.5m", an expression; "event 2" of the scene; "> 12" or
/// "< 12", where the trace first passes this value upwards or downwards.
struct Alignment {
    enum class Sort { time, event, rise, fall };
    Sort sort = Sort::time;
    std::string time = "0";
    std::size_t event = 0;
    double level = 0;
};
Result<Alignment> readAlignment(const std::string& text);
/// The instant of a run; nothing where its trace never passes the level. @param project  of the run
std::optional<double> alignedAt(const Alignment& alignment, const Trace& trace, const Project& project, const std::string& scene);
/// A trace with no more points than are seen, from the instant on that becomes 0.
StudyFamily::Curve curveOf(const Trace& trace, std::size_t row, double zero);

/// A value of a point as it is read: with prefix and unit where it is a number.
QString valueText(const StudyTable& table, std::size_t row, std::size_t axis);
/// The name of a measure, or what is measured without its limits.
QString shortMeasure(const QString& measure);

}  // namespace hedgerow::app
