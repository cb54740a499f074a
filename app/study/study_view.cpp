#include "study/study_view.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include <QCheckBox>
#include <QComboBox>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QMouseEvent>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QTableView>
#include <QTemporaryDir>
#include <QVBoxLayout>

#include <qcustomplot.h>

#include "base/shared_files.h"
#include "base/time.h"
#include "ledger/measured_run.h"
#include "model/edits.h"
#include "model/quantity.h"
#include "studies/slurm.h"
#include "studies/study_folder.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

constexpr int leftWidth = 232, followEvery = 300;  // ms
constexpr std::size_t mostFamily = 24;             ///< runs beside each other on the timeline
constexpr std::size_t mostTraces = 200;            ///< in one picture
constexpr std::size_t slurmChunks = 200, mostChunk = 100;

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

/// What suits any circuit: the first parameter by half and twice, the mean and the swing of the first lane.
ParameterStudy usualStudy(const Project& project) {
    ParameterStudy study{.name = "study", .extra = {}};
    for (const Parameter& parameter : project.parameters)
        if (const auto value = evaluate(parameter.value); value && value->value > 0 && study.varied.empty())
            study.varied.push_back(parameter.name + ": " + parameter.value + " +- 20 %");
    for (const Part& part : project.sheets.front().parts)
        if (study.varied.empty() && part.kind == "resistor") study.varied.push_back(part.name + ".r: 100 to 10k, 5 a decade");
    if (!study.varied.empty() && study.varied.front().find("+-") != std::string::npos) study.runs = "latin 50";
    for (const Lane& lane : project.lanes)
        for (const std::string& quantity : lane.quantities) {
            if (study.measured.size() >= 2 || lane.kind != LaneKind::time) break;
            study.measured.push_back("mean of " + quantity);
            study.measured.push_back("pp of " + quantity);
        }
    return study;
}

}  // namespace

// ---- the rows

StudyModel::StudyModel(QObject* parent) : QAbstractTableModel(parent) {
    constexpr std::size_t atOnce = 1000;  // some ms
    preparing_.setInterval(0);
    connect(&preparing_, &QTimer::timeout, this, [this] { prepareTexts(texts_.size() + atOnce); });
}

void StudyModel::prepareTexts(std::size_t until) {
    const std::size_t rows = table_ ? table_->rows() : 0;
    for (std::size_t row = texts_.size(); row < std::min(rows, until); ++row) {
        QString text = words(table_->errors[row]);
        for (std::size_t a = 0; a < table_->varied.size(); ++a)
            text += "\n" + valueText(*table_, row, a) + "\n" + words(table_->points[row][a]);
        texts_.push_back(text.toLower());
    }
    if (texts_.size() >= rows) preparing_.stop();
}

void StudyModel::set(std::shared_ptr<const StudyTable> table) {
    beginResetModel();
    // Rows only come behind the others while a study runs.
    if (!table_ || !table || table->rows() < texts_.size() || table->started != table_->started) texts_.clear();
    table_ = std::move(table);
    preparing_.start();
    arrange();
    endResetModel();
}

void StudyModel::filter(const QString& text) {
    beginResetModel();
    filter_ = text.trimmed();
    matcher_ = QStringMatcher(filter_.toLower());
    number_ = filter_.toULongLong();  // 0 where it is no number
    arrange();
    endResetModel();
}

void StudyModel::sort(int column, Qt::SortOrder order) {
    beginResetModel();
    column_ = column, direction_ = order;
    arrange();
    endResetModel();
}

bool StudyModel::shows(std::size_t row) const {
    if (filter_.isEmpty()) return true;
    if (filter_ == "failed") return !table_->errors[row].empty();
    if (filter_ == "beyond limits") return table_->errors[row].empty() && !table_->good[row];
    return matcher_.indexIn(texts_[row]) >= 0 || table_->index[row] + 1 == number_;
}

void StudyModel::arrange() {
    order_.clear();
    if (!table_) return;
    if (!filter_.isEmpty()) prepareTexts(table_->rows());
    for (std::size_t row = 0; row < table_->rows(); ++row)
        if (shows(row)) order_.push_back(row);
    const int axes = static_cast<int>(table_->varied.size()), measures = static_cast<int>(table_->measured.size());
    std::vector<double> keys(table_->rows());
    for (const std::size_t row : order_) {
        double key = static_cast<double>(table_->index[row]);
        if (column_ > 0 && column_ <= axes) key = table_->number(row, static_cast<std::size_t>(column_ - 1));
        if (column_ > axes && column_ <= axes + measures) key = table_->values[static_cast<std::size_t>(column_ - axes - 1)][row];
        if (column_ > axes + measures) key = table_->errors[row].empty() ? (table_->good[row] ? 0 : 1) : 2;
        keys[row] = std::isnan(key) ? INFINITY : key;
    }
    const bool wordsColumn = column_ > 0 && column_ <= axes && table_->rows() > 0 &&
                             !std::isfinite(table_->number(0, static_cast<std::size_t>(column_ - 1)));
    const double sign = direction_ == Qt::AscendingOrder ? 1 : -1;
    std::stable_sort(order_.begin(), order_.end(), [&](std::size_t a, std::size_t b) {
        if (wordsColumn) {
            const int by = table_->points[a][static_cast<std::size_t>(column_ - 1)].compare(
                table_->points[b][static_cast<std::size_t>(column_ - 1)]);
            return sign * by < 0;
        }
        // What failed stays at the end.
        if (std::isinf(keys[a]) || std::isinf(keys[b])) return !std::isinf(keys[a]) && std::isinf(keys[b]);
        return sign * keys[a] < sign * keys[b];
    });
}

int StudyModel::shownOf(std::size_t row) const {
    const auto at = std::find(order_.begin(), order_.end(), row);
    return at == order_.end() ? -1 : static_cast<int>(at - order_.begin());
}

int StudyModel::rowCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : static_cast<int>(order_.size()); }
int StudyModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() || !table_ ? 0 : static_cast<int>(2 + table_->varied.size() + table_->measured.size());
}

QVariant StudyModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (role == Qt::TextAlignmentRole && section + 1 == columnCount())
        return QVariant::fromValue(Qt::Alignment(Qt::AlignLeft | Qt::AlignVCenter));
    if (orientation != Qt::Horizontal || !table_ || (role != Qt::DisplayRole && role != Qt::ToolTipRole)) return {};
    const auto axes = static_cast<int>(table_->varied.size()), measures = static_cast<int>(table_->measured.size());
    if (section == 0) return "run";
    if (section <= axes) return words(table_->varied[static_cast<std::size_t>(section - 1)]);
    if (section <= axes + measures) {
        const QString text = words(table_->measured[static_cast<std::size_t>(section - axes - 1)]);
        return role == Qt::ToolTipRole ? text : shortMeasure(text);
    }
    return role == Qt::ToolTipRole ? "whether every value keeps its limits, or why the run failed" : "outcome";
}

QVariant StudyModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid() || !table_) return {};
    const std::size_t row = rowOf(index.row());
    const auto axes = static_cast<int>(table_->varied.size()), measures = static_cast<int>(table_->measured.size());
    const int column = index.column();
    const bool failed = !table_->errors[row].empty();
    if (role == Qt::ForegroundRole) {
        if (failed) return colours().haw;
        if (column > axes && column <= axes + measures) {
            const auto m = static_cast<std::size_t>(column - axes - 1);
            const double value = table_->values[m][row];
            if ((table_->above[m] && value < *table_->above[m]) || (table_->below[m] && value > *table_->below[m])) return colours().haw;
        }
        return colours().ink;
    }
    if (role == Qt::TextAlignmentRole)
        return QVariant::fromValue(Qt::Alignment(column <= axes + measures ? Qt::AlignRight | Qt::AlignVCenter : Qt::AlignLeft | Qt::AlignVCenter));
    if (role != Qt::DisplayRole && role != Qt::ToolTipRole) return {};
    if (column == 0) return static_cast<int>(table_->index[row] + 1);
    if (column <= axes) return valueText(*table_, row, static_cast<std::size_t>(column - 1));
    if (column <= axes + measures) {
        const auto m = static_cast<std::size_t>(column - axes - 1);
        return failed ? QString("–") : words(formatQuantity(table_->values[m][row], table_->measuredUnits[m], 5));
    }
    if (failed) return words(table_->errors[row]);
    return table_->good[row] ? QString("keeps limits") : QString("beyond limits");
}

// ---- the view

/// Rows on their way from the threads that make them to the window.
struct StudyView::Live final : public StudySink {
    std::unique_ptr<StudyFile> file;
    std::mutex mutex;
    std::vector<StudyRow> fresh;
    StudyProgress progress;
    bool has(std::size_t index) const override { return file->has(index); }
    Result<std::vector<StudyRow>> rows() const override { return file->rows(); }
    Status conclude(const std::vector<std::string>& words) override { return file->conclude(words); }
    Status take(StudyRow row) override {
        auto taken = file->take(row);
        const std::lock_guard lock(mutex);
        fresh.push_back(std::move(row));
        return taken;
    }
};

StudyView::~StudyView() { cancel_.cancel(); }

StudyView::StudyView(Workspace& workspace, QWidget* parent)
    : QWidget(parent), workspace_(workspace),
      names_(workspace, {&Project::parameterStudies, usualStudy, edits::setParameterStudy, edits::removeParameterStudy}, "studyName", this,
             [this] { takeTexts(); }, [this] { fillTexts(); }) {
    setObjectName("study");
    setMinimumWidth(560);
    setAttribute(Qt::WA_StyledBackground);
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(16, 10, 16, 8);
    all->setSpacing(6);
    auto* top = new QHBoxLayout;
    title_ = new QLabel("Study:", this);
    title_->setObjectName("studyTitle");
    title_->setStyleSheet("font-size: 16px; font-weight: bold;");
    top->addWidget(title_);
    const auto button = [&](const QString& text, const QString& name, const QString& tip) {
        auto* made = new QPushButton(text, this);
        made->setObjectName(name);
        made->setToolTip(tip);
        return made;
    };
    const auto choice = [&](const QString& name, const QString& says) {
        auto* made = new QComboBox(this);
        made->setObjectName(name);
        made->setAccessibleName(says);
        made->setToolTip(says);
        made->setMinimumWidth(90);
        made->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
        return made;
    };
    names_.box()->setMinimumWidth(180);
    top->addWidget(names_.box(), 4);
    filter_ = new QLineEdit(this);
    top->addStretch(1);
    top->addWidget(filter_, 3);
    kept_ = choice("studyKept", "results that were kept beside the project");
    kept_->setMinimumWidth(130);
    connect(kept_, &QComboBox::activated, this, &StudyView::showKept);
    top->addWidget(kept_);
    auto* save = button("Export…", "studyExport", "the rows as .csv, .h5, .json, as a report, or as a picture");
    connect(save, &QPushButton::clicked, this, [this] {
        if (!table_) return emit said("there are no rows yet", true);
        const QString path = QFileDialog::getSaveFileName(
            this, "Export the study", {}, "Table (*.csv);;HDF5 (*.h5);;JSON (*.json);;Report (*.html);;Picture (*.png *.pdf)");
        if (path.isEmpty()) return;
        const Status written = path.endsWith(".png") || path.endsWith(".pdf") ? writePicture(path) : writeTable(path);
        emit said(written ? "wrote " + path : words(written.error().text()), !written);
    });
    top->addWidget(save);
    auto* back = button("Sheet", "studyBack", "back to the sheet (Esc)");
    connect(back, &QPushButton::clicked, this, &StudyView::left);
    top->addWidget(back);
    all->addLayout(top);

    auto* middle = new QHBoxLayout;
    middle->setSpacing(14);
    auto* side = new QVBoxLayout;
    side->setSpacing(4);
    const auto heading = [&](const QString& text) {
        auto* label = new QLabel(text, this);
        label->setStyleSheet("font-weight: bold;");
        side->addWidget(label);
    };
    const auto edit = [&](const QString& label, const QString& name, const QString& hint) {
        heading(label);
        auto* made = new QPlainTextEdit(this);
        made->setObjectName(name);
        made->setAccessibleName(label);
        made->setPlaceholderText(hint);
        made->setToolTip(hint);
        made->setFixedWidth(leftWidth);
        made->setMinimumHeight(48);
        made->setTabChangesFocus(true);
        made->setLineWrapMode(QPlainTextEdit::NoWrap);
        made->setFont(textFont(TextSize::small));
        made->installEventFilter(this);
        side->addWidget(made, 1);
        return made;
    };
    varied_ = edit("What varies", "studyVaried",
                   "C2.c: 22u, 47u, 100u\nRload: 1 to 10 in 20\nRload: 1 to 100, 5 a decade\nL1.l: E12 from 10u to 100u\n"
                   "L1.l: 22u +- 20 %\nL1.l: normal 22u, deviation 2 %, within 5 %\nVin: measured supply.csv\n"
                   "rungs: all on 1; all on 2\nplan: look; start-up\nscene: steady; load step\n"
                   "D1: all kept\nX1: leg; leg with snubber\ntolerances\ntolerances of L1, C2, normal\n"
                   "correlation of L1.l and L2.l: 0.8\ntable values.csv");
    measured_ = edit("What is measured", "studyMeasured",
                     "mean of out.v above 23.5 below 24.5\nripple = pp of out.v over last 20u\nloss of S1\n"
                     "thd of V1.i base 50 below 5m\nvalue of out.v at 2m\nphase margin of REG1.y above 45\n"
                     "cost = expression 10 * ripple + L1.l / 1u");
    const auto field = [&](const QString& label, const QString& name, const QString& hint) {
        auto* line = new QHBoxLayout;
        auto* says = new QLabel(label, this);
        says->setFixedWidth(44);
        line->addWidget(says);
        auto* made = new QLineEdit(this);
        made->setObjectName(name);
        made->setAccessibleName(label);
        made->setPlaceholderText(hint);
        made->setToolTip(hint);
        made->setFixedWidth(leftWidth - 50);
        connect(made, &QLineEdit::editingFinished, this, &StudyView::takeTexts);
        line->addWidget(made);
        side->addLayout(line);
        return made;
    };
    runs_ = field("runs", "studyRuns", "grid, rows, corners, random 200, latin 200, sobol 256,\nminimise losses + fsw / 1M\nmaximise margin, 300 runs, globally (or: by gradient)");
    keep_ = field("traces", "studyKeep", "none kept; such as out.v + L1.i");
    settle_ = new QCheckBox("each run is its periodic state", this);
    settle_->setObjectName("studySettle");
    connect(settle_, &QCheckBox::clicked, this, &StudyView::takeTexts);
    side->addWidget(settle_);
    if (slurmKnowsACluster()) {
        where_ = choice("studyWhere", "where the runs are made");
        where_->addItems({"on this machine", "by Slurm"});
        where_->setToolTip("on all cores here, or as job arrays of the cluster that this machine belongs to");
        side->addWidget(where_);
    }
    auto* buttons = new QHBoxLayout;
    buttons->setSpacing(4);
    run_ = button("Run study", "studyRun", "all runs, on all cores");
    run_->setProperty("main", true);
    goOn_ = button("Go on", "studyGoOn", "runs what is missing of the rows that are shown; write random 400 for random 200 to have more of them");
    connect(run_, &QPushButton::clicked, this, [this] { busy() ? stop() : run(); });
    connect(goOn_, &QPushButton::clicked, this, &StudyView::goOn);
    for (QPushButton* one : {run_, goOn_}) buttons->addWidget(one);
    side->addLayout(buttons);
    price_ = new QLabel(this);
    price_->setObjectName("studyPrice");
    price_->setProperty("quiet", true);
    price_->setFixedWidth(leftWidth);
    price_->setWordWrap(true);
    side->addWidget(price_);
    middle->addLayout(side);

    auto* right = new QVBoxLayout;
    right->setSpacing(4);
    note_ = new QLabel(this);
    note_->setObjectName("studyNote");
    note_->setProperty("quiet", true);
    note_->setWordWrap(true);
    right->addWidget(note_);
    auto* choices = new QHBoxLayout;
    measure_ = choice("studyMeasure", "what is drawn");
    picture_ = choice("studyPicture", "how it is drawn");
    for (const auto& [text, kind] : {std::pair{"over", StudyPicture::over}, {"histogram", StudyPicture::histogram}, {"yield", StudyPicture::yield},
                                     {"moved by", StudyPicture::movedBy}, {"all over all", StudyPicture::matrix}, {"contour", StudyPicture::contour}})
        picture_->addItem(text, static_cast<int>(kind));
    over_ = choice("studyOver", "over what");
    against_ = choice("studyAgainst", "the vertical axis");
    quantity_ = choice("studyQuantity", "the quantity whose traces are shown");
    align_ = new QLineEdit(this);
    align_->setObjectName("studyAlign");
    align_->setAccessibleName("where the traces are aligned");
    align_->setPlaceholderText("aligned at 0");
    align_->setToolTip("the instant that all traces have in common: 1.5m, event 1, > 12 where it first rises through 12, < 12");
    connect(align_, &QLineEdit::editingFinished, this, &StudyView::readFamily);
    connect(quantity_, &QComboBox::activated, this, &StudyView::readFamily);
    filter_->setObjectName("studyFilter");
    filter_->setPlaceholderText("rows: failed, beyond limits, a value");
    filter_->setAccessibleName("rows that hold this");
    connect(filter_, &QLineEdit::textChanged, this, [this](const QString& text) { model_.filter(text); });
    choices->addWidget(measure_, 3), choices->addWidget(quantity_, 2), choices->addWidget(picture_, 2), choices->addWidget(over_, 2);
    choices->addWidget(against_, 2), choices->addWidget(align_, 2);
    connect(picture_, &QComboBox::activated, this, [this] {
        showFields();
        readFamily();
    });
    for (QComboBox* one : {measure_, over_, against_}) connect(one, &QComboBox::activated, this, &StudyView::draw);
    right->addLayout(choices);
    plot_ = new QCustomPlot(this);
    plot_->setObjectName("studyPlot");
    plot_->setAccessibleName("what the runs say");
    plot_->setMinimumHeight(120);
    plot_->setMinimumWidth(200);
    plot_->installEventFilter(this);
    right->addWidget(plot_, 3);
    rows_ = new QTableView(this);
    rows_->setObjectName("studyRows");
    rows_->setAccessibleName("the runs, a row each");
    rows_->setModel(&model_);
    rows_->setSortingEnabled(true);
    rows_->sortByColumn(0, Qt::AscendingOrder);
    rows_->setSelectionBehavior(QAbstractItemView::SelectRows);
    rows_->setSelectionMode(QAbstractItemView::ExtendedSelection);
    rows_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    rows_->verticalHeader()->hide();
    rows_->verticalHeader()->setDefaultSectionSize(22);
    rows_->setShowGrid(false);
    rows_->setFrameShape(QFrame::NoFrame);
    rows_->setFont(textFont(TextSize::small));
    rows_->horizontalHeader()->setDefaultAlignment(Qt::AlignRight | Qt::AlignVCenter);
    rows_->horizontalHeader()->setStretchLastSection(true);
    rows_->horizontalHeader()->setHighlightSections(false);
    connect(rows_->selectionModel(), &QItemSelectionModel::selectionChanged, this, [this] {
        if (!filling_) noteChoice();
    });
    connect(rows_, &QTableView::doubleClicked, this, [this] { showRows(chosenRows()); });
    right->addWidget(rows_, 2);
    auto* bottom = new QHBoxLayout;
    answer_ = new QLabel(this);
    answer_->setObjectName("studyAnswer");
    answer_->setWordWrap(true);
    bottom->addWidget(answer_, 1);
    look_ = button("Waveforms", "studyLook", "the chosen rows beside each other on the timeline (Enter)");
    use_ = button("Use these values", "studyUse", "the project takes the values of the chosen row");
    connect(look_, &QPushButton::clicked, this, [this] { showRows(chosenRows()); });
    connect(use_, &QPushButton::clicked, this, [this] {
        if (const auto rows = chosenRows(); rows.size() == 1) use(rows.front());
    });
    bottom->addWidget(look_);
    bottom->addWidget(use_);
    right->addLayout(bottom);
    middle->addLayout(right, 1);
    all->addLayout(middle, 1);
    following_.setInterval(followEvery);
    connect(&following_, &QTimer::timeout, this, &StudyView::follow);
    connect(&workspace, &Workspace::left, this, [this] {
        cancel_.cancel();
        background_.drop(), solving_.drop(), reading_.drop(), pricing_.drop();
        priced_.reset();
        price_->clear();
        following_.stop();
        live_.reset();
        names_.forget();
        keptNames_.clear();
        shownFile_.clear();
        show(nullptr);
        showIdle();
        if (isVisible()) emit left();
    });
    show(nullptr);
    hide();
}

ParameterStudy StudyView::study() const { return names_.study(); }

void StudyView::open() {
    fillTexts();
    listKept();
    QWidget::show();
    draw();
    priced_.reset();  // the project may be another one by now
    showPrice();
    run_->setFocus();
}

void StudyView::fillTexts() {
    const ParameterStudy now = study();
    filling_ = true;
    if (const QString text = joinedLines(now.varied); text != varied_->toPlainText()) varied_->setPlainText(text);
    if (const QString text = joinedLines(now.measured); text != measured_->toPlainText()) measured_->setPlainText(text);
    runs_->setText(words(now.runs));
    keep_->setText(words(now.keep));
    settle_->setChecked(now.settle);
    names_.fill();
    filling_ = false;
}

/// What is typed becomes the project's.
void StudyView::takeTexts() {
    if (filling_) return;
    ParameterStudy now = study();
    now.varied = linesOf(*varied_), now.measured = linesOf(*measured_);
    now.runs = runs_->text().trimmed().toStdString();
    now.keep = keep_->text().trimmed().toStdString();
    now.settle = settle_->isChecked();
    names_.put(now);
    if (!busy()) showIdle();
    showPrice();
}

/// What the study would take, from its first run, made beside the window.
void StudyView::showPrice() {
    ParameterStudy asked = study();
    if (!isVisible() || busy() || (priced_ && *priced_ == asked)) return;
    priced_ = asked;
    price_->setText("price: …");
    price_->setToolTip({});
    if (asked.plan.empty()) asked.plan = workspace_.plan().name;
    if (asked.scene.empty()) asked.scene = workspace_.scene().name;
    pricing_.start([this, asked, project = projectAsKnown()](const CancelToken& cancel) -> std::function<void()> {
        const auto setup = prepareStudy(project, asked);
        std::optional<StudyPrice> price;
        if (setup && !cancel.cancelled()) price = priceStudy(*setup, cancel);
        return [this, price, fault = setup ? std::string() : setup.error().text(), searched = setup && setup->searched()] {
            if (!price || !price->first.error.empty()) {
                price_->setText(words(price ? "the first run fails: " + price->first.error : fault));
                return;
            }
            const double cores = std::max(1u, std::thread::hardware_concurrency());
            const auto text = [](double value, const char* unit) { return words(formatQuantity(value, unit, 2)); };
            price_->setText(QString("%1%2 runs ~%3 on %4 cores, ~%5").arg(searched ? "up to " : "").arg(price->runs)
                                .arg(text(price->all / (searched ? 1 : cores), "s")).arg(searched ? 1 : static_cast<int>(cores))
                                .arg(text(static_cast<double>(price->disk), "B")));
            QString about = QString("time and room on the disk for all runs, from the first one: it took %1, %2 of it to build the circuit, and %3 of memory").arg(
                text(price->first.seconds, "s"), text(price->first.building, "s"), text(static_cast<double>(price->memory), "B"));
            for (const Arrival& arrival : price->arrivals)
                about += "\n" + words(arrival.target) + (!arrival.reached() ? ": does not reach the circuit"
                                                        : arrival.equations ? ": other equations each time"
                                                                            : ": the equations stay");
            price_->setToolTip(about);
        };
    });
}

/// The project; kept parts of the user are as good as its own.
std::shared_ptr<const Project> StudyView::projectAsKnown() const {
    auto known = std::make_shared<Project>(workspace_.project());
    known->kept = workspace_.keptParts();
    return known;
}

/// The folder of the traces of a study's file.
std::filesystem::path StudyView::tracesOf(const std::filesystem::path& file) {
    // Tasks of a cluster write theirs beside their rows.
    if (file.filename() == "question.study") return file.parent_path() / "chunks";
    return file.string() + "-traces";
}

/// Where results of this project are kept; "" where they are not.
std::filesystem::path StudyView::folder() const {
    return workspace_.path().isEmpty() ? std::filesystem::path() : Ledger::folderOf(workspace_.path().toStdString());
}

void StudyView::listKept() {
    listing_.start([this, folder = folder()](const CancelToken&) -> std::function<void()> {
        auto names = folder.empty() ? std::vector<std::string>() : studyFiles(folder);
        return [this, names = std::move(names)] {
            keptNames_ = names;
            kept_->clear();
            kept_->addItem(keptNames_.empty() ? "none kept" : "kept results");
            for (const std::string& name : keptNames_) kept_->addItem(words(name.substr(9, 16)).replace('T', ' '));
            kept_->setEnabled(!keptNames_.empty());
            if (!table_ && !busy() && !keptNames_.empty()) showKept(1);
        };
    });
}

void StudyView::showKept(int index) {
    if (index < 1 || index > static_cast<int>(keptNames_.size()) || busy()) return;
    const auto path = folder() / keptNames_[static_cast<std::size_t>(index - 1)];
    listing_.start([this, path](const CancelToken&) -> std::function<void()> {
        auto read = [&]() -> Result<StudyTable> {
            const auto file = StudyFile::open(path, true);
            if (!file) return file.error();
            return (*file)->table();
        }();
        return [this, path, read = std::move(read)]() mutable {
            if (!read) return emit said(words(read.error().text()), true);
            shownFile_ = path;
            show(std::make_shared<const StudyTable>(std::move(*read)));
        };
    });
}

void StudyView::run() {
    if (busy()) return;
    takeTexts();
    begin(true);
}

void StudyView::goOn() {
    if (busy() || shownFile_.empty() || !table_) return;
    begin(false);
}

/// The threads make rows, the file keeps them, the timer shows them.
void StudyView::begin(bool anew) {
    cancel_ = CancelToken();
    live_ = std::make_shared<Live>();
    run_->setText("Stop");
    goOn_->setEnabled(false);
    note_->setText("the question is checked …");
    ParameterStudy asked = study();
    if (asked.plan.empty()) asked.plan = workspace_.plan().name;
    if (asked.scene.empty()) asked.scene = workspace_.scene().name;
    const bool onSlurm = where_ && where_->currentIndex() == 1;
    std::filesystem::path where = folder();
    if (where.empty() || ships(workspace_.path())) {
        if (!passing_) passing_ = std::make_unique<QTemporaryDir>();
        where = passing_->path().toStdString();
    }
    if (pricing_.busy()) priced_.reset(), price_->clear();  // it is told when the runs are over
    pricing_.drop();
    background_.start([this, anew, asked, where, onSlurm, project = projectAsKnown(), path = shownFile_, live = live_,
                       cancel = cancel_](const CancelToken& dropped) -> std::function<void()> {
        Status outcome;
        std::filesystem::path file = path;
        auto table = std::make_shared<StudyTable>();
        {
            // Two ask for an end: who stops it, and who leaves the project.
            std::atomic<bool> over = false;
            std::thread watcher([&] {
                while (!over) {
                    if (dropped.cancelled()) cancel.cancel();
                    std::this_thread::sleep_for(std::chrono::milliseconds(20));
                }
            });
            outcome = [&]() -> Status {
                std::optional<StudySetup> setup;
                if (anew) {
                    auto made = prepareStudy(project, asked);
                    if (!made) return made.error();
                    setup = std::move(*made);
                    for (const Arrival& arrival : arrivals(*setup))
                        if (!arrival.reached())
                            return Error{ErrorCode::range,
                                         "'" + arrival.target + "' does not reach the circuit: two of its values give the same "
                                         "equations, sources and start values"};
                    auto created = createFile(*setup, where, onSlurm);
                    if (!created) return created.error();
                    live->file = std::move(*created);
                    file = live->file->path();
                } else {
                    auto opened = StudyFile::open(path);
                    if (!opened) return opened.error();
                    live->file = std::move(*opened);
                    auto made = live->file->setup();
                    if (!made) return made.error();
                    // More runs, where it is the study that is typed; another one goes on as it was asked.
                    if (made->study.name == asked.name && made->study.runs != asked.runs) {
                        ParameterStudy more = made->study;
                        more.runs = asked.runs, more.varied = asked.varied;
                        auto longer = prepareStudy(made->project, more);
                        if (!longer) return longer.error();
                        if (auto extended = live->file->extend(*made, *longer); !extended) return extended.error();
                        made = std::move(longer);
                    }
                    setup = std::move(*made);
                }
                auto first = live->file->table();
                if (!first) return first.error();
                QMetaObject::invokeMethod(this, [this, live, file, first = std::make_shared<const StudyTable>(std::move(*first))] {
                    if (live != live_) return;
                    shownFile_ = file;
                    show(first);
                    following_.start();
                });
                return runRows(*setup, *live, onSlurm, cancel);
            }();
            over = true;
            watcher.join();
            if (live->file)
                if (auto read = live->file->table()) *table = std::move(*read);
        }
        return [this, outcome, table, live] {
            following_.stop();
            if (live == live_) live_.reset();
            QMetaObject::invokeMethod(this, &StudyView::showPrice, Qt::QueuedConnection);
            if (!outcome && outcome.error().code != ErrorCode::stop) {
                showIdle();
                note_->setText(words(outcome.error().text()));
                return emit said(words(outcome.error().text()), true);
            }
            show(table);
            showIdle();
            listKept();
        };
    });
}

/// A new file for the rows; for tasks of a cluster in a folder that they work on.
Result<std::unique_ptr<StudyFile>> StudyView::createFile(const StudySetup& setup, const std::filesystem::path& where, bool onSlurm) {
    std::error_code failed;
    std::filesystem::create_directories(where, failed);
    if (!onSlurm) return StudyFile::create(where / studyFileName(setup.study.name), setup);
    if (setup.searched())
        return Error{ErrorCode::range, "a search goes from run to run: it is made on this machine", {}, {}, "runs"};
    const std::size_t chunk = std::clamp<std::size_t>(setup.points.size() / slurmChunks, 1, mostChunk);
    const auto tasks = StudyFolder::create(where / studyTasksName(setup.study.name), setup, chunk);
    if (!tasks) return tasks.error();
    return StudyFile::open(tasks->question());
}

/// What is missing, by the threads of this machine or by the tasks of a cluster. Off the window's thread.
Status StudyView::runRows(const StudySetup& setup, Live& live, bool onSlurm, const CancelToken& cancel) const {
    const std::filesystem::path file = live.file->path();
    const auto tasks = StudyFolder::open(file.parent_path());
    const auto note = [&live](const StudyProgress& at) {
        const std::lock_guard lock(live.mutex);
        live.progress = at;
    };
    if (tasks && onSlurm) {
        const Stopwatch watch;
        const auto done = workBySlurm(*tasks, {}, live, [&](const SlurmState& state, std::size_t) {
            note({.done = std::min(tasks->runs(), state.done * tasks->chunkSize()), .of = tasks->runs(), .seconds = watch.seconds()});
        }, cancel);
        if (!done && done.error().code == ErrorCode::stop)
            if (const auto jobs = SlurmJobs::open(*tasks)) (void)jobs->stop(CancelToken());
        return done;
    }
    StudyRunning running{.progress = note};
    if (!setup.keep.empty()) {
        running.traces = tracesOf(file);
        std::error_code failed;
        std::filesystem::create_directories(running.traces, failed);
    }
    return runStudy(setup, live, running, cancel);
}

/// Takes the rows that have come meanwhile.
void StudyView::follow() {
    if (!live_ || !table_) return;
    std::vector<StudyRow> fresh;
    StudyProgress at;
    {
        const std::lock_guard lock(live_->mutex);
        fresh.swap(live_->fresh);
        at = live_->progress;
    }
    if (!fresh.empty()) {
        auto grown = std::make_shared<StudyTable>(*table_);
        for (StudyRow& row : fresh) grown->add(std::move(row));
        show(std::move(grown));
    }
    QString text = QString("%1 of %2 runs").arg(at.done).arg(at.of);
    if (at.failed > 0) text += QString(", %1 failed").arg(at.failed);
    if (at.left > 0) text += QString(", %1 left").arg(words(formatQuantity(at.left, "s", 2)));
    if (at.seconds > 0 && at.speedup != 1) text += QString(", %1 times as fast as one core").arg(at.speedup, 0, 'f', 1);
    note_->setText(text);
}

void StudyView::stop() { cancel_.cancel(); }

void StudyView::showIdle() {
    run_->setText("Run study");
    // More runs of the same question can be asked for, too.
    goOn_->setEnabled(table_ && !shownFile_.empty() && (table_->rows() < table_->runs || (!table_->asked.empty() && table_->name == study().name && table_->asked != study().runs)));
}

void StudyView::show(std::shared_ptr<const StudyTable> table) {
    const bool same = table_ && table && table_->measured == table->measured && table_->varied == table->varied;
    table_ = std::move(table);
    filling_ = true;
    model_.set(table_);
    filling_ = false;
    if (!same) fillChoices();
    family_.reset();
    listTraces();
    for (QWidget* one : std::initializer_list<QWidget*>{measure_, picture_, over_, against_, quantity_, align_, filter_, plot_, rows_}) one->setEnabled(table_ != nullptr);
    if (!table_) {
        note_->setText("Each thing that varies and each measure is a line. All cores make the runs; each run is a row, kept as soon as it is "
                       "over.");
    } else if (!busy()) {
        const auto lines = studySummary(*table_);
        QString text = words(lines.front());
        for (const std::string& line : table_->conclusion) text += (&line == &table_->conclusion.front() ? "\n" : "; ") + words(line);
        note_->setText(text);
    }
    noteChoice();
    showIdle();
    if (busy()) run_->setText("Stop"), goOn_->setEnabled(false);
    draw();
}

/// The quantities whose traces are kept; without any there is no such picture.
void StudyView::listTraces() {
    const int place = picture_->findData(static_cast<int>(StudyPicture::traces));
    if (busy()) return;
    if (!table_ || shownFile_.empty() || table_->rows() == 0) {
        if (place >= 0) picture_->removeItem(place);
        return showFields();
    }
    reading_.start([this, table = table_, folder = tracesOf(shownFile_)](const CancelToken&) -> std::function<void()> {
        std::vector<std::string> names;
        std::error_code failed;
        for (std::size_t row = 0; row < table->rows() && row < mostTraces && std::filesystem::is_directory(folder, failed); ++row) {
            const std::filesystem::path file = folder / studyTraceName(table->index[row]);
            if (!std::filesystem::exists(file, failed)) continue;
            // One of them tells what is kept of all.
            if (const auto record = openMeasured(file)) names = (*record)->quantityNames();
            break;
        }
        return [this, table, names] {
            if (table_ != table) return;
            const int place = picture_->findData(static_cast<int>(StudyPicture::traces));
            if (names.empty()) {
                if (place >= 0) picture_->removeItem(place);
                return showFields();
            }
            if (place < 0) picture_->addItem("traces", static_cast<int>(StudyPicture::traces));
            const QString before = quantity_->currentText();
            quantity_->clear();
            for (const std::string& name : names) quantity_->addItem(words(name));
            quantity_->setCurrentIndex(std::max(0, quantity_->findText(before)));
            showFields();
            if (picture() == StudyPicture::traces) readFamily();
        };
    });
}

void StudyView::fillChoices() {
    measure_->clear(), over_->clear();
    if (!table_) return;
    for (const std::string& name : table_->measured) measure_->addItem(shortMeasure(words(name)));
    for (const std::string& name : table_->varied) over_->addItem(words(name));
    for (const std::string& name : table_->measured) over_->addItem(shortMeasure(words(name)));
    const QFontMetrics metrics(rows_->font());
    for (int column = 0; column < model_.columnCount(); ++column) {
        const QString head = model_.headerData(column, Qt::Horizontal, Qt::DisplayRole).toString();
        rows_->setColumnWidth(column, column == 0 ? 48 : std::clamp(metrics.horizontalAdvance(head) + 26, 76, 190));
    }
    against_->clear();
    for (int i = 0; i < over_->count(); ++i) against_->addItem(over_->itemText(i));
    if (table_->varied.size() > 1) against_->setCurrentIndex(1);
    showFields();
}

std::vector<std::size_t> StudyView::chosenRows() const {
    std::vector<std::size_t> rows;
    for (const QModelIndex& index : rows_->selectionModel()->selectedRows()) rows.push_back(model_.rowOf(index.row()));
    std::sort(rows.begin(), rows.end());
    return rows;
}

void StudyView::noteChoice() {
    const auto rows = chosenRows();
    look_->setEnabled(!rows.empty() && rows.size() <= mostFamily);
    use_->setEnabled(rows.size() == 1);
    if (!table_) {
        answer_->clear();
    } else if (rows.size() == 1) {
        QString text = QString("run %1:").arg(table_->index[rows.front()] + 1);
        for (std::size_t a = 0; a < table_->varied.size(); ++a)
            text += QString(" %1 %2").arg(words(table_->varied[a]), valueText(*table_, rows.front(), a));
        answer_->setText(text);
    } else if (rows.size() > 1) {
        answer_->setText(rows.size() <= mostFamily ? QString("%1 runs").arg(rows.size())
                                                   : QString("%1 runs; up to %2 fit beside each other").arg(rows.size()).arg(mostFamily));
    } else {
        const auto without = withoutEffect(*table_);
        const int measure = std::max(0, measure_->currentIndex());
        QString text;
        if (!without.empty()) {
            text = words(without.front()) + " did not change any measure";
        } else if (table_->rows() > 1 && measure < static_cast<int>(table_->measured.size())) {
            const MeasureStatistics s = statisticsOf(*table_, static_cast<std::size_t>(measure));
            const std::string& unit = table_->measuredUnits[static_cast<std::size_t>(measure)];
            if (s.rows > 0)
                text = QString("%1 to %2, mean %3, deviation %4")
                           .arg(words(formatQuantity(s.least, unit, 4)), words(formatQuantity(s.greatest, unit, 4)),
                                words(formatQuantity(s.mean, unit, 4)), words(formatQuantity(s.deviation, unit, 3)));
            if (table_->above[static_cast<std::size_t>(measure)] || table_->below[static_cast<std::size_t>(measure)])
                text += QString("; %1 % keep the limits (95 %: %2 to %3 %)")
                            .arg(100 * s.yield, 0, 'g', 3).arg(100 * s.yieldLow, 0, 'g', 3).arg(100 * s.yieldHigh, 0, 'g', 3);
        }
        answer_->setText(text);
    }
    if (picture() == StudyPicture::traces && !filling_ && rows.size() > 1)
        readFamily();
    else if (picture() != StudyPicture::histogram && picture() != StudyPicture::movedBy)
        draw();
}

// ---- pictures

void StudyView::refreshTheme() {
    setStyleSheet(QString("QWidget#study { background: %1; } QPlainTextEdit { background: %1; border: 1px solid %2; "
                          "border-radius: 6px; } QPlainTextEdit:focus { border-color: %3; } QTableView { "
                          "selection-background-color: %4; selection-color: %5; }")
                      .arg(colours().paper.name(), colours().rule.name(), colours().sloe.name(), colours().leafTint.name(),
                           colours().ink.name()));
    draw();
}

StudyPicture StudyView::picture() const { return static_cast<StudyPicture>(std::max(0, picture_->currentData().toInt())); }

/// The fields that the picture asks for.
void StudyView::showFields() {
    const StudyPicture now = picture();
    measure_->setVisible(now != StudyPicture::traces);
    quantity_->setVisible(now == StudyPicture::traces), align_->setVisible(now == StudyPicture::traces);
    over_->setVisible(now == StudyPicture::over || now == StudyPicture::contour || now == StudyPicture::traces);
    over_->setToolTip(now == StudyPicture::traces ? "what colours the traces" : "the horizontal axis");
    against_->setVisible(now == StudyPicture::contour);
    // Many small drawings need the room.
    rows_->setVisible(now != StudyPicture::matrix);
}

void StudyView::draw() {
    spots_ = {};
    const int measure = measure_->currentIndex();
    const bool known = table_ && table_->rows() > 0 && measure >= 0 && measure < static_cast<int>(table_->measured.size());
    if (known) {
        const auto column = [&](const QComboBox* box) {
            return std::min(static_cast<std::size_t>(std::max(0, box->currentIndex())), table_->varied.size() + table_->measured.size() - 1);
        };
        spots_ = drawStudy(*plot_, picture(), {.table = *table_, .measure = static_cast<std::size_t>(measure), .over = column(over_),
                                               .against = column(against_), .chosen = chosenRows(), .family = family_ ? &*family_ : nullptr});
    } else {
        clearStudy(*plot_);
    }
    plot_->replot(QCustomPlot::rpQueuedReplot);
}

/// Traces that are kept, of the chosen rows or of the first ones, beside the window.
void StudyView::readFamily() {
    family_.reset();
    if (!table_ || picture() != StudyPicture::traces || quantity_->currentIndex() < 0) return draw();
    const auto alignment = readAlignment(align_->text().toStdString());
    if (!alignment) {
        emit said(words(alignment.error().text()), true);
        return draw();
    }
    std::vector<std::size_t> rows = chosenRows();
    if (rows.size() < 2) {
        rows.resize(std::min(table_->rows(), mostTraces));
        std::iota(rows.begin(), rows.end(), std::size_t{0});
    }
    if (rows.size() > mostTraces) rows.resize(mostTraces);
    ParameterStudy of = study();
    if (of.plan.empty()) of.plan = workspace_.plan().name;
    if (of.scene.empty()) of.scene = workspace_.scene().name;
    reading_.start([this, rows, of, alignment = *alignment, table = table_, folder = tracesOf(shownFile_), quantity = quantity_->currentText().toStdString(),
                    project = workspace_.history().shared()](const CancelToken& cancel) -> std::function<void()> {
        StudyFamily family{.quantity = quantity};
        std::size_t without = 0;
        std::vector<Varied> varied;
        for (const std::string& target : table->varied) varied.push_back({.target = target});
        for (const std::size_t row : rows) {
            if (cancel.cancelled() || row >= table->rows() || !table->errors[row].empty()) continue;
            const std::filesystem::path file = folder / studyTraceName(table->index[row]);
            std::error_code failed;
            if (!std::filesystem::exists(file, failed)) continue;
            const auto record = openMeasured(file);
            const auto trace = record ? (*record)->trace(quantity) : nullptr;
            if (!trace || trace->size() == 0) continue;
            const auto changed = alignment.sort == Alignment::Sort::rise || alignment.sort == Alignment::Sort::fall
                                     ? Result<Project>(*project)
                                     : withPoint(*project, of, varied, table->points[row]);
            const auto zero = changed ? alignedAt(alignment, *trace, *changed, of.scene) : std::nullopt;
            if (!zero) {
                ++without;
                continue;
            }
            family.unit = trace->unit();
            family.curves.push_back(curveOf(*trace, row, *zero));
        }
        return [this, table, without, family = std::move(family)]() mutable {
            if (table_ != table) return;
            if (without > 0) emit said(QString("%1 runs have no such instant").arg(without), false);
            family_ = std::move(family);
            draw();
        };
    });
}

// ---- rows that are chosen

void StudyView::showRows(const std::vector<std::size_t>& rows) {
    if (!table_ || rows.empty() || rows.size() > mostFamily) return;
    std::vector<std::pair<StudyPoint, std::string>> wanted;
    for (const std::size_t row : rows) {
        std::string name;
        for (std::size_t a = 0; a < table_->varied.size(); ++a)
            name += (a ? ", " : "") + table_->varied[a] + " " + valueText(*table_, row, a).toStdString();
        wanted.emplace_back(table_->points[row], name);
    }
    ParameterStudy of = study();
    std::vector<Varied> varied;
    for (const std::string& target : table_->varied) varied.push_back({.target = target});
    if (of.plan.empty()) of.plan = workspace_.plan().name;
    if (of.scene.empty()) of.scene = workspace_.scene().name;
    look_->setEnabled(false);
    solving_.start([this, wanted, of, varied, project = workspace_.history().shared()](const CancelToken& cancel) -> std::function<void()> {
        std::vector<std::pair<std::shared_ptr<Run>, std::string>> runs;
        std::string fault;
        for (const auto& [point, name] : wanted) {
            auto changed = withPoint(*project, of, varied, point);
            auto run = changed ? Run::prepare(std::make_shared<const Project>(std::move(*changed)), {.settle = of.settle})
                               : Result<std::shared_ptr<Run>>(changed.error());
            if (!run) {
                fault = run.error().text();
                continue;
            }
            (*run)->execute(cancel);
            runs.emplace_back(std::move(*run), name);
        }
        return [this, runs = std::move(runs), fault] {
            noteChoice();
            if (!fault.empty()) emit said(words(fault), true);
            if (runs.empty()) return;
            Runs& list = workspace_.runList();
            std::vector<RunPointer> entries;
            for (const auto& [run, name] : runs) entries.push_back(list.add(run, name));
            for (const RunPointer& entry : list.all())
                if (entry->pinned && std::find(entries.begin(), entries.end(), entry) == entries.end()) list.pin(entry, false);
            for (const RunPointer& entry : entries)
                if (entry != entries.back()) list.pin(entry, true);
            list.show(entries.back());
        };
    });
}

void StudyView::use(std::size_t row) {
    if (!table_ || row >= table_->rows()) return;
    std::vector<Varied> varied;
    for (const std::string& target : table_->varied) varied.push_back({.target = target});
    ParameterStudy of = study();
    if (of.plan.empty()) of.plan = workspace_.plan().name;
    if (of.scene.empty()) of.scene = workspace_.scene().name;
    const auto changed = withPoint(workspace_.project(), of, varied, table_->points[row]);
    if (!changed) return emit said(words(changed.error().text()), true);
    const Edit edit{"values of run " + std::to_string(table_->index[row] + 1),
                    [made = *changed](Project& project) -> Status {
                        // What else has changed meanwhile stays.
                        project.parameters = made.parameters;
                        for (std::size_t i = 0; i < project.sheets.front().parts.size() && i < made.sheets.front().parts.size(); ++i)
                            if (project.sheets.front().parts[i].name == made.sheets.front().parts[i].name)
                                project.sheets.front().parts[i].values = made.sheets.front().parts[i].values;
                        for (const Plan& plan : made.plans)
                            for (Plan& own : project.plans)
                                if (own.name == plan.name) own.spans = plan.spans;
                        return {};
                    },
                    ""};
    if (workspace_.apply(edit))
        emit said(QString("the project has the values of run %1").arg(table_->index[row] + 1), false);
}

Status StudyView::writeTable(const QString& path) const {
    if (!table_) return Error{ErrorCode::range, "there are no rows yet"};
    return exportStudy(*table_, path.toStdString());
}

Status StudyView::writePicture(const QString& path) {
    const bool written = path.endsWith(".pdf") ? plot_->savePdf(path, plot_->width(), plot_->height())
                                               : plot_->toPixmap(plot_->width(), plot_->height(), 2).save(path);
    if (written) return {};
    return Error{ErrorCode::file, path.toStdString() + " cannot be written"};
}

/// A click on a drawing chooses its rows; a second one brings them to the timeline.
void StudyView::clicked(const QPointF& place, bool twice) {
    const auto rows = spots_.at(place);
    if (rows.empty()) return;
    if (twice) return showRows(rows);
    filling_ = true;
    rows_->clearSelection();
    for (const std::size_t row : rows)
        if (const int shown = model_.shownOf(row); shown >= 0)
            rows_->selectionModel()->select(model_.index(shown, 0), QItemSelectionModel::Select | QItemSelectionModel::Rows);
    filling_ = false;
    if (const int shown = model_.shownOf(rows.front()); shown >= 0) rows_->scrollTo(model_.index(shown, 0));
    noteChoice();
}

bool StudyView::eventFilter(QObject* object, QEvent* event) {
    if (object == plot_ && table_ && (event->type() == QEvent::MouseButtonPress || event->type() == QEvent::MouseButtonDblClick))
        clicked(static_cast<QMouseEvent*>(event)->position(), event->type() == QEvent::MouseButtonDblClick);
    else if (object == plot_ && event->type() == QEvent::Resize && picture() == StudyPicture::matrix)
        QMetaObject::invokeMethod(this, &StudyView::draw, Qt::QueuedConnection);  // its labels are as long as there is room
    else if (event->type() == QEvent::FocusOut && !filling_ && object != plot_)
        takeTexts();
    return QWidget::eventFilter(object, event);
}

void StudyView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) return emit left();
    if ((event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) && !event->modifiers() && !chosenRows().empty())
        return showRows(chosenRows());
    QWidget::keyPressEvent(event);
}

}  // namespace hedgerow::app
