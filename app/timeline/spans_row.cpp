#include "timeline/spans_row.h"

#include <algorithm>
#include <cmath>

#include <QHelpEvent>
#include <QKeyEvent>
#include <QLineEdit>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>

#include "model/quantity.h"
#include "model/rung_rule.h"
#include "model/span_text.h"
#include "style/theme.h"
#include "timeline/typed_time.h"

namespace hedgerow::app {

namespace {

constexpr double grip = 5;        ///< px on both sides of a border
constexpr double knotWidth = 18;  ///< of a settled span
constexpr int blockHeight = 22;
constexpr double liftPixels = 14;  ///< of dragging up, a rung
constexpr int mostRung = 4;

/// The rung that a rule puts all parts on; 0 where it says something else.
int rungOf(const std::string& rungs) {
    const auto terms = readRungRule(rungs);
    if (!terms || terms->size() != 1 || terms->front().sort != RungTerm::Sort::on || terms->front().selector != "all")
        return 0;
    return terms->front().rung;
}

QString words(const std::string& text) { return QString::fromStdString(text); }
QString seconds(double value, int digits = 2) { return words(formatQuantity(value, "s", digits)); }

}  // namespace

SpansRow::SpansRow(Workspace& workspace, LanesView& lanes, QWidget* parent)
    : QWidget(parent), workspace_(workspace), lanes_(lanes), line_(new QLineEdit(this)) {
    setObjectName("spansRow");
    setAccessibleName("spans of the plan");
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    line_->setObjectName("spanLine");
    line_->setAccessibleName("the span as a line");
    line_->hide();
    line_->installEventFilter(this);
}

double SpansRow::length() const {
    const auto& shown = workspace_.shownRun();
    const auto planned = workspace_.timeOf(plan().end);
    return shown ? toSeconds(shown->run->end()) : planned ? *planned : 0.0;
}

std::vector<SpansRow::Block> SpansRow::blocks() const {
    std::vector<Block> list;
    const auto& shown = workspace_.shownRun();
    const auto& price = workspace_.price();
    if (shown != seenRun_.lock()) seenRun_ = shown, seenPlan_ = plan();
    const bool truth = shown && !shown->run->summary().spans.empty() && plan() == seenPlan_;
    if (truth) {
        const auto& spans = shown->run->summary().spans;
        const Plan* const solvedBy = shown->run->project().findPlan(shown->run->plan());
        for (std::size_t i = 0; i < spans.size(); ++i) {
            const SpanOutcome& span = spans[i];
            Block block{.span = static_cast<int>(i), .from = toSeconds(span.from), .to = toSeconds(span.to)};
            block.done = block.to;
            const Span* const typed = solvedBy && i < solvedBy->spans.size() ? &solvedBy->spans[i] : nullptr;
            block.line = words(typed ? spanWayText(*typed) : span.text);
            if (!span.engine.empty() && !block.line.contains(words(span.engine))) block.line += " · " + words(span.engine);
            block.rung = typed ? rungOf(typed->rungs) : 0;
            block.settle = typed && typed->settle;
            block.below = seconds(span.seconds);
            if (span.priced > 0) block.below += QString(" (price ~%1)").arg(seconds(span.priced));
            block.about = words(span.text);
            for (const std::string& line : span.words()) block.about += "\n" + words(line);
            block.caution = std::any_of(span.jumps.begin(), span.jumps.end(), [](const Jump& j) { return j.caution; });
            list.push_back(std::move(block));
        }
        return list;
    }
    const auto& planned = workspace_.plannedSpans();
    if (!planned.empty() && planned.size() == plan().spans.size()) {
        double before = -1;  // what is typed as a time is shown at once, the rest when it has been checked
        for (std::size_t i = 0; i < planned.size(); ++i) {
            const Workspace::PlannedSpan& span = planned[i];
            Block block{.span = static_cast<int>(i), .from = toSeconds(span.from), .to = toSeconds(span.to)};
            block.line = words(spanWayText(plan().spans[i]));
            block.rung = rungOf(plan().spans[i].rungs);
            block.settle = span.settle, block.waits = span.waits;
            if (before >= 0) block.from = before;
            if (block.settle) block.to = block.from;
            if (const Span& typed = plan().spans[i]; typed.since.empty() && !typed.until.empty() && !block.settle)
                if (const auto until = workspace_.timeOf(typed.until)) block.to = std::max(block.from, *until);
            if (i + 1 < planned.size()) before = block.to;
            block.about = words(span.text);
            if (price && price->spans.size() == planned.size()) {
                const SpanPrice& cost = price->spans[i];
                block.below = "~" + seconds(cost.seconds);
                block.about += QString("\nprice %1 to %2 by the engine '%3'\n%4")
                                   .arg(seconds(cost.low), seconds(cost.high), words(cost.engine), words(cost.made));
            }
            list.push_back(std::move(block));
        }
        return list;
    }
    // One that is all of the run.
    const Plan* const solvedBy = shown ? shown->run->project().findPlan(shown->run->plan()) : nullptr;
    const Plan& of = solvedBy ? *solvedBy : plan();
    const std::string by = solvedBy && !shown->run->summary().engine.empty() ? shown->run->summary().engine : of.engine;
    const bool settled = shown && !shown->run->summary().settled.empty();
    Block block{.span = plan().spans.empty() ? 0 : -1, .to = length()};
    block.line = words(of.name + ": " + (settled ? "settled, " : "") + by + ", trace tolerance " + of.tolerance);
    block.about = block.line;
    if (shown) {
        block.done = toSeconds(shown->run->reached());
        if (const double total = shown->run->summary().second("total"); total > 0) block.below = seconds(total, 3);
    } else if (price) {
        block.below = "~" + seconds(price->seconds);
        if (price->spans.size() == 1) block.about += "\n" + words(price->spans.front().made);
    }
    list.push_back(std::move(block));
    return list;
}

QRectF SpansRow::boxOf(const Block& block) const {
    const double left = TimelineColumns::names + TimelineColumns::axis, right = width() - TimelineColumns::measures;
    double from = lanes_.pixelOf(block.from), to = lanes_.pixelOf(block.to);
    if (border_ == block.span && moving_) to = lanes_.pixelOf(draggedTo_);
    if (border_ >= 0 && moving_ && border_ + 1 == block.span) from = lanes_.pixelOf(draggedTo_);
    if (block.settle) from -= knotWidth / 2, to = from + knotWidth;
    from = std::max(left - (block.settle ? knotWidth / 2 : 0), from), to = std::min(right, to);
    const double lift = pressed_ == block.span && moving_ ? -3.0 * lifted_ : 0.0;
    return {QPointF(from, 1 + lift), QPointF(std::max(from, to), 1 + lift + blockHeight)};
}

int SpansRow::blockAt(const QPointF& at) const {
    int found = -1;
    for (const Block& block : blocks()) {
        const QRectF box = boxOf(block);
        if (box.width() >= 2 && at.x() >= box.left() && at.x() <= box.right() && (found < 0 || block.settle))
            found = block.span;
    }
    return found;
}

int SpansRow::borderAt(double x) const {
    const auto list = blocks();
    int nearest = -1;
    double least = grip;
    for (std::size_t i = 0; i + 1 < list.size(); ++i) {
        if (list[i].settle || list[i].span < 0) continue;
        if (const double away = std::abs(lanes_.pixelOf(list[i].to) - x); away <= least)
            nearest = list[i].span, least = away;
    }
    return nearest;
}

void SpansRow::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    const Colours& p = colours();
    painter.setFont(textFont());
    painter.setPen(p.bark);
    const auto list = blocks();
    painter.drawText(QRect(16, 0, 46, blockHeight + 2), Qt::AlignLeft | Qt::AlignVCenter, list.size() > 1 ? "spans" : "span");
    const double left = TimelineColumns::names + TimelineColumns::axis, right = width() - TimelineColumns::measures;
    painter.setClipRect(QRectF(left - knotWidth, 0, right - left + 2 * knotWidth, height()));
    const QFontMetrics small(textFont(TextSize::small));
    double belowEnd = left - 20;  // where the price before this one ends
    for (const Block& block : list) {
        const QRectF box = boxOf(block);
        if (box.right() < left - knotWidth || box.left() > right || box.width() < 1) continue;
        const bool chosen = hasFocus() && block.span == chosen_ && list.size() > 0;
        if (block.settle) {
            // A knot on the axis: it takes no time.
            painter.setPen(QPen(chosen ? p.sloe : p.leaf, chosen ? 2 : 1.2));
            painter.setBrush(p.paper);
            const QPointF middle = box.center();
            painter.drawEllipse(middle, 7, 7);
            painter.drawEllipse(middle, 3, 3);
        } else {
            painter.setPen(QPen(chosen ? p.sloe : p.leaf, chosen ? 2 : 1, block.waits ? Qt::DashLine : Qt::SolidLine));
            painter.setBrush(p.paper);
            const QRectF inner = box.adjusted(0.5, 0.5, -0.5, -0.5);
            painter.drawRoundedRect(inner, 4, 4);
            if (block.done > block.from) {
                QRectF done = inner;
                done.setRight(std::clamp(lanes_.pixelOf(block.done), inner.left(), inner.right()));
                painter.setPen(Qt::NoPen);
                painter.setBrush(p.leafTint);
                if (done.width() > 1) painter.drawRoundedRect(done.adjusted(1, 1, -1, -1), 3, 3);
            }
            double text = box.left() + 8;
            // As many ticks as on the sheet beside a part.
            painter.setPen(QPen(p.leaf, 1.6));
            if (block.rung > 0 && box.width() > 30) {
                for (int k = 0; k < block.rung; ++k, text += 4)
                    painter.drawLine(QPointF(text, box.top() + 6), QPointF(text, box.bottom() - 6));
                text += 4;
            }
            const QRectF room(text, box.top(), box.right() - text - 6, box.height());
            painter.setPen(p.ink);
            painter.setFont(textFont());
            if (room.width() > 18)
                painter.drawText(room, Qt::AlignLeft | Qt::AlignVCenter,
                                 painter.fontMetrics().elidedText(block.line, Qt::ElideRight, static_cast<int>(room.width())));
        }
        if (block.caution) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(p.gorse);
            const double x = lanes_.pixelOf(block.from);
            painter.drawPolygon(QPolygonF({QPointF(x, 0), QPointF(x + 5, 9), QPointF(x - 5, 9)}));
        }
        if (block.below.isEmpty()) continue;
        painter.setFont(textFont(TextSize::small));
        painter.setPen(p.bark);
        const double wide = small.horizontalAdvance(block.below),
                     middle = block.settle ? box.center().x() : (box.left() + box.right()) / 2;
        double from = std::clamp(middle - wide / 2, left - 4, std::max(left - 4, right - wide));
        if (from < belowEnd + 8) from = belowEnd + 8;
        // A price that has no place stands in the tool tip.
        if (from + wide > right + 4 || std::abs(from + wide / 2 - middle) > std::max(40.0, box.width() / 2)) continue;
        painter.drawText(QRectF(from, blockHeight + 2, wide + 2, height() - blockHeight - 4),
                         Qt::AlignLeft | Qt::AlignVCenter, block.below);
        belowEnd = from + wide;
    }
}

bool SpansRow::event(QEvent* event) {
    if (event->type() == QEvent::ToolTip) {
        const auto* help = static_cast<QHelpEvent*>(event);
        const int under = blockAt(help->pos());
        QString text;
        for (const Block& block : blocks())
            if (block.span == under) text = block.about;
        if (text.isEmpty())
            QToolTip::hideText();
        else
            QToolTip::showText(help->globalPos(), text, this);
        return true;
    }
    return QWidget::event(event);
}

void SpansRow::focusInEvent(QFocusEvent* event) {
    if (!has(chosen_)) chosen_ = 0;
    QWidget::focusInEvent(event);
    update();
}

void SpansRow::focusOutEvent(QFocusEvent* event) {
    QWidget::focusOutEvent(event);
    update();
}

void SpansRow::choose(int span) {
    chosen_ = std::clamp(span, 0, std::max(0, static_cast<int>(plan().spans.size()) - 1));
    update();
}

void SpansRow::change(const std::function<void(std::vector<Span>&)>& edit) {
    workspace_.changePlan([&](Plan& changed) {
        // A plan without spans has one that is all of the run.
        if (changed.spans.empty()) changed.spans.emplace_back();
        edit(changed.spans);
        if (changed.spans.size() == 1 && changed.spans.front() == Span()) changed.spans.clear();
    });
    choose(chosen_);
}

void SpansRow::mousePressEvent(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton) return;
    pressedAt_ = event->position();
    moving_ = false;
    lifted_ = 0;
    border_ = borderAt(event->position().x());
    pressed_ = border_ < 0 ? blockAt(event->position()) : -1;
    if (pressed_ >= 0) choose(pressed_);
}

void SpansRow::mouseMoveEvent(QMouseEvent* event) {
    const bool border = border_ >= 0 || (pressed_ < 0 && borderAt(event->position().x()) >= 0);
    setCursor(border ? Qt::SizeHorCursor : lifted_ != 0 ? Qt::SizeVerCursor : Qt::ArrowCursor);
    if (!(event->buttons() & Qt::LeftButton)) return;
    const QPointF way = event->position() - pressedAt_;
    moving_ = moving_ || std::max(std::abs(way.x()), std::abs(way.y())) > 3;
    if (border_ >= 0) draggedTo_ = lanes_.timeAt(event->position().x());
    if (pressed_ >= 0) {
        lifted_ = static_cast<int>(std::lround(-way.y() / liftPixels));
        if (lifted_ != 0)
            QToolTip::showText(event->globalPosition().toPoint(),
                               lifted_ > 0 ? QString("%1 higher").arg(lifted_) : QString("%1 lower").arg(-lifted_), this);
    }
    update();
}

void SpansRow::mouseReleaseEvent(QMouseEvent*) {
    const int border = std::exchange(border_, -1), block = std::exchange(pressed_, -1),
              lifted = std::exchange(lifted_, 0);
    const bool moved = std::exchange(moving_, false);
    update();
    if (!moved) return;
    if (border >= 0) moveBorder(border, draggedTo_);
    if (block >= 0 && lifted != 0) {
        choose(block);
        climb(lifted);
    }
}

/// The end of a span to an instant, in digits that the width of a pixel bears out.
void SpansRow::moveBorder(int span, double to) {
    if (!has(span)) return;
    const auto list = blocks();
    double from = 0;
    for (const Block& block : list)
        if (block.span == span) from = block.from;
    const double pixel = lanes_.timeAt(1) - lanes_.timeAt(0);
    const double counted = plan().spans[static_cast<std::size_t>(span)].since == "start" ? to - from : to;
    if (!(to > from)) return;
    change([&](std::vector<Span>& spans) {
        Span& of = spans[static_cast<std::size_t>(span)];
        if (of.since != "start") of.since.clear();
        of.when.clear();
        of.until = typedTime(counted, pixel);
    });
}

void SpansRow::mouseDoubleClickEvent(QMouseEvent* event) {
    if (const int block = blockAt(event->position()); block >= 0) type(block);
}

void SpansRow::type(int span) {
    if (span > 0 && !has(span)) return;
    choose(span);
    typed_ = span;
    QRectF box(TimelineColumns::names + TimelineColumns::axis, 0, 320, blockHeight + 2);
    for (const Block& block : blocks())
        if (block.span == span) box = boxOf(block);
    const int right = width() - TimelineColumns::measures, wide = std::max(320, static_cast<int>(box.width()));
    const int from = std::clamp(static_cast<int>(box.left()), TimelineColumns::names + TimelineColumns::axis,
                                std::max(TimelineColumns::names + TimelineColumns::axis, right - wide));
    line_->setGeometry(from, 0, std::min(wide, right - from), blockHeight + 4);
    const Span& of = has(span) ? plan().spans[static_cast<std::size_t>(span)] : Span();
    line_->setText(words(spanText(of)));
    line_->setToolTip(
        "until 3m: all on 2\nfor 20u: Q1 on 4, exact\nuntil settled: all on 1, keep nothing\nuntil out.v > 23\n"
        "100u after event 2: tolerance 1e-5\nevery 10m for 20u: all on 4\nsettle: all on 2\nto the end: fixed, step 100n");
    line_->setStyleSheet("");
    line_->show();
    line_->setFocus();
    line_->selectAll();
}

void SpansRow::endTyping(bool take) {
    if (typed_ < 0) return;
    if (take) {
        const QString text = line_->text().trimmed();
        const int span = typed_;
        if (text.isEmpty()) {
            typed_ = -1;
            line_->hide();
            setFocus();
            choose(span);
            return remove();
        }
        const auto read = readSpanText(text.toStdString());
        if (!read) {
            line_->setStyleSheet(QString("border: 1px solid %1;").arg(colours().haw.name()));
            const QString message = words(read.error().message);
            line_->setToolTip(message);
            QToolTip::showText(line_->mapToGlobal(QPoint(0, line_->height())), message, line_);
            emit said(message, true);
            return;
        }
        typed_ = -1;
        line_->hide();
        setFocus();
        change([&](std::vector<Span>& spans) {
            if (span < static_cast<int>(spans.size())) spans[static_cast<std::size_t>(span)] = *read;
        });
        return;
    }
    typed_ = -1;
    line_->hide();
    setFocus();
}

bool SpansRow::eventFilter(QObject* object, QEvent* event) {
    if (object == line_ && event->type() == QEvent::KeyPress) {
        // The row has keys of its own, which these must not reach.
        const int key = static_cast<QKeyEvent*>(event)->key();
        if (key == Qt::Key_Escape || key == Qt::Key_Return || key == Qt::Key_Enter) {
            endTyping(key != Qt::Key_Escape);
            return true;
        }
    }
    if (object == line_ && event->type() == QEvent::FocusOut && typed_ >= 0 &&
        static_cast<QFocusEvent*>(event)->reason() != Qt::PopupFocusReason)
        endTyping(false);
    return QWidget::eventFilter(object, event);
}

/// At the time cursor, or in the middle of the span.
void SpansRow::split() {
    const auto list = blocks();
    if (!has(chosen_) && !plan().spans.empty()) return;
    double at = -1;
    int span = chosen_;
    if (const auto cursor = workspace_.cursor()) {
        for (const Block& block : list)
            if (!block.settle && toSeconds(*cursor) > block.from && toSeconds(*cursor) < block.to)
                at = toSeconds(*cursor), span = std::max(0, block.span);
    }
    for (const Block& block : list)
        if (at < 0 && block.span == span && !block.settle) at = (block.from + block.to) / 2;
    if (at <= 0) return;
    const double pixel = lanes_.timeAt(1) - lanes_.timeAt(0);
    change([&](std::vector<Span>& spans) {
        const auto place = static_cast<std::size_t>(span);
        if (place >= spans.size()) return;
        Span first = spans[place];
        double from = 0;
        for (const Block& block : list)
            if (block.span == span) from = block.from;
        // Of one counted from its begin, what is left goes on to the same end.
        if (spans[place].since == "start") {
            for (const Block& block : list)
                if (block.span == span) spans[place].until = typedTime(block.to - at, pixel);
        }
        first.when.clear(), first.since.clear(), first.every.clear(), first.lasting.clear();
        first.until = typedTime(at, pixel);
        if (spans[place].since == "start") first.since = "start", first.until = typedTime(at - from, pixel);
        spans.insert(spans.begin() + span, first);
    });
}

/// Before the chosen span.
void SpansRow::insertSettled() {
    change([&](std::vector<Span>& spans) {
        Span knot;
        knot.settle = true;
        const auto place = std::min(spans.size() - 1, static_cast<std::size_t>(std::max(0, chosen_)));
        knot.rungs = spans[place].rungs;
        spans.insert(spans.begin() + static_cast<std::ptrdiff_t>(place), knot);
    });
}

void SpansRow::remove() {
    if (!has(chosen_)) return;
    change([&](std::vector<Span>& spans) {
        spans.erase(spans.begin() + chosen_);
        const bool last = chosen_ == static_cast<int>(spans.size());
        while (!spans.empty() && spans.back().settle) spans.pop_back();
        // What is last then takes the rest of the time.
        if (last && !spans.empty()) spans.back().until.clear(), spans.back().since.clear();
    });
}

void SpansRow::climb(int by) {
    if (!has(chosen_) && !plan().spans.empty()) return;
    int highest = 1;
    for (const Sheet& sheet : workspace_.project().sheets)
        for (const Part& part : sheet.parts) highest = std::max(highest, part.rung);
    change([&](std::vector<Span>& spans) {
        const auto place = static_cast<std::size_t>(std::max(0, chosen_));
        if (place >= spans.size()) return;
        Span& span = spans[place];
        const int now = rungOf(span.rungs);
        const int rung = std::clamp((now > 0 ? now : highest) + by, 1, mostRung);
        span.rungs = "all on " + std::to_string(rung);
    });
}

void SpansRow::keyPressEvent(QKeyEvent* event) {
    const bool control = event->modifiers() & Qt::ControlModifier;
    switch (event->key()) {
        case Qt::Key_Left:
            return choose(chosen_ - 1);
        case Qt::Key_Right:
            return choose(chosen_ + 1);
        case Qt::Key_Up:
        case Qt::Key_Down:
            if (control) return climb(event->key() == Qt::Key_Up ? 1 : -1);
            break;
        case Qt::Key_Return:
        case Qt::Key_Enter:
            if (!control) return type(std::max(0, chosen_));
            break;
        case Qt::Key_Delete:
        case Qt::Key_Backspace:
            return remove();
        case Qt::Key_S:
            if (!control) return split();
            break;
        case Qt::Key_K:
            if (!control) return insertSettled();
            break;
        default:
            break;
    }
    QWidget::keyPressEvent(event);
}

void SpansRow::contextMenuEvent(QContextMenuEvent* event) {
    if (event->reason() == QContextMenuEvent::Mouse)
        if (const int block = blockAt(event->pos()); block >= 0) choose(block);
    QMenu menu(this);
    menu.setObjectName("spanMenu");
    const bool spans = has(chosen_);
    menu.addAction("Type it\tEnter", this, [this] { type(std::max(0, chosen_)); });
    menu.addAction(workspace_.cursor() ? "Split at the cursor\tS" : "Split in the middle\tS", this, &SpansRow::split);
    menu.addAction("Begin from the periodic state\tK", this, &SpansRow::insertSettled);
    menu.addSeparator();
    menu.addAction("All parts one rung up\tCtrl+Up", this, [this] { climb(1); });
    menu.addAction("All parts one rung down\tCtrl+Down", this, [this] { climb(-1); });
    menu.addSeparator();
    menu.addAction("Remove\tDel", this, &SpansRow::remove)->setEnabled(spans);
    menu.exec(event->globalPos());
}

}  // namespace hedgerow::app
