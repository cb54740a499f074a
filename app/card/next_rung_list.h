#pragma once
// One change at a time: which part to put on a higher rung next, as the waveforms of the shown run suggest. A click on
// a part goes to it and to the instant, one on its rung climbs.

#include <QWidget>

#include "analysis/next_rung.h"
#include "base/background.h"
#include "base/workspace.h"

class QVBoxLayout;

namespace hedgerow::app {

class NextRungList : public QWidget {
    Q_OBJECT

public:
    explicit NextRungList(Workspace& workspace, QWidget* parent = nullptr);
    const std::vector<RungAdvice>& advice() const { return advice_; }

signals:
    /// The time at which it shows is to be seen.
    void instantAsked(double seconds);

private:
    void fill();
    void list();
    void follow(const QString& link);

    Workspace& workspace_;
    std::vector<RungAdvice> advice_;
    QVBoxLayout* column_;
    std::weak_ptr<const RunRecord> filledFor_;
    Background looking_;
};

}  // namespace hedgerow::app
