#pragma once
// The entry line: typed letters become a part with its values, at the pointer.

#include <functional>

#include <QFrame>
#include <QLineEdit>

#include "model/values.h"

namespace hedgerow::app {

class Workspace;

/// Appears over the sheet, lists what matches, and hands over what was chosen.
class EntryLine : public QFrame {
    Q_OBJECT

public:
    EntryLine(Workspace& workspace, QWidget* sheet);

    /// Shows the line at a place of the sheet widget, with the first letters already typed.
    void start(const QPoint& at, const QString& typed);
    void cancel();

signals:
    void chosen(const hedgerow::Entry& entry);
    /// "net NAME": the net under the pointer gets a name; "net NAME C1.a": that at a pin.
    void netNamed(const QString& name, const QString& place);
    /// "join C1.a out": two pins or nets are to be joined.
    void joinNamed(const QString& from, const QString& to);
    void closed();

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;

private:
    void refresh();
    void accept();
    void readVerb(const QString& typed);
    void findMatches(const std::string& word);
    int rowAt(int y) const;

    Workspace& workspace_;
    QLineEdit* line_;
    /// A kind of part, or one of the user's own with its values.
    struct Match {
        const PartKind* kind;
        const Part* kept;
    };
    std::vector<Match> matches_;
    enum class Verb { place, net, join } verb_ = Verb::place;
    std::size_t row_ = 0;
    QString understood_, error_;
    Entry entry_;
};

}  // namespace hedgerow::app
