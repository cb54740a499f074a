#include "study/trade_view.h"

#include <algorithm>
#include <cmath>

#include <QComboBox>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QKeyEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QScrollBar>
#include <QTableWidget>
#include <QToolTip>
#include <QVBoxLayout>

#include <qcustomplot.h>

#include "base/shared_files.h"
#include "card/stress_table.h"
#include "model/edits.h"
#include "model/quantity.h"
#include "style/theme.h"
#include "studies/trade_file.h"

namespace hedgerow::app {

namespace {

constexpr double leastError = 1e-4;  ///< over the accuracy: what is nearer to the reference is drawn there
constexpr int leftWidth = 232;

QString words(const std::string& text) { return QString::fromStdString(text); }

std::vector<std::string> linesOf(const QPlainTextEdit& edit) {
    std::vector<std::string> lines;
    for (const QString& line : edit.toPlainText().split('\n'))
        if (const QString text = line.trimmed(); !text.isEmpty()) lines.push_back(text.toStdString());
    return lines;
}

QString joinedLines(const std::vector<std::string>& lines) {
    QString text;
    for (const std::string& line : lines) text += (text.isEmpty() ? "" : "\n") + words(line);
    return text;
}

/// "3.1 %" of the accuracy wanted, as it is read: "0.031 x".
QString errorText(double worst) {
    if (worst == 0) return "0";
    if (!std::isfinite(worst)) return "∞";
    return QString::number(worst, 'g', 2);
}

/// What suits any circuit: mean and swing of what is looked at.
TradeStudy usualStudy(const Project& project) {
    TradeStudy study;
    for (const Lane& lane : project.lanes)
        for (const std::string& quantity : lane.quantities) {
            if (study.features.size() >= 4 || lane.kind != LaneKind::time) break;
            study.features.push_back("mean of " + quantity + " within 1 %");
            study.features.push_back("pp of " + quantity + " within 2 %");
        }
    study.alternatives = {"all on 1", "all on 2", "all on 3", "all on 2, fixed, step 100n"};
    return study;
}

}  // namespace

TradeView::TradeView(Workspace& workspace, QWidget* parent)
    : QWidget(parent), workspace_(workspace),
      names_(workspace, {&Project::studies, usualStudy, edits::setStudy, edits::removeStudy}, "tradeStudy", this, [this] { takeTexts(); },
             [this] { fillTexts(); }) {
    setObjectName("trade");
    setMinimumWidth(560);
    setAttribute(Qt::WA_StyledBackground);
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(16, 10, 16, 8);
    all->setSpacing(6);
    auto* top = new QHBoxLayout;
    title_ = new QLabel(this);
    title_->setObjectName("tradeTitle");
    title_->setStyleSheet("font-size: 16px; font-weight: bold;");
    top->addWidget(title_);
    top->addWidget(names_.box());
    top->addStretch(1);
    const auto button = [&](const QString& text, const QString& name, const QString& tip) {
        auto* made = new QPushButton(text, this);
        made->setObjectName(name);
        made->setToolTip(tip);
        return made;
    };
    kept_ = new QComboBox(this);
    kept_->setObjectName("tradeKept");
    kept_->setAccessibleName("results that were kept");
    kept_->setMinimumWidth(150);
    connect(kept_, &QComboBox::activated, this, &TradeView::showKept);
    top->addWidget(kept_);
    auto* save = button("Export…", "tradeExport", "the results as .csv, .h5, .json, or as a picture");
    connect(save, &QPushButton::clicked, this, [this] {
        if (!result_) return emit said("there is no result yet", true);
        const QString path = QFileDialog::getSaveFileName(
            this, "Export the study", {}, "Report (*.html);;Table (*.csv);;HDF5 (*.h5);;JSON (*.json);;Picture (*.png *.pdf)");
        if (path.isEmpty()) return;
        const bool table = !path.endsWith(".png") && !path.endsWith(".pdf");
        const Status written = table ? writeTable(path) : writePicture(path);
        emit said(written ? "wrote " + path : words(written.error().text()), !written);
    });
    top->addWidget(save);
    auto* back = button("Sheet", "tradeBack", "back to the sheet (Esc)");
    connect(back, &QPushButton::clicked, this, &TradeView::left);
    top->addWidget(back);
    all->addLayout(top);

    auto* middle = new QHBoxLayout;
    middle->setSpacing(14);
    auto* side = new QVBoxLayout;
    side->setSpacing(4);
    const auto edit = [&](const QString& label, const QString& name, const QString& hint) {
        auto* heading = new QLabel(label, this);
        heading->setStyleSheet("font-weight: bold;");
        side->addWidget(heading);
        auto* made = new QPlainTextEdit(this);
        made->setObjectName(name);
        made->setAccessibleName(label);
        made->setPlaceholderText(hint);
        made->setToolTip(hint);
        made->setFixedWidth(leftWidth);
        made->setTabChangesFocus(true);
        made->setLineWrapMode(QPlainTextEdit::NoWrap);
        made->setFont(textFont(TextSize::small));
        made->installEventFilter(this);
        side->addWidget(made, 1);
        return made;
    };
    features_ = edit("What matters", "tradeFeatures",
                     "pp of L1.i within 1 %\nmean of out.v over last 20u within 0.5 %\nloss of S1 within 2 %\n"
                     "thd of V1.i base 50 within 5 %\nvalue of out.v at 2m within 10m");
    alternatives_ = edit("Other ways of solving", "tradeAlternatives",
                         "all on 2\nSwitches on 3, all on 1\nfixed, step 100n, edges on the grid\ntolerance 1e-2\n"
                         "plan look\nreference: all on 3");
    auto* buttons = new QHBoxLayout;
    buttons->setSpacing(4);
    run_ = button("Run study", "tradeRun", "runs the reference until it stands still, then every way");
    run_->setProperty("main", true);
    search_ = button("Search", "tradeSearch", "finds the lowest rung of every part that is good enough");
    steps_ = button("Steps", "tradeSteps", "fixed steps from a tenth to a thousandth of the shortest period");
    connect(run_, &QPushButton::clicked, this, [this] { busy() ? stop() : run(Kind::study); });
    connect(search_, &QPushButton::clicked, this, [this] { run(Kind::search); });
    connect(steps_, &QPushButton::clicked, this, [this] { run(Kind::steps); });
    for (QPushButton* one : {run_, search_, steps_}) buttons->addWidget(one);
    side->addLayout(buttons);
    middle->addLayout(side);

    auto* right = new QVBoxLayout;
    right->setSpacing(4);
    note_ = new QLabel(this);
    note_->setObjectName("tradeNote");
    note_->setProperty("quiet", true);
    note_->setWordWrap(true);
    right->addWidget(note_);
    plot_ = new QCustomPlot(this);
    plot_->setObjectName("tradePlot");
    plot_->setAccessibleName("error over CPU time");
    plot_->setMinimumHeight(150);
    plot_->setMinimumWidth(200);
    plot_->installEventFilter(this);
    plot_->setMouseTracking(true);
    right->addWidget(plot_, 3);
    table_ = new QTableWidget(this);
    table_->setObjectName("tradeTable");
    table_->setAccessibleName("results");
    makePlain(*table_, 4);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    connect(table_, &QTableWidget::currentCellChanged, this, [this](int row, int, int, int) {
        if (filling_ || row < 0) return;
        const QVariant point = table_->item(row, 0) ? table_->item(row, 0)->data(Qt::UserRole) : QVariant();
        choose(point.isValid() ? point.toInt() : -1);
    });
    connect(table_, &QTableWidget::cellDoubleClicked, this, [this](int, int) {
        if (chosen_ >= 0) showPoint(static_cast<std::size_t>(chosen_));
    });
    right->addWidget(table_, 2);
    auto* bottom = new QHBoxLayout;
    answer_ = new QLabel(this);
    answer_->setObjectName("tradeAnswer");
    answer_->setWordWrap(true);
    bottom->addWidget(answer_, 1);
    look_ = button("Waveforms", "tradeLook", "this result beside the reference, on the timeline (Enter)");
    use_ = button("Use this plan", "tradeUse", "the plan is solved like this from now on");
    connect(look_, &QPushButton::clicked, this, [this] {
        if (chosen_ >= 0) showPoint(static_cast<std::size_t>(chosen_));
    });
    connect(use_, &QPushButton::clicked, this, [this] {
        if (chosen_ >= 0 && result_) use(result_->points[static_cast<std::size_t>(chosen_)].line);
    });
    bottom->addWidget(look_);
    bottom->addWidget(use_);
    right->addLayout(bottom);
    middle->addLayout(right, 1);
    all->addLayout(middle, 1);
    connect(&workspace, &Workspace::left, this, [this] {
        background_.drop();
        cancel_.cancel();
        showIdle();
        result_.reset();
        names_.forget();
        keptNames_.clear();
        if (isVisible()) emit left();
    });
    hide();
}

TradeStudy TradeView::study() const { return names_.study(); }

void TradeView::open() {
    fillTexts();
    listKept(true);
    QWidget::show();
    draw();
    fillTable();
    run_->setFocus();
}

void TradeView::fillTexts() {
    const TradeStudy now = study();
    filling_ = true;
    if (const QString text = joinedLines(now.features); text != features_->toPlainText()) features_->setPlainText(text);
    if (const QString text = joinedLines(now.alternatives); text != alternatives_->toPlainText())
        alternatives_->setPlainText(text);
    names_.fill();
    filling_ = false;
    title_->setText("Trade study:");
    title_->setToolTip("of the plan " + words(workspace_.plan().name));
    if (!busy())
        note_->setText(result_ ? note_->text()
                               : "A reference is refined until everything that matters stands still. Then every other way is "
                                 "run, and judged by what it loses against it and what it saves.");
}

/// What is typed becomes the project's.
void TradeView::takeTexts() {
    TradeStudy now = study();
    now.features = linesOf(*features_), now.alternatives = linesOf(*alternatives_);
    names_.put(now);
}

void TradeView::run(Kind kind) {
    if (busy()) return;
    takeTexts();
    TradeRequest request{.project = workspace_.history().shared(), .study = study(), .search = kind == Kind::search};
    request.study.plan = workspace_.plan().name;
    request.study.scene = workspace_.scene().name;
    if (kind == Kind::steps) {
        std::vector<std::string> lines = stepLines(*request.project, request.study);
        for (const std::string& line : request.study.alternatives)
            if (line.starts_with("reference:")) lines.push_back(line);
        request.study.alternatives = std::move(lines);
    }
    if (kind == Kind::search) std::erase_if(request.study.alternatives, [](const std::string& line) {
        return !line.starts_with("reference:");
    });
    cancel_ = CancelToken();
    run_->setText("Stop");
    search_->setEnabled(false), steps_->setEnabled(false);
    note_->setText("the reference is run …");
    request.progress = [this](const TradeProgress& at) {
        QMetaObject::invokeMethod(
            this,
            [this, at] {
                if (busy())
                    note_->setText(QString("%1 of about %2 runs · %3").arg(at.done).arg(at.about).arg(words(at.now)));
            },
            Qt::QueuedConnection);
    };
    background_.start([this, request = std::move(request), own = cancel_](const CancelToken& cancel) -> std::function<void()> {
        auto result = [&]() -> Result<TradeResult> {
            // Two ask for an end: who stops it, and who leaves the project.
            std::atomic<bool> over = false;
            std::thread watcher([&] {
                while (!over) {
                    if (cancel.cancelled()) own.cancel();
                    std::this_thread::sleep_for(std::chrono::milliseconds(20));
                }
            });
            auto made = runTrade(request, own);
            over = true;
            watcher.join();
            return made;
        }();
        return [this, result = std::move(result)]() mutable {
            showIdle();
            if (!result) {
                const bool stopped = result.error().code == ErrorCode::stop;
                note_->setText(stopped ? "stopped" : words(result.error().text()));
                if (!stopped) emit said(words(result.error().text()), true);
                return;
            }
            if (const auto folder = keptFolder(); !folder.empty() && !ships(workspace_.path()))
                keeping_.start([this, ledger = workspace_.runList().ledger(), folder,
                                text = writeTrade(*result)](const CancelToken&) mutable -> std::function<void()> {
                    QString fault;
                    if (!ledger) {
                        const auto opened = openLedger(folder);
                        if (opened) ledger = *opened;
                        else fault = words(opened.error().message);
                    }
                    if (ledger)
                        if (auto kept = ledger->keepStudy(text); !kept) fault = words(kept.error().message);
                    return [this, fault] {
                        if (!fault.isEmpty()) emit said("the result was not kept: " + fault, true);
                        listKept();
                    };
                });
            show(std::move(*result));
        };
    });
}

void TradeView::stop() { cancel_.cancel(); }

void TradeView::showIdle() {
    run_->setText("Run study");
    search_->setEnabled(true), steps_->setEnabled(true);
}

void TradeView::show(TradeResult result) {
    result_ = std::move(result);
    chosen_ = -1;
    for (std::size_t i = 0; i < result_->points.size(); ++i)
        if (result_->points[i].line == result_->answer) chosen_ = static_cast<int>(i);
    QString note = QString("Reference: %1, %2. %3 runs in %4.")
                       .arg(words(result_->referenceLine), words(standingText(*result_)))
                       .arg(result_->runs)
                       .arg(words(formatQuantity(result_->seconds, "s", 2)));
    if (const TradePoint* const largest = largestGoodStep(*result_))
        note += QString(" Largest step that is good enough: %1; %2.").arg(words(largest->line), words(headroomText(*largest)));
    note_->setText(note);
    draw();
    fillTable();
    choose(chosen_);
}

/// Where results of this project are kept; those of examples are only read.
std::filesystem::path TradeView::keptFolder() const {
    return workspace_.path().isEmpty() ? std::filesystem::path() : Ledger::folderOf(workspace_.path().toStdString());
}

void TradeView::listKept(bool showNewest) {
    keeping_.start([this, folder = keptFolder(), showNewest](const CancelToken&) -> std::function<void()> {
        auto names = folder.empty() ? std::vector<std::string>() : keptStudies(folder);
        return [this, names = std::move(names), showNewest] {
            keptNames_ = names;
            kept_->clear();
            kept_->addItem(keptNames_.empty() ? "none kept" : "kept results");
            for (const std::string& name : keptNames_) kept_->addItem(words(name.substr(6, 16)).replace('T', ' '));
            kept_->setEnabled(!keptNames_.empty());
            if (showNewest && !result_ && !busy()) showKept(1);
        };
    });
}

void TradeView::showKept(int index) {
    if (index < 1 || index > static_cast<int>(keptNames_.size())) return;
    const std::string name = keptNames_[static_cast<std::size_t>(index - 1)];
    keeping_.start([this, folder = keptFolder(), name](const CancelToken&) -> std::function<void()> {
        const auto text = loadStudy(folder, name);
        auto result = text ? readTrade(*text) : Result<TradeResult>(text.error());
        return [this, result = std::move(result)]() mutable {
            if (!result) return emit said(words(result.error().text()), true);
            show(std::move(*result));
        };
    });
}

// ---- the plot

namespace {

double drawn(double worst) { return std::max(leastError, std::isfinite(worst) ? worst : 1e6); }

}  // namespace

void TradeView::refreshTheme() {
    setStyleSheet(QString("QWidget#trade { background: %1; } QPlainTextEdit { background: %1; border: 1px solid %2; "
                          "border-radius: 6px; } QPlainTextEdit:focus { border-color: %3; }")
                      .arg(colours().paper.name(), colours().rule.name(), colours().sloe.name()));
    draw();
}

void TradeView::draw() {
    const Colours& p = colours();
    plot_->clearPlottables();
    plot_->clearItems();
    plot_->setBackground(p.paper);
    plot_->axisRect()->setBackground(p.paper);
    for (QCPAxis* axis : {plot_->xAxis, plot_->yAxis}) {
        axis->setScaleType(QCPAxis::stLogarithmic);
        QSharedPointer<QCPAxisTickerLog> ticker(new QCPAxisTickerLog);
        axis->setTicker(ticker);
        axis->setNumberFormat("gb");
        axis->setNumberPrecision(0);
        axis->setBasePen(QPen(p.rule, 1)), axis->setTickPen(QPen(p.rule, 1)), axis->setSubTickPen(Qt::NoPen);
        axis->grid()->setPen(QPen(p.rule, 1, Qt::DotLine));
        axis->setTickLabelColor(p.bark), axis->setLabelColor(p.bark);
        axis->setTickLabelFont(textFont(TextSize::small)), axis->setLabelFont(textFont(TextSize::small));
    }
    plot_->xAxis->setLabel("CPU time, s");
    plot_->yAxis->setLabel("error ÷ accuracy");
    if (!result_) {
        plot_->xAxis->setRange(1e-3, 10), plot_->yAxis->setRange(1e-3, 100);
        plot_->replot();
        return;
    }
    double left = INFINITY, right = 0, low = 0.3, high = 3;
    for (const TradePoint& point : result_->points) {
        if (point.error) continue;
        left = std::min(left, point.seconds), right = std::max(right, point.seconds);
        low = std::min(low, drawn(point.worst)), high = std::max(high, drawn(point.worst));
    }
    right = std::max(right, result_->referenceSeconds), left = std::min(left, std::max(1e-6, right));
    plot_->xAxis->setRange(left / 2, right * 2);
    plot_->yAxis->setRange(low / 3, high * 4);
    // What is good enough lies below the line.
    auto* band = new QCPItemRect(plot_);
    band->setLayer("background");
    band->topLeft->setCoords(left / 2, 1), band->bottomRight->setCoords(right * 2, low / 3);
    band->setPen(Qt::NoPen), band->setBrush(p.leafTint);
    auto* words1 = new QCPItemText(plot_);
    words1->position->setType(QCPItemPosition::ptPlotCoords);
    words1->position->setCoords(right * 1.9, 1), words1->setPositionAlignment(Qt::AlignRight | Qt::AlignTop);
    words1->setText("good enough"), words1->setColor(p.leaf), words1->setFont(textFont(TextSize::small));
    auto* limit = new QCPItemStraightLine(plot_);
    limit->point1->setCoords(left, 1), limit->point2->setCoords(right, 1);
    limit->setPen(QPen(p.leaf, 1.2));
    auto* reference = new QCPItemStraightLine(plot_);
    reference->point1->setCoords(result_->referenceSeconds, low), reference->point2->setCoords(result_->referenceSeconds, high);
    reference->setPen(QPen(p.bark, 1, Qt::DashLine));
    // The front.
    std::vector<const TradePoint*> front;
    for (const TradePoint& point : result_->points)
        if (point.front) front.push_back(&point);
    std::sort(front.begin(), front.end(), [](const auto* a, const auto* b) { return a->seconds < b->seconds; });
    auto* line = plot_->addGraph();
    line->setPen(QPen(p.traces[0], 1.4)), line->setLineStyle(QCPGraph::lsStepLeft);
    for (const TradePoint* point : front) line->addData(point->seconds, drawn(point->worst));
    const auto cloud = [&](auto belongs, QCPScatterStyle::ScatterShape shape, const QColor& colour, bool filled, double size) {
        auto* graph = plot_->addGraph();
        graph->setLineStyle(QCPGraph::lsNone);
        graph->setScatterStyle(QCPScatterStyle(shape, QPen(colour, 1.6), filled ? QBrush(colour) : QBrush(p.paper), size));
        for (std::size_t i = 0; i < result_->points.size(); ++i)
            if (const TradePoint& point = result_->points[i]; !point.error && belongs(point, i))
                graph->addData(point.seconds, drawn(point.worst));
    };
    cloud([](const TradePoint& point, std::size_t) { return !point.front; }, QCPScatterStyle::ssCircle, p.bark, false, 7);
    cloud([](const TradePoint& point, std::size_t) { return point.front; }, QCPScatterStyle::ssCircle, p.traces[0], true, 8);
    cloud([](const TradePoint& point, std::size_t) { return point.present; }, QCPScatterStyle::ssDiamond, p.gorse, true, 11);
    cloud([this](const TradePoint&, std::size_t i) { return static_cast<int>(i) == chosen_; }, QCPScatterStyle::ssSquare,
          p.sloe, false, 14);
    // The chosen one and the plan have their names beside them.
    for (std::size_t i = 0; i < result_->points.size(); ++i) {
        const TradePoint& point = result_->points[i];
        if (point.error || !(point.present || static_cast<int>(i) == chosen_)) continue;
        auto* name = new QCPItemText(plot_);
        const bool onRight = std::log(point.seconds / left) > 0.6 * std::log(std::max(1.0001, right / left));
        name->position->setCoords(point.seconds, drawn(point.worst));
        name->setPositionAlignment((onRight ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter);
        name->setPadding(QMargins(12, 3, 12, 3));
        name->setFont(textFont(TextSize::small));
        name->setColor(static_cast<int>(i) == chosen_ ? p.sloe : p.gorse);
        const bool cheapest = point.line == result_->answer;
        name->setText(point.present ? "the plan" : cheapest ? "the cheapest" : "chosen");
    }
    plot_->replot();
}

void TradeView::fillTable() {
    filling_ = true;
    table_->clearSpans();
    table_->clearContents();
    table_->setRowCount(0);
    if (result_) {
        const auto row = [&](const QStringList& cells, int point, const QColor& colour, const QString& tip) {
            const int at = table_->rowCount();
            table_->insertRow(at);
            for (int c = 0; c < cells.size(); ++c) {
                auto* item = new QTableWidgetItem(cells[c]);
                if (point >= 0) item->setData(Qt::UserRole, point);
                item->setForeground(colour);
                item->setToolTip(tip);
                item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable);
                if (c == 1 || c == 2) item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
                table_->setItem(at, c, item);
            }
        };
        const Colours& p = colours();
        for (const PartVerdict& verdict : result_->verdicts) {
            row({words(verdict.part) + (verdict.needed ? " needs rung " : " does with rung ") + QString::number(verdict.rung),
                 words(verdict.why), "", ""},
                -1, verdict.needed ? p.ink : p.bark, words(verdict.why));
            const int at = table_->rowCount() - 1;
            table_->item(at, 1)->setTextAlignment(Qt::AlignLeft | Qt::AlignVCenter);
            table_->setSpan(at, 1, 1, 3);
        }
        std::vector<std::size_t> order(result_->points.size());
        for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
        std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
            return result_->points[a].seconds < result_->points[b].seconds;
        });
        for (const std::size_t i : order) {
            const TradePoint& point = result_->points[i];
            QString tip = words(point.line);
            for (std::size_t f = 0; f < point.errors.size(); ++f)
                tip += QString("\n%1: %2, error %3 of the accuracy")
                           .arg(words(result_->features[f]), words(formatQuantity(point.values[f], result_->units[f], 5)),
                                errorText(point.errors[f]));
            if (const std::string room = headroomText(point); !room.empty()) tip += "\n" + words(room);
            QString worst;
            for (std::size_t f = 0; f < point.errors.size(); ++f)
                if (point.errors[f] == point.worst && point.worst > 0) worst = words(result_->features[f]);
            row({words(point.line) + (point.present ? " (the plan)" : ""), words(formatQuantity(point.seconds, "s", 2)),
                 point.error ? QString("–") : errorText(point.worst),
                 point.error ? words(point.error->text()) : QString(point.good ? "good enough" : "too far off") +
                                                               (worst.isEmpty() ? "" : ": " + worst)},
                static_cast<int>(i), point.error ? p.haw : point.good ? p.ink : p.bark, tip);
        }
    }
    table_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::Interactive);
    table_->setColumnWidth(0, 190), table_->setColumnWidth(1, 62), table_->setColumnWidth(2, 56);
    table_->horizontalHeader()->setStretchLastSection(true);
    filling_ = false;
}

int TradeView::pointAt(const QPointF& at) const {
    if (!result_) return -1;
    int nearest = -1;
    double least = 12;
    for (std::size_t i = 0; i < result_->points.size(); ++i) {
        const TradePoint& point = result_->points[i];
        if (point.error) continue;
        const double away = std::hypot(plot_->xAxis->coordToPixel(point.seconds) - at.x(),
                                       plot_->yAxis->coordToPixel(drawn(point.worst)) - at.y());
        if (away < least) nearest = static_cast<int>(i), least = away;
    }
    return nearest;
}

void TradeView::choose(int point) {
    const bool known = result_ && point >= 0 && point < static_cast<int>(result_->points.size());
    chosen_ = known ? point : -1;
    use_->setEnabled(known && !result_->points[static_cast<std::size_t>(point)].error);
    look_->setEnabled(known);
    if (!result_) {
        answer_->clear();
    } else if (known) {
        const TradePoint& of = result_->points[static_cast<std::size_t>(point)];
        answer_->setText(of.line == result_->answer ? QString("The cheapest that is good enough: %1").arg(words(of.line))
                                                    : words(of.line));
    } else {
        answer_->setText(result_->answer.empty() ? QString("Nothing tried is as accurate as wanted.")
                                                 : QString("The cheapest that is good enough: %1").arg(words(result_->answer)));
    }
    draw();
    if (!known) return;
    filling_ = true;
    for (int row = 0; row < table_->rowCount(); ++row)
        if (const QVariant of = table_->item(row, 0)->data(Qt::UserRole); of.isValid() && of.toInt() == point)
            table_->selectRow(row);
    // What the search says of the parts comes first.
    if (!result_->verdicts.empty() && !table_->hasFocus()) table_->scrollToTop();
    filling_ = false;
}

void TradeView::showPoint(std::size_t point) {
    if (!result_ || point >= result_->points.size()) return;
    const TradePoint& of = result_->points[point];
    if (of.run && result_->referenceRun) {
        Runs& runs = workspace_.runList();
        const RunPointer reference = runs.add(result_->referenceRun, "reference: " + result_->referenceLine);
        const RunPointer shown = runs.add(of.run, of.line);
        for (const RunPointer& entry : runs.all())
            if (entry->pinned && entry != reference) runs.pin(entry, false);
        runs.pin(reference, true);
        runs.show(shown);
        return;
    }
    // Of a kept result: it is run anew.
    auto changed = withLine(workspace_.project(), study(), of.line);
    if (!changed) return emit said(words(changed.error().text()), true);
    workspace_.startWith(std::make_shared<const Project>(std::move(*changed)), of.line);
}

void TradeView::use(const std::string& line) {
    TradeStudy of = study();
    of.plan = workspace_.plan().name;
    const auto changed = withLine(workspace_.project(), of, line);
    if (!changed) return emit said(words(changed.error().text()), true);
    const Plan* const plan = changed->findPlan(of.plan);
    if (!plan) return;
    if (workspace_.apply(edits::setPlan(plan->name, *plan)))
        emit said(QString("the plan %1 is solved like this: %2").arg(words(plan->name), words(line)), false);
}

Status TradeView::writeTable(const QString& path) const {
    if (!result_) return Error{ErrorCode::range, "there is no result yet"};
    return exportTrade(*result_, path.toStdString());
}

Status TradeView::writePicture(const QString& path) {
    const QSize size = plot_->size() * 2;
    const bool written = path.endsWith(".pdf") ? plot_->savePdf(path, plot_->width(), plot_->height())
                                               : plot_->toPixmap(size.width() / 2, size.height() / 2, 2).save(path);
    if (written) return {};
    return Error{ErrorCode::file, path.toStdString() + " cannot be written"};
}

bool TradeView::eventFilter(QObject* object, QEvent* event) {
    if (object == plot_) {
        if (event->type() == QEvent::MouseButtonPress) {
            const int point = pointAt(static_cast<QMouseEvent*>(event)->position());
            if (point >= 0) choose(point);
        } else if (event->type() == QEvent::MouseButtonDblClick) {
            if (const int point = pointAt(static_cast<QMouseEvent*>(event)->position()); point >= 0)
                showPoint(static_cast<std::size_t>(point));
        } else if (event->type() == QEvent::MouseMove) {
            const auto* mouse = static_cast<QMouseEvent*>(event);
            const int point = pointAt(mouse->position());
            if (point >= 0) {
                const TradePoint& of = result_->points[static_cast<std::size_t>(point)];
                QToolTip::showText(mouse->globalPosition().toPoint(),
                                   QString("%1\n%2, error %3 of the accuracy")
                                       .arg(words(of.line), words(formatQuantity(of.seconds, "s", 2)), errorText(of.worst)),
                                   plot_);
            } else {
                QToolTip::hideText();
            }
        }
    } else if (event->type() == QEvent::FocusOut && !filling_) {
        takeTexts();
    }
    return QWidget::eventFilter(object, event);
}

void TradeView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) return emit left();
    if ((event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) && chosen_ >= 0 && !event->modifiers())
        return showPoint(static_cast<std::size_t>(chosen_));
    QWidget::keyPressEvent(event);
}

}  // namespace hedgerow::app
