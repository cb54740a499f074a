#include "shell/libraries.h"

#include <QCoreApplication>
#include <QDir>
#include <QFileInfo>

#include "base/text.h"
#include "formats/hedge/hedge.h"
#include "shell/workspace.h"

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

void readLibraries(Workspace& workspace) {
    workspace.readLibraries({ownLibraryFolder(), sharedFolder("library").toStdString()});
}

Result<QString> shareInOwnLibrary(Workspace& workspace) {
    const Project& project = workspace.project();
    std::vector<std::string> modules, kept;
    const Part* place = workspace.selectedPart();
    if (place && !moduleOf(place->kind).empty())
        modules.emplace_back(moduleOf(place->kind));
    else if (project.showsModule())
        modules.push_back(project.sheet().name);
    else
        for (const Part& part : project.kept) kept.push_back(part.name);
    if (modules.empty() && kept.empty())
        return Error{ErrorCode::name, "select a place of a module, or keep a part under a word first"};
    if (auto status = shareInLibrary(ownLibraryFolder() / "own.hedge", project, modules, kept); !status)
        return status.error();
    readLibraries(workspace);
    kept.insert(kept.end(), modules.begin(), modules.end());
    return QString::fromStdString(listed(kept)) + (kept.size() == 1 ? " is" : " are") +
           " in your library now: every project can use it";
}

Result<QString> addLibrary(Workspace& workspace, const QString& path) {
    auto loaded = loadHedge(path.toStdString());
    if (!loaded) return loaded.error();
    const QString name = QFileInfo(path).fileName();
    if (loaded->project.sheets.size() < 2 && loaded->project.kept.empty())
        return Error{ErrorCode::file, name.toStdString() + " holds neither modules nor kept parts"};
    std::error_code failed;
    std::filesystem::create_directories(ownLibraryFolder(), failed);
    if (auto status = saveHedge(loaded->project, ownLibraryFolder() / name.toStdString()); !status)
        return status.error();
    readLibraries(workspace);
    return "The modules and parts of " + name + " can be placed in every project now";
}

}  // namespace hedgerow::app
