#pragma once
// What is known of one trace: its measures for the shown run and those beside it, and the harmonics of a fundamental.

#include <QTimer>
#include <QWidget>

#include "shell/workspace.h"

class QCheckBox;
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
    void refresh();
    void fillMeasures();
    void fillHarmonics();
    void fillRelation();
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
    QVBoxLayout* spectra_;
    std::vector<std::size_t> spectrumLanes_;
    QTimer later_;  ///< a moment after the last change of the window
};

}  // namespace hedgerow::app
