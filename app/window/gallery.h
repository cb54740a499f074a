#pragma once
// The gallery: ready-made circuits as cards with drawn previews. Each opens as a copy.

#include <QFrame>

class QGridLayout;

namespace hedgerow::app {

class Gallery : public QFrame {
    Q_OBJECT

public:
    /// Covers `over` when it is open.
    /// @param folder  of the projects to show
    Gallery(const QString& folder, QWidget* over);

    void open();
    void close();

signals:
    void chosen(const QString& path);
    void emptyChosen();

protected:
    bool eventFilter(QObject* watched, QEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

private:
    void build();
    QString folder_;
    QGridLayout* grid_ = nullptr;
};

}  // namespace hedgerow::app
