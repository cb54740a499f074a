#include "card/equations.h"

#include <QLabel>
#include <QToolButton>
#include <QVBoxLayout>

#include "card/ladder.h"

namespace hedgerow::app {

Equations::Equations(const PartKind& kind, bool open, QWidget* parent) : QWidget(parent) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(4);
    button_ = new QToolButton(this);
    button_->setObjectName("showEquations");
    button_->setText("Equations");
    button_->setToolTip("what each rung solves, and where that comes from");
    button_->setToolButtonStyle(Qt::ToolButtonTextBesideIcon);
    button_->setCheckable(true);
    button_->setStyleSheet("QToolButton { border: none; background: transparent; padding: 2px 0; }");
    line_ = new QHBoxLayout;
    line_->addWidget(button_);
    line_->addStretch(1);
    column->addLayout(line_);

    QString html;
    const auto escaped = [](const std::string& text) { return QString::fromStdString(text).toHtmlEscaped(); };
    for (auto rung = kind.rungs.rbegin(); rung != kind.rungs.rend(); ++rung)
        html += QString("<p style='margin: 0 0 8px 0'><b>%1</b>: %2<br>%3<br><i>%4</i></p>")
                    .arg(nameOfRung(rung->rung), escaped(rung->adds), escaped(rung->equations), escaped(rung->source));
    auto* text = new QLabel(html, this);
    text->setObjectName("equations");
    text->setTextFormat(Qt::RichText);
    text->setTextInteractionFlags(Qt::TextSelectableByMouse | Qt::TextSelectableByKeyboard);
    text->setWordWrap(true);
    text->setVisible(open);
    column->addWidget(text);
    const auto arrow = [this](bool shown) { button_->setArrowType(shown ? Qt::DownArrow : Qt::RightArrow); };
    button_->setChecked(open);
    arrow(open);
    connect(button_, &QToolButton::toggled, this, [this, text, arrow](bool shown) {
        arrow(shown);
        text->setVisible(shown);
        emit opened(shown);
    });
}

void Equations::addBeside(QWidget* button) { line_->addWidget(button); }

}  // namespace hedgerow::app
