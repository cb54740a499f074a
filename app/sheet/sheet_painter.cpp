#include "sheet/sheet_painter.h"

#include <algorithm>
#include <cmath>

#include <QFontMetricsF>
#include <QPainter>
#include <QPainterPath>

#include "model/quantity.h"
#include "model/route.h"
#include "model/vectors.h"
#include "runs/registry.h"
#include "sheet/symbol.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

constexpr double pillHeight = 20;
constexpr double reach = 280;                       ///< of a part with its words around its place
constexpr double textHeight = 12, leastText = 3.5;  ///< in pixels: what is smaller cannot be read

QString shownValue(const Part& part, const PartKind& kind, const ParameterLookup& lookup) {
    QStringList shown;
    if (kind.module) shown << QString::fromStdString(kind.title);
    for (const ParameterKind& parameter : kind.parameters) {
        if (!parameter.shownOnSheet || parameter.rung > part.rung || shown.size() == 2) continue;
        if (!parameter.choices.empty()) {
            const std::string* chosen = part.values.find(parameter.key);
            shown << QString::fromStdString(chosen ? *chosen : parameter.standard);
            continue;
        }
        if (parameter.text) {
            const QString text = QString::fromStdString(textValue(part, kind, parameter.key)).simplified();
            shown << (text.size() > 24 ? text.left(23) + "…" : text);
            continue;
        }
        auto value = partValue(part, kind, parameter.key, lookup);
        const std::string* typed = part.values.find(parameter.key);
        if (value)
            shown << (parameter.unit.empty()
                          ? QString("%1 %2").arg(QString::fromStdString(parameter.symbol).remove('_'),
                                                 QString::fromStdString(formatQuantity(*value, "", 3)))
                          : QString::fromStdString(formatQuantity(*value, parameter.unit)));
        else
            shown << QString::fromStdString(typed ? *typed : parameter.standard) + " ?";
    }
    return shown.join(", ");
}

void pill(QPainter& painter, QPointF centre, const QString& text, const QColor& border) {
    const Colours& p = colours();
    painter.setFont(textFont());
    const double width = QFontMetricsF(painter.font()).horizontalAdvance(text) + 16;
    const QRectF box(centre.x() - width / 2, centre.y() - pillHeight / 2, width, pillHeight);
    painter.setPen(QPen(border, 1));
    painter.setBrush(p.chalk);
    painter.drawRoundedRect(box, pillHeight / 2, pillHeight / 2);
    painter.setPen(p.ink);
    painter.drawText(box, Qt::AlignCenter, text);
}

/// Which nets carry signals: their wires are thin.
std::set<int> signalNets(const Sheet& sheet, const NetList& nets, const Catalogue& catalogue) {
    std::set<int> found;
    for (const Part& part : sheet.parts) {
        const PartKind* kind = catalogue.find(part.kind);
        for (std::size_t i = 0; kind && i < kind->pins.size(); ++i)
            if (kind->pins[i].sort != PinSort::power) found.insert(nets.netOfPin.at({part.id, static_cast<int>(i)}));
    }
    return found;
}

class SheetDrawing {
public:
    SheetDrawing(QPainter& painter, const SheetScene& scene)
        : painter_(painter),
          scene_(scene),
          catalogue_(scene.workspace.catalogue()),
          previewNets_(ofProject() ? NetList{} : findNets(scene.sheet, catalogue_)),
          nets_(ofProject() ? scene.workspace.nets() : previewNets_),
          signals_(signalNets(scene.sheet, nets_, catalogue_)),
          three_(wiresOfThree(scene.sheet, nets_, catalogue_)),
          lookup_(scene.workspace.parameters().lookup()),
          legible_(painter.transform().m11() * textHeight > leastText) {}

    void all() {
        wires();
        for (const Part& part : scene_.sheet.parts)
            if (seen(QRectF(part.at.x - reach, part.at.y - reach, 2 * reach, 2 * reach))) drawPart(part);
        pins();
        labels();
        if (scene_.instant) currents();
        if (!scene_.working) return;
        for (const Error& problem : scene_.workspace.problems()) drawProblem(problem);
    }

private:
    bool ofProject() const { return &scene_.sheet == &scene_.workspace.project().sheet(); }
    bool seen(const QRectF& box) const { return scene_.visible.isEmpty() || scene_.visible.intersects(box); }
    bool selected(int id) const { return scene_.working && scene_.workspace.selection().contains(id); }

    void wires() {
        const Colours& p = colours();
        for (const Wire& wire : scene_.sheet.wires) {
            if (!seen(QPolygonF(QList<QPointF>(points(wire))).boundingRect().adjusted(-4, -4, 4, 4))) continue;
            const bool signal = signals_.contains(nets_.netOfWire.at(wire.id));
            QPainterPath path(QPointF(wire.points[0].x, wire.points[0].y));
            for (const Point point : wire.points) path.lineTo(point.x, point.y);
            if (selected(wire.id)) {
                painter_.setPen(QPen(p.sloeTint, 8, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
                painter_.setBrush(Qt::NoBrush);
                painter_.drawPath(path);
            }
            const auto draw = [&](const QColor& colour, double width) {
                painter_.setPen(QPen(colour, width, Qt::SolidLine, Qt::FlatCap, Qt::RoundJoin));
                painter_.setBrush(Qt::NoBrush);
                painter_.drawPath(path);
            };
            const bool three = three_.nets[static_cast<std::size_t>(nets_.netOfWire.at(wire.id))];
            const QColor colour = selected(wire.id) ? p.sloe : p.ink;
            draw(colour, signal ? 1.2 : 2.0);
            if (three) strokeOfThree(wire, colour);
        }
        painter_.setPen(Qt::NoPen);
        painter_.setBrush(p.ink);
        for (const Point at : nets_.junctions)
            if (seen(QRectF(at.x - 4, at.y - 4, 8, 8))) painter_.drawEllipse(QPointF(at.x, at.y), 3.6, 3.6);
    }
    /// An oblique stroke with a 3 on the longest stretch: several conductors in one line (IEC 60617).
    void strokeOfThree(const Wire& wire, const QColor& colour) {
        const auto length = [&](std::size_t i) {
            return std::abs(wire.points[i + 1].x - wire.points[i].x) +
                   std::abs(wire.points[i + 1].y - wire.points[i].y);
        };
        std::size_t longest = 0;
        for (std::size_t i = 1; i + 1 < wire.points.size(); ++i)
            if (length(i) > length(longest)) longest = i;
        const Point a = wire.points[longest], b = wire.points[longest + 1];
        const QPointF middle((a.x + b.x) / 2.0, (a.y + b.y) / 2.0);
        painter_.setPen(QPen(colour, 1.2));
        painter_.drawLine(middle + QPointF(-4, 6), middle + QPointF(4, -6));
        if (!legible_) return;
        painter_.setFont(textFont(TextSize::small));
        painter_.drawText(QRectF(middle.x() + 3, middle.y() - 17, 12, 12), Qt::AlignCenter, "3");
    }
    static QList<QPointF> points(const Wire& wire) {
        QList<QPointF> all;
        for (const Point point : wire.points) all << QPointF(point.x, point.y);
        return all;
    }

    void drawPart(const Part& part) {
        const Colours& p = colours();
        const PartKind* kind = catalogue_.find(part.kind);
        if (!kind) return drawUnknown(part);
        if (selected(part.id)) {
            painter_.setPen(QPen(p.sloe, 1.2, Qt::DashLine));
            painter_.setBrush(Qt::NoBrush);
            painter_.drawRoundedRect(partBox(part, *kind).adjusted(-4, -4, 4, 4), 6, 6);
        }
        SymbolLook look{p.ink};
        look.part = &part;
        if (scene_.instant) {
            look.conducting = scene_.instant->conducting(part.name).value_or(false);
            const double current = scene_.instant->value(part.name + ".i").value_or(0.0);
            look.emphasised =
                std::abs(current) > 0.02 * scene_.instant->largestCurrent() && scene_.instant->largestCurrent() > 0;
        }
        painter_.save();
        enterPart(painter_, part);
        drawSymbol(painter_, *kind, look);
        painter_.restore();
        // Of a part of the control with several pins on one side, too.
        const bool manyPins = !kind->mark.empty() && kind->pins.size() > 2;
        if ((kind->module || manyPins) && legible_) drawPinNames(part, *kind);
        const bool reference = kind->pins.size() == 1 && kind->pins[0].sort == PinSort::power && !isModulePin(part);
        if (reference) return;  // needs no name
        if (!legible_) return;
        const PartText text = partText(part, *kind, lookup_);
        painter_.setFont(textFont(TextSize::normal, true));
        painter_.setPen(selected(part.id) ? p.sloe : p.ink);
        painter_.drawText(text.nameBox, Qt::AlignLeft | Qt::AlignVCenter, text.name);
        painter_.setFont(textFont());
        painter_.setPen(p.bark);
        painter_.drawText(text.valueBox, Qt::AlignLeft | Qt::AlignVCenter, text.value);
        painter_.setPen(QPen(p.leaf, 2));
        if (kind->rungs.size() > 1)
            for (int i = 0; i < part.rung; ++i)
                painter_.drawLine(QPointF(text.ticksBox.left() + 5 * i + 1, text.ticksBox.top() + 1),
                                  QPointF(text.ticksBox.left() + 5 * i + 1, text.ticksBox.bottom() - 1));
    }

    /// What the values of the part call its pins; empty where they keep the names of the kind.
    std::vector<std::string> namesOfPins(const Part& part, const PartKind& kind) const {
        const PartType* const type = kind.module ? nullptr : partLibrary().find(part.kind);
        if (!type) return {};
        return type->pinNames([&](std::string_view key) { return textValue(part, kind, key); },
                              scene_.workspace.project().folder);
    }

    /// Of a module, inside its box, and its title in the middle.
    void drawPinNames(const Part& part, const PartKind& kind) {
        const double lead = kind.module ? 16 : 8, gap = kind.module ? 4 : 3;
        painter_.setFont(textFont(TextSize::small));
        painter_.setPen(colours().bark);
        const QFontMetricsF metrics(painter_.font());
        const std::vector<std::string> own = namesOfPins(part, kind);
        for (std::size_t i = 0; i < kind.pins.size(); ++i) {
            const PinKind& pin = kind.pins[i];
            const auto [low, high] = kind.bounds();
            const bool across = pin.at.x == low.x || pin.at.x == high.x;
            const Point at = part.toSheet(pin.at),
                        middle = part.toSheet(across ? Point{0, pin.at.y} : Point{pin.at.x, 0});
            const QPointF way(middle.x > at.x   ? 1
                              : middle.x < at.x ? -1
                                                : 0,
                              middle.y > at.y   ? 1
                              : middle.y < at.y ? -1
                                                : 0);
            const QString text = QString::fromStdString(own.empty() ? pin.name : own[i]);
            const double width = metrics.horizontalAdvance(text) + 2;
            const QPointF foot = QPointF(at.x, at.y) + way * (lead + gap);
            const QRectF box = way.x() > 0   ? QRectF(foot.x(), foot.y() - 8, width, 16)
                               : way.x() < 0 ? QRectF(foot.x() - width, foot.y() - 8, width, 16)
                               : way.y() > 0 ? QRectF(foot.x() - width / 2, foot.y() - 3, width, 16)
                                             : QRectF(foot.x() - width / 2, foot.y() - 13, width, 16);
            painter_.drawText(box, Qt::AlignCenter, text);
        }
    }

    void drawUnknown(const Part& part) {
        const Colours& p = colours();
        painter_.setPen(QPen(p.haw, 1.5, Qt::DashLine));
        painter_.setBrush(Qt::NoBrush);
        painter_.drawRect(QRectF(part.at.x - 24, part.at.y - 24, 48, 48));
        painter_.setFont(textFont());
        painter_.drawText(QPointF(part.at.x - 22, part.at.y + 38),
                          QString::fromStdString(part.name + ": unknown " + part.kind));
    }

    /// Open pins are small rings, so that it shows what still wants a wire; signal inputs get an arrow head.
    void pins() {
        const Colours& p = colours();
        for (const Part& part : scene_.sheet.parts) {
            const PartKind* kind = catalogue_.find(part.kind);
            if (!seen(QRectF(part.at.x - reach, part.at.y - reach, 2 * reach, 2 * reach))) continue;
            for (std::size_t i = 0; kind && i < kind->pins.size(); ++i) {
                const Point at = part.toSheet(kind->pins[i].at);
                const Net& net = nets_.of({part.id, static_cast<int>(i)});
                if (net.pins.size() + net.wires.size() < 2 && net.labels.empty() && scene_.working &&
                    !three_.fed.contains({part.id, static_cast<int>(i)})) {
                    painter_.setPen(QPen(kind->pins[i].optional ? p.rule : p.gorse, 1.4));
                    painter_.setBrush(p.paper);
                    painter_.drawEllipse(QPointF(at.x, at.y), 3, 3);
                }
                if (kind->pins[i].sort == PinSort::signalIn && net.pins.size() > 1) arrowHead(part, kind->pins[i]);
            }
        }
    }

    void arrowHead(const Part& part, const PinKind& pin) {
        painter_.save();
        enterPart(painter_, part);
        painter_.setPen(Qt::NoPen);
        painter_.setBrush(colours().ink);
        const double x = pin.at.x + 14, y = pin.at.y;
        painter_.drawPolygon(QPolygonF{{x, y}, {x - 7, y - 3}, {x - 7, y + 3}});
        painter_.restore();
    }

    void labels() {
        const Colours& p = colours();
        for (const Label& label : scene_.sheet.labels) {
            const QPointF at(label.at.x, label.at.y);
            if (!legible_ || !seen(QRectF(at.x() - reach, at.y() - reach, 2 * reach, 2 * reach))) continue;
            QString text = QString::fromStdString(label.net);
            if (scene_.instant) {
                if (const auto value = scene_.instant->value(label.net + ".v")) {
                    pill(painter_, at + QPointF(0, -18), QString::fromStdString(formatQuantity(*value, "V")),
                         selected(label.id) ? p.sloe : p.rule);
                    continue;
                }
            }
            painter_.setFont(textFont(TextSize::normal, false, true));
            const double width = QFontMetricsF(painter_.font()).horizontalAdvance(text) + 8;
            const QRectF box(at.x() - width / 2, at.y() - 22, width, 16);
            if (selected(label.id)) {
                painter_.setPen(Qt::NoPen);
                painter_.setBrush(p.sloeTint);
                painter_.drawRoundedRect(box, 4, 4);
            }
            painter_.setPen(selected(label.id) ? p.sloe : p.bark);
            painter_.drawText(box, Qt::AlignCenter, text);
            painter_.drawLine(QPointF(at.x(), at.y() - 6), at);
        }
    }

    /// An arrow in the lead of each part that carries current, as large as the current is; its value on windings.
    void currents() {
        const Colours& p = colours();
        const double largest = scene_.instant->largestCurrent();
        for (const Part& part : scene_.sheet.parts) {
            const PartKind* kind = catalogue_.find(part.kind);
            const auto current = scene_.instant->value(part.name + ".i");
            if (!kind || !current || kind->pins.size() < 2 || std::abs(*current) < 0.02 * largest) continue;
            const Point from = part.toSheet(kind->pins[0].at), to = part.toSheet(kind->pins[1].at);
            const double size = 4 + 5 * std::sqrt(std::abs(*current) / largest);
            const double sign = *current > 0 ? 1 : -1;
            const QPointF way = QPointF(to.x - from.x, to.y - from.y) / std::hypot(to.x - from.x, to.y - from.y);
            const QPointF at = QPointF(to.x, to.y) - way * 4.0, tip = at + way * sign * size * 0.8,
                          tail = at - way * sign * size * 0.8, side(-way.y() * size * 0.7, way.x() * size * 0.7);
            painter_.setPen(Qt::NoPen);
            painter_.setBrush(p.sloe);
            painter_.drawPolygon(QPolygonF{tip, tail + side, tail - side});
            if (part.kind == "inductor") {
                painter_.setFont(textFont(TextSize::normal, true));
                painter_.setPen(p.sloe);
                const QString text = QString::fromStdString(formatQuantity(std::abs(*current), "A", 3));
                const QPointF middle((from.x + to.x) / 2.0, (from.y + to.y) / 2.0);
                if (from.y == to.y)
                    painter_.drawText(QRectF(middle.x() - 60, middle.y() + 12, 120, 16), Qt::AlignCenter, text);
                else
                    painter_.drawText(QRectF(middle.x() - 94, middle.y() - 8, 80, 16),
                                      Qt::AlignRight | Qt::AlignVCenter, text);
            }
        }
    }

    void drawProblem(const Error& problem) {
        const Colours& p = colours();
        const Part* held = scene_.workspace.partInView(problem.part);
        const Part* found = nullptr;
        for (const Part& part : scene_.sheet.parts)
            if (held && part.id == held->id) found = &part;
        const PartKind* kind = found ? catalogue_.find(found->kind) : nullptr;
        if (!kind) return;
        const QRectF box = partBox(*found, *kind).adjusted(-4, -4, 4, 4);
        painter_.setPen(QPen(p.haw, 1.6));
        painter_.setBrush(Qt::NoBrush);
        painter_.drawRoundedRect(box, 8, 8);
        painter_.setFont(textFont());
        const QString text = QString::fromStdString(problem.message);
        QRectF note = QFontMetricsF(painter_.font()).boundingRect(QRectF(0, 0, 260, 400), Qt::TextWordWrap, text);
        note.moveTopLeft(box.bottomLeft() + QPointF(8, 12));
        if (!scene_.visible.isEmpty()) {
            if (note.bottom() + 12 > scene_.visible.bottom()) note.moveBottom(box.top() - 12);
            note.moveLeft(std::max(scene_.visible.left() + 16,
                                   std::min(note.left(), scene_.visible.right() - note.width() - 16)));
        }
        painter_.setPen(QPen(p.haw, 1));
        painter_.setBrush(p.hawTint);
        painter_.drawRoundedRect(note.adjusted(-8, -6, 8, 6), 6, 6);
        painter_.setPen(p.ink);
        painter_.drawText(note, Qt::TextWordWrap, text);
    }

    QPainter& painter_;
    const SheetScene& scene_;
    const Catalogue& catalogue_;
    const NetList previewNets_;
    const NetList& nets_;
    std::set<int> signals_;
    WiresOfThree three_;
    ParameterLookup lookup_;
    bool legible_;
};

}  // namespace

PartText partText(const Part& part, const PartKind& kind, const ParameterLookup& lookup) {
    PartText text;
    text.name = QString::fromStdString(part.name);
    text.value = shownValue(part, kind, lookup);
    const QFontMetricsF bold(textFont(TextSize::normal, true)), normal{textFont()};
    const double nameWidth = bold.horizontalAdvance(text.name) + 2,
                 valueWidth = normal.horizontalAdvance(text.value) + 2;
    const double width = std::max({nameWidth, valueWidth, 20.0});
    // Beside upright parts, above lying ones, wherever the turn takes the place the symbol names.
    const bool wide = partBox(part, kind).width() > partBox(part, kind).height();
    QPointF at;
    if (part.turn == 0 && !part.flip) {
        at = QPointF(part.at.x + kind.labelAt.x, part.at.y + kind.labelAt.y - 8);
    } else if (wide) {
        at = QPointF(part.at.x - 24, partBox(part, kind).top() - (text.value.isEmpty() ? 18 : 34));
    } else {
        at = QPointF(partBox(part, kind).right() + 8, part.at.y - 12);
    }
    text.nameBox = QRectF(at, QSizeF(nameWidth, 16));
    // Lying parts and those of the control have name and value in one line, to stay clear of what is above.
    const bool oneLine = (wide && kind.pins.size() == 2) || !kind.mark.empty();
    text.valueBox =
        oneLine ? QRectF(at.x() + nameWidth + 4, at.y(), valueWidth, 16) : QRectF(at.x(), at.y() + 16, valueWidth, 16);
    text.ticksBox = oneLine ? QRectF(at.x(), at.y() + 17, width, 8)
                            : QRectF(at.x(), at.y() + (text.value.isEmpty() ? 18 : 34), width, 8);
    return text;
}

std::optional<Instant> Instant::of(Workspace& workspace) {
    if (!workspace.cursor() || workspace.shownRunIsOld()) return {};
    Instant instant(workspace);
    for (const Part& part : workspace.project().sheet().parts)
        instant.largestCurrent_ =
            std::max(instant.largestCurrent_, std::abs(instant.value(part.name + ".i").value_or(0.0)));
    return instant;
}

std::optional<double> Instant::value(const std::string& quantity) const {
    const Trace* trace = workspace_->trace(workspace_->outside(quantity));
    return trace ? trace->at(*workspace_->cursor()) : std::nullopt;
}

std::optional<bool> Instant::conducting(const std::string& part) const {
    const auto on = value(part + ".on");
    return on ? std::optional<bool>(*on > 0.5) : std::nullopt;
}

void paintSheet(QPainter& painter, const SheetScene& scene) { SheetDrawing(painter, scene).all(); }

QRectF sheetBox(Workspace& workspace, const Sheet& sheet) {
    QRectF box;
    for (const Part& part : sheet.parts) {
        const PartKind* kind = workspace.catalogue().find(part.kind);
        if (!kind) {
            box |= QRectF(part.at.x - 32, part.at.y - 32, 64, 64);
            continue;
        }
        const PartText text = partText(part, *kind, workspace.parameters().lookup());
        box |= partBox(part, *kind) | text.nameBox | text.valueBox;
    }
    for (const Wire& wire : sheet.wires)
        for (const Point point : wire.points) box |= QRectF(point.x - 4, point.y - 4, 8, 8);
    for (const Label& label : sheet.labels) box |= QRectF(label.at.x - 30, label.at.y - 28, 60, 28);
    return box;
}

}  // namespace hedgerow::app
