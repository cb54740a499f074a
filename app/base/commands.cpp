#include "base/commands.h"

#include <QAction>
#include <QMenu>
#include <QShortcut>

namespace hedgerow::app {

void Commands::add(const QString& name, const QKeySequence& key, std::function<void()> run, QWidget* where,
                   std::function<bool()> possible) {
    addShown(name, key.toString(QKeySequence::NativeText), std::move(run), std::move(possible));
    if (key.isEmpty()) return;
    auto* shortcut = new QShortcut(key, where ? where : window_);
    shortcut->setContext(where ? Qt::WidgetShortcut : Qt::WindowShortcut);
    connect(shortcut, &QShortcut::activated, this, [this, name] {
        if (const Command* command = find(name); command && command->canRun()) command->run();
    });
}

void Commands::addShown(const QString& name, const QString& keys, std::function<void()> run,
                        std::function<bool()> possible) {
    all_.push_back({name, keys, std::move(run), std::move(possible)});
}

const Command* Commands::find(const QString& name) const {
    for (const Command& command : all_)
        if (command.name == name) return &command;
    return nullptr;
}

void Commands::fill(QMenu& menu, const QStringList& names) const {
    for (const QString& name : names) {
        if (name.isEmpty()) {
            menu.addSeparator();
            continue;
        }
        const Command* command = find(name);
        if (!command) continue;
        QAction* item = menu.addAction(command->keys.isEmpty() ? name : name + "\t" + command->keys);
        QObject::connect(item, &QAction::triggered, &menu, [run = command->run] { run(); });
        item->setEnabled(command->canRun());
        QObject::connect(&menu, &QMenu::aboutToShow, item,
                         [item, possible = command->possible] { item->setEnabled(!possible || possible()); });
    }
}

}  // namespace hedgerow::app
