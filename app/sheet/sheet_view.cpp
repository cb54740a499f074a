#include "sheet/sheet_view.h"

#include <algorithm>
#include <cmath>

#include <QApplication>
#include <QPainter>
#include <QToolTip>

#include "model/edits.h"
#include "model/references.h"
#include "model/route.h"
#include "model/router.h"
#include "sheet/entry_line.h"
#include "sheet/sheet_painter.h"
#include "sheet/symbol.h"
#include "style/step_value.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr double leastZoom = 0.15, fitMargin = 28, mostFitZoom = 1.25, pathRoom = 24;
constexpr double pinReach = 7, wireReach = 5;

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
    connect(&workspace, &Workspace::viewChanged, this, [this] {
        setMode(Mode::idle);
        fit();
    });
    connect(entry_, &EntryLine::chosen, this, &SheetView::hang);
    connect(entry_, &EntryLine::netNamed, this, &SheetView::nameNet);
    connect(entry_, &EntryLine::joinNamed, this, &SheetView::join);
}

void SheetView::fit() {
    QRectF box = sheetBox(workspace_, workspace_.project().sheet());
    if (box.isEmpty()) box = QRectF(0, 0, 640, 400);
    const double above = workspace_.project().showsModule() ? pathRoom : 0;  // where the path stands
    const double room =
        std::min((width() - 2 * fitMargin) / box.width(), (height() - above - 2 * fitMargin - 16) / box.height());
    zoom_ = std::clamp(room, leastZoom, mostFitZoom);
    offset_ = QPointF(width() / 2.0, (height() + above - 16) / 2.0) - box.center() * zoom_;
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

/// The sheet as it will be when what is dragged is let go; nothing when nothing is dragged.
std::optional<Sheet> SheetView::preview() const {
    if (mode_ != Mode::dragging || dragged_ == Point{}) return {};
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
    const std::optional<Sheet> moved = preview();
    const Sheet& sheet = moved ? *moved : workspace_.project().sheet();
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
    if (mode_ == Mode::lassoing) {
        painter.setPen(QPen(p.sloe, 1, Qt::DashLine));
        QColor fill = p.sloeTint;
        fill.setAlpha(120);
        painter.setBrush(fill);
        painter.drawPolygon(lasso_);
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
        return "Enter or click drops, with Shift and hangs another · ← → turn · ↑ ↓ flip · Shift with arrows moves · "
               "Esc lets go";
    if (mode_ == Mode::wiring) return "click a pin or a wire to join · click elsewhere bends · Esc ends";
    if (!workspace_.cursor()) {
        for (const Error& problem : workspace_.problems())
            if (problem.part.empty()) return QString::fromStdString(problem.message);
        return {};
    }
    if (workspace_.shownRunIsOld()) return "the circuit has changed since this run: run again to see it at the cursor";
    QStringList conducting, blocking;
    for (const Part& part : workspace_.project().sheet().parts)
        if (const Trace* trace = workspace_.trace(workspace_.outside(part.name + ".on")))
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
        drawSymbol(painter, *kind, {.colour = p.sloe, .part = &part});
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
    constexpr double reach = 280;  // of a part with its words
    for (auto part = sheet.parts.rbegin(); part != sheet.parts.rend(); ++part) {
        if (std::abs(part->at.x - at.x()) > reach || std::abs(part->at.y - at.y()) > reach) continue;
        const PartKind* kind = workspace_.catalogue().find(part->kind);
        if (!kind) {
            if (QRectF(part->at.x - 24, part->at.y - 24, 48, 48).contains(at))
                return {Hit::What::part, part->id, 0, part->at};
            continue;
        }
        const bool named = kind->pins.size() != 1 || kind->pins[0].sort != PinSort::power;
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
    hanging_.rung = entry.kind->placedAt;
    // Values of a higher rung put the part on that rung.
    for (const auto& [key, text] : entry.values.all())
        if (const ParameterKind* parameter = entry.kind->findParameter(key); parameter && !parameter->rating)
            hanging_.rung = std::max(hanging_.rung, parameter->rung);
    if (entry.rung >= 0) hanging_.rung = entry.rung;
    if (!rect().contains(pointer_.toPoint()) || pointer_.isNull()) pointer_ = rect().center();
    setMode(Mode::hanging);
    setFocus();
}

/// @param again  keeps another one hanging
void SheetView::dropHanging(bool again) {
    Part part = hanging_;
    part.at = grid(toSheet(pointer_));
    if (!workspace_.apply(edits::place(part, workspace_.catalogue()))) return;
    last_ = hanging_;
    workspace_.used(part.kind);
    workspace_.select({workspace_.project().sheet().parts.back().id});
    if (!again) setMode(Mode::idle);
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

/// @param place  a pin, as "C1.a"; "" for what is under the pointer or selected
void SheetView::nameNet(const QString& name, const QString& place) {
    if (const auto at = placeNamed(workspace_.project(), workspace_.catalogue(), place.toStdString())) {
        (void)workspace_.apply(edits::setLabel(*at, name.toStdString()));
        return;
    }
    const Hit under = hit(toSheet(pointer_));
    Point at = under.at;
    if (under.what != Hit::What::wire && under.what != Hit::What::pin) {
        for (const int id : workspace_.selection())
            if (const Wire* wire = workspace_.project().findWire(id)) {
                (void)workspace_.apply(edits::setLabel(wire->points.front(), name.toStdString()));
                return;
            }
        emit hinted("Point at a wire or a pin first, or type net, the name and a pin: net out C1.a");
        return;
    }
    (void)workspace_.apply(edits::setLabel(at, name.toStdString()));
}

/// Joins two places by their names: pins as "C1.a", nets as "out".
void SheetView::join(const QString& from, const QString& to) {
    const Project& project = workspace_.project();
    const auto a = placeNamed(project, workspace_.catalogue(), from.toStdString());
    const auto b = placeNamed(project, workspace_.catalogue(), to.toStdString());
    if (!a || !b) {
        emit hinted((a ? to : from) + " is neither a pin, as C1.a, nor a named net");
        return;
    }
    const Router router(project.sheet(), workspace_.catalogue(), *a, *b);
    (void)workspace_.apply(edits::addWire(router.route(*a, *b)));
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
    editor_->installEventFilter(this);
    editor_->selectAll();
    editor_->show();
    editor_->setFocus();
    connect(editor_, &QLineEdit::textEdited, this, [this] {
        editor_->setProperty("bad", false);
        editor_->setStyleSheet("");
    });
    connect(editor_, &QLineEdit::editingFinished, this, [this] { closeEditor(true); });
}

/// The keys of the in-place editor: what it does not take would go to the sheet.
bool SheetView::eventFilter(QObject* watched, QEvent* event) {
    if (watched != editor_) return QWidget::eventFilter(watched, event);
    if (stepValue(editor_, event)) return true;
    if (event->type() != QEvent::KeyPress) return false;
    switch (static_cast<QKeyEvent*>(event)->key()) {
        case Qt::Key_Return:
        case Qt::Key_Enter:
            closeEditor(true);
            return true;
        case Qt::Key_Escape:
            closeEditor(false);
            return true;
        default:
            return false;
    }
}

void SheetView::closeEditor(bool accept) {
    if (!editor_) return;
    QLineEdit* editor = editor_;
    if (accept && editor->isModified()) {
        auto accepts = editorAccepts_;
        editor->setModified(false);  // accepting may take the keyboard away and lead here again
        if (auto status = accepts(editor->text().trimmed()); !status) {
            // The text stays, marked, until it is right or let go.
            editor->setModified(true);
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
               [this, id, key = shown->key](const QString& typedNow) -> Status {
                   const Part* now = workspace_.project().findPart(id);
                   const PartKind* kindNow = now ? workspace_.catalogue().find(now->kind) : nullptr;
                   if (!kindNow || !kindNow->findParameter(key)) return {};  // it went meanwhile
                   Part trial = *now;
                   trial.values.set(key, typedNow.toStdString());
                   if (auto value = partValue(trial, *kindNow, key, workspace_.parameters().lookup()); !value)
                       return value.error();
                   return workspace_.apply(edits::setValue({id}, key, typedNow.toStdString()));
               });
}

}  // namespace hedgerow::app
