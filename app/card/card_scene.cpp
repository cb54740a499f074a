// The scene on the card: its events as lines of text, and what scenes there are.

#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "card/card.h"
#include "model/edits.h"
#include "model/event_text.h"
#include "network/scene.h"
#include "runs/registry.h"
#include "style/theme.h"

namespace hedgerow::app {

/// What is wrong with a line, or what its time comes to.
Result<QString> Card::judgeEvent(const std::string& text) const {
    auto event = readEventText(text);
    if (!event) return event.error();
    const auto timed = sceneIntervals({"", "", {*event}}, workspace_.project(), partLibrary(), toTicks(longestRunSeconds));
    if (!timed) {
        // The line itself stands above the message.
        Error error = timed.error();
        if (const auto colon = error.message.find("\": ");
            error.message.starts_with("event ") && colon != std::string::npos)
            error.message = error.message.substr(colon + 3);
        return error;
    }
    const auto times = timesOf({"", "", {*event}}, workspace_.project(), partLibrary());
    if (!times || (event->wave.empty() && event->at.find_first_of("*/+() ") == std::string::npos)) return QString();
    return "at " + QString::fromStdString(formatQuantity(times->front().at, "s", 6));
}

void Card::changeScene(const std::function<void(Scene&)>& change) {
    Scene changed = workspace_.scene();
    const std::string name = changed.name;
    change(changed);
    if (workspace_.apply(edits::setScene(name, changed)) && changed.name != name)
        workspace_.setScene(QString::fromStdString(changed.name));
}

/// One line over the whole width of the card, with a note beneath.
QLineEdit* Card::addLine(const QString& name, const QString& accessible, std::function<std::string()> read,
                         std::function<Result<QString>(const std::string&)> judge,
                         std::function<void(const std::string&)> write) {
    addField("", "", name, std::move(read), std::move(judge), std::move(write));
    QLineEdit* edit = fields_.back().edit;
    edit->setAccessibleName(accessible);
    edit->setAlignment(Qt::AlignLeft);
    edit->setMinimumWidth(0);
    edit->setMaximumWidth(QWIDGETSIZE_MAX);
    edit->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
    auto* row = static_cast<QHBoxLayout*>(column_->itemAt(column_->count() - 2)->layout());
    for (const int label : {2, 0}) row->itemAt(label)->widget()->hide();
    row->setStretch(0, 0), row->setStretch(1, 1);
    fields_.back().note->setAlignment(Qt::AlignLeft);
    return edit;
}

void Card::showScene() {
    const Scene& scene = workspace_.scene();
    addHeading("Scene: " + QString::fromStdString(scene.name));
    for (std::size_t i = 0; i < scene.events.size(); ++i) {
        const auto read = [this, i]() -> std::string {
            const auto& events = workspace_.scene().events;
            return i < events.size() ? eventText(events[i]) : "";
        };
        addLine(
            "event." + QString::number(i), "event " + QString::number(i + 1), read,
            [this](const std::string& text) { return text.empty() ? Result<QString>(QString()) : judgeEvent(text); },
            [this, i](const std::string& text) {
                changeScene([&](Scene& changed) {
                    if (i >= changed.events.size()) return;
                    if (text.empty())
                        changed.events.erase(changed.events.begin() + static_cast<std::ptrdiff_t>(i));
                    else if (auto event = readEventText(text, changed.events[i]))
                        changed.events[i] = *event;
                });
            });
    }
    QLineEdit* adding = addLine(
        "newEvent", "new event", [] { return std::string(); },
        [this](const std::string& text) { return text.empty() ? Result<QString>(QString()) : judgeEvent(text); },
        [this](const std::string& text) {
            if (auto event = readEventText(text))
                changeScene([&](Scene& changed) { changed.events.push_back(*event); });
        });
    adding->setPlaceholderText("add: 10m: R1.r = 1.2, or 10m: Q1 opens");
    adding->setToolTip(
        "when: what = value\n10m: R1.r = 1.2\n12m: Vin = 31 over 5m\n20m, V1 at 90: K1.value = 1\n3 periods of V1: Q1 "
        "closes");
    addField(
        "its name", "", "scene.name", [this] { return workspace_.scene().name; },
        [this](const std::string& text) -> Result<QString> {
            const Scene* other = workspace_.project().findScene(text);
            if (!other || other == &workspace_.scene()) return QString();
            return Error{ErrorCode::name, "another scene is called so"};
        },
        [this](const std::string& text) {
            if (!text.empty()) changeScene([&](Scene& changed) { changed.name = text; });
        });
    fields_.back().edit->setFixedWidth(textWidth);
    auto* row = new QHBoxLayout;
    auto* copy = new QPushButton("Copy", page_);
    copy->setObjectName("copyScene");
    copy->setToolTip("a further scene with the same events");
    copy->setAccessibleName("copy this scene");
    connect(
        copy, &QPushButton::clicked, this,
        [this] {
            Scene made = workspace_.scene();
            const std::string name = made.name;
            for (int n = 2; workspace_.project().findScene(made.name); ++n) made.name = name + " " + std::to_string(n);
            if (workspace_.apply(edits::setScene(made.name, made)))
                workspace_.setScene(QString::fromStdString(made.name));
        },
        Qt::QueuedConnection);
    row->addWidget(copy);
    if (workspace_.project().scenes.size() > 1) {
        auto* remove = new QPushButton("Remove", page_);
        remove->setObjectName("removeScene");
        connect(
            remove, &QPushButton::clicked, this,
            [this] { (void)workspace_.apply(edits::removeScene(workspace_.scene().name)); }, Qt::QueuedConnection);
        row->addWidget(remove);
        auto* compare = new QPushButton("Compare all", page_);
        compare->setObjectName("compareScenes");
        compare->setToolTip("runs every scene, this one last, and shows them beside each other");
        connect(compare, &QPushButton::clicked, &workspace_, &Workspace::compareScenes);
        row->addWidget(compare);
    }
    row->addStretch(1);
    column_->addLayout(row);
}

void Card::editEvent(std::size_t index) {
    workspace_.select({});
    workspace_.chooseTrace("");
    if (auto* field = findChild<QLineEdit*>("field.event." + QString::number(index))) {
        ensureWidgetVisible(field);
        field->setFocus();
    }
}

}  // namespace hedgerow::app
