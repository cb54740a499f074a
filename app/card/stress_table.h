#pragma once
// The stress of all parts in the shown run, the worst first. A click goes to the instant of a peak.

#include <QTableWidget>

#include "analysis/stress.h"
#include "base/background.h"
#include "base/workspace.h"

namespace hedgerow::app {

inline constexpr int lineHeight = 22;
/// A table without frame, heads and bars, as long as its rows.
void makePlain(QTableWidget& table, int columns);
void setCell(QTableWidget& table, int row, int column, const QString& text, const QColor& colour);

class StressTable : public QTableWidget {
    Q_OBJECT

public:
    explicit StressTable(Workspace& workspace, QWidget* parent = nullptr);
    QSize sizeHint() const override;
    QSize minimumSizeHint() const override { return sizeHint(); }
    const std::vector<StressRow>& stress() const { return rows_; }

signals:
    /// The time of a peak is to be seen.
    void instantAsked(double seconds);

private:
    void fill();
    void list();
    void choose(int row);

    Workspace& workspace_;
    std::vector<StressRow> rows_;
    std::weak_ptr<const RunRecord> filledFor_;
    Background looking_;
};

}  // namespace hedgerow::app
