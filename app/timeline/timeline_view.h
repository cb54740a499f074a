#pragma once
// The timeline: one time axis over the span of the plan and all lanes, with measures of what is visible.

#include <functional>
#include <memory>
#include <vector>

#include <QWidget>

#include "shell/workspace.h"

class QCustomPlot;
class QCPAxisRect;
class QMenu;
class QScrollArea;

namespace hedgerow::app {

class TracePlottable;

/// Where the columns of the timeline stand, in pixels.
struct TimelineColumns {
    static constexpr int names = 76;    ///< names of quantities
    static constexpr int axis = 56;     ///< numbers of the value axis
    static constexpr int measure = 56;  ///< each of the five columns on the right
    static constexpr int measures = 5 * measure + 8;
};

/// 1, 2 or 5 times a power of ten, so that about `count` steps fill the length: the ticks of ruler and lanes alike.
double roundStep(double length, int count);
inline constexpr int rulerTicks = 7;

/// The lanes: a plot in the middle, names to the left, measures to the right.
class LanesView : public QWidget {
    Q_OBJECT

public:
    explicit LanesView(Workspace& workspace, QWidget* parent = nullptr);

    double from() const { return from_; }
    double to() const { return to_; }
    void setWindow(double from, double to);
    /// The whole run, or the whole plan before the first one.
    void fit();
    void zoom(double factor, double at);
    /// Adds a quantity: to `lane` when units agree, to the first lane of its unit when lane is -1, else to a new one.
    void show(const std::string& quantity, int lane = -1);
    double timeAt(double x) const;
    double pixelOf(double time) const;
    int laneAt(int y) const;
    std::vector<int> laneTops() const;

signals:
    void windowChanged();

protected:
    void changeEvent(QEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dragMoveEvent(QDragMoveEvent* event) override;
    void dropEvent(QDropEvent* event) override;

private:
    struct LaneView {
        QCPAxisRect* area = nullptr;
        Lane lane;
        std::string unit;
        bool logic = false;  ///< gates and states only: they stand above each other
    };

    void rebuild();
    void refresh();
    void scaleLane(LaneView& lane);
    std::string unitOf(const std::string& quantity) const;
    void paintLane(QPainter& painter, const LaneView& lane) const;
    double runEnd() const;
    void removeQuantity(int lane, const std::string& quantity);
    void addTraces(LaneView& lane);
    bool isLogic(const std::string& quantity);
    void changeLane(int lane, const std::string& label, const std::function<void(Lane&)>& change);
    int borderAt(int y) const;
    int rowTop(const LaneView& lane, std::size_t row) const;
    std::string quantityAt(const QPointF& at) const;
    void addLaneActions(QMenu& menu, int lane);
    void copyMeasures(int lane) const;
    void stepToEdge(bool forward);

    Workspace& workspace_;
    QCustomPlot* plot_;
    std::vector<LaneView> lanes_;
    std::vector<Lane> builtFrom_;
    const RunEntry* builtFor_ = nullptr;
    std::vector<RunPointer> builtBeside_;
    double from_ = 0, to_ = 1e-3;
    bool fitted_ = true;
    bool pinned_ = false;  ///< the cursor was set by a click and stays
    QPointF pressed_;
    double pressedFrom_ = 0, pressedTo_ = 0;
    bool panning_ = false, maybeClick_ = false;
    int border_ = -1;  ///< of the lane whose lower edge is dragged
    double borderHeight_ = 0;
    int borderWanted_ = 0;
};

/// Header with ruler and span, the lanes below it, and the time cursor over both.
class TimelineView : public QWidget {
    Q_OBJECT

public:
    explicit TimelineView(Workspace& workspace, QWidget* parent = nullptr);
    LanesView& lanes() { return *lanes_; }

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    class CursorLine;
    void paintRuler(QPainter& painter) const;
    void paintSpan(QPainter& painter) const;

    Workspace& workspace_;
    QScrollArea* scroll_;
    LanesView* lanes_;
    CursorLine* cursor_;
};

}  // namespace hedgerow::app
