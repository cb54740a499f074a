#include "window/pictures.h"

#include <cstdio>

#include <QApplication>
#include <QDir>
#include <QElapsedTimer>
#include <QFileInfo>
#include <QKeyEvent>
#include <QLabel>
#include <QListWidget>
#include <QThread>

#include "desk/desk_view.h"
#include "model/edits.h"
#include "model/module_edits.h"
#include "sheet/sheet_view.h"
#include "study/study_view.h"
#include "study/trade_view.h"
#include "shelf/shelf.h"
#include "window/main_window.h"
#include "style/theme.h"
#include "timeline/response_view.h"
#include "timeline/timeline_view.h"

namespace hedgerow::app {

namespace {

void settle(int milliseconds = 60) {
    QElapsedTimer timer;
    timer.start();
    while (timer.elapsed() < milliseconds) QApplication::processEvents(QEventLoop::AllEvents, 10);
}

bool save(MainWindow& window, const QString& path) {
    settle(250);  // the predicted price comes a moment after an edit
    const bool good = window.grab().save(path);
    std::printf("%s %s\n", good ? "wrote" : "cannot write", qPrintable(path));
    return good;
}

bool waitForRun(MainWindow& window) {
    QElapsedTimer timer;
    timer.start();
    while (window.workspace().running() && timer.elapsed() < 120'000) settle(20);
    settle(120);
    const auto& run = window.workspace().shownRun();
    if (!run || run->run->summary().end != RunEnd::finished) {
        for (const Error& problem : window.workspace().problems())
            std::fprintf(stderr, "%s\n", problem.message.c_str());
        return false;
    }
    return true;
}

bool runToEnd(MainWindow& window) {
    window.workspace().startRun();
    return waitForRun(window);
}

/// Some periods of the periodic state, and the response of a loop about it where there is one.
bool saveSettled(MainWindow& window, const QString& base) {
    window.workspace().select({});
    window.workspace().settle();
    if (!waitForRun(window)) return false;
    window.timeline().lanes().fit();
    settle();
    bool good = save(window, base + "-settled.png");
    const auto& parts = window.workspace().project().sheet().parts;
    if (std::none_of(parts.begin(), parts.end(), [](const Part& part) { return part.kind == "pi"; })) return good;
    window.timeline().showResponse(true);
    ResponseView& response = window.timeline().response();
    response.find();
    QElapsedTimer timer;
    timer.start();
    while (response.busy() && timer.elapsed() < 120'000) settle(20);
    good = !response.shown().empty() && good;
    if (const QString measured = QFileInfo(window.workspace().path()).path() + "/" + QFileInfo(base).fileName() + "-measured.csv";
        QFileInfo::exists(measured))
        good = static_cast<bool>(response.addMeasured(measured)) && good;
    good = save(window, base + "-response.png") && good;
    response.setLocus(true);
    good = save(window, base + "-nyquist.png") && good;
    response.setLocus(false);
    window.timeline().showResponse(false);
    return good;
}

/// The plan that the project's study asks about, and the search for the cheapest one; true when it has none.
bool saveStudy(MainWindow& window, const QString& base) {
    Workspace& workspace = window.workspace();
    if (workspace.project().studies.empty()) return true;
    workspace.setPlan(QString::fromStdString(workspace.project().studies.front().plan));
    workspace.select({});
    if (!runToEnd(window)) return false;
    window.timeline().lanes().fit();
    settle(500);
    bool good = save(window, base + "-spans.png");
    window.showTrade(true);
    TradeView& trade = window.trade();
    trade.run(TradeView::Kind::search);
    QElapsedTimer timer;
    timer.start();
    while (trade.busy() && timer.elapsed() < 120'000) settle(20);
    settle();
    good = trade.result() && good;
    good = save(window, base + "-trade.png") && good;
    window.showTrade(false);
    return good;
}

/// The project's first study of many runs; true when it has none.
bool saveManyRuns(MainWindow& window, const QString& base) {
    if (window.workspace().project().parameterStudies.empty()) return true;
    window.showStudy(true);
    StudyView& study = window.study();
    study.run();
    QElapsedTimer timer;
    timer.start();
    while ((study.busy() || !study.priced()) && timer.elapsed() < 120'000) settle(20);
    settle();
    bool good = study.table() && study.table()->rows() > 0;
    good = save(window, base + "-study.png") && good;
    window.showStudy(false);
    return good;
}

bool exportData(const RunRecord& run, const QString& base) {
    for (const auto& [format, ending] : {std::pair{"csv", ".csv"}, {"hdf5", ".h5"}}) {
        std::vector<std::string> quantities;
        for (const Lane& lane : run.project().lanes)
            quantities.insert(quantities.end(), lane.quantities.begin(), lane.quantities.end());
        if (auto status = exportRun(run, format, (base + ending).toStdString(), quantities); !status) {
            std::fprintf(stderr, "%s\n", status.error().message.c_str());
            return false;
        }
        std::printf("wrote %s\n", qPrintable(base + ending));
    }
    return true;
}

void press(QWidget* target, int key, const QString& text, Qt::KeyboardModifiers modifiers = {}) {
    QKeyEvent down(QEvent::KeyPress, key, modifiers, text), up(QEvent::KeyRelease, key, modifiers, text);
    QApplication::sendEvent(target, &down);
    QApplication::sendEvent(target, &up);
}

/// The leg as a module, with its place selected, and its sheet at an instant of the run.
bool saveModules(MainWindow& window, const QString& folder) {
    Workspace& workspace = window.workspace();
    std::set<int> leg;
    for (const char* name : {"S1", "D1", "S2", "D2"}) leg.insert(workspace.project().findPart(name)->id);
    if (!workspace.apply(edits::makeModule(leg, "leg", workspace.catalogue()))) return false;
    const int place = workspace.project().sheet().parts.back().id;
    workspace.select({place});
    window.shelf().show(Shelf::parts);
    window.sheet().fit();
    bool good = runToEnd(window);
    good = save(window, folder + "/module.png") && good;
    workspace.openPlace(place);
    const double end = toSeconds(workspace.shownRun()->run->end());
    window.timeline().lanes().setWindow(end - 20e-6, end);
    workspace.setCursor(toTicks(end - 12e-6));
    good = save(window, folder + "/module-inside.png") && good;
    workspace.look({});
    workspace.undo();
    return good;
}

/// Another duty beside the first run, dashed, with two cursors and the measures of a trace on the card.
bool saveComparison(MainWindow& window, const QString& folder) {
    Workspace& workspace = window.workspace();
    if (!runToEnd(window)) return false;
    workspace.runList().pin(workspace.shownRun(), true);
    const auto setDuty = [&](const char* duty) {
        return workspace.apply({"duty", [duty](Project& project) -> Status {
                                    project.findParameter("D")->value = duty;
                                    return {};
                                }});
    };
    if (!setDuty("0.28") || !runToEnd(window)) return false;
    LanesView& lanes = window.timeline().lanes();
    lanes.show("out.v * L1.i");
    lanes.show("S1.on");
    lanes.show("M1.n");
    const double end = toSeconds(workspace.shownRun()->run->end());
    lanes.setWindow(end - 20e-6, end);
    workspace.setMark(toTicks(end - 14.1e-6));
    workspace.setCursor(toTicks(end - 14.1e-6 + 1 / 150e3));
    window.shelf().show(Shelf::runs);
    workspace.chooseTrace("L1.i");
    const bool good = save(window, folder + "/comparison.png");
    workspace.chooseTrace("");
    workspace.setMark({});
    workspace.runList().pin(workspace.runs()[1], false);
    for (int k = 0; k < 4; ++k) workspace.undo();
    return good;
}

/// What the supply draws, as a spectrum against a limit, and a current over a voltage.
bool saveSpectrum(MainWindow& window, const QString& folder) {
    Workspace& workspace = window.workspace();
    const auto change = edits::setLanes(
        [&] {
            std::vector<Lane> lanes = workspace.project().lanes;
            lanes.resize(1);
            lanes.front().height = 64;
            Lane spectrum;
            spectrum.kind = LaneKind::spectrum;
            spectrum.quantities = {"in.v"};
            spectrum.spectrum = {"Hann", "fsw", "30M", true, "150k 66, 500k 56, 5M 56, 5M 60, 30M 60"};
            spectrum.height = 160;
            Lane over;
            over.kind = LaneKind::xy;
            over.quantities = {"sw.v", "L1.i"};
            over.height = 110;
            lanes.push_back(spectrum);
            lanes.push_back(over);
            return lanes;
        }(),
        "spectrum");
    if (!runToEnd(window) || !workspace.apply(change)) return false;
    const double end = toSeconds(workspace.shownRun()->run->end());
    window.timeline().lanes().setWindow(end - 100e-6, end);
    workspace.setCursor(toTicks(end - 40e-6));
    workspace.chooseTrace("in.v");
    window.shelf().show(Shelf::quantities);
    settle();
    const bool good = save(window, folder + "/spectrum.png");
    workspace.chooseTrace("");
    workspace.undo();
    return good;
}

/// Placing a part by typing; a circuit that cannot work; the help of a part.
bool saveOtherViews(const QString& folder, const QString& project) {
    MainWindow window;
    window.show();
    if (!window.open(project)) return false;
    settle();
    bool good = true;
    window.shelf().show(Shelf::parts);
    SheetView& sheet = window.sheet();
    const QPointF at = sheet.toWidget({560, 112});
    QMouseEvent move(QEvent::MouseMove, at, sheet.mapToGlobal(at), Qt::NoButton, Qt::NoButton, {});
    QApplication::sendEvent(&sheet, &move);
    for (const QChar c : QString("c 22u esr 5m"))
        press(QApplication::focusWidget() ? QApplication::focusWidget() : &sheet, c.toUpper().unicode(), c);
    good = save(window, folder + "/entry-line.png") && good;
    press(QApplication::focusWidget(), Qt::Key_Escape, {});
    for (const Part& part : window.workspace().project().sheet().parts)
        if (part.name == "C2") window.workspace().select({part.id});
    (void)window.workspace().apply({"fault", [](Project& changed) -> Status {
                                        std::erase_if(changed.sheet().labels, [](const Label&) { return true; });
                                        for (Part& part : changed.sheet().parts)
                                            if (part.name == "C2") part.values.set("esr", "-2m");
                                        return {};
                                    }});
    window.workspace().startRun();
    good = save(window, folder + "/fault.png") && good;
    window.workspace().undo();
    press(&window.sheet(), Qt::Key_Escape, {});
    window.workspace().select({});
    if (auto* link = window.findChild<QLabel*>("parameterLink.D")) emit link->linkActivated("D");
    settle();
    window.sheet().setFocus();
    window.find();
    for (const QChar c : QString("al")) press(QApplication::focusWidget(), c.toUpper().unicode(), c);
    good = save(window, folder + "/finder.png") && good;
    press(QApplication::focusWidget(), Qt::Key_Escape, {});
    window.workspace().select({window.workspace().project().findPart("L1")->id});
    if (const Command* text = window.commands().find("Circuit as text")) text->run();
    settle();
    window.sheet().fit();
    good = save(window, folder + "/text.png") && good;
    if (const Command* text = window.commands().find("Circuit as text")) text->run();
    window.workspace().select({});
    if (auto* all = window.findChild<QLabel*>("allParameters")) emit all->linkActivated("back");
    settle();
    window.showGallery();
    good = save(window, folder + "/gallery.png") && good;
    press(QApplication::focusWidget(), Qt::Key_Escape, {});
    good = runToEnd(window) && good;
    window.shelf().show(Shelf::quantities);
    window.workspace().select({});
    good = save(window, folder + "/quantities.png") && good;
    good = saveModules(window, folder) && saveComparison(window, folder) && saveSpectrum(window, folder) && good;
    // A run on its way: long enough to be seen, stopped after the picture.
    (void)window.workspace().apply({"longer", [](Project& changed) -> Status {
                                        changed.plans.front().end = "1";
                                        return {};
                                    }});
    window.workspace().startRun();
    settle(200);
    good = save(window, folder + "/running.png") && good;
    window.workspace().stopRun();
    while (window.workspace().running()) settle(20);
    return good;
}

/// The model desk with the project's first transistor above rung 2; true when it has none.
bool saveDesk(MainWindow& window, const QString& path) {
    Workspace& workspace = window.workspace();
    for (const Part& part : workspace.project().sheet().parts) {
        if (part.kind != "mosfet" || part.rung < 3) continue;
        workspace.select({part.id});
        window.showDesk(true);
        if (auto* list = window.desk().findChild<QListWidget*>("deskJigs")) list->setCurrentRow(5);
        while (window.desk().busy()) settle(20);
        settle();
        const bool good = save(window, path);
        window.showDesk(false);
        workspace.select({});
        settle();
        window.sheet().fit();
        return good;
    }
    return true;
}

/// The control code of the project's code part, beside the sheet; true when it has none.
bool saveCode(MainWindow& window, const QString& path) {
    Workspace& workspace = window.workspace();
    for (const Part& part : workspace.project().sheet().parts) {
        if (!part.kind.starts_with("code")) continue;
        workspace.select({part.id});
        window.commands().find("Control code")->run();
        settle();
        window.sheet().fit();
        const bool good = save(window, path);
        window.commands().find("Control code")->run();
        settle();
        window.sheet().fit();
        workspace.select({});
        return good;
    }
    return true;
}

/// Zooms into the last part of the run and sets the cursor there.
void lookClose(MainWindow& window, double from, double to, double cursor) {
    window.timeline().lanes().setWindow(from, to);
    window.workspace().setCursor(toTicks(cursor));
    settle();
}

}  // namespace

int makePictures(QApplication& application, const QString& folder, const QStringList& projects) {
    patience = 120'000;  // nobody works in the window
    if (!QDir().mkpath(folder)) {
        std::fprintf(stderr, "%s cannot be made\n", qPrintable(folder));
        return 1;
    }
    bool good = true;
    for (const QString& path : projects) {
        if (path.endsWith("med-aux.hedge")) {
            applyTheme(application, Theme::light);
            good = saveOtherViews(folder, path) && good;
        }
        const QString base = folder + "/" + QFileInfo(path).completeBaseName();
        for (const Theme theme : {Theme::light, Theme::dark}) {
            applyTheme(application, theme);
            MainWindow window;
            window.show();
            if (!window.open(path)) return 1;
            settle();
            if (!runToEnd(window)) return 1;
            const QString suffix = theme == Theme::light ? "-light.png" : "-dark.png";
            const double end = toSeconds(window.workspace().shownRun()->run->end());
            if (theme == Theme::light) good = save(window, base + "-whole" + suffix) && good;
            good = saveCode(window, base + "-code" + suffix) && good;
            good = saveDesk(window, base + "-desk" + suffix) && good;
            const auto& parts = window.workspace().project().sheet().parts;
            for (const Part& part : parts)
                if (part.kind == "switch" || part.kind == "mosfet" ||
                    (part.name == "D1" && window.workspace().selection().empty())) {
                    window.workspace().select({part.id});
                    break;
                }
            const double length = std::min(end, path.contains("mains") ? 25e-3 : path.contains("aux") ? 20e-6 : 1.5e-3);
            if (path.contains("switches"))
                lookClose(window, 33.35e-6, 33.75e-6, 33.47e-6);  // a transistor turns on
            else
                lookClose(window, end - 1.04 * length, end - 0.04 * length, end - 0.6 * length);
            good = save(window, base + suffix) && good;
            if (theme == Theme::light) good = exportData(*window.workspace().shownRun()->run, base) && good;
            if (theme == Theme::light) good = saveSettled(window, base) && good;
            if (theme == Theme::light) good = saveStudy(window, base) && good;
            if (theme == Theme::light) good = saveManyRuns(window, base) && good;
        }
    }
    return good ? 0 : 1;
}

}  // namespace hedgerow::app
