#pragma once
// Asking for the name of a file to write.

#include <QString>
#include <QStringList>

class QWidget;

namespace hedgerow::app {

/// Asks for a name; "" when none is given. A name without an ending gets that of the chosen filter, and the user is
/// asked before any file is replaced, with that ending too.
/// @param filters  such as "Web page (*.html)"; the first is chosen at the start
QString askForSaving(QWidget* parent, const QString& title, const QString& start, const QStringList& filters);
/// Asks whether files may be replaced. @return whether they may, or there are none
bool mayReplace(QWidget* parent, const QStringList& files);

}  // namespace hedgerow::app
