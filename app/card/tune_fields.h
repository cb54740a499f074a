#pragma once
// Tuning of the regulator on the card: crossover and phase margin in, gains out, with the loop before and after.

#include <QWidget>

#include "analysis/tune.h"
#include "base/background.h"
#include "base/workspace.h"

class QLabel;
class QLineEdit;
class QPushButton;

namespace hedgerow::app {

class TuneFields : public QWidget {
    Q_OBJECT

public:
    TuneFields(Workspace& workspace, int part, QWidget* parent);

signals:
    /// The loop gain before and after is to be seen.
    void found(const hedgerow::FrequencyResponse& before, const hedgerow::FrequencyResponse& after);

private:
    void tune();
    void take();
    void say(const QString& text, bool bad);

    Workspace& workspace_;
    int part_;
    QLineEdit *crossover_, *margin_;
    QPushButton *tune_, *take_;
    QLabel* outcome_;
    std::vector<std::pair<std::string, std::string>> values_;
    bool busy_ = false;
    Background background_;
};

}  // namespace hedgerow::app
