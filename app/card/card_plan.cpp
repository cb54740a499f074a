// The plan on the card: how a run is solved, whole and span by span.

#include <cmath>
#include <filesystem>

#include <QLabel>
#include <QLineEdit>
#include <QVBoxLayout>

#include "card/card.h"
#include "model/edits.h"
#include "model/quantity.h"
#include "model/span_text.h"
#include "runs/run.h"
#include "style/theme.h"

namespace hedgerow::app {

void Card::showPlan() {
    addHeading("Plan: " + QString::fromStdString(workspace_.plan().name));
    const auto change = [this](const std::function<void(Plan&)>& edit) {
        Plan changed = workspace_.plan();
        edit(changed);
        (void)workspace_.apply(edits::setPlan(changed.name, changed));
    };
    const auto number = [this](const QString& unit, double most) {
        return [this, unit, most](const std::string& text) -> Result<QString> {
            auto value = evaluateField(text, *findUnit(unit.toStdString()), workspace_.parameters().lookup());
            if (!value) return value.error();
            if (!(*value > 0) || *value > most)
                return Error{ErrorCode::range,
                             "it must be above 0 and at most " + formatQuantity(most, unit.toStdString())};
            return preview(text, *value, unit.toStdString());
        };
    };
    const auto field = [&](const QString& label, const QString& unit, std::string Plan::*member, auto judge) {
        addField(
            label, unit, "plan." + label, [this, member] { return workspace_.plan().*member; }, judge,
            [change, member](const std::string& text) {
                change([&](Plan& plan) { plan.*member = text.empty() ? Plan().*member : text; });
            });
    };
    field("end", "s", &Plan::end, [this](const std::string& text) -> Result<QString> {
        auto value = workspace_.timeOf(text);
        if (!value) return value.error();
        if (!(*value > 0) || *value > longestRunSeconds)
            return Error{ErrorCode::range, "it must be above 0 and at most " + formatQuantity(longestRunSeconds, "s")};
        return preview(text, *value, "s");
    });
    fields_.back().edit->setFixedWidth(textWidth);
    const QStringList engineNames{"best", "exact", "adaptive", "fixed"};
    addChoice("engine", "plan.engine", engineNames,
              static_cast<int>(engineNames.indexOf(QString::fromStdString(workspace_.plan().engine))),
              [change, engineNames](int chosen) {
                  change([&](Plan& plan) { plan.engine = engineNames[chosen].toStdString(); });
              });
    if (workspace_.plan().engine == "fixed") addFixedStep(change);
    field("trace tolerance", "", &Plan::tolerance, number("", 0.1));
    for (const auto& [name, text] : workspace_.plan().tolerances)
        addField(
            "of " + QString::fromStdString(name), "", "plan.tolerance." + QString::fromStdString(name),
            [this, name] {
                for (const auto& [quantity, now] : workspace_.plan().tolerances)
                    if (quantity == name) return now;
                return std::string();
            },
            number("", 0.1),
            [change, name](const std::string& typed) {
                change([&](Plan& plan) {
                    if (typed.empty())
                        return (void)std::erase_if(plan.tolerances, [&](const auto& t) { return t.first == name; });
                    for (auto& [quantity, now] : plan.tolerances)
                        if (quantity == name) now = typed;
                });
            });
    auto* adding = new QLineEdit(page_);
    adding->setObjectName("newTolerance");
    adding->setAccessibleName("tolerance of one quantity");
    adding->setPlaceholderText("finer for one: L1.i = 1e-6");
    connect(adding, &QLineEdit::returnPressed, this, [change, adding] {
        const std::string name = adding->text().section('=', 0, 0).trimmed().toStdString(),
                          value = adding->text().section('=', 1).trimmed().toStdString();
        if (!name.empty() && !value.empty())
            change([&](Plan& plan) {
                std::erase_if(plan.tolerances, [&](const auto& t) { return t.first == name; });
                plan.tolerances.emplace_back(name, value);
            });
    });
    column_->addWidget(adding);
    field("start", "", &Plan::start, [this](const std::string& text) -> Result<QString> {
        if (text == "given" || text == "operating point") return QString();
        if (text == settledStart) return QString("the periodic state, which is looked for first");
        std::error_code failed;
        const ProjectFolder& folder = workspace_.project().folder;
        if (std::filesystem::is_regular_file(folder.path() / text, failed)) return QString("the end of another run");
        return Error{ErrorCode::name, "it is 'given', 'operating point', 'settled', or a file with the end of another run"};
    });
    field("settled periods to show", "", &Plan::settledPeriods, [this](const std::string& text) -> Result<QString> {
        auto value = evaluateField(text, *findUnit(""), workspace_.parameters().lookup());
        if (!value) return value.error();
        if (!(*value >= 1) || *value > 1e6 || *value != std::floor(*value))
            return Error{ErrorCode::range, "it must be a whole number from 1 to 1 M"};
        return preview(text, *value, "");
    });
    field("period", "s", &Plan::period, [this](const std::string& text) -> Result<QString> {
        if (text.empty()) return QString("found: the common one of carriers, tasks and sources");
        auto value = workspace_.timeOf(text);
        if (!value) return value.error();
        if (!(*value >= 1e-9) || *value > 100)
            return Error{ErrorCode::range, "it must be at least 1 ns and at most 100 s"};
        return preview(text, *value, "s");
    });
    addChoice("inconsistent start values", "plan.evenOut", {"are refused", "are evened out"},
              workspace_.plan().evenOut ? 1 : 0,
              [change](int chosen) { change([&](Plan& plan) { plan.evenOut = chosen == 1; }); });
    showSpans();
    field("largest jump between spans", "", &Plan::largestJump, number("", 1e6));
    addQuiet(
        "Between switching instants the exact engine has no step and no truncation error; it takes what is straight in "
        "pieces. The adaptive engine takes every rung, with steps that follow an error estimate. The best one is the "
        "exact one where it can be. The fixed one shows what a target that computes in a fixed time makes of the "
        "circuit, and what a step takes. The trace tolerance says how far the stored straight lines may stray from the "
        "solution, relative to the swing of a trace.");
}

/// What is wrong with a line, or what it costs.
Result<QString> Card::judgeSpan(std::size_t index, const std::string& text) const {
    const auto span = readSpanText(text);
    if (!span) return span.error();
    const auto& spans = workspace_.plan().spans;
    // What is known of a span is known of it as it stands in the plan.
    if (index >= spans.size() || spanText(*span) != spanText(spans[index])) return QString();
    // What only the whole plan can tell is found beside the window.
    for (const Check& check : workspace_.checks())
        if (check.error.message.find("span " + std::to_string(index + 1) + ",") != std::string::npos) return check.error;
    const auto& price = workspace_.price();
    if (!price || price->spans.size() != spans.size()) return QString();
    const SpanPrice& cost = price->spans[index];
    return QString::fromStdString("~" + formatQuantity(cost.seconds, "s", 2) + ", " + cost.engine);
}

void Card::showSpans() {
    auto* label = new QLabel("spans, one after the other", page_);
    label->setProperty("quiet", true);
    column_->addWidget(label);
    const auto change = [this](const std::function<void(std::vector<Span>&)>& edit) {
        workspace_.changePlan([&](Plan& plan) { edit(plan.spans); });
    };
    for (std::size_t i = 0; i < workspace_.plan().spans.size(); ++i)
        addLine(
            "span." + QString::number(i), "span " + QString::number(i + 1),
            [this, i]() -> std::string {
                const auto& spans = workspace_.plan().spans;
                return i < spans.size() ? spanText(spans[i]) : "";
            },
            [this, i](const std::string& text) { return text.empty() ? Result<QString>(QString()) : judgeSpan(i, text); },
            [change, i](const std::string& text) {
                change([&](std::vector<Span>& spans) {
                    if (i >= spans.size()) return;
                    if (text.empty())
                        spans.erase(spans.begin() + static_cast<std::ptrdiff_t>(i));
                    else if (auto span = readSpanText(text, spans[i]))
                        spans[i] = *span;
                });
            });
    QLineEdit* adding = addLine(
        "newSpan", "new span", [] { return std::string(); },
        [this](const std::string& text) {
            return text.empty() ? Result<QString>(QString()) : judgeSpan(SIZE_MAX, text);
        },
        [change](const std::string& text) {
            if (auto span = readSpanText(text)) change([&](std::vector<Span>& spans) { spans.push_back(*span); });
        });
    adding->setPlaceholderText("add: until 3m: all on 2, or settle");
    adding->setToolTip(
        "until when: how\nuntil 3m: all on 2\nfor 20u: Q1 on 4, exact\nuntil settled: all on 1, keep nothing\nuntil out.v > "
        "23: as drawn\nuntil 100u after event 2: tolerance 1e-5\nevery 10m for 20u: all on 4\nsettle: all on 2\nto the end: "
        "fixed, step 100n");
}

/// @param change  applies an edit to the plan
void Card::addFixedStep(const std::function<void(const std::function<void(Plan&)>&)>& change) {
    const auto field = [&](const QString& label, const QString& unit, const QString& name, double least, double most,
                           std::string FixedStep::*member) {
        const auto judge = [this, unit, least, most](const std::string& text) -> Result<QString> {
            auto value = evaluateField(text, *findUnit(unit.toStdString()), workspace_.parameters().lookup());
            if (!value) return value.error();
            if (*value < least || *value > most || (unit.isEmpty() && *value != std::floor(*value)))
                return Error{ErrorCode::range, unit.isEmpty() ? "it must be a whole number of steps, 1 or more"
                                                              : "it must be between 1 ps and 1 s"};
            return preview(text, *value, unit.toStdString());
        };
        addField(
            label, unit, name, [this, member] { return workspace_.plan().fixed.*member; }, judge,
            [change, member](const std::string& text) {
                change([&](Plan& plan) { plan.fixed.*member = text.empty() ? FixedStep().*member : text; });
            });
    };
    field("step", "s", "plan.step", 1e-12, 1, &FixedStep::step);
    const QStringList methods{"trapezoidal", "backward Euler"};
    addChoice("method", "plan.method", methods,
              static_cast<int>(methods.indexOf(QString::fromStdString(workspace_.plan().fixed.method))),
              [change, methods](int chosen) {
                  change([&](Plan& plan) { plan.fixed.method = methods[chosen].toStdString(); });
              });
    addChoice("what switches within a step", "plan.interpolate", {"waits for the grid", "is interpolated"},
              workspace_.plan().fixed.interpolate ? 1 : 0,
              [change](int chosen) { change([&](Plan& plan) { plan.fixed.interpolate = chosen == 1; }); });
    field("temperatures move every", "", "plan.heat", 1, 1e6, &FixedStep::heat);
    field("the control moves every", "", "plan.control", 1, 1e6, &FixedStep::control);
}

}  // namespace hedgerow::app
