#include "window/libraries.h"

#include <QDir>
#include <QFileInfo>

#include "base/file.h"
#include "base/text.h"
#include "formats/hedge/hedge.h"
#include "model/quantity.h"
#include "desk/card_import.h"
#include "base/shared_files.h"
#include "base/workspace.h"

namespace hedgerow::app {

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

namespace {

/// A place among the user's libraries for a file of this name: what is there already stays, beside it, unless it is the
/// same file word for word.
Result<std::filesystem::path> addToOwnLibraries(const Project& project, const std::string& stem) {
    constexpr int most = 1000;
    const std::string text = writeHedge(project);
    for (int n = 1; n < most; ++n) {
        const auto target = ownLibraryFolder() / (stem + (n > 1 ? "-" + std::to_string(n) : "") + ".hedge");
        std::error_code failed;
        if (std::filesystem::exists(std::filesystem::symlink_status(target, failed))) {
            const auto there = readFile(target);
            if (there && *there == text) return target;
            continue;
        }
        std::filesystem::create_directories(ownLibraryFolder(), failed);
        if (auto status = saveHedge(project, target); !status) return status.error();
        return target;
    }
    return Error{ErrorCode::file, "there are too many libraries called " + stem};
}

QString placeSaid(const std::filesystem::path& target, const QString& wanted) {
    const QString name = QString::fromStdString(target.filename().string());
    return name == wanted ? QString() : " (kept as " + name + ": there was a " + wanted + " already)";
}

}  // namespace

Result<QString> addLibrary(Workspace& workspace, const QString& path) {
    auto loaded = loadHedge(path.toStdString());
    if (!loaded) return loaded.error();
    const QString name = QFileInfo(path).fileName();
    if (loaded->project.sheets.size() < 2 && loaded->project.kept.empty())
        return Error{ErrorCode::file, name.toStdString() + " holds neither modules nor kept parts"};
    const auto target = addToOwnLibraries(loaded->project, QFileInfo(path).completeBaseName().toStdString());
    if (!target) return target.error();
    readLibraries(workspace);
    return "The modules and parts of " + name + " can be placed in every project now" +
           placeSaid(*target, QFileInfo(path).completeBaseName() + ".hedge");
}

Result<QString> addCards(Workspace& workspace, const QString& path) {
    constexpr double upTo = 10;  // A, of the straight lines of rungs 2 and 3
    const auto text = readFile(path.toStdString());
    if (!text)
        return Error{ErrorCode::file, QFileInfo(path).fileName().toStdString() + " cannot be read: " + text.error().message};
    const CardImport import = importCards(*text, upTo, CancelToken());
    const QString name = QFileInfo(path).completeBaseName();
    const auto escaped = [](const std::string& text) { return QString::fromStdString(text).toHtmlEscaped(); };
    QString html = "<h2>" + name.toHtmlEscaped() + "</h2>";
    if (import.devices.empty() && import.modules.empty()) {
        html += "<p>No card in it became a part.</p>";
    } else {
        const auto target = addToOwnLibraries(projectOf(import, name.toStdString()), name.toStdString());
        if (!target) return target.error();
        readLibraries(workspace);
        html += "<p>They can be placed in every project now: type their names over the sheet" +
                placeSaid(*target, name + ".hedge").toHtmlEscaped() + ".</p><ul>";
        for (const ImportedDevice& device : import.devices) {
            const PartKind& kind = *workspace.catalogue().find(device.part.kind);
            html += QString("<li><b>%1</b>: %2").arg(escaped(device.part.name), escaped(kind.title));
            if (device.residual > 0)
                html += QString(", the straight lines of rungs 2 and 3 within %1 of its curve up to %2")
                            .arg(escaped(formatQuantity(device.residual, "V", 2)), escaped(formatQuantity(upTo, "A")));
            html += "</li>";
        }
        for (const Sheet& module : import.modules)
            html +=
                QString("<li><b>%1</b>: a module of %2 parts</li>").arg(escaped(module.name)).arg(module.parts.size());
        html += "</ul>";
    }
    if (!import.remarks.empty()) {
        html += "<h3>Not taken, or taken for something else</h3><table cellpadding=4>";
        for (const CardRemark& remark : import.remarks)
            html += QString("<tr><td>line %1</td><td><tt>%2</tt></td><td>%3</td></tr>")
                        .arg(remark.line)
                        .arg(escaped(remark.text), escaped(remark.why));
        html += "</table>";
    }
    return html;
}

}  // namespace hedgerow::app
