#pragma once
// The model desk: the selected device in the standard jigs, on all its rungs at once, beside the figures it is to meet.
// It stands where the sheet does; the card beside it changes the device, and the curves follow.

#include <QWidget>

#include "desk/jigs.h"
#include "base/background.h"
#include "base/workspace.h"

class QCPAxisRect;
class QCustomPlot;
class QLabel;
class QLineEdit;
class QListWidget;
class QTableWidget;
class QTimer;

namespace hedgerow::app {

class DeskView : public QWidget {
    Q_OBJECT

public:
    explicit DeskView(Workspace& workspace, QWidget* parent = nullptr);
    /// Whether the selected part is a device that lies in a jig.
    bool canShow() const;
    /// Shows the selected part.
    void open();
    /// Whether curves are still being computed.
    bool busy() const;
    const JigResult& result() const { return result_; }
    void refreshTheme();

signals:
    void left();

protected:
    void keyPressEvent(QKeyEvent* event) override;

private:
    const Part* device() const;
    void follow();
    void tryOut();
    struct Adjustment {
        std::vector<std::pair<std::string, std::string>> values;  ///< by key, as typed; "" for the standard
        QString note;
    };
    void adjust(const char* what,
                std::function<Result<Adjustment>(const Project&, const Part&, const CancelToken&)> find);
    void fit();
    void drawLines();
    void draw();
    void styleAxes();
    void fillFigures();
    void writeFigure(int row, const QString& text);
    QLineEdit* addField(const char* name, const QString& label, const QString& unit, double JigPoint::*member,
                        class QBoxLayout* column);

    Workspace& workspace_;
    int part_ = 0;
    std::vector<Jig> jigs_;
    JigPoint point_;
    JigResult result_;
    QString fitNote_;  ///< what a fit led to, until the next change
    QLabel *title_, *note_;
    class QPushButton *fit_, *lines_;
    class QSpinBox* lineCount_;
    QListWidget* list_;
    QCustomPlot* plot_;
    QTableWidget* figures_;
    QTimer* later_;
    Background background_;
    bool filling_ = false, fitting_ = false;
};

}  // namespace hedgerow::app
