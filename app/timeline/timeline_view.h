#pragma once
// The timeline: one time axis over the span of the plan and all lanes, with measures of what is visible.

#include <QWidget>

#include "timeline/lanes_view.h"

class QPushButton;
class QScrollArea;

namespace hedgerow::app {
class EventsRow;
class ResponseView;
class SpansRow;
}

namespace hedgerow::app {

/// Header with ruler and span, the lanes below it, and the time cursor over both.
class TimelineView : public QWidget {
    Q_OBJECT

public:
    explicit TimelineView(Workspace& workspace, QWidget* parent = nullptr);
    LanesView& lanes() { return *lanes_; }
    EventsRow& events() { return *events_; }
    SpansRow& spans() { return *spans_; }
    ResponseView& response() { return *response_; }
    /// Whether its axis is frequency instead of time.
    void showResponse(bool shown);
    bool showsResponse() const;

protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    class CursorLine;
    void paintRuler(QPainter& painter) const;
    int headerHeight() const;
    void arrange();

    Workspace& workspace_;
    QScrollArea* scroll_;
    LanesView* lanes_;
    SpansRow* spans_;
    EventsRow* events_;
    ResponseView* response_;
    QPushButton* toResponse_;
    CursorLine* cursor_;
};

}  // namespace hedgerow::app
