#include "card/card.h"

#include <algorithm>
#include <filesystem>

#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "base/text.h"
#include "card/change_table.h"
#include "card/equations.h"
#include "card/ladder.h"
#include "card/loss_table.h"
#include "card/next_rung_list.h"
#include "card/settled_list.h"
#include "card/time_list.h"
#include "card/stress.h"
#include "card/stress_table.h"
#include "card/task_chart.h"
#include "card/trace_page.h"
#include "card/tune_fields.h"
#include "model/edits.h"
#include "model/event_text.h"
#include "desk/jigs.h"
#include "runs/registry.h"
#include "runs/rung_prices.h"
#include "studies/learn.h"
#include "style/step_value.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {
/// Keys of the values that nobody gave.
std::string estimatedOf(const Part& part) {
    const std::string* keys = part.values.find("estimated");
    return keys ? *keys : "";
}
}  // namespace

Card::Card(Workspace& workspace, QWidget* parent) : QScrollArea(parent), workspace_(workspace) {
    setObjectName("card");
    setFrameShape(QFrame::NoFrame);
    setWidgetResizable(true);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    connect(&workspace_, &Workspace::left, this, [this] { learning_.drop(), pricing_.drop(); });
    connect(&workspace, &Workspace::catalogueChanged, this, [this] { catalogueChanged_ = true; });
    connect(&workspace, &Workspace::selectionChanged, this, &Card::rebuild);
    connect(&workspace, &Workspace::projectChanged, this, &Card::rebuild);
    connect(&workspace, &Workspace::chosenTraceChanged, this, &Card::rebuild);
    connect(&workspace, &Workspace::problemsChanged, this, &Card::refresh);
    connect(&workspace, &Workspace::runsChanged, this, [this] {
        fillStress();
        if (workspace_.selection().empty()) rebuild();
    });
    rebuild();
}

void Card::rebuild() {
    std::vector<const Part*> parts;
    for (const Part& part : workspace_.project().sheet().parts)
        if (workspace_.selection().contains(part.id)) parts.push_back(&part);
    // The page is built anew only when its rows change, so that a field keeps the keyboard while it is typed in.
    std::string shape;
    for (const Part* part : parts)
        shape += std::to_string(part->id) + ":" + std::to_string(part->rung) + ":" + part->name + " " +
                 estimatedOf(*part) + " ";
    if (parts.empty() && !workspace_.chosenTrace().empty())
        shape = "trace " + workspace_.chosenTrace();
    else if (parts.empty()) {
        shape = "project " + workspace_.plan().name + " " + workspace_.scene().name + " ";
        shape +=
            std::to_string(workspace_.scene().events.size()) + "/" + std::to_string(workspace_.project().scenes.size());
        for (const Parameter& parameter : workspace_.project().ownParameters())
            shape += parameter.name + ":" + parameter.unit + " ";
        if (const Parameter* shown = shownParameter()) shape += "shown " + shown->name + shown->unit + " ";
        shape += workspace_.plan().engine + workspace_.plan().fixed.method +
                 (workspace_.plan().fixed.interpolate ? " " : "- ");
        for (const auto& [quantity, tolerance] : workspace_.plan().tolerances) shape += quantity + " ";
        shape += std::to_string(workspace_.plan().spans.size()) + " spans ";
        shape += workspace_.plan().evenOut ? "even " : "";
        shape += workspace_.shownRun() ? " run " : "";
        shape += SettledList::of(workspace_) ? " settled " : "";
        shape += TimeList::of(workspace_) ? " timed " : "";
        shape += workspace_.project().title + workspace_.project().description;
        if (workspace_.project().showsModule()) shape += "module " + workspace_.project().sheet().name;
        shape += workspace_.project().sheet().origin;
    }
    if (page_ && shape == shape_ && !catalogueChanged_) return refresh();
    catalogueChanged_ = false;
    shape_ = shape;
    // The change may come from a field of the old page, which must live until its signal returns. It says no more from
    // here on: taking the page away would take the keyboard from it, and have it written.
    if (widget())
        for (QObject* child : widget()->findChildren<QObject*>()) child->disconnect(this);
    fields_.clear();
    stress_ = nullptr;
    ladder_ = nullptr;
    if (QWidget* old = takeWidget()) {
        old->deleteLater();
        // Nor may it outlive what it shows, should the window go before that comes.
        connect(&workspace_, &QObject::destroyed, old, [old] { delete old; });
    }
    page_ = new QWidget;
    page_->setObjectName("panel");
    column_ = new QVBoxLayout(page_);
    column_->setContentsMargins(16, 10, 14, 6);
    column_->setSpacing(2);
    const PartKind* kind = parts.size() == 1 ? workspace_.catalogue().find(parts[0]->kind) : nullptr;
    if (kind)
        showPart(*parts[0], *kind);
    else if (!parts.empty())
        showParts(parts);
    else if (!workspace_.chosenTrace().empty())
        column_->addWidget(new TracePage(workspace_, workspace_.chosenTrace(), page_));
    else if (shownParameter())
        showParameter(*shownParameter());
    else
        showProject();
    column_->addStretch(1);
    setWidget(page_);
    refresh();
}

void Card::changeEvent(QEvent* event) {
    if (event->type() == QEvent::PaletteChange && page_)
        for (const Field& field : fields_) judgeField(field);
    QScrollArea::changeEvent(event);
}

bool Card::eventFilter(QObject* watched, QEvent* event) {
    auto* field = qobject_cast<QLineEdit*>(watched);
    return (field && stepValue(field, event)) || QScrollArea::eventFilter(watched, event);
}

QLabel* Card::addHeading(const QString& text) {
    auto* label = new QLabel(text, page_);
    label->setFont(textFont(TextSize::normal, true));
    label->setProperty("quiet", true);
    label->setContentsMargins(0, 5, 0, 0);
    label->setStyleSheet("font-weight: bold;");
    column_->addWidget(label);
    return label;
}

void Card::addQuiet(const QString& text) {
    auto* label = new QLabel(text, page_);
    label->setProperty("quiet", true);
    label->setWordWrap(true);
    column_->addWidget(label);
}

QLabel* Card::addField(const QString& label, const QString& unit, const QString& name,
                       std::function<std::string()> read, std::function<Result<QString>(const std::string&)> judge,
                       std::function<void(const std::string&)> write) {
    auto* row = new QHBoxLayout;
    row->setSpacing(8);
    auto* title = new QLabel(label, page_);
    title->setProperty("quiet", true);
    title->setWordWrap(true);
    auto* edit = new QLineEdit(page_);
    edit->setObjectName("field." + name);
    edit->setAccessibleName(label);
    edit->setAlignment(Qt::AlignRight);
    edit->setFixedWidth(96);
    edit->installEventFilter(this);
    auto* unitLabel = new QLabel(unit, page_);
    unitLabel->setProperty("quiet", true);
    unitLabel->setFixedWidth(26);
    row->addWidget(title, 1);
    row->addWidget(edit);
    row->addWidget(unitLabel);
    column_->addLayout(row);
    auto* note = new QLabel(page_);
    note->setWordWrap(true);
    note->setAlignment(Qt::AlignRight);
    note->hide();
    column_->addWidget(note);
    fields_.push_back({edit, note, std::move(read), std::move(judge)});
    const std::size_t index = fields_.size() - 1;
    // Live preview while typing; written when the field is left or Enter is pressed, if it can stand.
    connect(edit, &QLineEdit::textEdited, this, [this, index] { judgeField(fields_[index]); });
    connect(edit, &QLineEdit::editingFinished, this, [this, index, write, edit] {
        if (!edit->isModified()) return;
        edit->setModified(false);
        const std::string text = edit->text().trimmed().toStdString();
        if (!text.empty() && !fields_[index].judge(text)) {
            edit->setModified(true);
            return;
        }
        write(text);
    });
    return title;
}

void Card::judgeField(const Field& field) {
    const std::string text = field.edit->text().trimmed().toStdString();
    const auto verdict = field.judge(text);
    const bool bad = !verdict && !text.empty();
    const QString note = bad ? QString::fromStdString(verdict.error().message) : verdict ? *verdict : QString();
    field.edit->setProperty("bad", bad);
    field.edit->setStyleSheet(bad ? QString("border: 1px solid %1;").arg(colours().haw.name()) : QString());
    field.note->setStyleSheet(
        QString("color: %1; font-size: 11px;").arg((bad ? colours().haw : colours().bark).name()));
    field.note->setText(note);
    field.note->setVisible(!note.isEmpty());
}

QString Card::preview(const std::string& typed, double value, const std::string& unit) {
    const bool plain = typed.find_first_of("*/+()^ ") == std::string::npos && parametersIn(typed).empty();
    return plain ? QString() : "= " + QString::fromStdString(formatQuantity(value, unit, 5));
}

void Card::addValue(const Part& part, const ParameterKind& parameter) {
    const int id = part.id;
    const std::string key = parameter.key;
    // A wire at the gate moves a contact, and its own position does not count.
    const PartKind* const kind = workspace_.catalogue().find(part.kind);
    if (const int gate = kind ? kind->findPin("g") : -1; key == positionKey && gate >= 0)
        if (workspace_.nets().netOfPin.contains({id, gate}) && workspace_.nets().of({id, gate}).pins.size() > 1 &&
            !part.values.find(key))
            return;
    const auto write = [this, id, key](const std::string& text) {
        (void)workspace_.apply(edits::setValue({id}, key, text));
    };
    if (!parameter.choices.empty()) {
        QStringList choices;
        for (const std::string& choice : parameter.choices) choices << QString::fromStdString(choice);
        const std::string* typed = part.values.find(key);
        addChoice(QString::fromStdString(parameter.label), "field." + QString::fromStdString(key), choices,
                  static_cast<int>(choices.indexOf(QString::fromStdString(typed ? *typed : parameter.standard))),
                  [write, words = parameter.choices](int chosen) { write(words[static_cast<std::size_t>(chosen)]); });
        return;
    }
    const auto read = [this, id, key]() -> std::string {
        const Part* now = workspace_.project().findPart(id);
        const std::string* typed = now ? now->values.find(key) : nullptr;
        return typed ? *typed : "";
    };
    const auto judge = [this, id, key, unit = parameter.unit](const std::string& text) -> Result<QString> {
        const Part* now = workspace_.project().findPart(id);
        // The kind as it is now: that of a module goes with its sheet.
        const PartKind* kindOf = now ? workspace_.catalogue().find(now->kind) : nullptr;
        if (!kindOf || !kindOf->findParameter(key) || text.empty()) return QString();
        Part trial = *now;
        trial.values.set(key, text);
        if (kindOf->findParameter(key)->text) {
            const PartType* const type = partLibrary().find(kindOf->id);
            const auto all = [&](std::string_view other) { return textValue(trial, *kindOf, other); };
            if (!type) return QString();
            const Status sound = type->checkTexts(all, workspace_.project().folder);
            return sound || sound.error().field != key ? Result<QString>(QString()) : sound.error();
        }
        auto value = partValue(trial, *kindOf, key, workspace_.parameters().lookup());
        if (!value) {
            Error error = value.error();
            const std::string prefix = now->name + ": " + kindOf->findParameter(key)->label + ": ";
            if (error.message.starts_with(prefix)) error.message = error.message.substr(prefix.size());
            return error;
        }
        return trimmed(text) == noneWord ? QString() : preview(text, *value, unit);
    };
    const std::vector<std::string> estimated = words(estimatedOf(part));
    const bool guess = std::find(estimated.begin(), estimated.end(), key) != estimated.end();
    addField(QString::fromStdString(parameter.label) + (guess ? ", estimated" : ""),
             QString::fromStdString(parameter.unit == "deg" ? "°" : parameter.unit), QString::fromStdString(key), read,
             judge, write);
    if (parameter.text) fields_.back().edit->setFixedWidth(textWidth);
    fields_.back().edit->setPlaceholderText(parameter.rating ? "not given"
                                                             : QString::fromStdString(parameter.standard));
}

void Card::showPart(const Part& part, const PartKind& kind) {
    auto* title = new QHBoxLayout;
    auto* name = new QLabel(QString::fromStdString(part.name), page_);
    name->setObjectName("partName");
    name->setStyleSheet("font-size: 16px; font-weight: bold;");
    auto* what = new QLabel(QString::fromStdString(kind.title), page_);
    what->setProperty("quiet", true);
    title->setSpacing(8);
    title->addWidget(name);
    title->addWidget(what);
    title->addStretch(1);
    column_->addLayout(title);
    if (kind.module) showModuleOf(part);
    if (kind.rungs.size() > 1) {
        ladder_ = new Ladder(page_);
        ladder_->show(&kind, part.rung, pricesOf(part.kind));
        connect(ladder_, &Ladder::climbed, this, [this, id = part.id](int rung) {
            (void)workspace_.apply(edits::setRung({id}, rung, workspace_.catalogue()));
        });
        column_->addWidget(ladder_);
    }
    if (!kind.rungs.empty() && !kind.module) {
        auto* equations = new Equations(kind, equationsOpen_, page_);
        connect(equations, &Equations::opened, this, [this](bool open) { equationsOpen_ = open; });
        if (ladder_) {
            auto* measure = new QPushButton("Measure prices", page_);
            measure->setObjectName("measurePrices");
            measure->setToolTip("runs this project on each rung of this part and shows what that takes here");
            connect(measure, &QPushButton::clicked, this,
                    [this, id = part.id, name = part.kind] { measureRungs(id, name); });
            equations->addBeside(measure);
        }
        column_->addWidget(equations);
    }
    column_->addSpacing(6);
    bool rated = false;
    for (const ParameterKind& parameter : kind.parameters) rated = rated || parameter.rating;
    for (const ParameterKind& parameter : kind.parameters)
        if (!parameter.rating && parameter.rung <= part.rung && parameter.key != "code" && parameter.key != "estimated" &&
            (parameter.key != "learned" || part.values.find("learned")))
            addValue(part, parameter);
    addControl(part, kind);
    if (canBeTuned(part.kind) && !workspace_.project().showsModule()) {
        addHeading("Tune");
        auto* fields = new TuneFields(workspace_, part.id, page_);
        connect(fields, &TuneFields::found, this, &Card::loopFound);
        column_->addWidget(fields);
    }
    if (rated) {
        addHeading(kind.findParameter("tolerance") ? "Ratings and tolerance" : "Ratings");
        for (const ParameterKind& parameter : kind.parameters)
            if (parameter.rating) addValue(part, parameter);
    }
    addStress(part);
    if (kind.parameters.empty()) addQuiet(QString::fromStdString(kind.help));
}

/// Those of this session, else those that the project's ledger keeps of this machine.
const std::map<int, double>& Card::pricesOf(const std::string& kind) {
    auto& known = measured_[kind];
    if (const auto& ledger = workspace_.runList().ledger(); known.empty() && ledger) known = ledger->prices(kind);
    return known;
}

void Card::measureRungs(int part, const std::string& kind) {
    if (auto* button = page_->findChild<QPushButton*>("measurePrices")) {
        button->setText("measuring…");
        button->setEnabled(false);
    }
    pricing_.start([this, part, kind, project = workspace_.history().shared(), plan = workspace_.plan().name,
                    scene = workspace_.scene().name](const CancelToken& cancel) -> std::function<void()> {
        auto prices = measurePrices(*project, {.scene = scene, .plan = plan}, part, cancel);
        return [this, kind, prices = std::move(prices)] {
            if (auto* button = page_->findChild<QPushButton*>("measurePrices")) {
                button->setText("Measure prices");
                button->setEnabled(true);
            }
            if (!prices) {
                emit workspace_.refused(QString::fromStdString(prices.error().text()));
                return;
            }
            auto& known = measured_[kind];
            known.clear();
            for (const RungPrice& price : *prices) known[price.rung] = price.relative;
            if (const auto& ledger = workspace_.runList().ledger()) (void)ledger->setPrices(kind, known);
            const Part* shown = workspace_.selectedPart();
            if (ladder_ && shown && shown->kind == kind)
                ladder_->show(workspace_.catalogue().find(kind), shown->rung, known);
        };
    });
}

/// The switching energies of a device, by what it burns on rung 4.
void Card::learn(const std::string& part) {
    if (auto* button = page_->findChild<QPushButton*>("learnLosses")) {
        button->setText("learning…");
        button->setEnabled(false);
    }
    LearnRequest request{.project = workspace_.history().shared(),
                         .scene = workspace_.scene().name,
                         .plan = workspace_.plan().name,
                         .parts = {part}};
    learning_.start([this, request = std::move(request)](const CancelToken& cancel) -> std::function<void()> {
        auto learned = learnLosses(request, cancel);
        return [this, learned = std::move(learned)] {
            if (auto* button = page_->findChild<QPushButton*>("learnLosses")) {
                button->setText("Learn losses");
                button->setEnabled(true);
            }
            if (!learned) {
                if (learned.error().code != ErrorCode::stop)
                    emit workspace_.refused(QString::fromStdString(learned.error().text()));
                return;
            }
            (void)workspace_.apply({"learn losses", [&](Project& project) -> Status {
                                        project.sheets.front() = withLearned(project, *learned).sheets.front();
                                        return {};
                                    }});
        };
    });
}

void Card::addControl(const Part& part, const PartKind& kind) {
    if (!jigsFor(kind).empty()) {
        auto* open = new QPushButton("Model desk", page_);
        open->setObjectName("openDesk");
        open->setToolTip("this device in the standard jigs, on all its rungs");
        connect(open, &QPushButton::clicked, this, &Card::deskAsked, Qt::QueuedConnection);
        auto* buttons = new QHBoxLayout;
        buttons->addWidget(open);
        if ((kind.findParameter("eon") || kind.findParameter("err")) && !workspace_.project().showsModule()) {
            auto* learning = new QPushButton(learning_.busy() ? "learning…" : "Learn losses", page_);
            learning->setObjectName("learnLosses");
            learning->setEnabled(!learning_.busy());
            learning->setToolTip("switching energies of rung 2 from rung 4, in this very circuit, at the currents that the plan "
                                 "visits");
            connect(learning, &QPushButton::clicked, this, [this, name = part.name] { learn(name); });
            buttons->addWidget(learning);
        }
        buttons->addStretch(1);
        column_->addLayout(buttons);
    }
    if (kind.findParameter("code")) {
        auto* open = new QPushButton("Edit its code", page_);
        open->setObjectName("editCode");
        connect(
            open, &QPushButton::clicked, this, [this, id = part.id] { emit codeAsked(id); }, Qt::QueuedConnection);
        column_->addWidget(open, 0, Qt::AlignLeft);
    }
    if (part.kind == "task") column_->addWidget(new TaskChart(workspace_, QString::fromStdString(part.name), page_));
}

void Card::showParts(const std::vector<const Part*>& parts) {
    auto* title = new QLabel(QString("%1 parts").arg(parts.size()), page_);
    title->setStyleSheet("font-size: 16px; font-weight: bold;");
    column_->addWidget(title);
    QStringList names;
    for (const Part* part : parts) names << QString::fromStdString(part->name);
    addQuiet(names.join(", "));
    const PartKind* kind = workspace_.catalogue().find(parts[0]->kind);
    const bool oneKind =
        std::all_of(parts.begin(), parts.end(), [&](const Part* part) { return part->kind == parts[0]->kind; });
    auto* row = new QHBoxLayout;
    for (const auto& [text, steps] : {std::pair{"Descend", -1}, {"Climb", 1}}) {
        auto* button = new QPushButton(text, page_);
        connect(button, &QPushButton::clicked, this, [this, steps = steps] {
            (void)workspace_.apply(edits::climb(workspace_.selection(), steps, workspace_.catalogue()));
        });
        row->addWidget(button);
    }
    row->addStretch(1);
    column_->addLayout(row);
    if (!oneKind || !kind) return;
    // Parts of one kind: a common field sets all of them.
    addHeading("Set for all");
    for (const ParameterKind& parameter : kind->parameters) {
        if (!parameter.choices.empty() || parameter.text || parameter.rung > parts[0]->rung) continue;
        const std::string key = parameter.key;
        const auto read = [this, key]() -> std::string {
            std::optional<std::string> common;
            for (const Part& part : workspace_.project().sheet().parts) {
                if (!workspace_.selection().contains(part.id)) continue;
                const std::string* typed = part.values.find(key);
                const std::string now = typed ? *typed : "";
                if (common && *common != now) return "";
                common = now;
            }
            return common.value_or("");
        };
        const auto judge = [this, id = kind->id, key,
                            unit = parameter.unit](const std::string& text) -> Result<QString> {
            const PartKind* now = workspace_.catalogue().find(id);
            if (!now || !now->findParameter(key) || text.empty()) return QString();
            Part trial;
            trial.values.set(key, text);
            auto value = partValue(trial, *now, key, workspace_.parameters().lookup());
            if (!value) return value.error();
            return preview(text, *value, unit);
        };
        addField(QString::fromStdString(parameter.label), QString::fromStdString(parameter.unit),
                 QString::fromStdString(key), read, judge, [this, key](const std::string& text) {
                     (void)workspace_.apply(edits::setValue(workspace_.selection(), key, text));
                 });
        if (parameter.text) fields_.back().edit->setFixedWidth(textWidth);
        fields_.back().edit->setPlaceholderText(parameter.rating ? "not given"
                                                                 : QString::fromStdString(parameter.standard));
    }
}

void Card::showProject() {
    const Project& project = workspace_.project();
    if (project.showsModule()) return showModule();
    auto* title = new QLabel(project.title.empty() ? "New project" : QString::fromStdString(project.title), page_);
    title->setStyleSheet("font-size: 16px; font-weight: bold;");
    column_->addWidget(title);
    if (!project.description.empty()) addQuiet(QString::fromStdString(project.description));

    if (SettledList::of(workspace_)) {
        addHeading("Periodic state");
        column_->addWidget(new SettledList(workspace_, page_));
    }
    showParameters();
    showScene();
    showPlan();
    if (TimeList::of(workspace_)) {
        addHeading("Where the time went");
        column_->addWidget(new TimeList(workspace_, page_));
    }
    showStress();
}

/// Of all parts, in the shown run.
void Card::showStress() {
    if (!workspace_.shownRun()) return;
    auto* against = addHeading("Changed");
    column_->addWidget(new ChangeTable(workspace_, against, page_));
    auto* table = new StressTable(workspace_, page_);
    connect(table, &StressTable::instantAsked, this, &Card::instantAsked);
    addHeading("Stress, the worst first");
    column_->addWidget(table);
    column_->addWidget(new LossTable(workspace_, "", page_));
    addHeading("One change at a time");
    auto* next = new NextRungList(workspace_, page_);
    connect(next, &NextRungList::instantAsked, this, &Card::instantAsked);
    column_->addWidget(next);
}

void Card::addChoice(const QString& label, const QString& name, const QStringList& choices, int chosen,
                     std::function<void(int)> write) {
    auto* row = new QHBoxLayout;
    auto* title = new QLabel(label, page_);
    title->setProperty("quiet", true);
    title->setWordWrap(true);
    auto* box = new QComboBox(page_);
    box->setObjectName(name);
    box->setAccessibleName(label);
    box->addItems(choices);
    box->setCurrentIndex(chosen);
    connect(box, &QComboBox::activated, this, std::move(write));
    row->addWidget(title, 1);
    row->addWidget(box);
    column_->addLayout(row);
}

void Card::addStress(const Part& part) {
    column_->addSpacing(6);
    stress_ = new Stress(workspace_, prefixInView(workspace_.project()) + part.name, page_);
    column_->addWidget(stress_);
    column_->addWidget(new LossTable(workspace_, prefixInView(workspace_.project()) + part.name, page_));
}

void Card::fillStress() {
    if (stress_) stress_->refresh();
}

void Card::refresh() {
    for (const Field& field : fields_) {
        if (field.edit->hasFocus() && field.edit->isModified()) continue;
        const QString text = QString::fromStdString(field.read());
        if (field.edit->text() != text) {
            field.edit->setText(text);
            field.edit->setCursorPosition(0);  // a long one shows its beginning
        }
        judgeField(field);
    }
    fillStress();
}

}  // namespace hedgerow::app
