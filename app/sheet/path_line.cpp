#include "sheet/path_line.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>

#include "model/module_edits.h"
#include "base/workspace.h"
#include "style/theme.h"

namespace hedgerow::app {

PathLine::PathLine(Workspace& workspace, QWidget* sheet)
    : QFrame(sheet), workspace_(workspace), row_(new QHBoxLayout(this)) {
    setObjectName("path");
    setAccessibleName("the sheet in view");
    row_->setContentsMargins(10, 2, 10, 2);
    row_->setSpacing(2);
    connect(&workspace, &Workspace::projectChanged, this, &PathLine::refresh);
    connect(&workspace, &Workspace::viewChanged, this, &PathLine::refresh);
    refresh();
}

/// A word that can be pressed.
void PathLine::addWord(const QString& text, const QString& name, std::function<void()> go) {
    const Colours& p = colours();
    auto* word = new QPushButton(text, this);
    word->setObjectName(name);
    word->setFlat(true);
    word->setFocusPolicy(Qt::TabFocus);
    word->setStyleSheet(QString("QPushButton { border: 0; background: transparent; color: %1; padding: 2px 4px; } "
                                "QPushButton:hover, QPushButton:focus { text-decoration: underline; }")
                            .arg(p.sloe.name()));
    // Queued: the word goes when another sheet comes into view.
    connect(word, &QPushButton::clicked, this, std::move(go), Qt::QueuedConnection);
    row_->addWidget(word);
}

void PathLine::refresh() {
    const Project& project = workspace_.project();
    while (QLayoutItem* item = row_->takeAt(0)) {
        if (QWidget* widget = item->widget()) widget->hide(), widget->deleteLater();
        delete item;
    }
    setVisible(project.showsModule());
    if (!project.showsModule()) return emit resized();
    const Colours& p = colours();
    setStyleSheet(QString("QFrame#path { background: %1; border: 1px solid %2; border-radius: 13px; }")
                      .arg(p.paper.name(), p.rule.name()));
    addWord("main sheet", "path.main", [this] { workspace_.look({}); });
    std::vector<int> path;
    const auto places = placesInView(project);
    for (std::size_t i = 0; i + 1 < places.size(); ++i) {
        path.push_back(places[i]->id);
        row_->addWidget(new QLabel("›", this));
        addWord(QString::fromStdString(places[i]->name), "path." + QString::fromStdString(places[i]->name),
                [this, path] { workspace_.look(viewAlong(workspace_.project(), path)); });
    }
    const QString module = QString::fromStdString(project.sheet().name);
    auto* here = new QLabel(places.empty() ? "›  module " + module
                                           : "›  " + QString::fromStdString(places.back()->name) + ", module " + module,
                            this);
    here->setObjectName("path.here");
    here->setStyleSheet("font-weight: bold;");
    row_->addWidget(here);
    if (!project.sheet().origin.empty()) {
        auto* origin = new QLabel("of library " + QString::fromStdString(project.sheet().origin) + ", read-only", this);
        origin->setProperty("quiet", true);
        origin->setContentsMargins(8, 0, 0, 0);
        row_->addWidget(origin);
        addWord("make it the project's own", "path.own",
                [this] { (void)workspace_.apply(edits::makeOwn(workspace_.project().sheet().name)); });
    }
    for (int i = 0; i < row_->count(); ++i) row_->itemAt(i)->widget()->show();  // hidden ones would take no room
    adjustSize();
    move(16, 10);
    raise();
    emit resized();
}

}  // namespace hedgerow::app
