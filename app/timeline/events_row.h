#pragma once
// The events of the scene on the time axis: chosen by a click, moved by dragging.

#include <QWidget>

#include "timeline/lanes_view.h"

namespace hedgerow::app {

class EventsRow : public QWidget {
    Q_OBJECT

public:
    static constexpr int rowHeight = 24;
    EventsRow(Workspace& workspace, LanesView& lanes, QWidget* parent = nullptr);
    /// Whether there is anything to show.
    bool wanted() const;

signals:
    void chosen(std::size_t event);

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    bool event(QEvent* event) override;

private:
    /// Something that is shown: an event of the scene, or what was observed in the run.
    struct Mark {
        double at, until;  ///< s
        QString text;
        int event;  ///< index in the scene, -1 for an observation
    };
    std::vector<Mark> marks() const;
    int markAt(double x) const;

    Workspace& workspace_;
    LanesView& lanes_;
    int pressed_ = -1;                    ///< event
    double pressedAt_ = 0, dragged_ = 0;  ///< px, and s by which it has been moved
    bool moving_ = false;
};

}  // namespace hedgerow::app
