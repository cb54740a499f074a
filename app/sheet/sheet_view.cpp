#include "sheet/sheet_view.h"

#include <algorithm>
#include <cmath>

#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QKeyEvent>
#include <QMenu>
#include <QMimeData>
#include <QPainter>
#include <QToolTip>

#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "model/route.h"
#include "model/router.h"
#include "sheet/entry_line.h"
#include "sheet/sheet_painter.h"
#include "sheet/symbol.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr double leastZoom = 0.15, mostZoom = 6.0, fitMargin = 28, mostFitZoom = 1.25;
constexpr double pinReach = 7, wireReach = 5;
constexpr int dragDistance = 4;

double distanceToSegment(QPointF p, Point a, Point b) {
    const double x = std::clamp(p.x(), double(std::min(a.x, b.x)), double(std::max(a.x, b.x)));
    const double y = std::clamp(p.y(), double(std::min(a.y, b.y)), double(std::max(a.y, b.y)));
    return std::hypot(p.x() - x, p.y() - y);
}
}  // namespace

SheetView::SheetView(Workspace& workspace, QWidget* parent)
    : QWidget(parent), workspace_(workspace), entry_(new EntryLine(workspace, this)) {
    setObjectName("sheet");
    setAccessibleName("sheet");
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setMinimumSize(300, 200);
    connect(&workspace, &Workspace::projectChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::selectionChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::problemsChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::cursorChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::runsChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::fileChanged, this, [this] {
        if (fitted_) fit();
    });
    connect(entry_, &EntryLine::chosen, this, &SheetView::hang);
    connect(entry_, &EntryLine::netNamed, this, &SheetView::nameNet);
}

void SheetView::fit() {
    QRectF box = sheetBox(workspace_);
    if (box.isEmpty()) box = QRectF(0, 0, 640, 400);
    const double room =
        std::min((width() - 2 * fitMargin) / box.width(), (height() - 2 * fitMargin - 16) / box.height());
    zoom_ = std::clamp(room, leastZoom, mostFitZoom);
    offset_ = QPointF(width() / 2.0, (height() - 16) / 2.0) - box.center() * zoom_;
    fitted_ = true;
    update();
}

void SheetView::resizeEvent(QResizeEvent*) {
    if (fitted_) fit();
}

/// Typing with the pointer over the sheet places parts, wherever the keyboard was, unless text is being typed there.
void SheetView::enterEvent(QEnterEvent*) {
    if (!qobject_cast<QLineEdit*>(QApplication::focusWidget())) setFocus(Qt::MouseFocusReason);
}

// ---- painting

Sheet SheetView::shownSheet() const {
    if (mode_ != Mode::dragging || dragged_ == Point{}) return workspace_.project().sheet();
    Project preview = workspace_.project();
    (void)edits::move(workspace_.selection(), dragged_, workspace_.catalogue()).apply(preview);
    return preview.sheet();
}

void SheetView::paintEvent(QPaintEvent*) {
    const Colours& p = colours();
    QPainter painter(this);
    painter.fillRect(rect(), p.paper);
    painter.setRenderHint(QPainter::Antialiasing);
    const double dot = 24 * zoom_;
    if (dot > 10) {
        painter.setPen(QPen(p.linen, 2));
        for (double x = std::fmod(offset_.x(), dot); x < width(); x += dot)
            for (double y = std::fmod(offset_.y(), dot); y < height(); y += dot) painter.drawPoint(QPointF(x, y));
    }
    painter.save();
    painter.translate(offset_);
    painter.scale(zoom_, zoom_);
    const Sheet sheet = shownSheet();
    paintSheet(painter, {workspace_, sheet, Instant::of(workspace_), true,
                         QRectF(toSheet({0, 0}), toSheet({double(width()), double(height())}))});
    paintMode(painter);
    painter.restore();
    if (mode_ == Mode::banding) {
        painter.setPen(QPen(p.sloe, 1, Qt::DashLine));
        QColor fill = p.sloeTint;
        fill.setAlpha(120);
        painter.setBrush(fill);
        painter.drawRect(QRectF(pressed_, pointer_).normalized());
    }
    if (sheet.parts.empty() && mode_ == Mode::idle) paintEmptyHint(painter);
    painter.setFont(textFont());
    painter.setPen(p.bark);
    painter.drawText(QRect(16, height() - 28, width() - 32, 20), Qt::AlignLeft | Qt::AlignVCenter, instantText());
    if (hasFocus()) {
        painter.setPen(QPen(p.sloeTint, 2));
        painter.setBrush(Qt::NoBrush);
        painter.drawRect(rect().adjusted(1, 1, -1, -1));
    }
}

QString SheetView::instantText() const {
    if (mode_ == Mode::hanging)
        return "Enter or click drops · ← → turn · ↑ ↓ flip · Shift with arrows moves · Esc lets go";
    if (mode_ == Mode::wiring) return "click a pin or a wire to join · click elsewhere bends · Esc ends";
    if (!workspace_.cursor()) {
        for (const Error& problem : workspace_.problems())
            if (problem.part.empty()) return QString::fromStdString(problem.message);
        return {};
    }
    if (workspace_.shownRunIsOld()) return "the circuit has changed since this run: run again to see it at the cursor";
    QStringList conducting, blocking;
    for (const Part& part : workspace_.project().sheet().parts)
        if (const Trace* trace = workspace_.trace(part.name + ".on"))
            if (const auto on = trace->at(*workspace_.cursor()))
                (*on > 0.5 ? conducting : blocking) << QString::fromStdString(part.name);
    QString text = "at " + QString::fromStdString(formatQuantity(toSeconds(*workspace_.cursor()), "s", 7));
    const auto verb = [](const QStringList& names, const char* one, const char* many) {
        return names.join(", ") + (names.size() == 1 ? one : many);
    };
    if (!conducting.isEmpty()) text += ": " + verb(conducting, " conducts", " conduct");
    if (!blocking.isEmpty()) text += (conducting.isEmpty() ? ": " : ", ") + verb(blocking, " blocks", " block");
    return text;
}

void SheetView::paintEmptyHint(QPainter& painter) const {
    const Colours& p = colours();
    painter.setFont(textFont(TextSize::large));
    painter.setPen(p.bark);
    painter.drawText(rect().adjusted(0, -24, 0, -24), Qt::AlignCenter, "Type to place a part");
    painter.setFont(textFont());
    painter.drawText(rect().adjusted(0, 30, 0, 30), Qt::AlignCenter,
                     "for instance   dc 80    l 47u dcr 12m    switch    ref");
}

void SheetView::paintMode(QPainter& painter) const {
    const Colours& p = colours();
    const Point at = grid(toSheet(pointer_));
    if (mode_ == Mode::hanging) {
        const PartKind* kind = workspace_.catalogue().find(hanging_.kind);
        Part part = hanging_;
        part.at = at;
        painter.save();
        enterPart(painter, part);
        drawSymbol(painter, *kind, {p.sloe});
        painter.restore();
        painter.setPen(QPen(p.sloe, 1.5));
        painter.setBrush(p.sloeTint);
        for (const PinKind& pin : kind->pins) {
            const Point pinAt = part.toSheet(pin.at);
            if (touchesNet(pinAt)) painter.drawEllipse(QPointF(pinAt.x, pinAt.y), 5, 5);
        }
    }
    if (mode_ == Mode::wiring) {
        painter.setPen(QPen(p.sloe, 2, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
        const Point target = wireTarget();
        const auto way = wirePreview(target);
        for (std::size_t i = 0; i + 1 < way.size(); ++i)
            painter.drawLine(QPointF(way[i].x, way[i].y), QPointF(way[i + 1].x, way[i + 1].y));
        if (touchesNet(target)) painter.drawEllipse(QPointF(target.x, target.y), 5, 5);
    }
    if (mode_ == Mode::idle) {
        const Hit under = hit(toSheet(pointer_));
        if (under.what == Hit::What::pin) {
            painter.setPen(QPen(p.sloe, 1.5));
            painter.setBrush(p.sloeTint);
            painter.drawEllipse(QPointF(under.at.x, under.at.y), 5, 5);
        }
    }
}

QImage SheetView::picture(const QSize& size, double ratio) const {
    QImage image(size * ratio, QImage::Format_ARGB32_Premultiplied);
    image.setDevicePixelRatio(ratio);
    image.fill(colours().paper);
    QPainter painter(&image);
    painter.setRenderHint(QPainter::Antialiasing);
    const QRectF box = sheetBox(workspace_);
    const double scale = std::min((size.width() - 48) / box.width(), (size.height() - 48) / box.height());
    painter.translate(size.width() / 2.0, size.height() / 2.0);
    painter.scale(scale, scale);
    painter.translate(-box.center());
    paintSheet(painter, {workspace_, workspace_.project().sheet(), {}, false, {}});
    return image;
}

// ---- finding what is where

SheetView::Hit SheetView::hit(const QPointF& at) const {
    const Sheet& sheet = workspace_.project().sheet();
    const auto lookup = workspace_.parameters().lookup();
    for (const Part& part : sheet.parts) {
        const PartKind* kind = workspace_.catalogue().find(part.kind);
        for (std::size_t i = 0; kind && i < kind->pins.size(); ++i) {
            const Point pin = part.toSheet(kind->pins[i].at);
            if (std::hypot(at.x() - pin.x, at.y() - pin.y) <= pinReach)
                return {Hit::What::pin, part.id, static_cast<int>(i), pin};
        }
    }
    for (auto part = sheet.parts.rbegin(); part != sheet.parts.rend(); ++part) {
        const PartKind* kind = workspace_.catalogue().find(part->kind);
        if (!kind) {
            if (QRectF(part->at.x - 24, part->at.y - 24, 48, 48).contains(at))
                return {Hit::What::part, part->id, 0, part->at};
            continue;
        }
        const bool named = kind->pins.size() > 1 || kind->pins[0].sort != PinSort::power;
        const PartText text = partText(*part, *kind, lookup);
        if (named && text.nameBox.contains(at)) return {Hit::What::name, part->id, 0, part->at};
        if (named && text.valueBox.adjusted(0, 0, 4, 0).contains(at)) return {Hit::What::value, part->id, 0, part->at};
        if (partBox(*part, *kind).adjusted(-4, -4, 4, 4).contains(at)) return {Hit::What::part, part->id, 0, part->at};
    }
    for (const Label& label : sheet.labels)
        if (QRectF(label.at.x - 24, label.at.y - 28, 48, 22).contains(at))
            return {Hit::What::label, label.id, 0, label.at};
    for (const Wire& wire : sheet.wires)
        for (std::size_t i = 0; i + 1 < wire.points.size(); ++i)
            if (distanceToSegment(at, wire.points[i], wire.points[i + 1]) <= wireReach) {
                const auto [low, high] = std::minmax(wire.points[i], wire.points[i + 1]);
                const QPointF nearest(
                    std::clamp(at.x(), double(low.x), double(high.x)),
                    std::clamp(at.y(), double(std::min(low.y, high.y)), double(std::max(low.y, high.y))));
                return {Hit::What::wire, wire.id, 0, grid(nearest)};
            }
    return {};
}

bool SheetView::touchesNet(Point at) const {
    const Sheet& sheet = workspace_.project().sheet();
    for (const Part& part : sheet.parts)
        if (const PartKind* kind = workspace_.catalogue().find(part.kind))
            for (const PinKind& pin : kind->pins)
                if (part.toSheet(pin.at) == at) return true;
    return std::any_of(sheet.wires.begin(), sheet.wires.end(), [at](const Wire& wire) { return liesOn(wire, at); });
}

// ---- modes

void SheetView::setMode(Mode mode) {
    mode_ = mode;
    setCursor(mode == Mode::panning                           ? Qt::ClosedHandCursor
              : mode == Mode::hanging || mode == Mode::wiring ? Qt::CrossCursor
                                                              : Qt::ArrowCursor);
    update();
}

void SheetView::hang(const Entry& entry) {
    closeEditor(false);
    hanging_ = Part{};
    hanging_.kind = entry.kind->id;
    hanging_.values = entry.values;
    // Values of a higher rung put the part on that rung.
    for (const auto& [key, text] : entry.values.all())
        if (const ParameterKind* parameter = entry.kind->findParameter(key); parameter && !parameter->rating)
            hanging_.rung = std::max(hanging_.rung, parameter->rung);
    if (!rect().contains(pointer_.toPoint()) || pointer_.isNull()) pointer_ = rect().center();
    setMode(Mode::hanging);
    setFocus();
}

void SheetView::dropHanging() {
    Part part = hanging_;
    part.at = grid(toSheet(pointer_));
    if (!workspace_.apply(edits::place(part, workspace_.catalogue()))) return;
    workspace_.select({workspace_.project().sheet().parts.back().id});
    setMode(Mode::idle);
}

void SheetView::startWire(Point from) {
    wire_ = {from};
    setMode(Mode::wiring);
}

/// Dragging from a wire branches it, unless it is moved along with parts.
bool SheetView::branchesWire() const {
    if (pressedHit_.what != Hit::What::wire) return false;
    const auto& ids = workspace_.selection();
    return std::none_of(ids.begin(), ids.end(),
                        [this](int id) { return workspace_.project().findPart(id) != nullptr; });
}

/// Where a wire that is drawn would end now: a pin or a wire under the pointer catches it.
Point SheetView::wireTarget() const {
    const Hit under = hit(toSheet(pointer_));
    return under.what == Hit::What::pin || under.what == Hit::What::wire ? under.at : grid(toSheet(pointer_));
}

std::vector<Point> SheetView::wirePreview(Point to) const {
    std::vector<Point> way(wire_.begin(), wire_.end() - 1);
    const Router router(workspace_.project().sheet(), workspace_.catalogue(), wire_.back(), to);
    const auto last = router.route(wire_.back(), to);
    way.insert(way.end(), last.begin(), last.end());
    return simplified(way);
}

void SheetView::extendWire(Point to, bool finish) {
    const auto way = wirePreview(to);
    if (way.size() < 2) return;
    if (finish || touchesNet(to)) {
        (void)workspace_.apply(edits::addWire(way, wire_.size() > 1));
        setMode(Mode::idle);
        return;
    }
    wire_ = way;
    update();
}

void SheetView::nameNet(const QString& name) {
    const Hit under = hit(toSheet(pointer_));
    Point at = under.at;
    if (under.what != Hit::What::wire && under.what != Hit::What::pin) {
        for (const int id : workspace_.selection())
            if (const Wire* wire = workspace_.project().findWire(id)) {
                (void)workspace_.apply(edits::setLabel(wire->points.front(), name.toStdString()));
                return;
            }
        emit hinted("Point at a wire or a pin first, then type net and the name");
        return;
    }
    (void)workspace_.apply(edits::setLabel(at, name.toStdString()));
}

// ---- in-place editing

void SheetView::openEditor(const QRectF& box, const QString& text, std::function<Status(const QString&)> accept) {
    closeEditor(true);
    if (editor_) return;  // a wrong value wants to be put right first
    editor_ = new QLineEdit(text, this);
    editor_->setObjectName("inPlaceEditor");
    editor_->setAccessibleName("value");
    const QPointF at = toWidget(box.topLeft());
    editor_->setGeometry(static_cast<int>(at.x()) - 6, static_cast<int>(at.y()) - 4,
                         std::max(120, static_cast<int>(box.width() * zoom_) + 32), 26);
    editorAccepts_ = std::move(accept);
    editor_->selectAll();
    editor_->show();
    editor_->setFocus();
    connect(editor_, &QLineEdit::textEdited, this, [this] {
        editor_->setProperty("bad", false);
        editor_->setStyleSheet("");
    });
    connect(editor_, &QLineEdit::editingFinished, this, [this] { closeEditor(true); });
}

void SheetView::closeEditor(bool accept) {
    if (!editor_) return;
    QLineEdit* editor = editor_;
    if (accept && editor->isModified()) {
        auto accepts = editorAccepts_;
        if (auto status = accepts(editor->text().trimmed()); !status) {
            // The text stays, marked, until it is right or let go.
            editor->setProperty("bad", true);
            editor->setStyleSheet(QString("border: 1px solid %1;").arg(colours().haw.name()));
            QToolTip::showText(editor->mapToGlobal(QPoint(0, editor->height())),
                               QString::fromStdString(status.error().message), editor);
            emit hinted(QString::fromStdString(status.error().message));
            if (editor->hasFocus()) return;
        }
    }
    editor_ = nullptr;
    editor->disconnect(this);
    editor->hide();
    editor->deleteLater();
    setFocus();
}

void SheetView::editName(int id) {
    const Part* part = workspace_.project().findPart(id);
    const PartKind* kind = part ? workspace_.catalogue().find(part->kind) : nullptr;
    if (!kind) return;
    const PartText text = partText(*part, *kind, workspace_.parameters().lookup());
    openEditor(text.nameBox, text.name,
               [this, id](const QString& name) { return workspace_.apply(edits::renamePart(id, name.toStdString())); });
}

void SheetView::editValue(int id) {
    const Part* part = workspace_.project().findPart(id);
    const PartKind* kind = part ? workspace_.catalogue().find(part->kind) : nullptr;
    if (!kind) return;
    const auto shown = std::find_if(kind->parameters.begin(), kind->parameters.end(),
                                    [&](const ParameterKind& p) { return p.shownOnSheet && p.rung <= part->rung; });
    if (shown == kind->parameters.end()) return;
    const std::string* typed = part->values.find(shown->key);
    const PartText text = partText(*part, *kind, workspace_.parameters().lookup());
    openEditor(text.valueBox, QString::fromStdString(typed ? *typed : shown->standard),
               [this, id, kind, key = shown->key](const QString& typedNow) -> Status {
                   Part trial = *workspace_.project().findPart(id);
                   trial.values.set(key, typedNow.toStdString());
                   if (auto value = partValue(trial, *kind, key, workspace_.parameters().lookup()); !value)
                       return value.error();
                   return workspace_.apply(edits::setValue({id}, key, typedNow.toStdString()));
               });
}

// ---- mouse

void SheetView::mousePressEvent(QMouseEvent* event) {
    pointer_ = pressed_ = event->position();
    closeEditor(true);
    if (editor_) return;
    setFocus();
    if (event->button() == Qt::MiddleButton) return setMode(Mode::panning);
    if (event->button() != Qt::LeftButton) return;
    if (mode_ == Mode::hanging) return dropHanging();
    if (mode_ == Mode::wiring) return extendWire(wireTarget(), false);
    maybeClick_ = true;
    pressedHit_ = hit(toSheet(pointer_));
    const bool add = event->modifiers() & (Qt::ControlModifier | Qt::ShiftModifier);
    switch (pressedHit_.what) {
        case Hit::What::nothing:
            if (!add) workspace_.select({});
            break;
        case Hit::What::pin:
            break;
        default: {
            std::set<int> ids = workspace_.selection();
            if (add) {
                if (!ids.insert(pressedHit_.id).second) ids.erase(pressedHit_.id);
            } else if (!ids.contains(pressedHit_.id)) {
                ids = {pressedHit_.id};
            }
            workspace_.select(ids);
        }
    }
}

void SheetView::mouseMoveEvent(QMouseEvent* event) {
    const QPointF before = pointer_;
    pointer_ = event->position();
    if (mode_ == Mode::panning) {
        offset_ += pointer_ - before;
        fitted_ = false;
    } else if (maybeClick_ && (pointer_ - pressed_).manhattanLength() > dragDistance) {
        maybeClick_ = false;
        if (pressedHit_.what == Hit::What::nothing)
            setMode(Mode::banding);
        else if (pressedHit_.what == Hit::What::pin || branchesWire())
            startWire(pressedHit_.at);
        else if (!workspace_.selection().empty())
            setMode(Mode::dragging);
    }
    if (mode_ == Mode::dragging) dragged_ = grid(toSheet(pointer_)) - grid(toSheet(pressed_));
    update();
}

void SheetView::mouseReleaseEvent(QMouseEvent* event) {
    pointer_ = event->position();
    const Mode was = mode_;
    if (was == Mode::panning) return setMode(Mode::idle);
    const bool fromNet = pressedHit_.what == Hit::What::pin || pressedHit_.what == Hit::What::wire;
    if (was == Mode::wiring && !maybeClick_ && fromNet && (pointer_ - pressed_).manhattanLength() > dragDistance) {
        pressedHit_ = {};
        return extendWire(wireTarget(), false);
    }
    if (was == Mode::dragging) {
        const Point by = dragged_;
        dragged_ = {};
        setMode(Mode::idle);
        if (by != Point{}) (void)workspace_.apply(edits::move(workspace_.selection(), by, workspace_.catalogue()));
        return;
    }
    if (was == Mode::banding) {
        const QRectF band(toSheet(pressed_), toSheet(pointer_));
        std::set<int> ids;
        const Sheet& sheet = workspace_.project().sheet();
        for (const Part& part : sheet.parts)
            if (const PartKind* kind = workspace_.catalogue().find(part.kind);
                kind && band.normalized().contains(partBox(part, *kind)))
                ids.insert(part.id);
        for (const Wire& wire : sheet.wires)
            if (std::all_of(wire.points.begin(), wire.points.end(),
                            [&](Point p) { return band.normalized().contains(p.x, p.y); }))
                ids.insert(wire.id);
        for (const Label& label : sheet.labels)
            if (band.normalized().contains(label.at.x, label.at.y)) ids.insert(label.id);
        workspace_.select(ids);
        return setMode(Mode::idle);
    }
    if (!maybeClick_ || event->button() != Qt::LeftButton) return;
    maybeClick_ = false;
    if (event->modifiers() & (Qt::ControlModifier | Qt::ShiftModifier)) return;
    if (pressedHit_.what == Hit::What::pin)
        startWire(pressedHit_.at);
    else if (pressedHit_.what == Hit::What::name)
        editName(pressedHit_.id);
    else if (pressedHit_.what == Hit::What::value)
        editValue(pressedHit_.id);
    else if (pressedHit_.what == Hit::What::label) {
        const Label* label = workspace_.project().findLabel(pressedHit_.id);
        openEditor(QRectF(label->at.x - 24, label->at.y - 22, 60, 16), QString::fromStdString(label->net),
                   [this, id = label->id](const QString& name) {
                       return workspace_.apply(edits::renameLabel(id, name.toStdString()));
                   });
    }
}

void SheetView::zoomAt(const QPointF& at, double factor) {
    const double zoom = std::clamp(zoom_ * factor, leastZoom, mostZoom);
    offset_ = at - (at - offset_) * (zoom / zoom_);
    zoom_ = zoom;
    fitted_ = false;
    update();
}

void SheetView::wheelEvent(QWheelEvent* event) {
    closeEditor(true);
    if (event->modifiers() & Qt::ShiftModifier) {
        offset_ += QPointF(event->angleDelta().y(), 0) / 2;
        fitted_ = false;
        update();
    } else {
        zoomAt(event->position(), std::pow(1.2, event->angleDelta().y() / 120.0));
    }
    event->accept();
}

void SheetView::contextMenuEvent(QContextMenuEvent* event) {
    if (mode_ != Mode::idle) {
        setMode(Mode::idle);
        return;
    }
    QMenu menu(this);
    const bool any = !workspace_.selection().empty();
    const auto add = [&](const QString& text, const QString& key, bool enabled, auto action) {
        QAction* item = menu.addAction(text + "\t" + key, this, action);
        item->setEnabled(enabled);
    };
    add("Turn", "Ctrl+→", any, [this] { turnSelection(); });
    add("Flip", "Ctrl+↑", any, [this] { flipSelection(); });
    add("Climb the ladder", "Page Up", any, [this] { climbSelection(1); });
    add("Descend the ladder", "Page Down", any, [this] { climbSelection(-1); });
    menu.addSeparator();
    add("Copy", "Ctrl+C", any, [this] { copySelection(); });
    add("Cut", "Ctrl+X", any, [this] { cutSelection(); });
    add("Paste", "Ctrl+V", true, [this] { paste(); });
    add("Delete", "Del", any, [this] { deleteSelection(); });
    menu.addSeparator();
    add("Show everything", "Home", true, [this] { fit(); });
    menu.exec(event->globalPos());
}

// ---- keyboard

bool SheetView::event(QEvent* event) {
    // Tab goes from part to part here, and leaves the sheet after the last one.
    if (event->type() == QEvent::KeyPress) {
        auto* key = static_cast<QKeyEvent*>(event);
        const auto& parts = workspace_.project().sheet().parts;
        const bool forward = key->key() == Qt::Key_Tab, back = key->key() == Qt::Key_Backtab;
        if ((forward || back) && !parts.empty() && mode_ == Mode::idle) {
            const Part* now = workspace_.selectedPart();
            const bool atEnd = now && now->id == (forward ? parts.back().id : parts.front().id);
            if (!atEnd) {
                selectNext(forward ? 1 : -1);
                return true;
            }
        }
    }
    return QWidget::event(event);
}

void SheetView::selectNext(int step) {
    const auto& parts = workspace_.project().sheet().parts;
    const Part* now = workspace_.selectedPart();
    const auto found =
        std::find_if(parts.begin(), parts.end(), [&](const Part& part) { return now && part.id == now->id; });
    const long count = static_cast<long>(parts.size());
    const long index =
        found == parts.end() ? (step > 0 ? 0 : count - 1) : (found - parts.begin() + step + count) % count;
    workspace_.select({parts[static_cast<std::size_t>(index)].id});
}

bool SheetView::keyWhileHanging(QKeyEvent* event) {
    const bool shift = event->modifiers() & Qt::ShiftModifier;
    const double step = gridStep * zoom_;
    switch (event->key()) {
        case Qt::Key_Left:
            if (shift)
                pointer_.rx() -= step;
            else
                hanging_.turn = (hanging_.turn + 3) % 4;
            break;
        case Qt::Key_Right:
            if (shift)
                pointer_.rx() += step;
            else
                hanging_.turn = (hanging_.turn + 1) % 4;
            break;
        case Qt::Key_Up:
        case Qt::Key_Down:
            if (shift) {
                pointer_.ry() += event->key() == Qt::Key_Up ? -step : step;
            } else {
                // Top to bottom: a half turn of the mirror image left to right.
                hanging_.flip = !hanging_.flip;
                hanging_.turn = (6 - hanging_.turn) % 4;
            }
            break;
        case Qt::Key_Return:
        case Qt::Key_Enter:
            dropHanging();
            break;
        case Qt::Key_Escape:
            setMode(Mode::idle);
            break;
        default:
            return false;
    }
    update();
    return true;
}

void SheetView::keyPressEvent(QKeyEvent* event) {
    if (mode_ == Mode::hanging && keyWhileHanging(event)) return;
    const bool control = event->modifiers() & Qt::ControlModifier;
    switch (event->key()) {
        case Qt::Key_Escape:
            if (mode_ != Mode::idle)
                setMode(Mode::idle);
            else
                workspace_.select({});
            return;
        case Qt::Key_Return:
        case Qt::Key_Enter:
            if (mode_ == Mode::wiring) return extendWire(wireTarget(), true);
            if (const Part* part = workspace_.selectedPart(); part && !control) return editValue(part->id);
            break;
        case Qt::Key_Delete:
        case Qt::Key_Backspace:
            return deleteSelection();
        case Qt::Key_PageUp:
            return climbSelection(1);
        case Qt::Key_PageDown:
            return climbSelection(-1);
        case Qt::Key_Home:
            return fit();
        case Qt::Key_Left:
            return control ? turnSelection() : moveSelection({-gridStep, 0});
        case Qt::Key_Right:
            return control ? turnSelection() : moveSelection({gridStep, 0});
        case Qt::Key_Up:
            return control ? flipSelection() : moveSelection({0, -gridStep});
        case Qt::Key_Down:
            return control ? flipSelection() : moveSelection({0, gridStep});
        case Qt::Key_F2:
            if (const Part* part = workspace_.selectedPart()) editName(part->id);
            return;
        default:
            break;
    }
    const QString text = event->text();
    if (!control && !(event->modifiers() & Qt::AltModifier) && !text.isEmpty() && text[0].isLetter() &&
        mode_ == Mode::idle) {
        if (!rect().contains(pointer_.toPoint()) || pointer_.isNull()) pointer_ = rect().center();
        return entry_->start(pointer_.toPoint(), text);
    }
    QWidget::keyPressEvent(event);
}

// ---- commands

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
    if (!workspace_.selection().empty()) (void)workspace_.apply(edits::remove(workspace_.selection(), workspace_.catalogue()));
}

void SheetView::selectAll() {
    std::set<int> ids;
    const Sheet& sheet = workspace_.project().sheet();
    for (const Part& part : sheet.parts) ids.insert(part.id);
    for (const Wire& wire : sheet.wires) ids.insert(wire.id);
    for (const Label& label : sheet.labels) ids.insert(label.id);
    workspace_.select(ids);
}

void SheetView::copySelection() const {
    if (workspace_.selection().empty()) return;
    QApplication::clipboard()->setText(
        QString::fromStdString(writeClip(edits::copied(workspace_.project().sheet(), workspace_.selection()))));
}

void SheetView::cutSelection() {
    copySelection();
    deleteSelection();
}

void SheetView::paste() {
    auto clip = readClip(QApplication::clipboard()->text().toStdString());
    if (!clip || (clip->parts.empty() && clip->wires.empty() && clip->labels.empty())) {
        emit hinted("The clipboard holds no parts");
        return;
    }
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
    if (workspace_.apply(edits::paste(*clip, by, workspace_.catalogue(), &added))) workspace_.select(added);
}

}  // namespace hedgerow::app
