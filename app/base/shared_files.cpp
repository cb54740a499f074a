#include "base/shared_files.h"

#include <QCoreApplication>
#include <QDir>
#include <QFileInfo>

namespace hedgerow::app {

QString sharedFolder(const QString& name) {
    for (const QString& base :
         {QCoreApplication::applicationDirPath() + "/../share/hedgerow", QString(HEDGEROW_SHARED)})
        if (QDir(base + "/" + name).exists()) return QDir(base + "/" + name).absolutePath();
    return {};
}

bool ships(const QString& path) {
    const QString folder = QFileInfo(path).absolutePath();
    return !path.isEmpty() && (folder == sharedFolder("examples") || folder == sharedFolder("library"));
}

}  // namespace hedgerow::app
