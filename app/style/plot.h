#pragma once
// The plotting widget, which keeps its buffers while it is laid out to nothing: a picture without pixels takes no
// painter, and the toolkit says so for each layer.

#include <QResizeEvent>

#include <qcustomplot.h>

namespace hedgerow::app {

class Plot : public QCustomPlot {
public:
    using QCustomPlot::QCustomPlot;

protected:
    void resizeEvent(QResizeEvent* event) override {
        if (!event->size().isEmpty()) QCustomPlot::resizeEvent(event);
    }
};

}  // namespace hedgerow::app
