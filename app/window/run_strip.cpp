#include "window/run_strip.h"

#include <algorithm>

#include <QComboBox>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QLabel>
#include <QPainter>
#include <QPushButton>
#include <QStyle>

#include "model/quantity.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

/// A drop-down that says what it chooses, as a pill: "plan  start-up  ⌄".
class PillBox : public QComboBox {
public:
    PillBox(const QString& caption, QWidget* parent) : QComboBox(parent), caption_(caption) {
        setAccessibleName(caption);
        setFixedSize(184, 32);
    }

protected:
    void paintEvent(QPaintEvent*) override {
        const Colours& p = colours();
        QPainter painter(this);
        painter.setRenderHint(QPainter::Antialiasing);
        painter.setPen(QPen(hasFocus() ? p.sloe : p.rule, 1));
        painter.setBrush(p.paper);
        painter.drawRoundedRect(QRectF(rect()).adjusted(0.5, 0.5, -0.5, -0.5), 15.5, 15.5);
        painter.setFont(textFont());
        painter.setPen(p.bark);
        const QRect text = rect().adjusted(16, 0, -32, 0);
        painter.drawText(text, Qt::AlignLeft | Qt::AlignVCenter, caption_);
        const int used = painter.fontMetrics().horizontalAdvance(caption_) + 6;
        painter.setPen(p.ink);
        painter.drawText(text.adjusted(used, 0, 0, 0), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(currentText(), Qt::ElideRight, text.width() - used));
        painter.setPen(QPen(p.bark, 1.5, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
        const QPointF at(width() - 20, height() / 2.0 + 1);
        painter.drawPolyline(QPolygonF{at + QPointF(-4, -2), at + QPointF(0, 2), at + QPointF(4, -2)});
    }

private:
    QString caption_;
};

QString shown(double value, const char* unit, int digits = 2) {
    return QString::fromStdString(formatQuantity(value, unit, digits));
}

/// "12 k" for a count.
QString counted(double count) { return QString::fromStdString(formatPrefixed(count, 2)).replace(' ', QChar(0x202F)); }

}  // namespace

RunStrip::RunStrip(Workspace& workspace, QWidget* parent)
    : QWidget(parent),
      workspace_(workspace),
      menu_(new QPushButton("☰", this)),
      run_(new QPushButton(this)),
      settle_(new QPushButton("Settle", this)),
      title_(new QLabel(this)),
      description_(new QLabel(this)),
      price_(new QLabel(this)),
      detail_(new QLabel(this)),
      scene_(new PillBox("scene", this)),
      plan_(new PillBox("plan", this)) {
    setObjectName("panel");
    setAttribute(Qt::WA_StyledBackground);
    setFixedHeight(48);
    menu_->setObjectName("menu");
    menu_->setAccessibleName("menu");
    menu_->setStyleSheet(
        "QPushButton { border: 0; border-radius: 8px; padding: 2px; font-size: 16px; } QPushButton::menu-indicator { "
        "width: 0; }");
    menu_->setFixedSize(32, 32);
    title_->setStyleSheet("font-size: 15px; font-weight: bold;");
    title_->setObjectName("title");
    description_->setProperty("quiet", true);
    description_->setStyleSheet(QString());
    description_->setMinimumWidth(0);
    description_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    run_->setObjectName("primary");
    run_->setMinimumWidth(72);
    settle_->setObjectName("settle");
    settle_->setMinimumWidth(72);
    settle_->setToolTip("Finds the periodic state and shows some periods of it, without start-up (Ctrl+Shift+Return)");
    plan_->setObjectName("plan");
    price_->setObjectName("price");
    price_->setAlignment(Qt::AlignRight);
    detail_->setObjectName("priceDetail");
    detail_->setAlignment(Qt::AlignRight);
    detail_->setProperty("quiet", true);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(8, 0, 16, 0);
    row->setSpacing(8);
    row->addWidget(menu_);
    row->addWidget(title_);
    row->addSpacing(4);
    row->addWidget(description_, 3);
    row->addWidget(scene_);
    row->addWidget(plan_);
    row->addWidget(run_);
    row->addWidget(settle_);
    auto* trade = new QPushButton("Trade", this);
    trade->setObjectName("toTrade");
    trade->setToolTip("Trade study: what other ways of solving lose and save (Ctrl+Shift+T)");
    connect(trade, &QPushButton::clicked, this, &RunStrip::tradeAsked);
    row->addWidget(trade);
    auto* study = new QPushButton("Study", this);
    study->setObjectName("toStudy");
    study->setToolTip("Study: many runs from one, what varies and what is measured (Ctrl+Shift+Y)");
    connect(study, &QPushButton::clicked, this, &RunStrip::studyAsked);
    row->addWidget(study);
    auto* prices = new QVBoxLayout;
    prices->setSpacing(0);
    prices->addStretch(1);
    prices->addWidget(price_);
    prices->addWidget(detail_);
    prices->addStretch(1);
    row->addLayout(prices, 4);
    connect(run_, &QPushButton::clicked, this,
            [this] { workspace_.running() ? workspace_.stopRun() : workspace_.startRun(); });
    connect(settle_, &QPushButton::clicked, &workspace_, &Workspace::settle);
    connect(plan_, &QComboBox::textActivated, this, [this](const QString& text) { workspace_.setPlan(text); });
    connect(scene_, &QComboBox::textActivated, this, [this](const QString& text) { workspace_.setScene(text); });
    connect(&workspace, &Workspace::projectChanged, this, &RunStrip::refresh);
    connect(&workspace, &Workspace::fileChanged, this, &RunStrip::refresh);
    connect(&workspace, &Workspace::runsChanged, this, &RunStrip::refresh);
    connect(&workspace, &Workspace::problemsChanged, this, &RunStrip::refreshPrice);
    connect(&workspace, &Workspace::runProgressed, this, &RunStrip::refreshPrice);
    refresh();
}

void RunStrip::refresh() {
    const Project& project = workspace_.project();
    QString title = QString::fromStdString(project.title);
    if (title.isEmpty())
        title = workspace_.path().isEmpty() ? "new project" : QFileInfo(workspace_.path()).completeBaseName();
    title_->setText(title + (workspace_.history().modified() ? " •" : ""));
    title_->setToolTip(workspace_.path().isEmpty()
                           ? "not saved yet"
                           : workspace_.path() + (workspace_.history().modified() ? "\nhas unsaved changes" : ""));
    description_->setText(QString::fromStdString(project.description));
    description_->setToolTip(description_->text());
    const auto fill = [](QComboBox* box, const auto& items, const std::string& current) {
        QStringList names;
        for (const auto& item : items) names << QString::fromStdString(item.name);
        QStringList present;
        for (int i = 0; i < box->count(); ++i) present << box->itemText(i);
        if (names != present) box->clear(), box->addItems(names);
        box->setCurrentText(QString::fromStdString(current));
    };
    fill(plan_, project.plans, workspace_.plan().name);
    fill(scene_, project.scenes, workspace_.scene().name);
    scene_->setVisible(project.scenes.size() > 1);
    const bool running = workspace_.running();
    settle_->setEnabled(!running);
    run_->setText(running ? "Stop" : "Run");
    run_->setObjectName(running ? "stop" : "primary");
    run_->setToolTip(running ? "Stops the run and keeps what it has computed (Ctrl+.)" : "Runs the plan (Ctrl+Return)");
    // The name of the button decides its look: the style sheet is asked again.
    run_->style()->unpolish(run_);
    run_->style()->polish(run_);
    refreshPrice();
}

namespace {

/// What is left of a run: by its price at first, by how it goes later.
QString leftOf(const std::optional<RunPrice>& price, double reached, double end, double waited) {
    const double share = end > 0 ? reached / end : 0;
    const double going = reached > 0 ? (end - reached) * waited / reached : -1;
    if (!price) return going < 0 ? QString("…") : shown(going, "s", 2);
    const double priced = std::max(0.0, price->seconds - waited);
    // Where the price was too low, only the run itself tells.
    const double trust = waited > price->high ? 1.0 : std::clamp(2 * share, 0.0, 1.0);
    return shown(going < 0 ? priced : trust * going + (1 - trust) * priced, "s", 2);
}

}  // namespace

void RunStrip::refreshPrice() {
    const bool failed = !workspace_.problems().empty();
    price_->setProperty("bad", failed);
    price_->setStyleSheet(failed ? QString("color: %1;").arg(colours().haw.name()) : QString());
    const auto predicted = workspace_.price();
    if (workspace_.starting()) {
        price_->setText("preparing");
        detail_->setText("the circuit is checked and laid out");
        return;
    }
    if (workspace_.running()) {
        const RunEntry& entry = *workspace_.runs().front();
        if (entry.live && entry.live->settles() && entry.run->points() == 0) {
            const SettleProgress at = entry.live->searched();
            price_->setText(at.residual > 0 ? QString("settling · residual %1").arg(at.residual, 0, 'e', 0)
                                            : QString("settling"));
            detail_->setText(QString("%1 periods gone · iteration %2").arg(at.periods).arg(at.iterations));
            return;
        }
        const double reached = toSeconds(entry.run->reached()), end = toSeconds(entry.run->end()),
                     waited = std::max(1e-3, entry.watch.seconds());
        price_->setText(QString("%1 % · %2 of %3")
                            .arg(100 * reached / end, 0, 'f', 0)
                            .arg(shown(reached, "s", 3), shown(end, "s", 3)));
        detail_->setText(QString("%1 per second of waiting · %2 left")
                             .arg(shown(reached / waited, "s", 2),
                                  leftOf(predicted, reached, end, waited)));
        return;
    }
    if (failed) {
        price_->setText(workspace_.problems().size() == 1
                            ? "cannot run"
                            : QString("%1 things stand in the way").arg(workspace_.problems().size()));
        detail_->setText("the sheet says why");
        return;
    }
    const auto& last = workspace_.shownRun();
    if (last && !workspace_.shownRunIsOld() && last->run->plan() == workspace_.plan().name &&
        last->run->scene() == workspace_.scene().name) {
        const RunSummary& summary = last->run->summary();
        price_->setText(
            QString("took %1").arg(shown(summary.second("total"), "s")) +
            (summary.end == RunEnd::finished ? "" : ", " + QString::fromStdString(std::string(describe(summary.end)))));
        double worst = 0;
        QString where;
        for (const auto& [name, seconds] : summary.seconds)
            if (!name.ends_with(" step") && !name.starts_with("step ") && name != "total" && seconds > worst)
                worst = seconds, where = QString::fromStdString(name);
        const double part = summary.second("total") > 0 ? 100 * worst / summary.second("total") : 0;
        detail_->setToolTip(QString::fromStdString(summary.headroom()));
        detail_->setText(
            QString("%1 events, %2 points · %3 % %4")
                .arg(counted(double(summary.counter("events"))), counted(double(summary.counter("stored points"))))
                .arg(part, 0, 'f', 0)
                .arg(where));
    } else if (predicted) {
        const auto budget = static_cast<double>(memoryBudget());
        const QString bytes = QString::fromStdString(formatQuantity(predicted->bytes, "B", 2));
        price_->setText(QString("price ~%1, ~%2").arg(shown(predicted->seconds, "s", 2), bytes));
        price_->setToolTip(QString("Between %1 and %2, nine times of ten. %3 on the disk when it is kept.\nA run may store "
                                   "%4, half of the memory of this machine.")
                               .arg(shown(predicted->low, "s", 2), shown(predicted->high, "s", 2),
                                    QString::fromStdString(formatQuantity(predicted->disk, "B", 2)),
                                    QString::fromStdString(formatQuantity(budget, "B", 2))));
        if (predicted->bytes > budget) {
            detail_->setText(QString("ends early: %1 is all it may store")
                                 .arg(QString::fromStdString(formatQuantity(budget, "B", 2))));
            return;
        }
        detail_->setText(QString("%1 to %2 · %3 events")
                             .arg(shown(predicted->low, "s", 2), shown(predicted->high, "s", 2),
                                  counted(predicted->events)));
    } else {
        price_->setText("");
        detail_->setText("");
    }
}

}  // namespace hedgerow::app
