// What can be done with a lane and with all of them, by the menu over the lanes.

#include "timeline/lanes_view.h"

#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QFileDialog>
#include <QLineEdit>
#include <QMenu>
#include <QWidgetAction>

#include "model/edits.h"
#include "style/picture_file.h"
#include "timeline/lane_view.h"

namespace hedgerow::app {

void LanesView::contextMenuEvent(QContextMenuEvent* event) {
    const int index = laneAt(event->y());
    QMenu menu(this);
    if (index >= 0) addLaneActions(menu, index);
    menu.addSeparator();
    addSets(menu);
    menu.addAction("Save the lanes as picture…", this, [this] { savePicture(); });
    menu.addAction("Show the whole run\tHome", this, &LanesView::fit);
    if (workspace_.cursor())
        menu.addAction("Let the cursor go\tEsc", this, [this] { pinned_ = false, workspace_.setCursor({}); });
    menu.exec(event->globalPos());
}

void LanesView::addLaneActions(QMenu& menu, int index) {
    const LaneView& view = lane(index);
    const Lane& shown = view.lane();
    for (const std::string& quantity : shown.quantities)
        menu.addAction("Remove " + QString::fromStdString(quantity), this,
                       [this, index, quantity] { removeQuantity(index, quantity); });
    menu.addSeparator();
    addKindActions(menu, index);
    menu.addSeparator();
    menu.addAction(shown.folded ? "Unfold the lane" : "Fold the lane", this, [this, index] {
        changeLane(index, "fold lane", [](Lane& changed) { changed.folded = !changed.folded; });
    });
    if (!view.logic()) {
        const QCPRange range = view.valueRange();
        if (shown.low.empty() && shown.high.empty())
            menu.addAction("Hold this range", this, [this, index, range] {
                changeLane(index, "hold range", [&](Lane& changed) {
                    changed.low = QString::number(range.lower, 'g', 6).toStdString();
                    changed.high = QString::number(range.upper, 'g', 6).toStdString();
                });
            });
        else
            menu.addAction("Scale by itself", this, [this, index] {
                changeLane(index, "scale lane", [](Lane& changed) { changed.low = changed.high = ""; });
            });
    }
    if (!view.logic() && shown.kind == LaneKind::time)
        menu.addAction(shown.log ? "Linear" : "Logarithmic", this, [this, index] {
            changeLane(index, "lane scale", [](Lane& changed) { changed.log = !changed.log; });
        });
    menu.addAction("Copy what is read off", this,
                   [this, index] { QApplication::clipboard()->setText(lane(index).readings()); });
    menu.addAction("Save this lane as picture…", this, [this, index] { savePicture(index); });
    menu.addAction("Copy as picture", this, [this, index] {
        const QRect box = lane(index).box();
        QApplication::clipboard()->setPixmap(grab(QRect(0, box.top(), width(), box.height())));
    });
}

/// Further lanes made from this one: spectra, and quantities over another one.
void LanesView::addKindActions(QMenu& menu, int index) {
    const Lane& shown = lane(index).lane();
    if (shown.kind == LaneKind::time && !lane(index).logic())
        menu.addAction("Spectrum", this, [this, index] {
            Lane added = lane(index).lane();
            added.kind = LaneKind::spectrum;
            added.log = added.folded = false;
            added.low = added.high = "";
            added.height = std::max(added.height, 120);
            addLane(std::move(added), index, "spectrum");
        });
    const std::string across = workspace_.chosenTrace();
    if (across.empty() || shown.kind != LaneKind::time) return;
    for (const std::string& quantity : shown.quantities)
        if (quantity != across)
            menu.addAction(QString::fromStdString(quantity + " over " + across), this,
                           [this, index, quantity, across] { showOver(quantity, across, index); });
}

/// Lanes kept under names.
void LanesView::addSets(QMenu& menu) {
    QMenu* sets = menu.addMenu("Sets of lanes");
    for (const LaneSet& set : workspace_.project().laneSets)
        sets->addAction(QString::fromStdString(set.name), this,
                        [this, name = set.name] { (void)workspace_.apply(edits::showLaneSet(name)); });
    if (!workspace_.project().laneSets.empty()) {
        QMenu* remove = sets->addMenu("Remove");
        for (const LaneSet& set : workspace_.project().laneSets)
            remove->addAction(QString::fromStdString(set.name), this,
                              [this, name = set.name] { (void)workspace_.apply(edits::removeLaneSet(name)); });
        QMenu* planned = sets->addMenu("Shown after runs of " + QString::fromStdString(workspace_.plan().name));
        for (const LaneSet& set : workspace_.project().laneSets) {
            const bool now = set.plan == workspace_.plan().name;
            QAction* choice = planned->addAction(QString::fromStdString(set.name), this, [this, name = set.name, now] {
                (void)workspace_.apply(edits::setPlanOfLanes(name, now ? "" : workspace_.plan().name));
            });
            choice->setCheckable(true);
            choice->setChecked(now);
        }
        sets->addSeparator();
    }
    auto* name = new QLineEdit;
    name->setObjectName("laneSetName");
    name->setPlaceholderText("keep these lanes as …");
    name->setAccessibleName("name of a set of lanes");
    auto* field = new QWidgetAction(sets);
    field->setDefaultWidget(name);
    sets->addAction(field);
    connect(name, &QLineEdit::returnPressed, &menu, [this, name, &menu] {
        (void)workspace_.apply(edits::keepLaneSet(name->text().trimmed().toStdString()));
        menu.close();
    });
}

void LanesView::savePicture(int only) {
    const QString path = askForPictureFile(this, only < 0 ? "Save the lanes as picture" : "Save the lane as picture");
    if (path.isEmpty()) return;
    const Status written = writePicture(path, only);
    emit said(written ? "wrote " + path : QString::fromStdString(written.error().text()), !written);
}

}  // namespace hedgerow::app
