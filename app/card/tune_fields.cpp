#include "card/tune_fields.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "model/edits.h"
#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

TuneFields::TuneFields(Workspace& workspace, int part, QWidget* parent)
    : QWidget(parent),
      workspace_(workspace),
      part_(part),
      crossover_(new QLineEdit(this)),
      margin_(new QLineEdit("60", this)),
      tune_(new QPushButton("Tune", this)),
      take_(new QPushButton("Take these", this)),
      outcome_(new QLabel(this)) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(4);
    const auto field = [&](const char* text, QLineEdit* edit, const char* name, const char* unit) {
        auto* row = new QHBoxLayout;
        auto* label = new QLabel(text, this);
        label->setProperty("quiet", true);
        edit->setObjectName(name);
        edit->setAccessibleName(text);
        edit->setFixedWidth(96);
        edit->setAlignment(Qt::AlignRight);
        auto* behind = new QLabel(unit, this);
        behind->setFixedWidth(24);
        row->addWidget(label, 1);
        row->addWidget(edit);
        row->addWidget(behind);
        column->addLayout(row);
        connect(edit, &QLineEdit::returnPressed, this, &TuneFields::tune);
    };
    field("crossover", crossover_, "tuneCrossover", "Hz");
    field("phase margin", margin_, "tuneMargin", "°");
    crossover_->setPlaceholderText("5k");
    auto* row = new QHBoxLayout;
    tune_->setObjectName("tune");
    tune_->setToolTip(
        "Settles the circuit, finds its loop gain at this output, and the values that make it pass 1 there");
    take_->setObjectName("takeTuned");
    take_->setToolTip("Sets these values; this can be undone");
    take_->hide();
    row->addWidget(tune_);
    row->addWidget(take_);
    row->addStretch(1);
    column->addLayout(row);
    outcome_->setObjectName("tuneOutcome");
    outcome_->setWordWrap(true);
    outcome_->hide();
    column->addWidget(outcome_);
    connect(tune_, &QPushButton::clicked, this, &TuneFields::tune);
    connect(take_, &QPushButton::clicked, this, &TuneFields::take);
}

void TuneFields::say(const QString& text, bool bad) {
    outcome_->setStyleSheet(bad ? QString("color: %1;").arg(colours().haw.name()) : QString());
    outcome_->setText(text);
    outcome_->setMinimumHeight(0);  // the card scrolls rather than squeezing it
    outcome_->setMinimumHeight(outcome_->heightForWidth(width()));
    outcome_->show();
}

void TuneFields::tune() {
    if (busy_) {
        background_.drop();
        busy_ = false;
        tune_->setText("Tune");
        return say("stopped", false);
    }
    const auto lookup = workspace_.parameters().lookup();
    const auto crossover = evaluateField(crossover_->text().toStdString(), *findUnit("Hz"), lookup),
               margin = evaluateField(margin_->text().toStdString(), *findUnit(""), lookup);
    if (!crossover || !margin)
        return say(QString::fromStdString((crossover ? margin : crossover).error().message), true);
    const Part* const part = workspace_.project().findPart(part_);
    if (!part) return;
    busy_ = true;
    tune_->setText("Stop");
    take_->hide();
    say("settling, and looking at the loop …", false);
    background_.start([this, crossover = *crossover, margin = *margin, name = part->name,
                       project = workspace_.history().shared(),
                       settings = RunSettings{.scene = workspace_.scene().name, .plan = workspace_.plan().name}](
                          const CancelToken& cancel) -> std::function<void()> {
        auto tuned =
            std::make_shared<Result<Tuning>>(tuneRegulator(project, settings, name, crossover, margin, cancel));
        return [this, tuned] {
            busy_ = false;
            tune_->setText("Tune");
            if (!*tuned) return say(QString::fromStdString(tuned->error().message), true);
            const Tuning& all = tuned->value();
            values_ = all.values;
            QStringList lines;
            for (const auto& [key, value] : all.values)
                lines << QString("%1 %2").arg(QString::fromStdString(key), QString::fromStdString(value));
            QString text = lines.join(", ");
            const auto shown = [](double value) { return QString::fromStdString(formatQuantity(value, "Hz", 3)); };
            if (all.margins.crossover)
                text += QString("\nthe loop passes 1 at %1 for last, with %2°")
                            .arg(shown(*all.margins.crossover))
                            .arg(*all.margins.phaseMargin, 0, 'f', 1);
            if (all.margins.gainMargin)
                text += QString("\nand may grow by %1 dB at %2")
                            .arg(20 * std::log10(*all.margins.gainMargin), 0, 'f', 1)
                            .arg(shown(*all.margins.phaseCrossover));
            say(text, false);
            take_->show();
            emit found(all.before, all.after);
        };
    });
}

void TuneFields::take() {
    const auto values = values_;
    (void)workspace_.apply(
        {"tune " + (workspace_.project().findPart(part_) ? workspace_.project().findPart(part_)->name : ""),
         [part = part_, values](Project& project) -> Status {
             Part* const tuned = project.findPart(part);
             if (!tuned) return Error{ErrorCode::name, "the part is gone"};
             for (const auto& [key, text] : values) tuned->values.set(key, text);
             return {};
         }});
    take_->hide();
}

}  // namespace hedgerow::app
