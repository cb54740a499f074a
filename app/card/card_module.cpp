// Modules on the card: what a place offers, and the module whose sheet is in view.

#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "card/card.h"
#include "model/module_edits.h"
#include "model/modules.h"

namespace hedgerow::app {

void Card::showModuleOf(const Part& place) {
    const Sheet* module = workspace_.project().findSheet(moduleOf(place.kind));
    if (!module) return;
    if (!module->note.empty()) addQuiet(QString::fromStdString(module->note));
    if (!module->origin.empty()) addQuiet("of library " + QString::fromStdString(module->origin) + ", read-only");
    auto* row = new QHBoxLayout;
    auto* open = new QPushButton("Open its sheet", page_);
    open->setObjectName("openModule");
    connect(
        open, &QPushButton::clicked, this, [this, id = place.id] { workspace_.openPlace(id); }, Qt::QueuedConnection);
    row->addWidget(open);
    if (!module->origin.empty()) {
        auto* own = new QPushButton("Make it own", page_);
        own->setObjectName("ownModule");
        own->setToolTip("a copy of the library's module becomes the project's; all its places follow");
        connect(
            own, &QPushButton::clicked, this,
            [this, name = module->name] { (void)workspace_.apply(edits::makeOwn(name)); }, Qt::QueuedConnection);
        row->addWidget(own);
    }
    row->addStretch(1);
    column_->addLayout(row);
}

void Card::showModule() {
    const Sheet& module = workspace_.project().sheet();
    auto* title = new QLabel("Module " + QString::fromStdString(module.name), page_);
    title->setStyleSheet("font-size: 16px; font-weight: bold;");
    column_->addWidget(title);
    addQuiet("Its pins are the pin parts on this sheet. Every place of the module changes with it.");
    const auto sheet = [this]() -> const Sheet& { return workspace_.project().sheet(); };
    addField(
        "name", "", "module.name", [sheet] { return sheet().name; },
        [this, sheet](const std::string& text) -> Result<QString> {
            if (text == sheet().name) return QString();
            if (auto free = edits::moduleNameFree(workspace_.project(), text); !free) return free.error();
            return QString();
        },
        [this, sheet](const std::string& text) {
            if (!text.empty()) (void)workspace_.apply(edits::renameModule(sheet().name, text));
        });
    addField(
        "note", "", "module.note", [sheet] { return sheet().note; },
        [](const std::string&) -> Result<QString> { return QString(); },
        [this, sheet](const std::string& text) { (void)workspace_.apply(edits::setModuleNote(sheet().name, text)); });
    showParameters();
    addQuiet("Each place of the module can set these; the values here are the standard ones.");
}

}  // namespace hedgerow::app
