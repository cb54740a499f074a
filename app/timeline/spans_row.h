#pragma once
// The spans of the plan on the time axis: how each part of the run is solved, and what it costs. Borders are dragged, blocks
// are lifted and lowered on the ladder, split, typed in.

#include <QWidget>

#include "timeline/lanes_view.h"

class QLineEdit;

namespace hedgerow::app {

class SpansRow : public QWidget {
    Q_OBJECT

public:
    static constexpr int rowHeight = 42;
    SpansRow(Workspace& workspace, LanesView& lanes, QWidget* parent = nullptr);
    /// The span that keys and the menu act on; -1 for none.
    int chosen() const { return chosen_; }
    void choose(int span);
    /// A line in which it is typed.
    void type(int span);
    void split();
    void insertSettled();
    void remove();
    /// One rung higher or lower for all parts of the span.
    void climb(int by);

signals:
    void said(const QString& message, bool bad);

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    void focusInEvent(QFocusEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;
    bool event(QEvent* event) override;
    bool eventFilter(QObject* object, QEvent* event) override;

private:
    /// A span as it stands on the axis: of the shown run, or as it is planned.
    struct Block {
        int span = 0;
        double from = 0, to = 0;  ///< s
        QString line = {};        ///< how it is solved
        QString below = {};       ///< what it costs
        QString about = {};       ///< in full
        int rung = 0;             ///< of all its parts; 0 as drawn
        bool settle = false, waits = false, caution = false;
        double done = 0;  ///< s, up to which it has been solved
    };
    std::vector<Block> blocks() const;
    QRectF boxOf(const Block& block) const;
    int blockAt(const QPointF& at) const;
    /// The block whose right border is there; -1.
    int borderAt(double x) const;
    const Plan& plan() const { return workspace_.plan(); }
    bool has(int span) const { return span >= 0 && span < static_cast<int>(plan().spans.size()); }
    void change(const std::function<void(std::vector<Span>&)>& edit);
    void moveBorder(int span, double to);
    void endTyping(bool take);
    double length() const;

    Workspace& workspace_;
    LanesView& lanes_;
    QLineEdit* line_;
    // The run whose spans are shown, and the plan when it came: what is edited since is shown as planned.
    mutable std::weak_ptr<RunEntry> seenRun_;
    mutable Plan seenPlan_;
    int chosen_ = -1, typed_ = -1;
    int pressed_ = -1, border_ = -1;  ///< the block or border under the pressed button
    QPointF pressedAt_;
    double draggedTo_ = 0;  ///< s
    int lifted_ = 0;        ///< rungs
    bool moving_ = false;
};

}  // namespace hedgerow::app
