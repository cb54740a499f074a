#include "card/next_rung_list.h"

#include <QLabel>
#include <QVBoxLayout>

#include "model/edits.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
constexpr std::size_t mostLines = 6;
}  // namespace

NextRungList::NextRungList(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    setObjectName("nextRungs");
    setAccessibleName("one change at a time");
    column_ = new QVBoxLayout(this);
    column_->setContentsMargins(0, 0, 0, 0);
    column_->setSpacing(4);
    connect(&workspace, &Workspace::runsChanged, this, &NextRungList::fill);
    fill();
}

/// Looking through the waveforms takes its time: it is done beside the window.
void NextRungList::fill() {
    const auto& shown = workspace_.shownRun();
    const std::shared_ptr<const RunRecord> now = shown && !shown->running() ? shown->run : nullptr;
    if (now && now == filledFor_.lock()) return;
    filledFor_ = now;
    advice_.clear();
    looking_.drop();
    if (now)
        looking_.start([this, now](const CancelToken& cancel) -> std::function<void()> {
            auto found = nextRungs(*now, cancel);
            return [this, found = std::move(found)] {
                advice_ = found;
                list();
            };
        });
    list();
}

void NextRungList::list() {
    qDeleteAll(findChildren<QLabel*>(QString(), Qt::FindDirectChildrenOnly));
    const auto add = [&](const QString& text) {
        auto* label = new QLabel(text, this);
        label->setWordWrap(true);
        label->setTextInteractionFlags(Qt::LinksAccessibleByMouse | Qt::LinksAccessibleByKeyboard);
        connect(label, &QLabel::linkActivated, this, &NextRungList::follow, Qt::QueuedConnection);
        column_->addWidget(label);
        return label;
    };
    if (advice_.empty())
        add(looking_.busy() ? "The waveforms are looked through." : "The waveforms ask for none.")
            ->setProperty("quiet", true);
    const QString style = QString("style='color:%1'").arg(colours().leaf.name());
    for (std::size_t i = 0; i < std::min(advice_.size(), mostLines); ++i) {
        const RungAdvice& one = advice_[i];
        const QString part = QString::fromStdString(one.part).toHtmlEscaped();
        const bool here = workspace_.partInView(one.part) != nullptr;
        add(QString("%1 %2: %3")
                .arg(here ? QString("<a %1 href='at %2'>%3</a>").arg(style).arg(i).arg(part) : part,
                     here ? QString("<a %1 href='climb %2'>to rung %3</a>").arg(style).arg(i).arg(one.rung)
                          : QString("to rung %1").arg(one.rung),
                     QString::fromStdString(one.why).toHtmlEscaped()));
    }
    if (advice_.size() > mostLines)
        add(QString("and %1 more").arg(advice_.size() - mostLines))->setProperty("quiet", true);
}

void NextRungList::follow(const QString& link) {
    const auto i = static_cast<std::size_t>(link.section(' ', 1).toInt());
    if (i >= advice_.size()) return;
    const RungAdvice one = advice_[i];
    const Part* part = workspace_.partInView(one.part);
    if (!part) return;
    if (link.startsWith("climb")) {
        (void)workspace_.apply(edits::setRung({part->id}, one.rung, workspace_.catalogue()));
        return;
    }
    workspace_.setCursor(toTicks(one.at));
    emit instantAsked(one.at);
    workspace_.select({part->id});
}

}  // namespace hedgerow::app
