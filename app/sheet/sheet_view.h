#pragma once
// The sheet as the user works on it: type to place, wire, move, turn, edit in place, zoom and pan.

#include <optional>

#include <QLineEdit>
#include <QPolygonF>
#include <QWidget>

#include "model/arrange.h"
#include "model/values.h"
#include "base/workspace.h"

namespace hedgerow::app {

class Commands;
class EntryLine;

class SheetView : public QWidget {
    Q_OBJECT

public:
    explicit SheetView(Workspace& workspace, QWidget* parent = nullptr);

    /// Shows everything.
    void fit();
    /// Hangs a part of this kind on the pointer.
    void hang(const Entry& entry);
    void deleteSelection();
    void copySelection() const;
    void cutSelection();
    void paste();
    void selectAll();
    void turnSelection();
    void flipSelection();
    void climbSelection(int steps);
    /// Opens the editor of a part's name or first value in place.
    void editName(int part);
    void editValue(int part);
    /// Hangs the part that was placed last, or the selected one, with the same values.
    void repeatLast();
    void align(edits::Edge edge);
    void distribute(bool horizontally);
    /// Asks for a number of copies and their distance.
    void copyInRow();
    void selectNets();
    void selectSimilar();
    /// Makes a project parameter of the first value of the selected part.
    void promoteValue();
    /// Asks for a name and makes a module of what is selected.
    void makeModule();
    /// Asks for a name and gives the selected place a module of its own.
    void copyModule();
    /// Asks for a word under which the selected part is found from then on.
    void keepPart();
    /// Selects something and brings it into view.
    void reveal(const std::set<int>& ids);
    /// Adds what can be done on the sheet to the commands of the window.
    void offer(Commands& commands);

    QPointF toSheet(const QPointF& widget) const { return (widget - offset_) / zoom_; }
    QPointF toWidget(const QPointF& sheet) const { return sheet * zoom_ + offset_; }

signals:
    /// What a click or a key would do now, for the hint line.
    void hinted(const QString& hint);

protected:
    void enterEvent(QEnterEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    bool event(QEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    enum class Mode { idle, hanging, wiring, dragging, banding, lassoing, panning };
    /// What is under a point, topmost first.
    struct Hit {
        enum class What { nothing, pin, name, value, part, label, wire } what = What::nothing;
        int id = 0;
        int pin = 0;
        Point at;
    };

    Hit hit(const QPointF& sheet) const;
    Point grid(const QPointF& sheet) const { return snapped(sheet.x(), sheet.y()); }
    void setMode(Mode mode);
    void dropHanging(bool again);
    void startWire(Point from);
    void extendWire(Point to, bool finish);
    bool branchesWire() const;
    Point wireTarget() const;
    std::vector<Point> wirePreview(Point to) const;
    bool touchesNet(Point at) const;
    void nameNet(const QString& name, const QString& place);
    void join(const QString& from, const QString& to);
    void startDragging(bool copies);
    void selectInside(const QPolygonF& outline);
    void openEditor(const QRectF& sheetBox, const QString& text, std::function<Status(const QString&)> accept);
    void askName(const QString& offered, std::function<Status(const std::string&)> accept);
    void closeEditor(bool accept);
    bool keyWhileHanging(QKeyEvent* event);
    void moveSelection(Point by);
    void selectNext(int step);
    void zoomAt(const QPointF& widget, double factor);
    void paintEmptyHint(QPainter& painter) const;
    void paintMode(QPainter& painter) const;
    std::optional<Sheet> preview() const;
    QString instantText() const;

    Workspace& workspace_;
    const Commands* commands_ = nullptr;
    EntryLine* entry_;
    QLineEdit* editor_ = nullptr;
    std::function<Status(const QString&)> editorAccepts_;
    Mode mode_ = Mode::idle;
    double zoom_ = 1.0;
    QPointF offset_{0, 0};
    bool fitted_ = true;     ///< follow the size of the window until the user zooms or pans
    QPointF pointer_{0, 0};  ///< of the widget
    QPointF pressed_{0, 0};
    bool maybeClick_ = false;
    Hit pressedHit_;
    Part hanging_, last_;  ///< last_: what was placed last
    QPolygonF lasso_;
    std::vector<Point> wire_;
    Point dragged_;
    int pasteCount_ = 0;
};

}  // namespace hedgerow::app
