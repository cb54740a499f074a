// What can be done with what is selected on the sheet.

#include "sheet/sheet_view.h"

#include <algorithm>

#include <QApplication>
#include <QClipboard>
#include <QMimeData>
#include <QRegularExpression>

#include "formats/hedge/hedge.h"
#include "model/arrange.h"
#include "model/edits.h"
#include "model/module_edits.h"
#include "model/references.h"
#include "runs/registry.h"
#include "sheet/sheet_export.h"
#include "sheet/sheet_painter.h"
#include "base/commands.h"

namespace hedgerow::app {

void SheetView::moveSelection(Point by) {
    if (!workspace_.selection().empty())
        (void)workspace_.apply(edits::move(workspace_.selection(), by, workspace_.catalogue()));
}
void SheetView::turnSelection() {
    if (!workspace_.selection().empty())
        (void)workspace_.apply(edits::turn(workspace_.selection(), workspace_.catalogue()));
}
void SheetView::flipSelection() {
    if (!workspace_.selection().empty())
        (void)workspace_.apply(edits::flip(workspace_.selection(), workspace_.catalogue()));
}
void SheetView::climbSelection(int steps) {
    if (!workspace_.selection().empty())
        (void)workspace_.apply(edits::climb(workspace_.selection(), steps, workspace_.catalogue()));
}
void SheetView::deleteSelection() {
    if (!workspace_.selection().empty())
        (void)workspace_.apply(edits::remove(workspace_.selection(), workspace_.catalogue()));
}

void SheetView::repeatLast() {
    Part part = last_;
    if (const Part* selected = workspace_.selectedPart()) part = *selected;
    const PartKind* kind = workspace_.catalogue().find(part.kind);
    if (!kind) return;
    hang({kind, part.values, {}});
    hanging_.turn = part.turn;
    hanging_.flip = part.flip;
    hanging_.rung = part.rung;
}

void SheetView::align(edits::Edge edge) {
    (void)workspace_.apply(edits::align(workspace_.selection(), edge, workspace_.catalogue()));
}

void SheetView::distribute(bool horizontally) {
    (void)workspace_.apply(edits::distribute(workspace_.selection(), horizontally, workspace_.catalogue()));
}

void SheetView::copyInRow() {
    const Sheet clip = edits::copied(workspace_.project().sheet(), workspace_.selection());
    if (clip.parts.empty()) return;
    const QRectF box = sheetBox(workspace_, clip);
    openEditor(QRectF(box.left(), box.bottom() + 8, 140, 16), "3 copies right 160",
               [this](const QString& typed) -> Status {
                   static const QRegularExpression form(R"(^\s*(\d+)\D*?\b(right|left|up|down)\s+(\d+)\s*$)");
                   const auto read = form.match(typed);
                   if (!read.hasMatch())
                       return Error{ErrorCode::syntax, "type how many, which way and how far: 3 copies right 160"};
                   const int by = snapped(std::min(read.captured(3).toInt(), 100'000), 0).x;
                   const QString way = read.captured(2);
                   const Point step = way == "right"  ? Point{by, 0}
                                      : way == "left" ? Point{-by, 0}
                                      : way == "up"   ? Point{0, -by}
                                                      : Point{0, by};
                   return workspace_.apply(
                       edits::array(workspace_.selection(), read.captured(1).toInt(), step, workspace_.catalogue()));
               });
    editor_->setModified(true);
}

void SheetView::selectNets() {
    workspace_.select(wholeNets(workspace_.project().sheet(), workspace_.nets(), workspace_.selection()));
}

void SheetView::selectSimilar() {
    workspace_.select(similarParts(workspace_.project().sheet(), workspace_.selection()));
}

void SheetView::promoteValue() {
    const Part* part = workspace_.selectedPart();
    const PartKind* kind = part ? workspace_.catalogue().find(part->kind) : nullptr;
    if (!kind) return;
    const auto shown = std::find_if(kind->parameters.begin(), kind->parameters.end(), [](const ParameterKind& p) {
        return p.shownOnSheet && p.choices.empty() && !p.text;
    });
    if (shown == kind->parameters.end()) return;
    const PartText text = partText(*part, *kind, workspace_.parameters().lookup());
    const std::string name = shown->key.size() == 1 ? part->name : shown->key + "_" + part->name;
    openEditor(text.valueBox, QString::fromStdString(name),
               [this, id = part->id, key = shown->key](const QString& typed) {
                   return workspace_.apply(edits::promote(id, key, typed.toStdString(), workspace_.catalogue()));
               });
    editor_->setModified(true);
}

/// Asks for a name beneath what is selected.
void SheetView::askName(const QString& offered, std::function<Status(const std::string&)> accept) {
    const QRectF box = sheetBox(workspace_, edits::copied(workspace_.project().sheet(), workspace_.selection()));
    openEditor(QRectF(box.left(), box.bottom() + 8, 140, 16), offered,
               [accept = std::move(accept)](const QString& typed) { return accept(typed.trimmed().toStdString()); });
    editor_->setModified(true);
}

void SheetView::makeModule() {
    QString free = "module";
    for (int n = 2; !edits::moduleNameFree(workspace_.project(), free.toStdString()); ++n)
        free = QString("module%1").arg(n);
    askName(free, [this](const std::string& name) -> Status {
        const std::set<int> ids = workspace_.selection();
        auto made = workspace_.apply(edits::makeModule(ids, name, workspace_.catalogue()));
        if (made) workspace_.select({workspace_.project().sheet().parts.back().id});
        return made;
    });
}

void SheetView::copyModule() {
    const Part& place = *workspace_.selectedPart();
    QString free;
    for (int n = 2; free.isEmpty() || !edits::moduleNameFree(workspace_.project(), free.toStdString()); ++n)
        free = QString::fromStdString(std::string(moduleOf(place.kind))) + QString::number(n);
    askName(free,
            [this, id = place.id](const std::string& name) { return workspace_.apply(edits::copyForPlace(id, name)); });
}

void SheetView::keepPart() {
    const Part& part = *workspace_.selectedPart();
    askName(QString::fromStdString(part.name).toLower(), [this, id = part.id](const std::string& word) {
        auto kept = workspace_.apply(edits::keepPart(id, word));
        if (kept) emit hinted(QString::fromStdString(word) + " is now among the project's own parts");
        return kept;
    });
}

void SheetView::reveal(const std::set<int>& ids) {
    workspace_.select(ids);
    const QRectF box = sheetBox(workspace_, edits::copied(workspace_.project().sheet(), ids));
    const QRectF seen(toSheet({0, 0}), toSheet({double(width()), double(height())}));
    if (!seen.contains(box)) {
        offset_ = QPointF(width() / 2.0, height() / 2.0) - box.center() * zoom_;
        fitted_ = false;
    }
    update();
}

void SheetView::offer(Commands& commands) {
    commands_ = &commands;
    const auto any = [this] { return !workspace_.selection().empty(); };
    const auto one = [this] { return workspace_.selectedPart() != nullptr; };
    const auto several = [this] { return workspace_.selection().size() > 1; };
    commands.addShown(
        "Turn", "Ctrl+→", [this] { turnSelection(); }, any);
    commands.addShown(
        "Flip", "Ctrl+↑", [this] { flipSelection(); }, any);
    commands.addShown(
        "Climb the ladder", "Page Up", [this] { climbSelection(1); }, any);
    commands.addShown(
        "Descend the ladder", "Page Down", [this] { climbSelection(-1); }, any);
    commands.addShown(
        "Delete", "Del", [this] { deleteSelection(); }, any);
    commands.addShown("Place the same part again", "Space", [this] { repeatLast(); });
    commands.addShown(
        "Rename the part", "F2", [this] { editName(workspace_.selectedPart()->id); }, one);
    commands.addShown(
        "Edit the value", "Enter", [this] { editValue(workspace_.selectedPart()->id); }, one);
    commands.addShown("Show everything", "Home", [this] { fit(); });
    commands.add(
        "Copy", QKeySequence::Copy, [this] { copySelection(); }, this, any);
    commands.add(
        "Cut", QKeySequence::Cut, [this] { cutSelection(); }, this, any);
    commands.add(
        "Paste", QKeySequence::Paste, [this] { paste(); }, this);
    commands.add(
        "Select everything", QKeySequence::SelectAll, [this] { selectAll(); }, this);
    commands.add(
        "Copies in a row…", QKeySequence("Ctrl+R"), [this] { copyInRow(); }, this, any);
    commands.add(
        "Select the whole net", QKeySequence("Ctrl+J"), [this] { selectNets(); }, this, any);
    commands.add(
        "Select all of this kind", QKeySequence("Ctrl+E"), [this] { selectSimilar(); }, this, any);
    commands.add(
        "Compare with the rung below", QKeySequence("Ctrl+Page Down"), [this] { workspace_.compareWithRungBelow(); },
        this, any);
    commands.add(
        "Make a parameter of the value…", QKeySequence("Ctrl+M"), [this] { promoteValue(); }, this, one);
    commands.add(
        "Make a module of the selection…", QKeySequence("Ctrl+K"), [this] { makeModule(); }, this, any);
    const auto place = [this] {
        const Part* part = workspace_.selectedPart();
        return part && !moduleOf(part->kind).empty();
    };
    commands.add(
        "Open the module", QKeySequence("Ctrl+I"), [this] { workspace_.openPlace(workspace_.selectedPart()->id); },
        this, place);
    commands.add(
        "Up to the sheet above", QKeySequence("Ctrl+U"), [this] { workspace_.leaveModule(); }, nullptr,
        [this] { return workspace_.project().showsModule(); });
    commands.add(
        "Give this place a module of its own…", {}, [this] { copyModule(); }, this, place);
    commands.add(
        "Keep the part under a word…", {}, [this] { keepPart(); }, this, one);
    using edits::Edge;
    for (const auto& [name, edge] : {std::pair{"Align left edges", Edge::left},
                                     {"Align right edges", Edge::right},
                                     {"Align top edges", Edge::top},
                                     {"Align bottom edges", Edge::bottom},
                                     {"Align in a column", Edge::column},
                                     {"Align in a row", Edge::row}})
        commands.add(
            name, {}, [this, edge] { align(edge); }, this, several);
    commands.add(
        "Distribute across", {}, [this] { distribute(true); }, this, several);
    commands.add(
        "Distribute down", {}, [this] { distribute(false); }, this, several);
}

void SheetView::selectAll() {
    std::set<int> ids;
    const Sheet& sheet = workspace_.project().sheet();
    for (const Part& part : sheet.parts) ids.insert(part.id);
    for (const Wire& wire : sheet.wires) ids.insert(wire.id);
    for (const Label& label : sheet.labels) ids.insert(label.id);
    workspace_.select(ids);
}

/// As text that can be pasted here or into another window, and as a picture for other programs.
void SheetView::copySelection() const {
    if (workspace_.selection().empty()) return;
    const Sheet clip = edits::copied(workspace_.project().sheet(), workspace_.selection());
    auto* data = new QMimeData;
    data->setText(QString::fromStdString(writeClip(clip, workspace_.project().sheets)));
    data->setData("image/svg+xml", sheetAsSvg(workspace_, clip));
    QApplication::clipboard()->setMimeData(data);
}

void SheetView::cutSelection() {
    copySelection();
    deleteSelection();
}

void SheetView::paste() {
    auto sheets = readClip(QApplication::clipboard()->text().toStdString());
    if (!sheets || (sheets->front().parts.empty() && sheets->front().wires.empty() && sheets->front().labels.empty())) {
        emit hinted("The clipboard holds no parts");
        return;
    }
    const Sheet* clip = &sheets->front();
    Point low{INT32_MAX, INT32_MAX};
    for (const Part& part : clip->parts) low = {std::min(low.x, part.at.x), std::min(low.y, part.at.y)};
    for (const Wire& wire : clip->wires)
        for (const Point point : wire.points) low = {std::min(low.x, point.x), std::min(low.y, point.y)};
    for (const Label& label : clip->labels) low = {std::min(low.x, label.at.x), std::min(low.y, label.at.y)};
    const bool pointed = rect().contains(pointer_.toPoint()) && underMouse();
    const Point by = pointed ? grid(toSheet(pointer_)) - low
                             : Point{gridStep * 4 * (1 + pasteCount_ % 8), gridStep * 4 * (1 + pasteCount_ % 8)};
    ++pasteCount_;
    std::set<int> added;
    const std::vector<Sheet> modules(sheets->begin() + 1, sheets->end());
    if (workspace_.apply(edits::pasteWithModules(*clip, modules, by, partLibrary().catalogue(), &added)))
        workspace_.select(added);
}

}  // namespace hedgerow::app
