#include "card/trace_page.h"

#include <algorithm>

#include <QApplication>
#include <QCheckBox>
#include <QClipboard>
#include <QComboBox>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPainter>
#include <QPushButton>
#include <QScrollBar>
#include <QSpinBox>
#include <QTableWidget>
#include <QVBoxLayout>

#include "card/spectrum_fields.h"
#include "model/edits.h"
#include "model/quantity.h"
#include "style/theme.h"
#include "timeline/notation.h"

namespace hedgerow::app {

namespace {

constexpr int laterMilliseconds = 120;
constexpr int shownOrders = 50;
constexpr std::size_t mostWaitedFor = 200'000;  ///< points that are looked at while the window waits

/// The name in textbook notation.
class Title : public QWidget {
public:
    Title(std::string quantity, QWidget* parent) : QWidget(parent), quantity_(std::move(quantity)) {
        setFixedHeight(30);
        setAccessibleName(QString::fromStdString(quantity_));
    }

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        drawNotation(painter, QRectF(rect()), notationOf(quantity_), colours().ink, 20);
    }

private:
    std::string quantity_;
};

QTableWidget* plainTable(const char* name, QWidget* parent) {
    auto* table = new QTableWidget(parent);
    table->setObjectName(name);
    table->setAccessibleName(name);
    table->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table->setFrameShape(QFrame::NoFrame);
    table->setShowGrid(false);
    table->verticalHeader()->hide();
    table->verticalHeader()->setDefaultSectionSize(21);
    table->horizontalHeader()->setHighlightSections(false);
    table->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    table->setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    table->setStyleSheet(
        "QTableWidget { background: transparent; font-size: 11px; } QTableWidget::item { padding: 0; } "
        "QHeaderView::section { background: transparent; border: 0; padding: 1px; font-size: 11px; }");
    return table;
}

void fillRow(QTableWidget& table, int row, const QStringList& cells) {
    for (int column = 0; column < table.columnCount(); ++column) {
        auto* item = new QTableWidgetItem(column < cells.size() ? cells[column] : QString());
        item->setTextAlignment((column == 0 ? Qt::AlignLeft : Qt::AlignRight) | Qt::AlignVCenter);
        table.setItem(row, column, item);
    }
}

constexpr int mostStretched = 5;  ///< columns that share the width; more are scrolled

void fitHeight(QTableWidget& table) {
    table.horizontalHeader()->setMinimumSectionSize(20);
    const bool wide = table.columnCount() > mostStretched;
    table.horizontalHeader()->setSectionResizeMode(wide ? QHeaderView::ResizeToContents : QHeaderView::Stretch);
    table.horizontalHeader()->setSectionResizeMode(0, QHeaderView::ResizeToContents);
    table.setHorizontalScrollBarPolicy(wide ? Qt::ScrollBarAsNeeded : Qt::ScrollBarAlwaysOff);
    const int scroll = wide ? table.horizontalScrollBar()->sizeHint().height() : 0;
    table.setFixedHeight(table.horizontalHeader()->sizeHint().height() + 21 * table.rowCount() + 4 + scroll);
}

QString shown(double value, const std::string& unit, int digits = 4) {
    return QString::fromStdString(formatQuantity(value, unit, digits));
}

/// What the trace is at the two cursors, and how it goes from one to the other.
void addCursorRows(const Trace& trace, Tick mark, Tick cursor, std::vector<MeasureRow>& rows) {
    const auto before = trace.at(mark), after = trace.at(cursor);
    if (!before || !after || mark == cursor) return;
    const double rise = *after - *before;
    rows.insert(rows.begin(), {{"at the mark", trace.unit(), *before},
                               {"at the cursor", trace.unit(), *after},
                               {"rise", trace.unit(), rise},
                               {"slope", trace.unit() + "/s", rise / toSeconds(cursor - mark)}});
}

/// Phase, efficiency of two powers, distance: how a trace stands to another one.
QString relationOf(const Trace& own, const Trace& with, Tick from, Tick to) {
    QStringList found;
    if (const auto phase = phaseBetween(with, own, from, to))
        found << QString("phase %1° ahead").arg(*phase, 0, 'g', 4);
    if (own.unit() == "W" && with.unit() == "W")
        if (const auto ratio = efficiency(with, own, from, to))
            found << QString("efficiency %1 %").arg(100 * *ratio, 0, 'g', 5);
    if (own.unit() == with.unit())
        if (const auto apart = rmsDifference(own, with, from, to))
            found << "rms difference " + shown(*apart, own.unit());
    return found.isEmpty() ? "they have no common period and no common unit" : found.join(", ");
}

}  // namespace

TracePage::TracePage(Workspace& workspace, std::string quantity, QWidget* parent)
    : QWidget(parent), workspace_(workspace), quantity_(std::move(quantity)) {
    setObjectName("tracePage");
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(4);
    column->addWidget(new Title(quantity_, this));
    auto* name = new QLabel(QString::fromStdString(quantity_), this);
    name->setProperty("quiet", true);
    name->setWordWrap(true);
    column->addWidget(name);
    span_ = new QLabel(this);
    span_->setObjectName("traceSpan");
    span_->setProperty("quiet", true);
    span_->setWordWrap(true);
    column->addWidget(span_);
    column->addWidget(makePeriods());
    measures_ = plainTable("measures", this);
    column->addWidget(measures_);
    against_ = new QLineEdit(this);
    against_->setObjectName("against");
    against_->setAccessibleName("another quantity to measure against");
    against_->setPlaceholderText("against another: in.i");
    column->addWidget(against_);
    relation_ = new QLabel(this);
    relation_->setObjectName("relation");
    relation_->setWordWrap(true);
    column->addWidget(relation_);
    relation_->hide();
    auto* row = new QHBoxLayout;
    auto* label = new QLabel("harmonics of", this);
    label->setProperty("quiet", true);
    fundamental_ = new QLineEdit(this);
    fundamental_->setObjectName("fundamental");
    fundamental_->setAccessibleName("fundamental frequency");
    fundamental_->setPlaceholderText("50, or fsw");
    fundamental_->setAlignment(Qt::AlignRight);
    row->addWidget(label, 1);
    row->addWidget(fundamental_);
    row->addWidget(new QLabel("Hz", this));
    column->addLayout(row);
    distortion_ = new QLabel(this);
    distortion_->setObjectName("distortion");
    distortion_->setWordWrap(true);
    column->addWidget(distortion_);
    way_ = new QComboBox(this);
    way_->setObjectName("harmonicsBy");
    way_->setAccessibleName("how spectral lines are put together");
    way_->addItems({"single lines", "groups (IEC 61000-4-7)", "subgroups (IEC 61000-4-7)"});
    way_->hide();
    column->addWidget(way_, 0, Qt::AlignLeft);
    connect(way_, &QComboBox::currentIndexChanged, this, &TracePage::fillHarmonics);
    harmonics_ = plainTable("harmonics", this);
    column->addWidget(harmonics_);
    spectra_ = new QVBoxLayout;
    column->addLayout(spectra_);
    connect(&workspace, &Workspace::projectChanged, this, &TracePage::addSpectra);
    addSpectra();
    auto* copy = new QPushButton("Copy the tables", this);
    copy->setObjectName("copyTables");
    column->addWidget(copy, 0, Qt::AlignLeft);

    later_.setSingleShot(true);
    later_.setInterval(laterMilliseconds);
    connect(&later_, &QTimer::timeout, this, &TracePage::refresh);
    const auto soon = [this] { later_.start(); };
    connect(&workspace, &Workspace::measuredChanged, this, soon);
    connect(&workspace, &Workspace::cursorChanged, this, [this] {
        if (workspace_.mark()) later_.start();
    });
    connect(&workspace, &Workspace::runsChanged, this, soon);
    connect(fundamental_, &QLineEdit::editingFinished, this, &TracePage::refresh);
    connect(against_, &QLineEdit::editingFinished, this, &TracePage::refresh);
    connect(copy, &QPushButton::clicked, this, &TracePage::copyTables);
    refresh();
}

/// Looks at the traces beside the window when there is much to look at.
void TracePage::refresh() {
    auto asked = question();
    std::size_t points = 0;
    for (const auto& trace : asked.traces)
        if (trace) points += trace->firstAtOrAfter(asked.to) - trace->firstAtOrAfter(asked.from);
    if (points <= mostWaitedFor) {
        background_.drop();
        return show(answer(asked, {}));
    }
    span_->setText(asked.span + "\n" + QString("looking at %L1 points …").arg(points));
    if (asked.with) asked.with = asked.with->another();
    for (auto& trace : asked.traces)
        if (trace) trace = trace->another();
    background_.start([this, asked = std::move(asked)](const CancelToken& cancel) -> std::function<void()> {
        return [this, found = answer(asked, cancel)] { show(found); };
    });
}

/// What is to be found out, of which traces.
TracePage::Question TracePage::question() {
    Question asked;
    const std::pair<Tick, Tick> span = workspace_.measured();
    asked.from = span.first;
    asked.to = span.second;
    const std::string over = workspace_.measuredOver();
    asked.span = QString("%1, %2 to %3")
                     .arg(QString::fromStdString(over.empty() ? "over what is seen" : over),
                          shown(toSeconds(asked.from), "s"), shown(toSeconds(asked.to), "s"));
    if (workspace_.mark() && workspace_.cursor()) asked.cursors = std::pair(*workspace_.mark(), *workspace_.cursor());
    std::vector<RunPointer> runs = workspace_.runList().beside();
    if (workspace_.shownRun()) runs.insert(runs.begin(), workspace_.shownRun());
    asked.ownShown = workspace_.shownRun() != nullptr;
    for (const RunPointer& entry : runs) {
        asked.heads << QString("run %1").arg(entry->number);
        asked.traces.push_back(workspace_.runList().sharedTrace(*entry, quantity_));
    }
    asked.other = against_->text().trimmed().toStdString();
    if (!asked.other.empty() && asked.ownShown)
        asked.with = workspace_.runList().sharedTrace(*workspace_.shownRun(), asked.other);
    const QString typed = fundamental_->text().trimmed();
    if (!typed.isEmpty())
        asked.fundamental = evaluateField(typed.toStdString(), *findUnit("Hz"), workspace_.parameters().lookup());
    return asked;
}

/// For any thread that has the traces to itself.
TracePage::Answer TracePage::answer(const Question& asked, const CancelToken& cancel) {
    Answer found{asked, {}, {}, {}, {}};
    for (const auto& trace : asked.traces) {
        const auto measures = trace ? waveMeasures(*trace, asked.from, asked.to) : std::nullopt;
        found.rows.push_back(measures ? measureRows(*measures, trace->unit()) : std::vector<MeasureRow>{});
        if (asked.cursors && trace)
            addCursorRows(*trace, asked.cursors->first, asked.cursors->second, found.rows.back());
        if (cancel.cancelled()) return found;
    }
    if (found.rows.size() == 2 && !found.rows[0].empty() && !found.rows[1].empty())
        found.apart = rmsDifference(*asked.traces[0], *asked.traces[1], asked.from, asked.to);
    const Trace* const own = asked.ownShown ? asked.traces.front().get() : nullptr;
    if (own && asked.with) found.relation = relationOf(*own, *asked.with, asked.from, asked.to);
    if (own && asked.fundamental && *asked.fundamental && **asked.fundamental > 0) {
        const double frequency = **asked.fundamental;
        found.harmonics = harmonics(*own, asked.from, asked.to, frequency, shownOrders, cancel);
        if (frequency > 45 && frequency < 65)
            found.groups = groupedHarmonics(*own, asked.from, asked.to, frequency, 40, cancel);
    }
    return found;
}

void TracePage::show(const Answer& found) {
    span_->setText(found.asked.span);
    showMeasures(found);
    showRelation(found);
    showHarmonics(found);
}

/// The fields of the lanes that show the spectrum of this trace.
void TracePage::addSpectra() {
    const auto& lanes = workspace_.project().lanes;
    std::vector<std::size_t> wanted;
    for (std::size_t i = 0; i < lanes.size(); ++i)
        if (lanes[i].kind == LaneKind::spectrum &&
            std::find(lanes[i].quantities.begin(), lanes[i].quantities.end(), quantity_) != lanes[i].quantities.end())
            wanted.push_back(i);
    if (wanted == spectrumLanes_) return;
    spectrumLanes_ = wanted;
    while (QLayoutItem* item = spectra_->takeAt(0)) {
        item->widget()->deleteLater();
        delete item;
    }
    for (const std::size_t lane : wanted) spectra_->addWidget(new SpectrumFields(workspace_, lane, this));
}

/// Measures of the whole window over the last periods of this trace.
QWidget* TracePage::makePeriods() {
    auto* row = new QWidget(this);
    auto* layout = new QHBoxLayout(row);
    layout->setContentsMargins(0, 0, 0, 0);
    periodsWanted_ = new QCheckBox("over the last", row);
    periodsWanted_->setObjectName("periodsWanted");
    periods_ = new QSpinBox(row);
    periods_->setObjectName("periods");
    periods_->setAccessibleName("how many periods");
    periods_->setRange(1, 10'000);
    periods_->setButtonSymbols(QAbstractSpinBox::NoButtons);
    layout->addWidget(periodsWanted_);
    layout->addWidget(periods_);
    layout->addWidget(new QLabel("of its periods", row), 1);
    const MeasuredPeriods& now = workspace_.project().measured;
    periodsWanted_->setChecked(now.quantity == quantity_);
    periods_->setValue(now.count);
    const auto set = [this] {
        MeasuredPeriods wanted = workspace_.project().measured;
        wanted.quantity = periodsWanted_->isChecked() ? quantity_ : "";
        wanted.count = periods_->value();
        if (!(wanted == workspace_.project().measured)) (void)workspace_.apply(edits::setMeasured(wanted));
    };
    connect(periodsWanted_, &QCheckBox::toggled, this, set);
    connect(periods_, &QSpinBox::editingFinished, this, set);
    return row;
}

/// How this trace stands to another one.
void TracePage::showRelation(const Answer& found) {
    const std::string& other = found.asked.other;
    relation_->setVisible(!other.empty());
    if (other.empty()) return;
    relation_->setStyleSheet(QString("color: %1;").arg((found.asked.with ? colours().ink : colours().haw).name()));
    relation_->setText(found.asked.with ? found.relation
                                        : QString::fromStdString(workspace_.runList().mistakeIn(other)));
}

void TracePage::showMeasures(const Answer& found) {
    const auto& all = found.rows;
    QStringList heads = QStringList("") + found.asked.heads;
    const bool differences = all.size() == 2;
    if (differences) heads << "difference";
    std::vector<std::string> names;
    for (const auto& rows : all)
        for (const MeasureRow& row : rows)
            if (std::find(names.begin(), names.end(), row.name) == names.end()) names.push_back(row.name);
    measures_->setColumnCount(static_cast<int>(heads.size()));
    measures_->setHorizontalHeaderLabels(heads);
    measures_->setRowCount(static_cast<int>(names.size()));
    for (std::size_t i = 0; i < names.size(); ++i) {
        QStringList cells{QString::fromStdString(names[i])};
        std::vector<const MeasureRow*> found;
        for (const auto& rows : all) {
            const auto row =
                std::find_if(rows.begin(), rows.end(), [&](const MeasureRow& r) { return r.name == names[i]; });
            found.push_back(row == rows.end() ? nullptr : &*row);
            cells << (found.back() ? shown(row->value, row->unit, row->unit.size() > 2 ? 3 : 4) : "–");
        }
        if (differences)
            cells << (found[0] && found[1] ? shown(found[0]->value - found[1]->value, found[0]->unit, 3) : "–");
        fillRow(*measures_, static_cast<int>(i), cells);
    }
    if (found.apart) {
        measures_->setRowCount(static_cast<int>(names.size()) + 1);
        fillRow(*measures_, static_cast<int>(names.size()),
                {"rms difference", "", "", shown(*found.apart, found.asked.traces[0]->unit(), 3)});
    }
    fitHeight(*measures_);
    measures_->setVisible(!names.empty());
}

void TracePage::showHarmonics(const Answer& answer) {
    harmonics_->setRowCount(0);
    harmonics_->hide();
    distortion_->hide();
    way_->hide();
    shownHarmonics_ = {};
    const auto& asked = answer.asked.fundamental;
    if (!asked) return;
    const auto say = [this](const QString& text, bool bad) {
        distortion_->setText(text);
        distortion_->setStyleSheet(QString("color: %1;").arg((bad ? colours().haw : colours().ink).name()));
        distortion_->show();
    };
    if (!*asked) return say(QString::fromStdString(asked->error().message), true);
    const double frequency = **asked;
    if (!(frequency > 0)) return say("the fundamental must be above 0 Hz", true);
    const Trace* const trace = answer.asked.ownShown ? answer.asked.traces.front().get() : nullptr;
    if (!trace) return say("the shown run has no such trace", true);
    const auto& found = answer.harmonics;
    if (!found || found->peak(1) == 0)
        return say("not one period of " + shown(frequency, "Hz") + " lies in the window", true);
    QString text =
        QString("distortion %1 % to order %2").arg(100 * found->distortion(shownOrders), 0, 'g', 4).arg(shownOrders);
    if (const auto& groups = answer.groups)
        text += QString("; by IEC 61000-4-7, to order %1: groups %2 %, subgroups %3 %")
                    .arg(groups->groups.size())
                    .arg(100 * groups->groupDistortion, 0, 'g', 4)
                    .arg(100 * groups->subgroupDistortion, 0, 'g', 4);
    say(text, false);
    shownHarmonics_ = answer;
    way_->setVisible(answer.groups.has_value());
    fillHarmonics();
}

QStringList TracePage::harmonicHeads(int way) {
    if (way == 0) return {"order", "frequency", "rms", "of the first"};
    return {"order", way == 1 ? "group" : "subgroup", "of the first", "between"};
}

/// One line of the table: of the spectrum's lines (0), of groups (1) or of subgroups (2) with what lies above each.
QStringList TracePage::harmonicRow(int way, int order) const {
    const QString unit = QString::fromStdString(shownHarmonics_.asked.traces.front()->unit());
    const auto share = [](double part, double whole) { return QString::number(100 * part / whole, 'f', 2) + " %"; };
    if (way == 0) {
        const Harmonics& found = *shownHarmonics_.harmonics;
        const double frequency = **shownHarmonics_.asked.fundamental;
        return {QString::number(order), shown(order * frequency, "Hz"),
                shown(found.peak(order) / std::sqrt(2.0), unit.toStdString()), share(found.peak(order), found.peak(1))};
    }
    const GroupedHarmonics& groups = *shownHarmonics_.groups;
    const auto at = static_cast<std::size_t>(order - 1);
    const auto& rms = way == 1 ? groups.groups : groups.subgroups;
    const auto& above = way == 1 ? groups.interharmonicGroups : groups.interharmonics;
    return {QString::number(order), shown(rms[at], unit.toStdString()), share(rms[at], rms[0]),
            at < above.size() ? shown(above[at], unit.toStdString()) : QString()};
}

void TracePage::fillHarmonics() {
    if (!shownHarmonics_.harmonics) return;
    const auto& groups = shownHarmonics_.groups;
    const int way = groups ? way_->currentIndex() : 0;
    const int orders = way == 0 ? shownOrders : static_cast<int>(groups->groups.size());
    harmonics_->setColumnCount(4);
    harmonics_->setHorizontalHeaderLabels(harmonicHeads(way));
    if (way > 0)
        harmonics_->horizontalHeaderItem(3)->setToolTip(
            way == 1 ? "interharmonic group between this order and the next"
                     : "interharmonic centred subgroup between this order and the next");
    harmonics_->setRowCount(way == 0 ? orders + 1 : orders);
    if (way == 0)
        fillRow(
            *harmonics_, 0,
            {"mean", "0 Hz", shown(shownHarmonics_.harmonics->mean, shownHarmonics_.asked.traces.front()->unit()), ""});
    for (int order = 1; order <= orders; ++order)
        fillRow(*harmonics_, way == 0 ? order : order - 1, harmonicRow(way, order));
    fitHeight(*harmonics_);
    harmonics_->show();
}

/// All of them, also what the table of harmonics does not show at the moment.
void TracePage::copyTables() const {
    QString text = QString::fromStdString(quantity_) + "\n" + span_->text() + "\n";
    const auto add = [&](const QStringList& cells) { text += cells.join('\t') + "\n"; };
    if (measures_->rowCount() > 0) {
        QStringList heads;
        for (int column = 0; column < measures_->columnCount(); ++column)
            heads << measures_->horizontalHeaderItem(column)->text();
        add(heads);
        for (int row = 0; row < measures_->rowCount(); ++row) {
            QStringList cells;
            for (int column = 0; column < measures_->columnCount(); ++column)
                cells << measures_->item(row, column)->text();
            add(cells);
        }
    }
    if (shownHarmonics_.harmonics)
        for (int way = 0; way < (shownHarmonics_.groups ? 3 : 1); ++way) {
            add(harmonicHeads(way));
            const int orders = way == 0 ? shownOrders : static_cast<int>(shownHarmonics_.groups->groups.size());
            for (int order = 1; order <= orders; ++order) add(harmonicRow(way, order));
        }
    QApplication::clipboard()->setText(text);
}

}  // namespace hedgerow::app
