#include "card/settled_list.h"

#include <QLabel>
#include <QVBoxLayout>

namespace hedgerow::app {

bool SettledList::of(const Workspace& workspace) {
    const RunPointer& shown = workspace.shownRun();
    return shown && !shown->running() && shown->run && !shown->run->summary().settled.empty();
}

SettledList::SettledList(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    setObjectName("settledList");
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 4);
    column->setSpacing(2);
    connect(&workspace, &Workspace::runsChanged, this, &SettledList::fill);
    fill();
}

void SettledList::fill() {
    if (!of(workspace_)) return;
    qDeleteAll(findChildren<QLabel*>(QString(), Qt::FindDirectChildrenOnly));
    for (const auto& [name, words] : workspace_.shownRun()->run->summary().settled) {
        auto* line = new QLabel(
            QString("<b>%1</b> %2")
                .arg(QString::fromStdString(name).toHtmlEscaped(), QString::fromStdString(words).toHtmlEscaped()),
            this);
        line->setWordWrap(true);
        line->setTextInteractionFlags(Qt::TextSelectableByMouse);
        layout()->addWidget(line);
    }
    arrange();
}

void SettledList::resizeEvent(QResizeEvent*) { arrange(); }

/// All lines of each text are seen: the card scrolls rather than squeezing them.
void SettledList::arrange() {
    for (QLabel* const line : findChildren<QLabel*>(QString(), Qt::FindDirectChildrenOnly)) {
        line->setMinimumHeight(0);  // what is wanted is never below the least
        line->setMinimumHeight(line->heightForWidth(width()));
    }
}

}  // namespace hedgerow::app
