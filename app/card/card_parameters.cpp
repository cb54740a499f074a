// The parameters of a project on the card: all of them with their values, and one with everything about it.

#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "card/card.h"
#include "model/edits.h"
#include "model/quantity.h"
#include "model/references.h"
#include "model/values.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

QLabel* link(const QString& target, const QString& text, QWidget* parent) {
    auto* label = new QLabel(QString("<a href=\"%1\" style=\"color: %3; text-decoration: none;\">%2</a>")
                                 .arg(target.toHtmlEscaped(), text.toHtmlEscaped(), colours().sloe.name()),
                             parent);
    label->setTextInteractionFlags(Qt::LinksAccessibleByMouse | Qt::LinksAccessibleByKeyboard);
    label->setWordWrap(true);
    return label;
}

}  // namespace

const Parameter* Card::shownParameter() const {
    for (const Parameter& parameter : workspace_.project().ownParameters())
        if (!parameter_.empty() && parameter.name == parameter_) return &parameter;
    return nullptr;
}

void Card::openParameter(const std::string& name) {
    parameter_ = name;
    rebuild();
}

void Card::changeParameter(const std::string& name, const std::function<void(Parameter&)>& change) {
    for (const Parameter& parameter : workspace_.project().ownParameters()) {
        if (parameter.name != name) continue;
        Parameter changed = parameter;
        change(changed);
        if (workspace_.apply(edits::setParameter(name, changed, workspace_.catalogue())) && parameter_ == name)
            openParameter(changed.name);
        return;
    }
}

void Card::showParameters() {
    const Project& project = workspace_.project();
    addHeading("Parameters");
    for (const Parameter& parameter : project.ownParameters()) {
        const std::string name = parameter.name, unit = parameter.unit;
        const auto read = [this, name]() -> std::string {
            for (const Parameter& now : workspace_.project().ownParameters())
                if (now.name == name) return now.value;
            return "";
        };
        const auto judge = [this, name, unit](const std::string& text) -> Result<QString> {
            std::vector<Parameter> trial = workspace_.project().parametersInView();
            for (Parameter& now : trial)
                if (now.name == name) now.value = text;
            const ParameterTable table(trial);
            auto value = table.value(name);
            if (!value) return value.error();
            for (const Error& error : table.errors())
                if (error.field == name) return error;
            return preview(text, value->value, unit);
        };
        QLabel* title =
            addField(QString::fromStdString(name), QString::fromStdString(unit),
                     "parameter." + QString::fromStdString(name), read, judge, [this, name](const std::string& text) {
                         if (text.empty()) return (void)workspace_.apply(edits::removeParameter(name));
                         changeParameter(name, [&](Parameter& changed) { changed.value = text; });
                     });
        const bool used = !usesOf(project, workspace_.catalogue(), name).empty();
        title->setText(QString("<a href=\"%1\" style=\"color: %2; text-decoration: none;\">%1 ›</a>%3")
                           .arg(QString::fromStdString(name), colours().ink.name(), used ? "" : "  unused"));
        title->setTextInteractionFlags(Qt::LinksAccessibleByMouse | Qt::LinksAccessibleByKeyboard);
        title->setObjectName("parameterLink." + QString::fromStdString(name));
        title->setToolTip("unit, note, range, and where it is used");
        connect(
            title, &QLabel::linkActivated, this, [this, name] { openParameter(name); }, Qt::QueuedConnection);
        fields_.back().edit->setToolTip(QString::fromStdString(parameter.note));
    }
    for (const std::string& name : undefinedParameters(project, workspace_.catalogue())) {
        auto* missing = new QLabel(QString::fromStdString(name) + " is used, but has no value", page_);
        missing->setStyleSheet(QString("color: %1;").arg(colours().haw.name()));
        missing->setWordWrap(true);
        column_->addWidget(missing);
    }
    auto* adding = new QLineEdit(page_);
    adding->setObjectName("newParameter");
    adding->setAccessibleName("new parameter");
    adding->setPlaceholderText("add: name = value unit");
    connect(adding, &QLineEdit::returnPressed, this, [this, adding] {
        const QString name = adding->text().section('=', 0, 0).trimmed(),
                      value = adding->text().section('=', 1).trimmed();
        if (name.isEmpty() || value.isEmpty()) return;
        // The unit typed with the value becomes the parameter's; one behind an expression is the unit of the whole.
        const auto quantity = evaluate(value.toStdString(), workspace_.parameters().lookup());
        const std::string last = value.section(' ', -1).toStdString(), rest = value.section(' ', 0, -2).toStdString();
        Parameter made{name.toStdString(), value.toStdString(), "", "", ""};
        if (quantity && findUnit(symbolOf(quantity->dimension)))
            made.unit = symbolOf(quantity->dimension);
        else if (!rest.empty() && findUnit(last))
            made.value = rest, made.unit = last;
        (void)workspace_.apply(edits::setParameter("", made, workspace_.catalogue()));
    });
    column_->addWidget(adding);
}

/// Everything about one parameter: name, value, unit, range, note, and where it is used.
void Card::showParameter(const Parameter& parameter) {
    const std::string name = parameter.name, unit = parameter.unit;
    QLabel* back = link("back", "‹ all parameters", page_);
    back->setObjectName("allParameters");
    connect(
        back, &QLabel::linkActivated, this, [this] { openParameter(""); }, Qt::QueuedConnection);
    column_->addWidget(back);
    auto* title = new QLabel(QString::fromStdString(name), page_);
    title->setStyleSheet("font-size: 16px; font-weight: bold;");
    column_->addWidget(title);

    struct Row {
        const char *label, *field;
        std::string Parameter::*member;
        bool measured;
    };
    for (const Row& row : {Row{"name", "name", &Parameter::name, false},
                           {"value", "value", &Parameter::value, true},
                           {"unit", "unit", &Parameter::unit, false},
                           {"at least", "least", &Parameter::least, true},
                           {"at most", "most", &Parameter::most, true},
                           {"note", "note", &Parameter::note, false}}) {
        addField(
            row.label, row.measured ? QString::fromStdString(unit) : "", QString("parameter.") + row.field,
            [this, member = row.member] { return shownParameter() ? shownParameter()->*member : std::string(); },
            [this, name, unit, member = row.member,
             measured = row.measured](const std::string& text) -> Result<QString> {
                Project trial = workspace_.project();
                Parameter changed = *shownParameter();
                changed.*member = text;
                if (auto applied = edits::setParameter(name, changed, workspace_.catalogue()).apply(trial); !applied)
                    return applied.error();
                if (!measured || text.empty()) return QString();
                const ParameterTable table(trial.parametersInView());
                for (const Error& error : table.errors())
                    if (error.field == changed.name) return error;
                const auto value = evaluateField(text, findUnit(unit).value_or(Unit{}), table.lookup());
                if (!value) return value.error();
                return preview(text, *value, unit);
            },
            [this, name, member = row.member](const std::string& text) {
                changeParameter(name, [&](Parameter& changed) { changed.*member = text; });
            });
    }
    const auto uses = usesOf(workspace_.project(), workspace_.catalogue(), name);
    addHeading(uses.empty() ? "Not used anywhere" : "Used by");
    for (const ParameterUse& use : uses) {
        if (use.part == 0) {
            addQuiet(QString::fromStdString(use.where));
            continue;
        }
        QLabel* label = link("part", QString::fromStdString(use.where), page_);
        connect(
            label, &QLabel::linkActivated, this,
            [this, use] {
                if (use.sheet != workspace_.project().view.sheet) workspace_.look({use.sheet, {}});
                workspace_.select({use.part});
            },
            Qt::QueuedConnection);
        column_->addWidget(label);
    }
    if (!uses.empty()) return;  // what is used cannot be removed
    auto* removing = new QPushButton("Remove", page_);
    removing->setObjectName("removeParameter");
    connect(
        removing, &QPushButton::clicked, this, [this, name] { (void)workspace_.apply(edits::removeParameter(name)); },
        Qt::QueuedConnection);
    column_->addWidget(removing, 0, Qt::AlignLeft);
}

}  // namespace hedgerow::app
