#include "card/spectrum_fields.h"

#include <QCheckBox>
#include <QComboBox>
#include <QFormLayout>
#include <QLabel>
#include <QLineEdit>

#include "model/edits.h"
#include "model/quantity.h"
#include "style/theme.h"
#include "traces/limit_line.h"
#include "traces/spectrum.h"

namespace hedgerow::app {

SpectrumFields::SpectrumFields(Workspace& workspace, std::size_t lane, QWidget* parent)
    : QWidget(parent), workspace_(workspace), lane_(lane), mistake_(new QLabel(this)) {
    setObjectName("spectrumFields");
    auto* form = new QFormLayout(this);
    form->setContentsMargins(0, 8, 0, 0);
    auto* title = new QLabel("Its spectrum", this);
    title->setFont(textFont(TextSize::normal, true));
    form->addRow(title);
    auto* window = new QComboBox(this);
    window->setObjectName("spectrumWindow");
    window->setAccessibleName("window");
    for (const auto& [name, kind] : spectrumWindows()) window->addItem(QString::fromStdString(name));
    window->setCurrentText(QString::fromStdString(look().window));
    form->addRow("window", window);
    connect(window, &QComboBox::textActivated, this, [this](const QString& name) {
        change([&](SpectrumLook& changed) { changed.window = name.toStdString(); });
    });
    addText(*form, "whole periods of", "spectrumFundamental", "fsw, or 50 Hz", &SpectrumLook::fundamental);
    addText(*form, "up to", "spectrumHighest", "30 MHz", &SpectrumLook::highest);
    addText(*form, "limit", "spectrumLimit", "150k 66, 500k 56", &SpectrumLook::limit);
    auto* decibel = new QCheckBox("in dBµV", this);
    decibel->setObjectName("spectrumDecibel");
    decibel->setChecked(look().decibel);
    decibel->setVisible(workspace.unitOf(workspace.project().lanes[lane].quantities.front()) == "V");
    form->addRow("", decibel);
    connect(decibel, &QCheckBox::toggled, this,
            [this](bool on) { change([&](SpectrumLook& changed) { changed.decibel = on; }); });
    mistake_->setObjectName("spectrumMistake");
    mistake_->setWordWrap(true);
    mistake_->setStyleSheet(QString("color: %1;").arg(colours().haw.name()));
    mistake_->hide();
    form->addRow(mistake_);
}

SpectrumLook SpectrumFields::look() const {
    const auto& lanes = workspace_.project().lanes;
    return lane_ < lanes.size() ? lanes[lane_].spectrum : SpectrumLook{};
}

void SpectrumFields::change(const std::function<void(SpectrumLook&)>& change) {
    std::vector<Lane> lanes = workspace_.project().lanes;
    if (lane_ >= lanes.size()) return;
    SpectrumLook changed = lanes[lane_].spectrum;
    change(changed);
    if (changed == lanes[lane_].spectrum) return;
    QString mistake;
    if (!changed.limit.empty())
        if (const auto limit = LimitLine::read(changed.limit); !limit)
            mistake = QString::fromStdString(limit.error().message);
    for (const std::string& frequency : {changed.fundamental, changed.highest}) {
        if (frequency.empty()) continue;
        const auto value = evaluateField(frequency, *findUnit("Hz"), workspace_.parameters().lookup());
        if (!value) mistake = QString::fromStdString(value.error().message);
        if (value && !(*value > 0)) mistake = "a frequency is above 0 Hz";
    }
    mistake_->setText(mistake);
    mistake_->setVisible(!mistake.isEmpty());
    if (!mistake.isEmpty()) return;
    lanes[lane_].spectrum = changed;
    (void)workspace_.apply(edits::setLanes(std::move(lanes), "spectrum"));
}

void SpectrumFields::addText(QFormLayout& form, const char* label, const char* name, const char* example,
                             std::string SpectrumLook::*text) {
    auto* field = new QLineEdit(QString::fromStdString(look().*text), this);
    field->setObjectName(name);
    field->setAccessibleName(label);
    field->setPlaceholderText(example);
    form.addRow(label, field);
    connect(field, &QLineEdit::editingFinished, this, [this, field, text] {
        change([&](SpectrumLook& changed) { changed.*text = field->text().trimmed().toStdString(); });
    });
}

}  // namespace hedgerow::app
