#pragma once
// The tasks of a project over time: when each samples, and when its outputs show.

#include <QWidget>

namespace hedgerow::app {

class Workspace;

class TaskChart : public QWidget {
    Q_OBJECT

public:
    /// @param task  name of the one that is looked at
    TaskChart(Workspace& workspace, const QString& task, QWidget* parent = nullptr);
    QSize sizeHint() const override;

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    struct Row {
        QString name;
        QStringList parts;  ///< in the order in which they run
        double period, offset, delay;
    };
    void read();

    Workspace& workspace_;
    QString task_;
    std::vector<Row> rows_;
};

}  // namespace hedgerow::app
