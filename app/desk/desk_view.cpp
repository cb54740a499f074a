#include "desk/desk_view.h"

#include <QHeaderView>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QSpinBox>
#include <QTableWidget>
#include <QTimer>
#include <QVBoxLayout>

#include "base/text.h"
#include "card/stress_table.h"
#include "model/edits.h"
#include "model/quantity.h"
#include "desk/straight_lines.h"
#include "style/plot.h"
#include "style/theme.h"
#include "timeline/lane_view.h"

namespace hedgerow::app {

namespace {

constexpr int moment = 150;  ///< ms, after which a change is tried out
constexpr int topRung = 4;

/// Rungs are told apart by colour and by stroke.
QPen penOfRung(int rung) {
    const Qt::PenStyle styles[] = {Qt::SolidLine, Qt::DotLine, Qt::DashLine, Qt::SolidLine, Qt::SolidLine};
    const auto at = static_cast<std::size_t>(rung);
    return QPen(colours().traces[at % 8], rung == topRung ? 2.2 : 1.4, styles[at]);
}

QString shownQuantity(double value, const std::string& unit) {
    return QString::fromStdString(formatQuantity(value, unit, 3));
}

}  // namespace

DeskView::DeskView(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    setObjectName("desk");
    setAccessibleName("model desk");
    setAttribute(Qt::WA_StyledBackground);
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(16, 8, 16, 8);
    all->setSpacing(8);

    auto* top = new QHBoxLayout;
    title_ = new QLabel(this);
    title_->setObjectName("deskTitle");
    title_->setFont(textFont(TextSize::normal, true));
    auto* back = new QPushButton("Back to the sheet", this);
    back->setObjectName("deskBack");
    connect(back, &QPushButton::clicked, this, &DeskView::left);
    fit_ = new QPushButton("Fit to the figures", this);
    fit_->setObjectName("deskFit");
    fit_->setToolTip("values that make the device meet what is typed under 'data sheet', in all jigs");
    connect(fit_, &QPushButton::clicked, this, &DeskView::fit);
    lineCount_ = new QSpinBox(this);
    lineCount_->setObjectName("deskLineCount");
    lineCount_->setAccessibleName("straight lines");
    lineCount_->setRange(1, mostLines);
    lineCount_->setValue(3);
    lines_ = new QPushButton("Straight lines for rung 2", this);
    lines_->setObjectName("deskLines");
    lines_->setToolTip(
        "so many lines from the knee on, as near as they get to the curve of the topmost rung up to the current");
    connect(lines_, &QPushButton::clicked, this, &DeskView::drawLines);
    top->addWidget(title_, 1);
    top->addWidget(lineCount_);
    top->addWidget(lines_);
    top->addWidget(fit_);
    top->addWidget(back);
    all->addLayout(top);

    auto* middle = new QHBoxLayout;
    middle->setSpacing(16);
    auto* side = new QVBoxLayout;
    side->setSpacing(4);
    list_ = new QListWidget(this);
    list_->setObjectName("deskJigs");
    list_->setAccessibleName("jigs");
    list_->setFixedWidth(152);
    list_->setFrameShape(QFrame::NoFrame);
    connect(list_, &QListWidget::currentRowChanged, this, [this] { tryOut(); });
    side->addWidget(list_, 1);
    addField("deskVoltage", "voltage", "V", &JigPoint::voltage, side);
    addField("deskCurrent", "current", "A", &JigPoint::current, side);
    addField("deskSlope", "slope", "A/s", &JigPoint::slope, side)->setToolTip("at which a diode is turned off");
    addField("deskLoop", "loop", "H", &JigPoint::loop, side)
        ->setToolTip("inductance between the supply and the device");
    addField("deskHot", "hot, °C", "", &JigPoint::hot, side)->setToolTip("of the second resistance");
    middle->addLayout(side);
    auto* right = new QVBoxLayout;
    right->setSpacing(4);
    note_ = new QLabel(this);
    note_->setObjectName("deskNote");
    note_->setProperty("quiet", true);
    note_->setWordWrap(true);
    plot_ = new Plot(this);
    plot_->setAccessibleName("curves by rung");
    plot_->setMinimumHeight(140);
    right->addWidget(note_);
    right->addWidget(plot_, 1);
    figures_ = new QTableWidget(this);
    figures_->setObjectName("deskFigures");
    figures_->setAccessibleName("figures by rung");
    makePlain(*figures_, topRung + 3);
    figures_->horizontalHeader()->show();
    figures_->setStyleSheet(
        "QTableWidget { background: transparent; } QHeaderView::section { background: transparent; border: none; "
        "padding: 0 6px; }");
    figures_->setEditTriggers(QAbstractItemView::DoubleClicked | QAbstractItemView::EditKeyPressed |
                              QAbstractItemView::AnyKeyPressed);
    figures_->setSelectionBehavior(QAbstractItemView::SelectItems);
    connect(figures_, &QTableWidget::itemChanged, this, [this](QTableWidgetItem* item) {
        if (!filling_) writeFigure(item->row(), item->text());
    });
    right->addWidget(figures_);
    middle->addLayout(right, 1);
    all->addLayout(middle, 1);

    later_ = new QTimer(this);
    later_->setSingleShot(true);
    connect(later_, &QTimer::timeout, this, &DeskView::tryOut);
    connect(&workspace, &Workspace::projectChanged, this, [this] {
        if (isVisible()) follow();
    });
    connect(&workspace, &Workspace::selectionChanged, this, [this] {
        if (isVisible() && canShow() && workspace_.selectedPart()->id != part_) open();
    });
    hide();
}

QLineEdit* DeskView::addField(const char* name, const QString& label, const QString& unit, double JigPoint::*member,
                              QBoxLayout* column) {
    auto* title = new QLabel(label, this);
    title->setProperty("quiet", true);
    auto* edit = new QLineEdit(shownQuantity(point_.*member, unit.toStdString()), this);
    edit->setObjectName(name);
    edit->setAccessibleName(label);
    edit->setFixedWidth(92);
    connect(edit, &QLineEdit::editingFinished, this, [this, edit, unit, member] {
        const auto value =
            evaluateField(edit->text().toStdString(), *findUnit(unit.toStdString()), workspace_.parameters().lookup());
        if (value && *value > 0 && *value != point_.*member) {
            point_.*member = *value;
            tryOut();
        }
        edit->setText(shownQuantity(point_.*member, unit.toStdString()));
    });
    auto* row = new QHBoxLayout;
    row->addWidget(title, 1);
    row->addWidget(edit);
    column->addLayout(row);
    return edit;
}

const Part* DeskView::device() const {
    for (const Part& part : workspace_.project().sheet().parts)
        if (part.id == part_) return &part;
    return nullptr;
}

bool DeskView::canShow() const {
    const Part* part = workspace_.selectedPart();
    const PartKind* kind = part ? workspace_.catalogue().find(part->kind) : nullptr;
    return kind && !jigsFor(*kind).empty();
}

void DeskView::open() {
    part_ = workspace_.selectedPart()->id;
    const PartKind& kind = *workspace_.catalogue().find(device()->kind);
    jigs_ = jigsFor(kind);
    const int before = std::max(0, list_->currentRow());
    list_->blockSignals(true);
    list_->clear();
    for (const Jig& jig : jigs_) list_->addItem(QString::fromStdString(jig.name));
    list_->setCurrentRow(std::min(before, list_->count() - 1));
    list_->blockSignals(false);
    show();
    list_->setFocus();
    follow();
}

/// The device has changed, or is no longer there.
void DeskView::follow() {
    const Part* part = device();
    if (!part) return emit left();
    const PartKind& kind = *workspace_.catalogue().find(part->kind);
    title_->setText(
        QString("Model desk: %1, %2").arg(QString::fromStdString(part->name), QString::fromStdString(kind.title)));
    if (!fitting_) fitNote_.clear();
    const std::string* figures = part->values.find("sheet");
    fit_->setEnabled(figures && !figures->empty());
    const bool diode = part->kind == "diode";
    lineCount_->setVisible(diode);
    lines_->setVisible(diode || part->kind == "zener");
    later_->start(result_.curves.empty() ? 0 : moment);
}

bool DeskView::busy() const { return later_->isActive() || background_.busy(); }

void DeskView::tryOut() {
    const Part* part = device();
    const int row = list_->currentRow();
    if (!part || row < 0) return;
    const Jig jig = jigs_[static_cast<std::size_t>(row)];
    background_.start([this, project = workspace_.history().shared(), part = *part, jig,
                       point = point_](const CancelToken& cancel) -> std::function<void()> {
        auto result = runJig(*project, part, jig, point, cancel);
        return [this, jig, result = std::move(result)] {
            result_ = result ? *result : JigResult();
            QStringList lines{QString::fromStdString(jig.shows)};
            if (!fitNote_.isEmpty()) lines << fitNote_;
            if (!result) lines << QString::fromStdString(result.error().message);
            for (const std::string& failure : result_.failures) lines << QString::fromStdString(failure);
            note_->setText(lines.join("\n"));
            draw();
            fillFigures();
        };
    });
}

/// Computes values of the device beside the work and puts them in as one edit.
/// @param find  values by key, and what is said of them
void DeskView::adjust(const char* what,
                      std::function<Result<Adjustment>(const Project&, const Part&, const CancelToken&)> find) {
    const Part* part = device();
    if (!part) return;
    note_->setText("computing…");
    later_->stop();  // the curves are computed anew anyway, and must not take the place of this
    background_.start([this, what, find = std::move(find), project = workspace_.history().shared(),
                       part = *part](const CancelToken& cancel) -> std::function<void()> {
        auto found = find(*project, part, cancel);
        return [this, what, found = std::move(found), part] {
            if (!found) return note_->setText(QString::fromStdString(found.error().message));
            fitNote_ = found->note;
            fitting_ = true;
            (void)workspace_.apply({what, [&](Project& changed) -> Status {
                                        if (Part* now = changed.findPart(part.id))
                                            for (const auto& [key, text] : found->values) now->values.set(key, text);
                                        return {};
                                    }});
            fitting_ = false;
            tryOut();
        };
    });
}

/// What it could not meet is said, and the curves show the rest.
void DeskView::fit() {
    adjust("fit to the data sheet",
           [point = point_](const Project& project, const Part& part, const CancelToken& cancel) -> Result<Adjustment> {
               auto fitted = fitToFigures(project, part, point, cancel);
               if (!fitted) return fitted.error();
               QStringList values;
               QString estimated;
               for (const auto& [key, text] : fitted->values) {
                   if (key == "estimated")
                       estimated = QString::fromStdString(text);
                   else
                       values << QString("%1 = %2").arg(QString::fromStdString(key), QString::fromStdString(text));
               }
               QString note = "fitted " + values.join(", ");
               if (!estimated.isEmpty()) note += "; estimated: " + estimated;
               if (!fitted->unmet.empty()) note += "; not met: " + QString::fromStdString(joined(fitted->unmet, ", "));
               return Adjustment{std::move(fitted->values), note};
           });
}

void DeskView::drawLines() {
    const Part* part = device();
    const int count = part && part->kind == "diode" ? lineCount_->value() : 1;
    adjust("straight lines for rung 2",
           [count, current = point_.current](const Project& project, const Part& shown,
                                             const CancelToken& cancel) -> Result<Adjustment> {
               auto lines = straightLines(project, shown, count, current, cancel);
               if (!lines) return lines.error();
               return Adjustment{lines->values,
                                 QString("%1 from a tenth of %2 to %2 within %3 of the curve")
                                     .arg(count == 1 ? QString("one line") : QString("%1 lines").arg(count),
                                          shownQuantity(current, "A"), shownQuantity(lines->residual, "V"))};
           });
}

void DeskView::draw() {
    plot_->clearPlottables();
    plot_->plotLayout()->clear();
    const bool two = !result_.secondUnit.empty();
    std::vector<QCPAxisRect*> rects;
    for (int i = 0; i < (two ? 2 : 1); ++i) {
        auto* rect = new QCPAxisRect(plot_);
        plot_->plotLayout()->addElement(i, 0, rect);
        rects.push_back(rect);
    }
    auto* legend = new QCPLegend;
    legend->setFillOrder(QCPLayoutGrid::foColumnsFirst);
    plot_->plotLayout()->addElement(static_cast<int>(rects.size()), 0, legend);
    plot_->plotLayout()->setRowStretchFactor(static_cast<int>(rects.size()), 0.001);
    legend->setLayer("legend");
    plot_->setAutoAddPlottableToLegend(false);
    for (const JigCurve& curve : result_.curves) {
        QCPAxisRect* rect = rects[curve.second && two ? 1 : 0];
        auto* drawn = new QCPCurve(rect->axis(QCPAxis::atBottom), rect->axis(QCPAxis::atLeft));
        drawn->setData(QVector<double>(curve.x.begin(), curve.x.end()),
                       QVector<double>(curve.y.begin(), curve.y.end()));
        drawn->setPen(penOfRung(curve.rung));
        drawn->setName(QString("rung %1").arg(curve.rung));
        if (!curve.second) drawn->addToLegend(legend);
    }
    if (!result_.points.empty()) {
        auto* given = new QCPGraph(rects[0]->axis(QCPAxis::atBottom), rects[0]->axis(QCPAxis::atLeft));
        for (const auto& [x, y] : result_.points) given->addData(x, y);
        given->setLineStyle(QCPGraph::lsNone);
        given->setScatterStyle(QCPScatterStyle(QCPScatterStyle::ssDisc, colours().ink, 5));
        given->setName("data sheet");
        given->addToLegend(legend);
    }
    auto* margins = new QCPMarginGroup(plot_);
    for (std::size_t i = 0; i < rects.size(); ++i) {
        QCPAxis *x = rects[i]->axis(QCPAxis::atBottom), *y = rects[i]->axis(QCPAxis::atLeft);
        rects[i]->setMarginGroup(QCP::msLeft | QCP::msRight, margins);
        const bool last = i + 1 == rects.size();
        x->setLabel(last ? QString::fromStdString(result_.xName + " in " + result_.xUnit) : QString());
        const std::string name = i == 0 ? result_.yName : result_.secondName,
                          unit = i == 0 ? result_.yUnit : result_.secondUnit;
        x->setTickLabels(last);
        y->setLabel(QString::fromStdString(name + " in " + unit));
        for (QCPAxis* axis : {x, y}) {
            auto ticker = QSharedPointer<EngineeringTicker>::create();
            ticker->setTickCount(axis == y ? 3 : 6);
            axis->setTicker(ticker);
            axis->rescale();
            const QCPRange range = axis->range();
            const double pad = range.size() > 0 ? 0.04 * range.size() : 1;
            axis->setRange(range.lower - pad, range.upper + pad);
            ticker->setLargest(std::max(std::abs(range.lower), std::abs(range.upper)));
        }
    }
    styleAxes();
}

void DeskView::styleAxes() {
    const Colours& p = colours();
    plot_->setBackground(p.paper);
    for (QCPAxisRect* rect : plot_->axisRects()) {
        for (QCPAxis* axis : rect->axes()) {
            axis->setBasePen(QPen(p.rule));
            axis->setTickPen(QPen(p.rule));
            axis->setSubTickPen(Qt::NoPen);
            axis->setTickLabelFont(textFont(TextSize::small));
            axis->setLabelFont(textFont(TextSize::small));
            axis->setTickLabelColor(p.bark);
            axis->setLabelColor(p.bark);
            axis->grid()->setPen(QPen(p.rule, 1));
            axis->grid()->setZeroLinePen(QPen(p.rule, 1));
        }
    }
    for (QCPLayoutElement* element : plot_->plotLayout()->elements(false))
        if (auto* legend = qobject_cast<QCPLegend*>(element)) {
            legend->setBrush(Qt::NoBrush);
            legend->setBorderPen(Qt::NoPen);
            legend->setFont(textFont(TextSize::small));
            legend->setTextColor(p.ink);
        }
    for (int i = 0; i < plot_->plottableCount(); ++i) {
        const QString name = plot_->plottable(i)->name();
        plot_->plottable(i)->setPen(penOfRung(name.mid(name.size() - 1).toInt()));
    }
    plot_->replot();
}

/// A line a figure: by rung, what it is to be (typed), and how far the topmost rung is from it.
void DeskView::fillFigures() {
    filling_ = true;
    const Colours& p = colours();
    figures_->clear();
    figures_->setRowCount(static_cast<int>(result_.figures.size()));
    figures_->setHorizontalHeaderLabels({"", "rung 1", "rung 2", "rung 3", "rung 4", "data sheet", "deviation"});
    for (int row = 0; row < figures_->rowCount(); ++row) {
        const JigFigure& figure = result_.figures[static_cast<std::size_t>(row)];
        for (int column = 0; column < figures_->columnCount(); ++column) setCell(*figures_, row, column, "", p.ink);
        figures_->item(row, 0)->setText(QString::fromStdString(figure.what));
        figures_->item(row, 0)->setForeground(p.bark);
        for (const auto& [rung, value] : figure.byRung)
            figures_->item(row, rung)->setText(shownQuantity(value, figure.unit));
        if (figure.given) {
            figures_->item(row, topRung + 1)->setText(shownQuantity(*figure.given, figure.unit));
            if (!figure.byRung.empty() && *figure.given != 0) {
                const double apart = 100 * (figure.byRung.back().second / *figure.given - 1);
                figures_->item(row, topRung + 2)
                    ->setText(QString("%1%2 %").arg(apart < 0 ? "−" : "+").arg(std::abs(apart), 0, 'f', 0));
                figures_->item(row, topRung + 2)->setForeground(std::abs(apart) > 20 ? p.haw : p.leaf);
            }
        }
        for (int column = 0; column < figures_->columnCount(); ++column)
            if (column != topRung + 1)
                figures_->item(row, column)->setFlags(figures_->item(row, column)->flags() & ~Qt::ItemIsEditable);
        figures_->item(row, topRung + 1)->setToolTip("type what the data sheet says");
        figures_->item(row, topRung + 1)->setBackground(p.linen);
    }
    figures_->setFixedHeight(figures_->horizontalHeader()->sizeHint().height() + figures_->rowCount() * lineHeight + 2);
    filling_ = false;
}

/// Into the part's own field: it is saved, undone and copied with it.
void DeskView::writeFigure(int row, const QString& text) {
    const Part* part = device();
    if (!part) return;
    const std::string* now = part->values.find("sheet");
    auto figures = sheetFigures(now ? *now : std::string());
    std::vector<std::pair<std::string, double>> all =
        figures ? *figures : std::vector<std::pair<std::string, double>>();
    const JigFigure& figure = result_.figures[static_cast<std::size_t>(row)];
    std::erase_if(all, [&](const auto& one) { return one.first == figure.key; });
    if (!text.trimmed().isEmpty()) {
        const auto value = evaluateField(text.toStdString(), *findUnit(figure.unit), workspace_.parameters().lookup());
        if (!value) {
            note_->setText(QString::fromStdString(figure.what + ": " + value.error().message));
            return fillFigures();
        }
        all.emplace_back(figure.key, *value);
    }
    QStringList items;
    for (const auto& [key, value] : all)
        items << QString("%1 %2").arg(QString::fromStdString(key)).arg(value, 0, 'g', 6);
    (void)workspace_.apply(edits::setValue({part_}, "sheet", items.join(", ").toStdString()));
}

void DeskView::refreshTheme() {
    if (!result_.curves.empty()) styleAxes();
    fillFigures();
}

void DeskView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) return emit left();
    QWidget::keyPressEvent(event);
}

}  // namespace hedgerow::app
