#pragma once
// The shelf: parts to place, quantities to watch, runs to look at; one of the three at a time.

#include <QListWidget>
#include <QWidget>

#include "model/values.h"
#include "base/workspace.h"

class QLabel;
class QLineEdit;
class QStackedWidget;

namespace hedgerow::app {

/// The upright tabs at the edge.
class ShelfTabs : public QWidget {
    Q_OBJECT

public:
    explicit ShelfTabs(QWidget* parent = nullptr);
    void setCurrent(int index);

signals:
    void chosen(int index);

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

private:
    int current_ = 0;
};

/// A list whose items can be dragged onto a lane.
class QuantityList : public QListWidget {
    Q_OBJECT

public:
    using QListWidget::QListWidget;

protected:
    QMimeData* mimeData(const QList<QListWidgetItem*>& items) const override;
    QStringList mimeTypes() const override;
};

class Shelf : public QWidget {
    Q_OBJECT

public:
    enum Tab { parts, quantities, runs };
    explicit Shelf(Workspace& workspace, QWidget* parent = nullptr);
    void show(Tab tab);

signals:
    void partChosen(const hedgerow::Entry& entry);
    void quantityChosen(const QString& quantity);
    void overChosen(const QString& quantity, const QString& across);

private:
    QWidget* makeParts();
    QWidget* makeQuantities();
    void fillParts();
    void fillQuantities();
    QString quantityMistake(const QString& typed) const;

    Workspace& workspace_;
    ShelfTabs* tabs_;
    QStackedWidget* pages_;
    QLineEdit *partSearch_ = nullptr, *quantitySearch_ = nullptr;
    QListWidget* partList_ = nullptr;
    QuantityList* quantityList_ = nullptr;
    QLabel* quantityHint_ = nullptr;
    QStringList quantityNames_;
};

}  // namespace hedgerow::app
