#pragma once
// The lanes: a plot in the middle, names to the left, readings to the right.

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include <QTimer>
#include <QWidget>

#include "base/workspace.h"
#include "timeline/columns.h"

class QCustomPlot;
class QMenu;

namespace hedgerow::app {

class LaneView;

class LanesView : public QWidget {
    Q_OBJECT

public:
    explicit LanesView(Workspace& workspace, QWidget* parent = nullptr);
    ~LanesView() override;

    double from() const { return from_; }
    double to() const { return to_; }
    void setWindow(double from, double to);
    /// The whole run, or the whole plan before the first one.
    void fit();
    void zoom(double factor, double at);
    /// Adds a quantity: to `lane` when units agree, to the first lane of its unit when lane is -1, else to a new one.
    void show(const std::string& quantity, int lane = -1);
    /// Adds a lane with a quantity over another one, below `after`.
    void showOver(const std::string& quantity, const std::string& across, int after = -1);
    double timeAt(double x) const;
    double pixelOf(double time) const;
    int laneAt(int y) const;
    std::vector<int> laneTops() const;
    /// Where time runs across: top and bottom of the lanes that are over time.
    std::vector<std::pair<int, int>> timeBands() const;
    const LaneView& lane(int index) const { return *lanes_[static_cast<std::size_t>(index)]; }
    /// Writes the lanes as they are seen, or one of them: SVG, PDF or PNG by the ending of the name.
    Status writePicture(const QString& path, int only = -1);
    void savePicture(int only = -1);

signals:
    void windowChanged();
    void said(const QString& message, bool bad);

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
    void rebuild();
    void refresh();
    double runEnd() const;
    void removeQuantity(int lane, const std::string& quantity);
    void addLane(Lane lane, int after, const std::string& label);
    bool isLogic(const std::string& quantity);
    void changeLane(int lane, const std::string& label, const std::function<void(Lane&)>& change);
    int borderAt(int y) const;
    bool overTime(const QPointF& at) const;
    std::string quantityAt(const QPointF& at) const;
    void addLaneActions(QMenu& menu, int lane);
    void addKindActions(QMenu& menu, int lane);
    void addSets(QMenu& menu);
    void stepToEdge(bool forward);
    void stepToCrossing(bool forward);
    const Trace* steppedTrace();
    void moveCursorTo(Tick t);
    void dragMeasured(const QPointF& at, bool stretch);

    Workspace& workspace_;
    QCustomPlot* plot_;
    std::vector<std::unique_ptr<LaneView>> lanes_;
    std::vector<Lane> builtFrom_;
    const RunEntry* builtFor_ = nullptr;
    std::vector<RunPointer> builtBeside_;
    double from_ = 0, to_ = 1e-3;
    bool fitted_ = true;
    bool pinned_ = false;  ///< the cursor was set by a click and stays
    QPointF pressed_;
    double pressedFrom_ = 0, pressedTo_ = 0;
    bool panning_ = false, maybeClick_ = false;
    RunPointer dragged_;  ///< measured data that are dragged in time
    double draggedOffset_ = 0, draggedScale_ = 1;
    int border_ = -1;  ///< of the lane whose lower edge is dragged
    double borderHeight_ = 0;
    int borderWanted_ = 0;
    QTimer settle_;  ///< a moment after the last change, for what takes longer
};

}  // namespace hedgerow::app
