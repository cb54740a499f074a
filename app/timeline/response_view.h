#pragma once
// The timeline over frequency: gain and phase of what is asked for, about the periodic state, with margins, earlier
// curves and measured ones.

#include <memory>
#include <optional>
#include <vector>

#include <QWidget>

#include "base/background.h"
#include "base/workspace.h"
#include "runs/responses.h"

class QComboBox;
class QCPAxisRect;
class QCustomPlot;
class QLabel;
class QLineEdit;
class QPushButton;

namespace hedgerow::app {

/// A curve on it.
struct ShownResponse {
    FrequencyResponse curve;
    bool loop = false;
    bool earlier = false, measured = false;
};

class ResponseView : public QWidget {
    Q_OBJECT

public:
    explicit ResponseView(Workspace& workspace, QWidget* parent = nullptr);

    /// Fills the fields with what suits the circuit, where nothing was asked for yet.
    void open();
    const std::vector<ShownResponse>& shown() const { return shown_; }
    bool busy() const { return busy_; }
    /// Finds what the fields ask for.
    void find();
    void stop();
    /// A loop gain that was found elsewhere, dashed, and what becomes of it.
    void showLoop(const FrequencyResponse& before, const FrequencyResponse& after);
    /// Lays measured curves beside: a table or a Touchstone file.
    Status addMeasured(const QString& path);
    Status writeTable(const QString& path) const;
    Status writePicture(const QString& path);
    void setLocus(bool on);

signals:
    void left();
    void said(const QString& message, bool bad);

protected:
    void changeEvent(QEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;

private:
    std::optional<ResponseQuestion> question();
    void fillChoices();
    void showFields();
    void keepEarlier();
    void rebuild();
    void drawCurves();
    void drawLocus();
    void fit();
    void moveCursor(double x);
    QStringList readings() const;

    Workspace& workspace_;
    QWidget* bar_;
    QComboBox *sort_, *from_;
    QLineEdit *to_, *span_, *points_;
    QLabel *toLabel_, *state_;
    QPushButton *find_, *locusButton_, *back_;
    QCustomPlot* plot_;
    QCPAxisRect *gain_ = nullptr, *phase_ = nullptr;
    std::vector<ShownResponse> shown_;
    std::optional<double> cursor_;  ///< Hz
    bool busy_ = false, locus_ = false, asked_ = false;
    Background background_;
};

}  // namespace hedgerow::app
