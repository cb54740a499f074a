#include "window/main_window.h"

#include <QApplication>
#include <QCloseEvent>
#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QLabel>
#include <QMenu>
#include <QMessageBox>
#include <QPrintDialog>
#include <QPrinter>
#include <QPushButton>
#include <QSplitter>
#include <QTimer>
#include <QVBoxLayout>

#include "card/card.h"
#include "desk/desk_view.h"
#include "study/study_view.h"
#include "study/trade_view.h"
#include "formats/hedge/hedge.h"
#include "runs/registry.h"
#include "sheet/check_list.h"
#include "sheet/code_view.h"
#include "sheet/path_line.h"
#include "sheet/sheet_export.h"
#include "sheet/sheet_view.h"
#include "sheet/text_view.h"
#include "shelf/shelf.h"
#include "window/finder.h"
#include "window/gallery.h"
#include "window/help.h"
#include "base/shared_files.h"
#include "window/libraries.h"
#include "window/offer_bar.h"
#include "window/report.h"
#include "window/run_strip.h"
#include "style/ask_file.h"
#include "style/picture_file.h"
#include "style/theme.h"
#include "timeline/events_row.h"
#include "timeline/spans_row.h"
#include "timeline/response_view.h"
#include "timeline/timeline_view.h"

namespace hedgerow::app {

namespace {

constexpr int messageMilliseconds = 8000;

/// The folder of the example projects: beside the sources, or where they were installed.
QString examplesFolder() { return sharedFolder("examples"); }

}  // namespace

MainWindow::MainWindow() : commands_(this) {
    setWindowTitle("Hedgerow");
    setMinimumSize(960, 620);
    resize(1280, 800);
    auto* centre = new QWidget(this);
    auto* column = new QVBoxLayout(centre);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(0);
    strip_ = new RunStrip(workspace_, centre);
    offer_ = new OfferBar(centre);
    outside_ = new OfferBar(centre);
    shelf_ = new Shelf(workspace_, centre);
    sheet_ = new SheetView(workspace_, centre);
    card_ = new Card(workspace_, centre);
    timeline_ = new TimelineView(workspace_, centre);
    checks_ = new CheckList(workspace_, *sheet_);
    path_ = new PathLine(workspace_, sheet_);
    message_ = new QLabel(sheet_);
    message_->setObjectName("message");
    message_->setWordWrap(true);
    message_->hide();

    auto* upper = new QSplitter(Qt::Horizontal, centre);
    upper->setHandleWidth(1);
    text_ = new TextView(workspace_, centre);
    text_->hide();
    code_ = new CodeView(workspace_, centre);
    code_->hide();
    desk_ = new DeskView(workspace_, centre);
    connect(desk_, &DeskView::left, this, [this] { showDesk(false); });
    trade_ = new TradeView(workspace_, centre);
    connect(trade_, &TradeView::left, this, [this] { showTrade(false); });
    connect(trade_, &TradeView::said, this, &MainWindow::say);
    connect(strip_, &RunStrip::tradeAsked, this, [this] { showTrade(!trade_->isVisible()); });
    study_ = new StudyView(workspace_, centre);
    connect(study_, &StudyView::left, this, [this] { showStudy(false); });
    connect(study_, &StudyView::said, this, &MainWindow::say);
    connect(strip_, &RunStrip::studyAsked, this, [this] { showStudy(!study_->isVisible()); });
    for (QWidget* part : {static_cast<QWidget*>(shelf_), static_cast<QWidget*>(text_), static_cast<QWidget*>(code_),
                          static_cast<QWidget*>(sheet_), static_cast<QWidget*>(desk_), static_cast<QWidget*>(trade_),
                          static_cast<QWidget*>(study_), static_cast<QWidget*>(card_)})
        upper->addWidget(part);
    upper->setStretchFactor(3, 1);
    upper->setCollapsible(3, false);
    upper->setStretchFactor(4, 1);
    upper->setCollapsible(4, false);
    for (const int view : {5, 6}) upper->setStretchFactor(view, 1), upper->setCollapsible(view, false);
    upper->setSizes({240, 340, 380, 735, 735, 735, 735, 305});
    auto* both = new QSplitter(Qt::Vertical, centre);
    both->setHandleWidth(1);
    both->addWidget(upper);
    both->addWidget(timeline_);
    both->setSizes({472, 280});
    both->setStretchFactor(0, 1);
    both->setCollapsible(0, false);
    both->setCollapsible(1, false);
    column->addWidget(strip_);
    column->addWidget(offer_);
    column->addWidget(outside_);
    column->addWidget(both, 1);
    setCentralWidget(centre);

    connect(shelf_, &Shelf::partChosen, sheet_, &SheetView::hang);
    connect(shelf_, &Shelf::quantityChosen, this,
            [this](const QString& name) { timeline_->lanes().show(name.toStdString()); });
    connect(shelf_, &Shelf::overChosen, this, [this](const QString& quantity, const QString& across) {
        timeline_->lanes().showOver(quantity.toStdString(), across.toStdString());
    });
    connect(card_, &Card::codeAsked, this, &MainWindow::editCode);
    connect(card_, &Card::deskAsked, this, [this] { showDesk(true); });
    connect(card_, &Card::instantAsked, this, [this](double at) {
        LanesView& lanes = timeline_->lanes();
        const double half = (lanes.to() - lanes.from()) / 2;
        if (at < lanes.from() || at > lanes.to()) lanes.setWindow(at - half, at + half);
    });
    connect(card_, &Card::loopFound, this, [this](const FrequencyResponse& before, const FrequencyResponse& after) {
        timeline_->showResponse(true);
        timeline_->response().showLoop(before, after);
    });
    connect(&timeline_->events(), &EventsRow::chosen, card_, &Card::editEvent);
    connect(&timeline_->spans(), &SpansRow::said, this, &MainWindow::say);
    connect(&timeline_->lanes(), &LanesView::said, this, &MainWindow::say);
    connect(&timeline_->response(), &ResponseView::said, this, &MainWindow::say);
    connect(sheet_, &SheetView::hinted, this, [this](const QString& text) { say(text, false); });
    connect(&workspace_, &Workspace::refused, this, [this](const QString& text) { say(text, true); });
    connect(&workspace_, &Workspace::problemsChanged, this, [this] {
        QStringList lines;
        for (const Error& problem : workspace_.problems())
            if (problem.part.empty() || workspace_.problems().size() > 1)
                lines << "• " + QString::fromStdString(problem.message);
        if (lines.size() > 6) lines = lines.mid(0, 6) << QString("and %1 more").arg(lines.size() - 6);
        if (lines.isEmpty())
            message_->hide();
        else
            say(lines.join("\n"), true);
        for (const Error& problem : workspace_.problems())
            if (const Part* part = workspace_.partInView(problem.part); part && !problem.field.empty()) {
                workspace_.select({part->id});
                break;
            }
    });
    connect(&workspace_, &Workspace::fileChanged, this, [this] {
        setWindowTitle((workspace_.path().isEmpty() ? "new project" : QFileInfo(workspace_.path()).fileName()) +
                       " – Hedgerow");
        message_->hide();
    });
    connect(&workspace_, &Workspace::checksChanged, this, &MainWindow::offerOutside);
    connect(&workspace_, &Workspace::left, this, [this] {
        declined_.clear();
        outside_->close();
    });
    connect(&workspace_, &Workspace::runsChanged, this, [this] {
        if (workspace_.running() && !workspace_.starting()) shelf_->show(Shelf::runs);
    });
    buildCommands();
    buildMenu();
    gallery_ = new Gallery(examplesFolder(), sheet_);
    connect(gallery_, &Gallery::chosen, this, [this](const QString& path) {
        if (openCopy(path)) gallery_->close();
    });
    connect(gallery_, &Gallery::emptyChosen, this, [this] {
        if (!mayLeave()) return;
        workspace_.adopt({}, {}, false);
        gallery_->close();
    });
    finder_ = new Finder(workspace_, commands_, *sheet_, this);
    connect(finder_, &Finder::helpAsked, this, [this](const QString& id) {
        if (const PartKind* kind = workspace_.catalogue().find(id.toStdString()))
            showHelp(this, QString::fromStdString(kind->title), partHelp(*kind));
    });
    refreshTheme();
    readLibraries(workspace_);
    sheet_->setFocus();
}

void MainWindow::refreshTheme() {
    const Colours& p = colours();
    for (OfferBar* bar : {offer_, outside_}) bar->refreshTheme();
    desk_->setStyleSheet(QString("QWidget#desk { background: %1; }").arg(p.paper.name()));
    desk_->refreshTheme();
    trade_->refreshTheme();
    study_->refreshTheme();
    shelf_->findChild<QWidget*>("shelfPages")
        ->setStyleSheet(QString("QStackedWidget#shelfPages, QStackedWidget#shelfPages > QWidget { background: %1; }")
                            .arg(p.paper.name()));
}

// ---- messages

void MainWindow::say(const QString& message, bool bad) {
    const Colours& p = colours();
    message_->setStyleSheet(QString("QLabel#message { background: %1; color: %2; border: 1px solid %3; border-radius: "
                                    "6px; padding: 6px 10px; }")
                                .arg((bad ? p.hawTint : p.paper).name(), p.ink.name(), (bad ? p.haw : p.rule).name()));
    message_->setText(message);
    message_->setFixedWidth(std::min(460, sheet_->width() - 32));
    message_->adjustSize();
    message_->move(16, path_->isVisible() ? path_->geometry().bottom() + 8 : 12);
    message_->show();
    message_->raise();
    QTimer::singleShot(messageMilliseconds, message_, [this, message] {
        if (message_->text() == message && workspace_.problems().empty()) message_->hide();
    });
}

void MainWindow::sayOutcome(const Result<QString>& outcome) {
    say(outcome ? *outcome : QString::fromStdString(outcome.error().text()), !outcome);
}

void MainWindow::find() { finder_->open(); }

void MainWindow::help() {
    const Part* part = workspace_.selectedPart();
    const PartKind* kind = part ? workspace_.catalogue().find(part->kind) : nullptr;
    if (kind)
        showHelp(this, QString::fromStdString(kind->title), partHelp(*kind));
    else
        showHelp(this, "Hedgerow", generalHelp());
}

// ---- menu and keys

void MainWindow::buildCommands() {
    auto& c = commands_;
    const auto hasRun = [this] { return workspace_.shownRun() && !workspace_.shownRun()->running(); };
    c.add("New project", QKeySequence::New, [this] {
        if (mayLeave()) workspace_.adopt({}, {}, false);
    });
    c.add("Open…", QKeySequence::Open, [this] { openByDialog(); });
    c.add("Gallery", QKeySequence("Ctrl+G"), [this] { showGallery(); });
    c.add("Save", QKeySequence::Save, [this] { save(); });
    c.add("Save as…", QKeySequence::SaveAs, [this] { saveAs(); });
    c.add(
        "Export traces…", {}, [this] { exportTraces(); }, nullptr, hasRun);
    c.add("Open measured data…", {}, [this] {
        const QString path = QFileDialog::getOpenFileName(this, "Open measured data", {},
                                                          "Measured data (*.csv *.cfg *.cff *.h5);;Comma-separated "
                                                          "values (*.csv);;COMTRADE (*.cfg *.cff);;HDF5 (*.h5)");
        if (!path.isEmpty() && workspace_.runList().addMeasured(path)) shelf_->show(Shelf::runs);
    });
    c.add(
        "Report…", {},
        [this, hasRun] {
            const QString path = askForSaving(this, "Write a report of the shown run", {},
                                              {"Web page (*.html)", "Portable Document Format (*.pdf)"});
            if (path.isEmpty() || !hasRun()) return;
            const Status written = writeReport(workspace_, *timeline_, path);
            say(written ? "wrote " + path : QString::fromStdString(written.error().text()), !written);
        },
        nullptr, hasRun);
    c.add(
        "Compare all scenes", {}, [this] { workspace_.compareScenes(); }, nullptr,
        [this] { return !workspace_.running() && workspace_.project().scenes.size() > 1; });
    c.add(
        "Stop the export", {}, [this] { exportCancel_.cancel(); }, nullptr, [this] { return exporting_.busy(); });
    c.add("Save sheet as picture…", {}, [this] { exportPicture(); });
    c.add("Save the lanes as picture…", {}, [this] { timeline_->lanes().savePicture(); });
    c.add("Save the window as picture…", {}, [this] { saveWindowPicture(); });
    c.add("Print sheet…", QKeySequence::Print, [this] { print(); });
    c.add(
        "Undo", QKeySequence::Undo, [this] { workspace_.undo(); }, nullptr,
        [this] { return workspace_.history().canUndo(); });
    c.add(
        "Redo", QKeySequence("Ctrl+Shift+Z"), [this] { workspace_.redo(); }, nullptr,
        [this] { return workspace_.history().canRedo(); });
    c.add("Run", QKeySequence("Ctrl+Return"), [this] { workspace_.startRun(); });
    c.add("Settle: the periodic state at once", QKeySequence("Ctrl+Shift+Return"), [this] { workspace_.settle(); });
    c.add("Response: the timeline over frequency", QKeySequence("Ctrl+Shift+F"),
          [this] { timeline_->showResponse(!timeline_->showsResponse()); });
    c.add(
        "Stop the run", QKeySequence("Ctrl+."), [this] { workspace_.stopRun(); }, nullptr,
        [this] { return workspace_.running(); });
    c.add("Show the parts", QKeySequence("Ctrl+1"), [this] { shelf_->show(Shelf::parts); });
    c.add("Show the quantities", QKeySequence("Ctrl+2"), [this] { shelf_->show(Shelf::quantities); });
    c.add("Show the runs", QKeySequence("Ctrl+3"), [this] { shelf_->show(Shelf::runs); });
    c.add("Next area", QKeySequence("F6"), [this] { nextArea(); });
    sheet_->offer(c);
    c.add("Share in my library", {}, [this] { sayOutcome(shareInOwnLibrary(workspace_)); });
    c.add("Add a library…", {}, [this] {
        const QString path = QFileDialog::getOpenFileName(this, "Add a library", {}, "Hedgerow projects (*.hedge)");
        if (!path.isEmpty()) sayOutcome(addLibrary(workspace_, path));
    });
    c.add("Read makers' cards…", {}, [this] {
        const QString path = QFileDialog::getOpenFileName(this, "Read makers' model cards", {}, "Model cards (*)");
        if (!path.isEmpty()) readCards(path);
    });
    c.add("Circuit as text", QKeySequence("Ctrl+T"), [this] {
        text_->setVisible(!text_->isVisible());
        (text_->isVisible() ? static_cast<QWidget*>(text_) : sheet_)->setFocus();
    });
    const auto codePart = [this] {
        const Part* part = workspace_.selectedPart();
        const PartKind* kind = part ? workspace_.catalogue().find(part->kind) : nullptr;
        return kind && kind->findParameter("code") ? part : nullptr;
    };
    c.add(
        "Control code", QKeySequence("Ctrl+Shift+E"),
        [this, codePart] {
            if (code_->isVisible()) return code_->hide(), sheet_->setFocus();
            editCode(codePart()->id);
        },
        nullptr, [this, codePart] { return code_->isVisible() || codePart(); });
    c.add(
        "Model desk", QKeySequence("Ctrl+Shift+M"), [this] { showDesk(!desk_->isVisible()); }, nullptr,
        [this] { return desk_->isVisible() || desk_->canShow(); });
    c.add("Trade study", QKeySequence("Ctrl+Shift+T"), [this] { showTrade(!trade_->isVisible()); });
    c.add("Study of many runs", QKeySequence("Ctrl+Shift+Y"), [this] { showStudy(!study_->isVisible()); });
    c.add("Light or dark", QKeySequence("Ctrl+D"), [this] {
        applyTheme(*qApp, currentTheme() == Theme::light ? Theme::dark : Theme::light);
        refreshTheme();
        for (QWidget* child : findChildren<QWidget*>()) child->update();
    });
    c.add(
        "What to look at on the sheet", QKeySequence("Ctrl+L"), [this] { checks_->toggle(); }, nullptr,
        [this] { return !workspace_.checks().empty(); });
    c.add("Find", QKeySequence::Find, [this] { find(); });
    c.add("Help", QKeySequence("F1"), [this] { help(); });
    c.add("Quit", QKeySequence::Quit, [this] { close(); });
}

void MainWindow::buildMenu() {
    auto* menu = new QMenu(this);
    commands_.fill(*menu, {"New project", "Open…"});
    commands_.fill(*menu,
                   {"Gallery", "Save", "Save as…", "", "Open measured data…", "Read makers' cards…", "Export traces…",
                    "Report…", "Save sheet as picture…", "Save the window as picture…", "Print sheet…", ""});
    QAction* undo = menu->addAction("Undo", this, [this] { workspace_.undo(); });
    QAction* redo = menu->addAction("Redo", this, [this] { workspace_.redo(); });
    connect(menu, &QMenu::aboutToShow, undo, [this, undo, redo] {
        const History& history = workspace_.history();
        undo->setText("Undo " + QString::fromStdString(history.undoLabel()) + "\t" + commands_.find("Undo")->keys);
        redo->setText("Redo " + QString::fromStdString(history.redoLabel()) + "\t" + commands_.find("Redo")->keys);
        undo->setEnabled(history.canUndo());
        redo->setEnabled(history.canRedo());
    });
    commands_.fill(*menu, {"", "Find", "Circuit as text", "Model desk", "Trade study", "Study of many runs", "Light or dark", "Help", "Quit"});
    strip_->menuButton()->setMenu(menu);
}

/// Opens a project without its place: saving asks for one.
bool MainWindow::openCopy(const QString& path) {
    if (!mayLeave()) return false;
    auto loaded = loadHedge(path.toStdString());
    if (loaded)
        workspace_.adopt(std::move(loaded->project), {}, false);
    else
        say(QString::fromStdString(loaded.error().text()), true);
    return static_cast<bool>(loaded);
}

void MainWindow::editCode(int part) {
    code_->show();
    code_->edit(part);
    code_->setFocus();
}

/// One of the views that stand in place of the sheet, or the sheet again.
template <class View>
void MainWindow::showInstead(View* view, bool shown) {
    // It takes the room of what it replaces: the shelf and the card keep theirs.
    auto* const row = qobject_cast<QSplitter*>(sheet_->parentWidget());
    QList<int> sizes = row->sizes();
    int room = 0;
    for (QWidget* one : {static_cast<QWidget*>(sheet_), static_cast<QWidget*>(desk_), static_cast<QWidget*>(trade_), static_cast<QWidget*>(study_)})
        room = std::max(room, std::exchange(sizes[row->indexOf(one)], 0));
    if (shown)
        for (QWidget* other : {static_cast<QWidget*>(desk_), static_cast<QWidget*>(trade_), static_cast<QWidget*>(study_)})
            if (other != view) other->hide();
    sheet_->setVisible(!shown);
    if (shown)
        view->open();
    else
        view->hide(), sheet_->setFocus();
    sizes[row->indexOf(shown ? static_cast<QWidget*>(view) : sheet_)] = room;
    row->setSizes(sizes);
}

void MainWindow::showTrade(bool shown) { showInstead(trade_, shown); }
void MainWindow::showStudy(bool shown) { showInstead(study_, shown); }
void MainWindow::showDesk(bool shown) {
    // Whoever leaves the desk for the sheet leaves the other views too.
    if (!shown) trade_->hide(), study_->hide();
    showInstead(desk_, shown);
}

void MainWindow::readCards(const QString& path) {
    const auto page = addCards(workspace_, path);
    if (page)
        showHelp(this, "Makers' cards", *page);
    else
        say(QString::fromStdString(page.error().text()), true);
}

void MainWindow::showGallery() { gallery_->open(); }

void MainWindow::nextArea() {
    QWidget* const areas[] = {sheet_, card_, &timeline_->lanes(), shelf_};
    QWidget* now = focusWidget();
    int at = -1;
    for (int i = 0; i < 4; ++i)
        if (now && (areas[i] == now || areas[i]->isAncestorOf(now))) at = i;
    QWidget* next = areas[(at + 1) % 4];
    if (next->focusPolicy() == Qt::NoFocus || next == card_ || next == shelf_) {
        for (QWidget* child : next->findChildren<QWidget*>())
            if (child->isVisible() && child->focusPolicy() & Qt::TabFocus) return child->setFocus(Qt::TabFocusReason);
    }
    next->setFocus(Qt::TabFocusReason);
}

// ---- files

bool MainWindow::open(const QString& path) {
    if (auto status = workspace_.open(path); !status) {
        say(QString::fromStdString(status.error().text()), true);
        return false;
    }
    if (workspace_.opening()) say("Reading " + path, false);
    return true;
}

void MainWindow::openByDialog() {
    if (!mayLeave()) return;
    const QString path = QFileDialog::getOpenFileName(
        this, "Open a project", workspace_.path().isEmpty() ? examplesFolder() : workspace_.path(),
        "Hedgerow projects (*.hedge)");
    if (!path.isEmpty()) open(path);
}

bool MainWindow::save() {
    if (workspace_.path().isEmpty() || workspace_.readOnly()) return saveAs();
    if (!mayOverwrite()) return false;
    auto status = workspace_.save(workspace_.path());
    if (!status) say(QString::fromStdString(status.error().text()), true);
    return static_cast<bool>(status);
}

/// Asks where another program has changed the file meanwhile.
bool MainWindow::mayOverwrite() {
    if (!workspace_.changedOnDisk()) return true;
    QMessageBox question(QMessageBox::NoIcon, "Hedgerow",
                         QFileInfo(workspace_.path()).fileName() +
                             " was changed by another program since it was opened here. Saving replaces what it wrote.",
                         QMessageBox::NoButton, this);
    question.setObjectName("changedOnDisk");
    const auto* replace = question.addButton("Replace it", QMessageBox::AcceptRole);
    const auto* other = question.addButton("Save as…", QMessageBox::ActionRole);
    question.setDefaultButton(question.addButton(QMessageBox::Cancel));
    question.exec();
    if (question.clickedButton() == other) return saveAs(), false;
    return question.clickedButton() == replace;
}

bool MainWindow::saveAs() {
    const QString path = askForSaving(this, "Save the project", workspace_.path(), {"Hedgerow projects (*.hedge)"});
    if (path.isEmpty()) return false;
    auto status = workspace_.save(path);
    if (!status) say(QString::fromStdString(status.error().text()), true);
    return static_cast<bool>(status);
}

/// Beside the window: a long run takes its time.
void MainWindow::exportTraces() {
    const auto shown = workspace_.shownRun();
    if (!shown || !shown->run || shown->running()) return;
    const QString path = askForSaving(this, "Export the traces of this run", {},
                                      {"Comma-separated values (*.csv)", "HDF5 (*.h5)", "COMTRADE, text (*.cfg)",
                                       "COMTRADE, one file (*.cff)", "Gates and states (*.vcd)"});
    if (path.isEmpty()) return;
    QStringList others;
    for (const auto& file : filesOfExport(path.toStdString()))
        if (file != path.toStdString()) others << QString::fromStdString(file.string());
    if (!mayReplace(this, others)) return;
    const QString ending = "." + QFileInfo(path).suffix().toLower();
    std::string format = "csv";
    for (const auto& known : traceFormats())
        if (ending == QString::fromUtf8(known->extension().data(), static_cast<qsizetype>(known->extension().size())))
            format = known->name();
    say("writing " + path + "…", false);
    exportCancel_ = CancelToken();
    exporting_.start([this, run = shown->run, format, path, asked = exportCancel_](const CancelToken&) {
        auto status = exportRun(*run, format, path.toStdString(), {}, asked);
        return [this, status, path] {
            say(status ? "wrote " + path : QString::fromStdString(status.error().text()), !status);
        };
    });
}

void MainWindow::exportPicture() {
    const QString path = askForPictureFile(this, "Save the sheet as a picture");
    if (path.isEmpty()) return;
    const auto written = exportSheet(workspace_, path);
    say(written ? "wrote " + path : QString::fromStdString(written.error().message), !written);
}

void MainWindow::saveWindowPicture() {
    const QString path = askForPictureFile(this, "Save the window as a picture");
    if (path.isEmpty()) return;
    const auto written = writePictureOf(*this, path);
    say(written ? "wrote " + path : QString::fromStdString(written.error().message), !written);
}

void MainWindow::print() {
    QPrinter printer(QPrinter::HighResolution);
    printer.setPageOrientation(QPageLayout::Landscape);
    QPrintDialog dialog(&printer, this);
    if (dialog.exec() == QDialog::Accepted) printSheet(workspace_, printer);
}

bool MainWindow::mayLeave() {
    if (!workspace_.history().modified()) return true;
    QMessageBox question(
        QMessageBox::NoIcon, "Hedgerow",
        "Save what changed in " +
            (workspace_.path().isEmpty() ? QString("this project") : QFileInfo(workspace_.path()).fileName()) + "?",
        QMessageBox::Save | QMessageBox::Discard | QMessageBox::Cancel, this);
    question.setObjectName("keepChanges");
    question.setDefaultButton(QMessageBox::Save);
    switch (question.exec()) {
        case QMessageBox::Save:
            return save();
        case QMessageBox::Discard:
            return true;
        default:
            return false;
    }
}

void MainWindow::closeEvent(QCloseEvent* event) {
    if (!mayLeave()) return event->ignore();
    workspace_.stopRun();
    event->accept();
}

void MainWindow::offerRecovery(std::vector<RecoveredWork> pending) {
    pending_ = std::move(pending);
    if (pending_.empty()) return offer_->close();
    const RecoveredWork& work = pending_.back();
    const QString name = work.originalPath.empty() ? "a project that was never saved"
                                                   : QFileInfo(QString::fromStdString(work.originalPath)).fileName();
    const auto next = [this] {
        if (pending_.empty()) return;
        RecoverySlot::discard(pending_.back().slot);
        pending_.pop_back();
        offerRecovery(std::move(pending_));
    };
    const auto take = [this, next] {
        if (pending_.empty() || !mayLeave()) return;
        const Status kept = workspace_.recover(pending_.back());
        if (kept) return next();
        // It lies in its old place until it is saved.
        say(QString::fromStdString(kept.error().message), true);
        pending_.pop_back();
        offerRecovery(std::move(pending_));
    };
    offer_->offer(QString("Unsaved work on %1 was kept from a session that ended unexpectedly: %2 parts.")
                      .arg(name)
                      .arg(work.project.sheet().parts.size()),
                  {{"recover", "Bring it back", take}, {"discardRecovered", "Discard it", next}});
}

/// A project, maybe from a stranger, names files outside of its folder: they are read only when the user says so.
void MainWindow::offerOutside() {
    const std::set<std::string>& files = workspace_.outsideFiles();
    if (files.empty() || files == declined_) return outside_->close();
    constexpr int mostNamed = 4;
    QStringList names;
    for (const std::string& file : files) names << QString::fromStdString(file);
    const auto more = names.size() - mostNamed;
    if (more > 0) names = names.mid(0, mostNamed) << QString("and %1 more").arg(more);
    const bool one = files.size() == 1;
    outside_->offer(
        QString("This project reads %1 outside of its folder: %2. %3 left out until you allow %4.")
            .arg(one ? "a file" : "files", names.join(", "), one ? "It is" : "They are", one ? "it" : "them"),
        {{"allowOutside", "Allow",
          [this] {
              if (auto allowed = workspace_.allowOutside(); !allowed)
                  say(QString::fromStdString(allowed.error().message), true);
          }},
         {"declineOutside", "Leave out", [this] {
              declined_ = workspace_.outsideFiles();
              outside_->close();
          }}});
}

}  // namespace hedgerow::app
