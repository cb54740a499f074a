#pragma once
// The trade study: what matters, other ways of solving, and what they lose and save against a reference that has
// converged. It stands where the sheet does; a click on a result shows its waveforms beside the reference on the timeline.

#include <optional>
#include <vector>

#include <QWidget>

#include "base/background.h"
#include "base/workspace.h"
#include "studies/trade.h"
#include "study/study_names.h"

class QComboBox;
class QCustomPlot;
class QLabel;
class QPlainTextEdit;
class QPushButton;
class QTableWidget;

namespace hedgerow::app {

class TradeView : public QWidget {
    Q_OBJECT

public:
    explicit TradeView(Workspace& workspace, QWidget* parent = nullptr);
    void open();
    void refreshTheme();
    bool busy() const { return background_.busy(); }
    const std::optional<TradeResult>& result() const { return result_; }
    enum class Kind { study, search, steps };
    void run(Kind kind);
    void stop();
    /// The waveforms of a result beside those of the reference.
    void showPoint(std::size_t point);
    /// The plan in force is solved by the line of a result from now on.
    void use(const std::string& line);
    Status writeTable(const QString& path) const;
    Status writePicture(const QString& path);

signals:
    void left();
    void said(const QString& message, bool bad);

protected:
    void keyPressEvent(QKeyEvent* event) override;
    bool eventFilter(QObject* object, QEvent* event) override;

private:
    TradeStudy study() const;
    void showIdle();
    void takeTexts();
    void fillTexts();
    void listKept(bool showNewest = false);
    std::filesystem::path keptFolder() const;
    void showKept(int index);
    void show(TradeResult result);
    void draw();
    void fillTable();
    int pointAt(const QPointF& at) const;
    void choose(int point);

    Workspace& workspace_;
    std::optional<TradeResult> result_;
    int chosen_ = -1;
    QPlainTextEdit *features_, *alternatives_;
    QLabel *title_, *note_, *answer_;
    QPushButton *run_, *search_, *steps_, *use_, *look_;
    QComboBox* kept_;
    StudyNames<TradeStudy> names_;
    QCustomPlot* plot_;
    QTableWidget* table_;
    std::vector<std::string> keptNames_;
    Background background_, keeping_;
    CancelToken cancel_;
    bool filling_ = false;
};

}  // namespace hedgerow::app
