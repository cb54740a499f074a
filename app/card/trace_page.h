#pragma once
// What is known of one trace: its measures for the shown run and those beside it, and the harmonics of a fundamental.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include <QTimer>
#include <QWidget>

#include "base/background.h"
#include "base/workspace.h"
#include "traces/measures.h"
#include "traces/spectrum.h"

class QCheckBox;
class QComboBox;
class QLabel;
class QLineEdit;
class QSpinBox;
class QTableWidget;
class QVBoxLayout;

namespace hedgerow::app {

class TracePage : public QWidget {
    Q_OBJECT

public:
    TracePage(Workspace& workspace, std::string quantity, QWidget* parent = nullptr);

private:
    /// What the page is to find out.
    struct Question {
        Tick from = 0, to = 0;
        QString span;
        std::optional<std::pair<Tick, Tick>> cursors = {};
        QStringList heads = {};                                 ///< of the runs
        std::vector<std::shared_ptr<const Trace>> traces = {};  ///< of each of them
        bool ownShown = false;                                  ///< the first is of the shown run
        std::string other = {};                                 ///< what it is measured against
        std::shared_ptr<const Trace> with = {};
        std::optional<Result<double>> fundamental = {};  ///< Hz, as typed
    };
    struct Answer {
        Question asked;
        std::vector<std::vector<MeasureRow>> rows;  ///< of each trace
        std::optional<double> apart;                ///< rms difference of two
        QString relation;
        std::optional<Harmonics> harmonics;
        std::optional<GroupedHarmonics> groups = {};
    };
    void refresh();
    Question question();
    static Answer answer(const Question& asked, const CancelToken& cancel);
    void show(const Answer& found);
    void showMeasures(const Answer& found);
    void showHarmonics(const Answer& answer);
    void fillHarmonics();
    static QStringList harmonicHeads(int way);
    QStringList harmonicRow(int way, int order) const;
    void showRelation(const Answer& found);
    void addSpectra();
    QWidget* makePeriods();
    void copyTables() const;

    Workspace& workspace_;
    std::string quantity_;
    QLabel *span_, *distortion_, *relation_;
    QCheckBox* periodsWanted_;
    QSpinBox* periods_;
    QLineEdit* against_;
    QTableWidget *measures_, *harmonics_;
    QLineEdit* fundamental_;
    QComboBox* way_;         ///< lines, groups or subgroups
    Answer shownHarmonics_;  ///< what the table is made of
    QVBoxLayout* spectra_;
    std::vector<std::size_t> spectrumLanes_;
    Background background_;
    QTimer later_;  ///< a moment after the last change of the window
};

}  // namespace hedgerow::app
