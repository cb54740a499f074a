#pragma once
// One strip of the timeline: its axes, its traces, the names to their left and the readings to their right. What it
// draws depends on the kind of the lane.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include <qcustomplot.h>

#include "base/workspace.h"

namespace hedgerow::app {

inline constexpr int foldedLane = 26, rowHeight = 18;

/// What all lanes draw from.
struct LaneSource {
    QCustomPlot& plot;
    Workspace& workspace;
    const std::vector<RunPointer>& beside;  ///< runs drawn dashed
};

class LaneView {
public:
    static std::unique_ptr<LaneView> make(const LaneSource& source, const Lane& lane);
    virtual ~LaneView() = default;

    const Lane& lane() const { return lane_; }
    const std::string& unit() const { return unit_; }
    QCPAxisRect& area() { return *area_; }
    QRect box() const { return area_->outerRect(); }

    /// Whether its horizontal axis is the time of the timeline.
    virtual bool overTime() const { return true; }
    /// Gates and states only: they stand above each other.
    virtual bool logic() const { return false; }
    /// Follows the window of the timeline.
    virtual void follow(double from, double to) = 0;
    /// Does what takes longer, a moment after the last change.
    virtual void settle() {}
    /// Where the name of a quantity stands.
    virtual int rowTop(std::size_t row) const;
    /// Names and readings of all quantities. @param width  of the timeline
    void paint(QPainter& painter, int width) const;
    /// The range of the value axis now.
    QCPRange valueRange() const { return y().range(); }
    /// Readings as a table that other programs read.
    virtual QString readings() const = 0;

protected:
    LaneView(const LaneSource& source, const Lane& lane);

    QCPAxis& x() const { return *area_->axis(QCPAxis::atBottom); }
    QCPAxis& y() const { return *area_->axis(QCPAxis::atLeft); }
    /// The colour of a quantity's trace.
    QColor colourOf(std::size_t row) const;
    QPen penOf(std::size_t row) const;
    /// Dashed, for the run with this place among those beside the shown one.
    QPen penBeside(std::size_t row, std::size_t run) const;
    QRect readingBox(int width, int y) const;
    /// Sets the range of the value axis, or what the user holds it at; `low > high` where there is nothing to scale by.
    void setValues(double low, double high);
    /// Shows the numbers of the horizontal axis inside the lane: it is not that of the timeline.
    void showOwnAxis();
    virtual void paintReading(QPainter& painter, std::size_t row, int width, int y) const = 0;
    /// Written over the drawing, "" for nothing.
    virtual QString notice() const { return {}; }

    LaneSource source_;
    Lane lane_;
    std::string unit_;
    QCPAxisRect* area_;  ///< of the layout of the plot
};

/// A reading typed into a field of a lane, or what holds without.
double typedOr(const std::string& text, double otherwise);
/// Numbers of an axis with the prefix of the largest of them.
class EngineeringTicker : public QCPAxisTicker {
public:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override;
    void setLargest(double value) { largest_ = value; }

private:
    double largest_ = 1.0;
};
/// Decades, with engineering prefixes.
class DecadeTicker : public QCPAxisTickerLog {
public:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override;
};

// What make() chooses from.
std::unique_ptr<LaneView> makeTimeLane(const LaneSource& source, const Lane& lane);
std::unique_ptr<LaneView> makeSpectrumLane(const LaneSource& source, const Lane& lane);
std::unique_ptr<LaneView> makeXyLane(const LaneSource& source, const Lane& lane);

}  // namespace hedgerow::app
