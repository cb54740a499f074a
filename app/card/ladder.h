#pragma once
// The ladder of a part: rungs it has, the one it stands on, what each adds and costs.

#include <map>
#include <optional>

#include <QWidget>

#include "model/part_kind.h"

namespace hedgerow::app {

/// "ideal", "lossy" and so on. @param rung  0 to 4
const char* nameOfRung(int rung);

class Ladder : public QWidget {
    Q_OBJECT

public:
    explicit Ladder(QWidget* parent = nullptr);
    /// @param measured  prices by rung that this machine has measured; the catalogue's count for the others
    void show(const PartKind* kind, int rung, const std::map<int, double>& measured = {});

signals:
    void climbed(int rung);

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void leaveEvent(QEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

private:
    /// Vertical centre of a rung, and its height.
    double centre(int rung) const;
    double heightOf(int rung) const;
    int rungAt(double y) const;

    std::optional<PartKind> kind_;  ///< a copy: catalogues change
    int rung_ = 1;
    int hovered_ = -1;
    std::map<int, double> measured_;
};

}  // namespace hedgerow::app
