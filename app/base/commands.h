#pragma once
// Everything that can be done in the window, with its name and its key: the menu, the keys and the finder show it.

#include <functional>
#include <vector>

#include <QKeySequence>
#include <QObject>
#include <QString>

class QAction;
class QMenu;
class QWidget;

namespace hedgerow::app {

struct Command {
    QString name;
    QString keys;  ///< as shown; "" without a key
    std::function<void()> run;
    std::function<bool()> possible;  ///< empty: always
    bool canRun() const { return !possible || possible(); }
};

class Commands : public QObject {
public:
    explicit Commands(QWidget* window) : QObject(nullptr), window_(window) {}

    /// A command whose key works wherever the keyboard is in `where` (the whole window by default).
    void add(const QString& name, const QKeySequence& key, std::function<void()> run, QWidget* where = nullptr,
             std::function<bool()> possible = {});
    /// A command whose key a view handles itself.
    void addShown(const QString& name, const QString& keys, std::function<void()> run,
                  std::function<bool()> possible = {});

    const std::vector<Command>& all() const { return all_; }
    const Command* find(const QString& name) const;
    /// Puts commands into a menu; "" is a line between them. What is not possible is greyed.
    void fill(QMenu& menu, const QStringList& names) const;

private:
    QWidget* window_;
    std::vector<Command> all_;
};

}  // namespace hedgerow::app
