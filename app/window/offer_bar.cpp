#include "window/offer_bar.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>

#include "style/theme.h"

namespace hedgerow::app {

OfferBar::OfferBar(QWidget* parent) : QFrame(parent) {
    setObjectName("offer");
    hide();
}

void OfferBar::close() {
    delete layout();
    for (QWidget* child : findChildren<QWidget*>(QString(), Qt::FindDirectChildrenOnly)) {
        child->hide();
        child->deleteLater();  // it may be the button that was just pressed
    }
    hide();
}

void OfferBar::offer(const QString& text, const std::vector<Answer>& answers) {
    close();
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(16, 6, 16, 6);
    auto* label = new QLabel(text, this);
    label->setWordWrap(true);
    row->addWidget(label, 1);
    for (const Answer& answer : answers) {
        auto* button = new QPushButton(answer.text, this);
        button->setObjectName(answer.object);
        // Queued: the buttons go with the offer.
        connect(button, &QPushButton::clicked, this, answer.chosen, Qt::QueuedConnection);
        row->addWidget(button);
    }
    show();
}

void OfferBar::refreshTheme() {
    const Colours& p = colours();
    setStyleSheet(QString("QFrame#offer { background: %1; border-bottom: 1px solid %2; }")
                      .arg(p.gorseTint.name(), p.rule.name()));
}

}  // namespace hedgerow::app
