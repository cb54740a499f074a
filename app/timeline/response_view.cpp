#include "timeline/response_view.h"

#include <algorithm>
#include <cmath>

#include <QComboBox>
#include <QContextMenuEvent>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>

#include <qcustomplot.h>

#include "formats/response_file.h"
#include "model/nets.h"
#include "model/periods.h"
#include "model/quantity.h"
#include "network/checks.h"
#include "style/theme.h"
#include "timeline/columns.h"
#include "timeline/lane_view.h"

namespace hedgerow::app {

namespace {

constexpr int barHeight = 40;
constexpr std::size_t mostEarlier = 4;

QString shown(double value, const std::string& unit, int digits) {
    return QString::fromStdString(formatQuantity(value, unit, digits));
}

QString decibels(double gain) { return QString("%1 dB").arg(20 * std::log10(gain), 0, 'f', 2); }

/// Value at a frequency, straight between the points of a curve on logarithmic axes.
std::optional<std::complex<double>> at(const FrequencyResponse& curve, double frequency) {
    const auto& f = curve.frequencies;
    if (curve.values.empty() || frequency < f.front() || frequency > f[curve.values.size() - 1]) return {};
    const auto next =
        std::lower_bound(f.begin(), f.begin() + static_cast<std::ptrdiff_t>(curve.values.size()), frequency);
    const auto i = static_cast<std::size_t>(next - f.begin());
    if (i == 0) return curve.values.front();
    const double part = std::log(frequency / f[i - 1]) / std::log(f[i] / f[i - 1]);
    const std::complex<double> a = curve.values[i - 1], b = curve.values[i];
    if (a == 0.0 || b == 0.0) return a + part * (b - a);
    return a * std::exp(part * std::log(b / a));
}

/// What can be cut: outputs of parts of the control, those of regulators first, and of samplers last.
QStringList signalsOf(const Workspace& workspace) {
    QStringList regulators, others;
    for (const Part& part : workspace.project().sheet().parts) {
        const PartKind* const kind = workspace.catalogue().find(part.kind);
        if (!kind || kind->group != "Control") continue;
        for (const PinKind& pin : kind->pins) {
            if (pin.sort != PinSort::signalOut) continue;
            const QString name = QString::fromStdString(part.name + "." + pin.name);
            (part.kind == "pi" || part.kind == "pid" ? regulators : others) << name;
        }
    }
    return regulators + others;
}

QStringList netsOf(const Workspace& workspace) {
    QStringList names;
    for (const Net& net : findNets(workspace.project().sheet(), workspace.catalogue()).nets)
        if (net.labelled && isPowerNet(net, workspace.project().sheet(), workspace.catalogue()))
            names << QString::fromStdString(net.name);
    return names;
}

/// The lowest frequency of a carrier: up to half of it a loop is mostly looked at. 0 where there is none.
double carrierOf(const Workspace& workspace) {
    double lowest = 0;
    const ParameterTable parameters(workspace.project().parameters);
    for (const Part& part : workspace.project().sheet().parts) {
        if (!part.kind.starts_with("modulator")) continue;
        const auto period = periodOf(part.name, workspace.project(), workspace.catalogue(), parameters.lookup());
        if (period && *period > 0 && (lowest == 0 || 1 / *period < lowest)) lowest = 1 / *period;
    }
    return lowest;
}

QStringList sourcesOf(const Workspace& workspace) {
    QStringList names;
    for (const Part& part : workspace.project().sheet().parts) {
        const PartKind* const kind = workspace.catalogue().find(part.kind);
        if (kind && kind->group == "Sources" && kind->findParameter("level"))
            names << QString::fromStdString(part.name);
    }
    return names;
}

}  // namespace

ResponseView::ResponseView(Workspace& workspace, QWidget* parent)
    : QWidget(parent),
      workspace_(workspace),
      bar_(new QWidget(this)),
      sort_(new QComboBox(bar_)),
      from_(new QComboBox(bar_)),
      to_(new QLineEdit(bar_)),
      span_(new QLineEdit("10 : 1M", bar_)),
      points_(new QLineEdit("200", bar_)),
      toLabel_(new QLabel("to", bar_)),
      state_(new QLabel(bar_)),
      find_(new QPushButton("Find", bar_)),
      locusButton_(new QPushButton("Nyquist", bar_)),
      back_(new QPushButton("Time", bar_)),
      plot_(new QCustomPlot(this)) {
    setObjectName("response");
    auto* row = new QHBoxLayout(bar_);
    row->setContentsMargins(16, 4, 8, 4);
    row->setSpacing(6);
    sort_->addItems({"loop gain", "impedance", "transfer"});
    sort_->setObjectName("responseSort");
    sort_->setAccessibleName("what is asked for");
    from_->setObjectName("responseFrom");
    from_->setEditable(true);
    from_->setMinimumWidth(130);
    from_->setInsertPolicy(QComboBox::NoInsert);
    from_->setAccessibleName("where");
    to_->setObjectName("responseTo");
    to_->setAccessibleName("quantity that answers");
    to_->setFixedWidth(110);
    span_->setObjectName("responseSpan");
    span_->setAccessibleName("from the lowest to the highest frequency, Hz");
    span_->setToolTip("from the lowest to the highest frequency in Hz");
    span_->setFixedWidth(92);
    points_->setObjectName("responsePoints");
    points_->setAccessibleName("number of frequencies");
    points_->setToolTip("frequencies, equally spaced on a logarithmic axis");
    points_->setFixedWidth(44);
    find_->setObjectName("primary");
    find_->setToolTip("Settles the circuit and finds the response about its periodic state (Return)");
    locusButton_->setObjectName("responseLocus");
    locusButton_->setToolTip("The curve in the complex plane, with the point −1");
    back_->setObjectName("responseBack");
    back_->setToolTip("Back to the lanes over time");
    state_->setObjectName("responseState");
    state_->setProperty("quiet", true);
    const auto label = [&](const char* text) {
        auto* made = new QLabel(text, bar_);
        made->setProperty("quiet", true);
        return made;
    };
    toLabel_->setProperty("quiet", true);
    row->addWidget(sort_);
    row->addWidget(label("at"));
    row->addWidget(from_);
    row->addWidget(toLabel_);
    row->addWidget(to_);
    row->addWidget(label("over"));
    row->addWidget(span_);
    row->addWidget(label("Hz,"));
    row->addWidget(points_);
    row->addWidget(label("points"));
    row->addWidget(find_);
    row->addWidget(state_, 1);
    row->addWidget(locusButton_);
    row->addWidget(back_);
    plot_->setBackground(Qt::NoBrush);
    plot_->setAttribute(Qt::WA_OpaquePaintEvent, false);
    plot_->setMouseTracking(true);
    plot_->installEventFilter(this);
    plot_->plotLayout()->clear();
    connect(sort_, &QComboBox::activated, this, [this] {
        fillChoices();
        showFields();
    });
    connect(find_, &QPushButton::clicked, this, [this] { busy_ ? stop() : find(); });
    for (QLineEdit* field : {to_, span_, points_, from_->lineEdit()})
        connect(field, &QLineEdit::returnPressed, this, [this] {
            if (!busy_) find();
        });
    connect(locusButton_, &QPushButton::clicked, this, [this] { setLocus(!locus_); });
    connect(back_, &QPushButton::clicked, this, &ResponseView::left);
    connect(&workspace, &Workspace::fileChanged, this, [this] {
        // Another project: its curves are not those of this one.
        stop();
        shown_.clear();
        asked_ = false;
        rebuild();
        if (isVisible()) open();
    });
    showFields();
    rebuild();
}

void ResponseView::open() {
    if (asked_) return;
    if (signalsOf(workspace_).isEmpty()) sort_->setCurrentIndex(1);
    if (const double carrier = carrierOf(workspace_); carrier > 0)
        span_->setText(QString("10 : %1").arg(QString::fromStdString(formatPrefixed(carrier / 2, 3)).remove(' ')));
    fillChoices();
    showFields();
}

/// What the field "at" offers; what was typed stays where it is one of them.
void ResponseView::fillChoices() {
    const QString before = from_->currentText();
    QStringList names;
    if (sort_->currentIndex() == 0) names = signalsOf(workspace_);
    if (sort_->currentIndex() == 1) names = netsOf(workspace_);
    if (sort_->currentIndex() == 2) {
        names = signalsOf(workspace_) + sourcesOf(workspace_);
        for (const QString& net : netsOf(workspace_)) names << "into " + net;
    }
    from_->clear();
    from_->addItems(names);
    if (names.contains(before)) from_->setCurrentText(before);
    const QStringList nets = netsOf(workspace_);
    if (to_->text().isEmpty() && !nets.isEmpty()) to_->setText((nets.contains("out") ? "out" : nets.last()) + ".v");
}

void ResponseView::showFields() {
    const bool transfer = sort_->currentIndex() == 2;
    to_->setVisible(transfer), toLabel_->setVisible(transfer);
    find_->setText(busy_ ? "Stop" : "Find");
}

/// What the fields say; nothing after a message.
std::optional<ResponseQuestion> ResponseView::question() {
    const auto bad = [this](const QString& why) {
        state_->setText(why);
        state_->setToolTip(why);
        return std::nullopt;
    };
    ResponseQuestion question;
    question.sort = sort_->currentIndex() == 0   ? ResponseQuestion::Sort::loop
                    : sort_->currentIndex() == 1 ? ResponseQuestion::Sort::impedance
                                                 : ResponseQuestion::Sort::transfer;
    question.from = from_->currentText().trimmed().toStdString();
    if (question.from.empty()) return bad("say where: a signal, a net or a source");
    if (question.sort == ResponseQuestion::Sort::transfer)
        for (const QString& one : to_->text().split(',', Qt::SkipEmptyParts))
            question.to.push_back(one.trimmed().toStdString());
    const auto lookup = workspace_.parameters().lookup();
    const auto number = [&](const QString& text, const char* unit) {
        return evaluateField(text.trimmed().toStdString(), *findUnit(unit), lookup);
    };
    const QString span = span_->text();
    if (!span.contains(':')) return bad("the span is two frequencies: 10 : 1M");
    const auto least = number(span.section(':', 0, 0), "Hz"), most = number(span.section(':', 1), "Hz"),
               points = number(points_->text(), "");
    for (const auto* one : {&least, &most, &points})
        if (!*one) return bad(QString::fromStdString(one->error().message));
    question.least = *least, question.most = *most;
    question.points = static_cast<int>(std::clamp(*points, 0.0, 1e6));
    if (const auto sound = frequenciesOf(question); !sound) return bad(QString::fromStdString(sound.error().message));
    return question;
}

void ResponseView::find() {
    const auto asked = question();
    if (!asked) return;
    asked_ = true;
    busy_ = true;
    state_->setText("settling …");
    state_->setToolTip({});
    showFields();
    background_.start(
        [this, asked = *asked, project = workspace_.history().shared(),
         settings = RunSettings{.scene = workspace_.scene().name, .plan = workspace_.plan().name, .settle = true}](
            const CancelToken& cancel) -> std::function<void()> {
            using Found = Result<std::vector<FrequencyResponse>>;
            const Stopwatch watch;
            const auto found = std::make_shared<Found>([&]() -> Found {
                auto run = Run::prepare(project, settings);
                if (!run) return run.error();
                return respondTo(**run, asked, cancel, [&](std::size_t done) {
                    QMetaObject::invokeMethod(this, [this, done, of = asked.points] {
                        if (busy_) state_->setText(QString("%1 of %2 frequencies").arg(done).arg(of));
                    });
                });
            }());
            return [this, found, seconds = watch.seconds(), loop = asked.sort == ResponseQuestion::Sort::loop] {
                busy_ = false;
                showFields();
                if (!*found) {
                    const QString why = QString::fromStdString(found->error().message);
                    state_->setText(found->error().code == ErrorCode::stop ? "stopped" : why);
                    state_->setToolTip(why);
                    return;
                }
                keepEarlier();
                for (FrequencyResponse& curve : **found) shown_.push_back({std::move(curve), loop});
                state_->setText("took " + hedgerow::app::shown(seconds, "s", 2));
                rebuild();
            };
        });
}

void ResponseView::stop() {
    if (!busy_) return;
    background_.drop();
    busy_ = false;
    state_->setText("stopped");
    showFields();
}

/// What was found before stays, dashed.
void ResponseView::keepEarlier() {
    for (ShownResponse& one : shown_) one.earlier = true;
    std::size_t earlier = 0;
    for (auto one = shown_.rbegin(); one != shown_.rend(); ++one)
        if (!one->measured && ++earlier > mostEarlier) one->curve.values.clear();
    std::erase_if(shown_, [](const ShownResponse& one) { return one.curve.values.empty(); });
}

void ResponseView::showLoop(const FrequencyResponse& before, const FrequencyResponse& after) {
    asked_ = true;
    keepEarlier();
    shown_.push_back({before, true, true});
    shown_.push_back({after, true});
    rebuild();
}

Status ResponseView::addMeasured(const QString& path) {
    auto read = readResponses(path.toStdString());
    if (!read) return read.error();
    for (FrequencyResponse& curve : *read) shown_.push_back({std::move(curve), false, false, true});
    rebuild();
    return {};
}

Status ResponseView::writeTable(const QString& path) const {
    std::vector<FrequencyResponse> all;
    for (const ShownResponse& one : shown_)
        if (!one.earlier && !one.measured) all.push_back(one.curve);
    return writeResponses(path.toStdString(), all);
}

Status ResponseView::writePicture(const QString& path) {
    const QPixmap picture = grab();
    if (!picture.save(path)) return Error{ErrorCode::file, path.toStdString() + " cannot be written"};
    return {};
}

void ResponseView::setLocus(bool on) {
    if (locus_ == on) return;
    locus_ = on;
    locusButton_->setText(on ? "Gain, phase" : "Nyquist");
    rebuild();
}

namespace {

void dress(QCPAxisRect& area) {
    const Colours& p = colours();
    area.setAutoMargins(QCP::msNone);
    area.setMargins(QMargins(TimelineColumns::axis, 6, 0, 4));
    area.setupFullAxesBox(false);
    for (QCPAxis* axis : area.axes()) {
        axis->setBasePen(Qt::NoPen);
        axis->setTickPen(Qt::NoPen);
        axis->setSubTickPen(Qt::NoPen);
        axis->setTickLength(0);
        axis->setSubTickLength(0);
        axis->setTickLabelFont(textFont(TextSize::small));
        axis->setTickLabelColor(p.bark);
        axis->grid()->setPen(QPen(p.rule, 1, Qt::DotLine));
        axis->grid()->setSubGridVisible(false);
        axis->grid()->setZeroLinePen(QPen(p.rule, 1));
    }
    area.axis(QCPAxis::atTop)->setVisible(false);
    area.axis(QCPAxis::atRight)->setVisible(false);
}

QPen penFor(const ShownResponse& one, std::size_t row) {
    QPen pen(colours().traces[row % colours().traces.size()], one.earlier ? 1.2 : 1.6);
    if (one.earlier) pen.setStyle(Qt::CustomDashLine), pen.setDashPattern({4, 3});
    if (one.measured) pen.setStyle(Qt::DotLine), pen.setWidthF(2);
    return pen;
}

}  // namespace

void ResponseView::rebuild() {
    plot_->clearPlottables();
    plot_->clearItems();
    plot_->plotLayout()->clear();
    gain_ = phase_ = nullptr;
    if (locus_)
        drawLocus();
    else
        drawCurves();
    plot_->replot();  // the names beside the axes stand where it has laid them out
    update();
}

void ResponseView::drawCurves() {
    gain_ = new QCPAxisRect(plot_, true);
    phase_ = new QCPAxisRect(plot_, true);
    plot_->plotLayout()->addElement(0, 0, gain_);
    plot_->plotLayout()->addElement(1, 0, phase_);
    plot_->plotLayout()->setRowSpacing(0);
    plot_->plotLayout()->setMargins(QMargins(TimelineColumns::names, 0, TimelineColumns::measures, 0));
    for (QCPAxisRect* area : {gain_, phase_}) {
        dress(*area);
        QCPAxis* x = area->axis(QCPAxis::atBottom);
        x->setScaleType(QCPAxis::stLogarithmic);
        x->setTicker(QSharedPointer<DecadeTicker>::create());
        x->setTickLabels(area == phase_);
    }
    phase_->setMargins(QMargins(TimelineColumns::axis, 6, 0, 20));
    std::size_t row = 0;
    for (const ShownResponse& one : shown_) {
        auto* gain = plot_->addGraph(gain_->axis(QCPAxis::atBottom), gain_->axis(QCPAxis::atLeft));
        auto* turn = plot_->addGraph(phase_->axis(QCPAxis::atBottom), phase_->axis(QCPAxis::atLeft));
        const QPen pen = penFor(one, row++);
        gain->setPen(pen), turn->setPen(pen);
        const std::vector<double> phase = phaseOf(one.curve);
        QVector<double> f, g, t;
        for (std::size_t i = 0; i < one.curve.values.size(); ++i) {
            f << one.curve.frequencies[i];
            g << 20 * std::log10(std::max(std::abs(one.curve.values[i]), 1e-15));
            t << phase[i];
        }
        gain->setData(f, g, true), turn->setData(f, t, true);
        if (!one.loop || one.earlier) continue;
        // Where the margins are read.
        const Margins margins = marginsOf(one.curve);
        const auto mark = [&](QCPAxisRect* area, double frequency, double from, double to, const QString& text) {
            auto* line = new QCPItemLine(plot_);
            line->setClipAxisRect(area);
            for (QCPItemPosition* at : {line->start, line->end})
                at->setAxes(area->axis(QCPAxis::atBottom), area->axis(QCPAxis::atLeft));
            line->start->setCoords(frequency, from), line->end->setCoords(frequency, to);
            line->setPen(QPen(colours().leaf, 2));
            auto* label = new QCPItemText(plot_);
            label->setClipAxisRect(area);
            label->position->setAxes(area->axis(QCPAxis::atBottom), area->axis(QCPAxis::atLeft));
            label->position->setCoords(frequency, (from + to) / 2);
            label->setPositionAlignment(Qt::AlignLeft | Qt::AlignVCenter);
            label->setPadding(QMargins(6, 0, 0, 0));
            label->setText(text);
            label->setColor(colours().leaf);
            label->setFont(textFont(TextSize::small));
        };
        if (margins.crossover) {
            const double turned = *margins.phaseMargin - 180;
            double near = turned;
            if (const auto value = at(one.curve, *margins.crossover)) {
                // In the turn in which the curve is drawn.
                const auto next =
                    std::lower_bound(one.curve.frequencies.begin(), one.curve.frequencies.end(), *margins.crossover);
                const auto i = std::min<std::size_t>(static_cast<std::size_t>(next - one.curve.frequencies.begin()),
                                                     phase.size() - 1);
                near = turned + 360 * std::round((phase[i] - turned) / 360);
            }
            mark(phase_, *margins.crossover, near - *margins.phaseMargin, near,
                 QString("%1° at %2")
                     .arg(*margins.phaseMargin, 0, 'f', 1)
                     .arg(hedgerow::app::shown(*margins.crossover, "Hz", 3)));
        }
        if (margins.gainMargin)
            mark(gain_, *margins.phaseCrossover, -20 * std::log10(*margins.gainMargin), 0,
                 QString("%1 dB at %2")
                     .arg(20 * std::log10(*margins.gainMargin), 0, 'f', 1)
                     .arg(hedgerow::app::shown(*margins.phaseCrossover, "Hz", 3)));
    }
    fit();
}

void ResponseView::drawLocus() {
    gain_ = new QCPAxisRect(plot_, true);
    plot_->plotLayout()->addElement(0, 0, gain_);
    plot_->plotLayout()->setMargins(QMargins(TimelineColumns::names, 0, TimelineColumns::measures, 0));
    dress(*gain_);
    gain_->setMargins(QMargins(TimelineColumns::axis, 8, 0, 20));
    QCPAxis *x = gain_->axis(QCPAxis::atBottom), *y = gain_->axis(QCPAxis::atLeft);
    std::size_t row = 0;
    double reach = 1.5;
    for (const ShownResponse& one : shown_) {
        auto* curve = new QCPCurve(x, y);
        curve->setPen(penFor(one, row++));
        double size = 0;
        for (std::size_t i = 0; i < one.curve.values.size(); ++i) {
            curve->addData(static_cast<double>(i), one.curve.values[i].real(), one.curve.values[i].imag());
            size = std::max(size, std::abs(one.curve.values[i]));
        }
        // A loop is looked at about −1, anything else as a whole.
        if (!one.loop) reach = std::max(reach, 1.1 * size);
    }
    auto* point = new QCPItemText(plot_);
    point->setClipAxisRect(gain_);
    point->position->setAxes(x, y);
    point->position->setCoords(-1, 0);
    point->setText("+ −1");
    point->setPositionAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    point->setColor(colours().haw);
    auto* circle = new QCPItemEllipse(plot_);
    circle->setClipAxisRect(gain_);
    for (QCPItemPosition* at : {circle->topLeft, circle->bottomRight}) at->setAxes(x, y);
    circle->topLeft->setCoords(-1, 1), circle->bottomRight->setCoords(1, -1);
    circle->setPen(QPen(colours().rule, 1, Qt::DashLine));
    const double wide = std::max(1.0, static_cast<double>(plot_->width() - TimelineColumns::names -
                                                          TimelineColumns::measures - TimelineColumns::axis) /
                                          std::max(40, plot_->height() - 28));
    y->setRange(-reach, reach);
    x->setRange(-reach * wide, reach * wide);
}

/// All curves within the axes; gains in whole steps of decibels, phases of degrees.
void ResponseView::fit() {
    double least = 10, most = 1e6, low = -20, high = 20, first = -180, last = 0;
    bool any = false;
    for (const ShownResponse& one : shown_) {
        if (one.curve.values.empty()) continue;
        const std::vector<double> phase = phaseOf(one.curve);
        for (std::size_t i = 0; i < one.curve.values.size(); ++i) {
            const double gain = 20 * std::log10(std::max(std::abs(one.curve.values[i]), 1e-15));
            const double f = one.curve.frequencies[i];
            if (!any) least = most = f, low = high = gain, first = last = phase[i], any = true;
            least = std::min(least, f), most = std::max(most, f);
            low = std::min(low, gain), high = std::max(high, gain);
            first = std::min(first, phase[i]), last = std::max(last, phase[i]);
        }
    }
    if (least == most) least /= 2, most *= 2;
    const auto round = [](QCPAxis* axis, double from, double to, double step) {
        const double pad = std::max(0.06 * (to - from), 1.0);
        axis->setRange(from - pad, to + pad);
        auto ticker = QSharedPointer<QCPAxisTickerFixed>::create();
        while ((to - from) / step > 5) step *= 2;
        ticker->setTickStep(step);
        axis->setTicker(ticker);
    };
    for (QCPAxisRect* area : {gain_, phase_}) area->axis(QCPAxis::atBottom)->setRange(least, most);
    round(gain_->axis(QCPAxis::atLeft), low, high, 20);
    round(phase_->axis(QCPAxis::atLeft), first, last, 45);
}

void ResponseView::moveCursor(double x) {
    if (locus_ || !gain_) return;
    const QCPAxis* axis = gain_->axis(QCPAxis::atBottom);
    const QRect inner = gain_->rect();
    cursor_.reset();
    if (x >= inner.left() && x <= inner.right()) cursor_ = axis->pixelToCoord(x);
    update();
    plot_->update();
}

bool ResponseView::eventFilter(QObject* watched, QEvent* event) {
    if (watched == plot_ && event->type() == QEvent::MouseMove) moveCursor(static_cast<QMouseEvent*>(event)->pos().x());
    if (watched == plot_ && event->type() == QEvent::Leave) moveCursor(-1);
    return QWidget::eventFilter(watched, event);
}

/// One line per curve: at the cursor, or else what it says as a whole.
QStringList ResponseView::readings() const {
    QStringList lines;
    for (const ShownResponse& one : shown_) {
        QString text;
        if (cursor_) {
            if (const auto value = at(one.curve, *cursor_))
                text = QString("%1 %2°")
                           .arg(one.curve.unit == "Ω" ? hedgerow::app::shown(std::abs(*value), "Ω", 4)
                                                      : decibels(std::abs(*value)))
                           .arg(std::arg(*value) * 180 / M_PI, 0, 'f', 1);
        } else {
            const Margins margins = marginsOf(one.curve);
            if (one.loop && margins.crossover)
                text = QString("%1° at %2")
                           .arg(*margins.phaseMargin, 0, 'f', 1)
                           .arg(hedgerow::app::shown(*margins.crossover, "Hz", 3));
            else
                text = QString("most %1 at %2")
                           .arg(one.curve.unit == "Ω" ? hedgerow::app::shown(margins.peak, "Ω", 3)
                                                      : decibels(margins.peak),
                                hedgerow::app::shown(margins.peakAt, "Hz", 3));
            if (one.loop && margins.gainMargin)
                text += QString(", %1 dB").arg(20 * std::log10(*margins.gainMargin), 0, 'f', 1);
        }
        lines << text;
    }
    return lines;
}

void ResponseView::changeEvent(QEvent* event) {
    if (event->type() == QEvent::PaletteChange) rebuild();
    QWidget::changeEvent(event);
}

void ResponseView::resizeEvent(QResizeEvent*) {
    bar_->setGeometry(0, 0, width(), barHeight);
    plot_->setGeometry(0, barHeight, width(), std::max(0, height() - barHeight));
    if (locus_) rebuild();
}

void ResponseView::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    const Colours& p = colours();
    painter.fillRect(rect(), p.chalk);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setFont(textFont());
    painter.setPen(p.ink);
    const int top = barHeight + 8;
    const auto name = [&](const QCPAxisRect* area, const QString& text) {
        if (area)
            painter.drawText(QRect(16, plot_->y() + area->outerRect().top() + 6, TimelineColumns::names + 30, 18),
                             Qt::AlignLeft, text);
    };
    if (locus_) {
        painter.drawText(QRect(16, top, 120, 18), Qt::AlignLeft, "real and");
        painter.drawText(QRect(16, top + 18, 120, 18), Qt::AlignLeft, "imaginary part");
    } else {
        name(gain_, "gain, dB"), name(phase_, "phase, °");
    }
    if (shown_.empty()) {
        painter.setPen(p.bark);
        painter.drawText(rect().adjusted(0, barHeight, 0, 0), Qt::AlignCenter,
                         "Find settles the circuit, and shows what a small tone would meet: no tone is put in.");
        return;
    }
    const QStringList lines = readings();
    const int left = width() - TimelineColumns::measures + 8, room = TimelineColumns::measures - 16;
    int y = top;
    if (cursor_) {
        painter.setPen(p.sloe);
        painter.drawText(QRect(left, y, room, 18), Qt::AlignLeft, hedgerow::app::shown(*cursor_, "Hz", 5));
        y += 20;
        if (gain_) {
            const double x = gain_->axis(QCPAxis::atBottom)->coordToPixel(*cursor_);
            painter.setPen(QPen(p.sloe, 1.2));
            painter.drawLine(QPointF(x, barHeight), QPointF(x, height()));
        }
    }
    for (int i = 0; i < lines.size() && y + 34 < height(); ++i, y += 38) {
        const ShownResponse& one = shown_[static_cast<std::size_t>(i)];
        painter.setPen(penFor(one, static_cast<std::size_t>(i)));
        painter.drawLine(left, y + 9, left + 18, y + 9);
        painter.setPen(p.ink);
        painter.drawText(
            QRect(left + 24, y, room - 24, 18), Qt::AlignLeft,
            painter.fontMetrics().elidedText(QString::fromStdString(one.curve.name) + (one.earlier ? ", earlier" : ""),
                                             Qt::ElideRight, room - 24));
        painter.setPen(p.bark);
        painter.drawText(QRect(left + 24, y + 17, room - 24, 18), Qt::AlignLeft, lines[i]);
    }
}

void ResponseView::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu;
    const bool found = std::any_of(shown_.begin(), shown_.end(),
                                   [](const ShownResponse& one) { return !one.earlier && !one.measured; });
    const auto outcome = [this](const Status& status, const QString& path) {
        if (status)
            emit said("wrote " + path, false);
        else
            emit said(QString::fromStdString(status.error().message), true);
    };
    menu.addAction("Add a measured response…", this, [this] {
        const QString path = QFileDialog::getOpenFileName(this, "Read a measured response", {},
                                                          "Responses (*.csv *.txt *.s?p *.S?P *.z?p *.y?p *.ts)");
        if (path.isEmpty()) return;
        if (auto added = addMeasured(path); !added) emit said(QString::fromStdString(added.error().message), true);
    });
    if (found)
        menu.addAction("Save as a table…", this, [this, outcome] {
            const QString path =
                QFileDialog::getSaveFileName(this, "Save the response", "response.csv", "Tables (*.csv *.h5)");
            if (!path.isEmpty()) outcome(writeTable(path), path);
        });
    menu.addAction("Save as a picture…", this, [this, outcome] {
        const QString path = QFileDialog::getSaveFileName(this, "Save the picture", "response.png", "Pictures (*.png)");
        if (!path.isEmpty()) outcome(writePicture(path), path);
    });
    if (shown_.size() > 1)
        menu.addAction("Leave only the last one", this, [this] {
            std::erase_if(shown_, [](const ShownResponse& one) { return one.earlier || one.measured; });
            rebuild();
        });
    menu.exec(event->globalPos());
}

}  // namespace hedgerow::app
