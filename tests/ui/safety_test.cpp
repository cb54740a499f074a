// What docs/safety.md promises of the window: whatever is clicked, opened or pulled out, it goes on, and no work is
// lost.

#include <gtest/gtest.h>

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>
#include <chrono>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <random>

#include <QDir>
#include <QMessageBox>
#include <QProcess>
#include <QTemporaryDir>
#include <QTimer>

#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "files/library.h"
#include "files/recovery.h"
#include "sheet/text_view.h"
#include "window/libraries.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;
namespace fs = std::filesystem;

namespace {

const QString examples = QString(HEDGEROW_SHARED) + "/examples/";

std::vector<QString> allExamples() {
    std::vector<QString> found;
    for (const QString& name : QDir(examples).entryList({"*.hedge"}, QDir::Files, QDir::Name))
        found.push_back(examples + name);
    return found;
}

void put(const fs::path& file, const std::string& text) {
    fs::create_directories(file.parent_path());
    std::ofstream(file, std::ios::binary | std::ios::trunc) << text;
}

/// Answers the next question of this name with a button.
void answer(const QString& question, const QString& button, bool& asked) {
    auto* timer = new QTimer(qApp);
    QObject::connect(timer, &QTimer::timeout, [=, &asked] {
        auto* box = qobject_cast<QMessageBox*>(QApplication::activeModalWidget());
        if (!box || box->objectName() != question) return;
        timer->deleteLater();
        asked = true;
        for (QAbstractButton* one : box->buttons())
            if (one->text().remove('&') == button) return one->click();
        ADD_FAILURE() << "no button " << button.toStdString();
        box->reject();
    });
    timer->start(20);
}

// ---- the window goes on while a file is read and a run is prepared

/// The window waits for nothing; each test sets it again.
void waitForNothing() { app::patience = 0; }

/// A project that takes its time to read and to lay out.
QString largeProject(const QString& folder) {
    Project project;
    project.title = "orchard";
    const int many = 3000;
    for (int i = 0; i < many; ++i) {
        Part part;
        part.id = ++project.lastId;
        part.name = "R" + std::to_string(i + 1), part.kind = i % 100 == 0 ? "capacitor" : "resistor";
        part.at = {i % 50 * 96, i / 50 * 96};
        project.sheet().parts.push_back(part);
        for (const int y : {-32, 32}) {
            Label label;
            label.id = ++project.lastId;
            label.net = (y > 0 && i % 7 == 0) ? "0" : "n" + std::to_string((i + (y > 0)) % 40);
            label.at = {part.at.x, part.at.y + y};
            project.sheet().labels.push_back(label);
        }
    }
    Part reference;
    reference.id = ++project.lastId, reference.name = "GND1", reference.kind = "reference", reference.at = {-96, 0};
    project.sheet().parts.push_back(reference);
    Label zero;
    zero.id = ++project.lastId, zero.net = "0", zero.at = reference.at;
    project.sheet().labels.push_back(zero);
    const QString path = folder + "/large.hedge";
    EXPECT_TRUE(saveHedge(project, path.toStdString()));
    return path;
}

TEST(WindowGoesOn, WhileAFileIsRead) {
    const QTemporaryDir folder;
    const QString large = largeProject(folder.path());
    Window window;
    waitForNothing();
    ASSERT_TRUE(window->open(large));
    EXPECT_TRUE(window.workspace().opening());
    EXPECT_NE(window.workspace().path(), large);
    ASSERT_TRUE(QTest::qWaitFor([&] { return window.workspace().path() == large; }, 30'000));
    EXPECT_FALSE(window.workspace().opening());
    EXPECT_GT(window.workspace().project().sheet().parts.size(), 3000u);
    // Another one asked for meanwhile is the one that comes.
    window->open(large);
    window->open(examples + "med-aux.hedge");
    ASSERT_TRUE(QTest::qWaitFor([&] { return window.workspace().path() == examples + "med-aux.hedge"; }, 30'000));
    QTest::qWait(200);
    EXPECT_EQ(window.workspace().path(), examples + "med-aux.hedge");
}

TEST(WindowGoesOn, WorkDoneWhileAFileIsReadStays) {
    const QTemporaryDir folder;
    const QString large = largeProject(folder.path());
    Window window;
    ASSERT_TRUE(window->open(examples + "med-aux.hedge"));
    waitForNothing();
    window->open(large);
    const Part* part = window.workspace().project().findPart("L1");
    ASSERT_TRUE(part);
    ASSERT_TRUE(window.workspace().apply(edits::setRung({part->id}, 1, window.workspace().catalogue())));
    QString said;
    QObject::connect(&window.workspace(), &app::Workspace::refused, [&](const QString& text) { said = text; });
    ASSERT_TRUE(QTest::qWaitFor([&] { return !window.workspace().opening(); }, 30'000));
    EXPECT_EQ(window.workspace().path(), examples + "med-aux.hedge");
    EXPECT_EQ(window.workspace().project().findPart("L1")->rung, 1);
    EXPECT_TRUE(said.contains("was changed while it was read")) << said.toStdString();
    // A file that is none is said too, when it is known.
    put(fs::path(folder.path().toStdString()) / "none.hedge", std::string(1000, '{'));
    const bool opened = window->open(folder.path() + "/none.hedge");
    ASSERT_TRUE(QTest::qWaitFor([&] { return !window.workspace().opening(); }, 30'000));
    EXPECT_TRUE(!opened || said.contains("none.hedge")) << said.toStdString();
}

TEST(WindowGoesOn, WhileARunIsPrepared) {
    Window window;
    ASSERT_TRUE(window->open(examples + "med-aux.hedge"));
    waitForNothing();
    auto& workspace = window.workspace();
    workspace.startRun();
    EXPECT_TRUE(workspace.running());
    workspace.startRun();  // once is enough
    ASSERT_TRUE(window.waitForRun());
    EXPECT_EQ(workspace.runs().size(), 1u);
    // Stopped before it begins, nothing begins.
    workspace.startRun();
    const bool begun = !workspace.starting();  // a fast machine under load may have prepared it already
    workspace.stopRun();
    if (begun) {
        ASSERT_TRUE(window.waitForRun());
    }
    EXPECT_FALSE(workspace.running());
    QTest::qWait(300);
    EXPECT_EQ(workspace.runs().size(), begun ? 2u : 1u);
    // Left before it begins, too.
    workspace.startRun();
    app::patience = 30'000;
    ASSERT_TRUE(window->open(examples + "med-mast.hedge"));
    waitForNothing();
    EXPECT_FALSE(workspace.running());
    QTest::qWait(300);
    EXPECT_TRUE(workspace.runs().empty());
    // A comparison names and pins its runs all the same.
    workspace.compareWithRungBelow();
    EXPECT_FALSE(workspace.running()) << "nothing is selected";
    app::patience = 30'000;
    ASSERT_TRUE(window->open(examples + "med-aux.hedge"));
    waitForNothing();
    workspace.select({workspace.project().findPart("L1")->id});
    workspace.compareWithRungBelow();
    ASSERT_TRUE(QTest::qWaitFor([&] { return workspace.runs().size() == 2 && !workspace.running(); }, 60'000));
    EXPECT_EQ(workspace.runs().back()->about.name, "a rung below");
    EXPECT_TRUE(workspace.runs().back()->pinned);
}

TEST(WindowGoesOn, WhileKeptRunsAndMeasuredDataAreRead) {
    const QTemporaryDir folder;
    const QString path = folder.path() + "/aux.hedge";
    ASSERT_TRUE(QFile::copy(examples + "med-aux.hedge", path));
    const QString data = folder.path() + "/long.csv";
    {
        std::ofstream out(data.toStdString());
        out << "time [s],u [V]\n";
        for (int i = 0; i < 200'000; ++i) out << i * 1e-8 << "," << i % 7 << "\n";
    }
    Window window;
    ASSERT_TRUE(window->open(path));
    auto& workspace = window.workspace();
    for (int i = 0; i < 2; ++i) {
        workspace.startRun();
        ASSERT_TRUE(window.waitForRun());
    }
    ASSERT_TRUE(QTest::qWaitFor([&] { return workspace.runs()[1]->number == 1; }, 20'000));
    ASSERT_TRUE(window->open(path));  // both are in the list only now
    ASSERT_TRUE(QTest::qWaitFor([&] { return workspace.runs().size() == 2; }, 20'000));
    waitForNothing();
    const auto first = workspace.runs()[0], second = workspace.runs()[1];
    // Of two asked for at once the last one is shown.
    workspace.runList().show(first);
    workspace.runList().show(second);
    ASSERT_TRUE(QTest::qWaitFor([&] { return workspace.shownRun() == second; }, 20'000));
    QTest::qWait(100);
    EXPECT_EQ(workspace.shownRun(), second);
    workspace.runList().pin(first, true);
    ASSERT_TRUE(QTest::qWaitFor([&] { return first->pinned && first->run; }, 20'000));
    EXPECT_TRUE(workspace.runList().addMeasured(data));
    ASSERT_TRUE(QTest::qWaitFor([&] { return workspace.runs().size() == 3; }, 20'000));
    // What arrives after the project was left is of no use.
    workspace.runList().addMeasured(data);
    app::patience = 30'000;
    ASSERT_TRUE(window->open(examples + "med-mast.hedge"));
    QTest::qWait(500);
    EXPECT_TRUE(workspace.runs().empty());
}

}  // namespace

// A mouse that goes everywhere over every example: parts without pins, tasks, modules.
TEST(Safety, TheMouseMayGoEverywhere) {
    for (const QString& example : allExamples()) {
        SCOPED_TRACE(example.toStdString());
        Window window;
        ASSERT_TRUE(window->open(example));
        app::SheetView& sheet = window.sheet();
        for (int y = 2; y < sheet.height(); y += 41)
            for (int x = 2; x < sheet.width(); x += 53) QTest::mouseMove(&sheet, {x, y}, 0);
        for (const Part& part : window.workspace().project().sheet().parts) window.point(part.at);
        QApplication::processEvents();
    }
}

// New, Open, a copy and closing at any instant of a run: everything of the project is stopped and forgotten.
TEST(Safety, AProjectMayBeLeftDuringARun) {
    QTemporaryDir folder;
    const QString mine = folder.path() + "/mine.hedge";
    QFile::copy(examples + "med-aux.hedge", mine);
    std::mt19937 random(3);
    for (int round = 0; round < 8; ++round) {
        SCOPED_TRACE(round);
        Window window;
        ASSERT_TRUE(window->open(mine));
        ASSERT_TRUE(window.workspace().apply({"longer", [](Project& p) -> Status {
                                                  p.plans.front().end = "400m";
                                                  return {};
                                              }}));
        window.workspace().startRun();
        ASSERT_TRUE(window.workspace().running());
        window.workspace().compareScenes();
        QTest::qWait(static_cast<int>(random() % 120));
        window.workspace().setMark(toTicks(1e-6));
        switch (round % 4) {
            case 0:
                window.workspace().adopt({}, {}, false);
                break;
            case 1:
                ASSERT_TRUE(window->open(examples + "med-lamp.hedge"));
                break;
            case 2:
                ASSERT_TRUE(window->open(mine));
                break;
            default:
                window.workspace().undo();
                continue;  // the window goes with the run
        }
        EXPECT_FALSE(window.workspace().running());
        EXPECT_FALSE(window.workspace().shownRun());
        EXPECT_TRUE(window.workspace().problems().empty());
        EXPECT_FALSE(window.workspace().mark());
        EXPECT_EQ(window.workspace().chosenTrace(), "");
        QTest::qWait(250);  // what was on its way says nothing here
        EXPECT_FALSE(window.workspace().running());
        if (round % 4 != 2) {
            EXPECT_TRUE(window.workspace().runs().empty());
        }
    }
}

// What was stopped is still kept in the project it belongs to.
TEST(Safety, ARunThatIsLeftIsKept) {
    QTemporaryDir folder;
    const QString mine = folder.path() + "/mine.hedge";
    QFile::copy(examples + "med-aux.hedge", mine);
    {
        Window window;
        ASSERT_TRUE(window->open(mine));
        window.workspace().startRun();
        ASSERT_TRUE(QTest::qWaitFor([&] { return window.workspace().runs().front()->live->points() > 10; }, 10'000));
        window.workspace().runList().setName(window.workspace().runs().front(), "left early");
        window.workspace().adopt({}, {}, false);
    }
    Window window;
    ASSERT_TRUE(window->open(mine));
    ASSERT_TRUE(QTest::qWaitFor([&] { return window.workspace().runs().size() == 1; }, 5000));
    EXPECT_EQ(window.workspace().runs().front()->about.name, "left early");
}

TEST(Safety, TheMiddleButtonPastesNothingWhereNothingIsSelected) {
    struct Open : app::TextView {
        using app::TextView::insertFromMimeData;
    };
    Window window;
    ASSERT_TRUE(window->open(examples + "med-aux.hedge"));
    auto* text = window.find<app::TextView>("textView");
    ASSERT_TRUE(text);
    text->show();
    const QString before = text->toPlainText();
    (text->*(&Open::insertFromMimeData))(nullptr);  // as the desktop does
    EXPECT_EQ(text->toPlainText(), before);
}

// ---- unsaved work

// Edits without a pause: a copy follows at most two seconds behind, whenever the process is killed.
TEST(Safety, SteadyEditingIsKept) {
    QTemporaryDir state;
    const fs::path folder = fs::path(state.path().toStdString()) / "hedgerow" / "recovery",
                   log = fs::path(state.path().toStdString()) / "log";
    std::random_device chance;
    const unsigned seed = chance();
    std::mt19937 random(seed);
    SCOPED_TRACE("seed " + std::to_string(seed));
    for (int round = 0; round < 4; ++round) {
        fs::remove_all(folder);
        fs::remove(log);
        QProcess program;
        QProcessEnvironment environment = QProcessEnvironment::systemEnvironment();
        environment.insert("XDG_STATE_HOME", state.path());
        environment.insert("HEDGEROW_TEST_CHILD", "1");
        environment.insert("HEDGEROW_EDIT_LOG", QString::fromStdString(log.string()));
        program.setProcessEnvironment(environment);
        program.start(QCoreApplication::applicationFilePath(),
                      {"--gtest_also_run_disabled_tests", "--gtest_filter=Safety.DISABLED_EditSteadily"});
        ASSERT_TRUE(program.waitForStarted());
        ASSERT_TRUE(QTest::qWaitFor([&] { return fs::exists(log) && fs::file_size(log) > 0; }, 40'000));
        QTest::qWait(2200 + static_cast<int>(random() % 1500));
        program.kill();
        ASSERT_TRUE(program.waitForFinished());
        std::ifstream lines(log);
        std::string last;
        for (std::string line; std::getline(lines, line);) last = line;
        const auto pending = RecoverySlot::pending(folder);
        ASSERT_EQ(pending.size(), 1u) << "nothing was kept while the work went on";
        const double lost = std::stod(last) - std::stod(pending.front().project.title);
        EXPECT_GE(lost, 0.0);
#ifdef __SANITIZE_ADDRESS__
        constexpr double most = 5.0;  // everything takes longer there
#else
        constexpr double most = 2.0;
#endif
        EXPECT_LE(lost, most) << "seconds of work";
    }
}

// An edit every 40 ms; each says when it was made, in the project and in a log.
TEST(Safety, DISABLED_EditSteadily) {
    Window window;
    window.workspace().setRecoverySlot(std::make_unique<RecoverySlot>(RecoverySlot::standardFolder()));
    ASSERT_TRUE(window->open(examples + "med-aux.hedge"));
    std::ofstream log(qgetenv("HEDGEROW_EDIT_LOG").toStdString());
    const auto start = std::chrono::steady_clock::now();
    for (;;) {
        const double now = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
        (void)window.workspace().apply({"note the time", [&](Project& project) -> Status {
                                            project.title = std::to_string(now);
                                            return {};
                                        }});
        log << std::to_string(now) << std::endl;
        QTest::qWait(40);
    }
}

// Bringing work back: at no instant is there no copy of it.
TEST(Safety, BroughtBackWorkIsKeptBeforeTheOldCopyGoes) {
    QTemporaryDir folder;
    const fs::path place = folder.path().toStdString();
    const pid_t child = ::fork();
    if (child == 0) {
        auto* left = new RecoverySlot(place / "recovery");
        Project project;
        project.title = "lost and found";
        project.folder.moveTo(place);
        ::_exit(left->keep(project, (place / "a.hedge").string()) ? 0 : 1);
    }
    int status = 0;
    ::waitpid(child, &status, 0);
    ASSERT_EQ(status, 0);
    Window window;
    window.workspace().setRecoverySlot(std::make_unique<RecoverySlot>(place / "recovery"));
    auto pending = RecoverySlot::pending(place / "recovery");
    ASSERT_EQ(pending.size(), 1u);
    const fs::path old = pending.front().slot;
    window->offerRecovery(std::move(pending));
    window.settle();
    QTest::mouseClick(window.find<QPushButton>("recover"), Qt::LeftButton);
    window.settle();
    EXPECT_FALSE(fs::exists(old));
    int copies = 0;
    for (const auto& entry : fs::directory_iterator(place / "recovery")) copies += entry.path().extension() == ".json";
    EXPECT_EQ(copies, 1) << "this session keeps it now";
    EXPECT_EQ(window.workspace().project().title, "lost and found");
    EXPECT_EQ(window.workspace().project().folder.path(), place) << "relative names are still found";
}

// ---- files of others

TEST(Safety, FilesOutsideOfTheFolderAreAskedAboutOnce) {
    QTemporaryDir folder;
    const fs::path place = folder.path().toStdString();
    put(place / "secret.csv", "0,1\n1m,2\n");
    put(place / "home" / "p.hedge", R"({"hedgerow": 1, "sheets": [{"name": "main", "parts": [
        {"name": "REF1", "kind": "reference", "at": [0, 0]},
        {"name": "V1", "kind": "points-voltage", "at": [400, 0], "values": {"points": "../secret.csv"}}],
        "labels": [{"net": "0", "at": [0, 0]}, {"net": "a", "at": [400, -32]}, {"net": "0", "at": [400, 32]}]}]})");
    const QString path = QString::fromStdString((place / "home" / "p.hedge").string());
    const auto refused = [](Window& window) {
        for (const app::Check& check : window.workspace().checks())
            if (check.error.message.find("outside of the project's folder") != std::string::npos) return true;
        return false;
    };
    {
        Window window;
        ASSERT_TRUE(window->open(path));
        ASSERT_TRUE(QTest::qWaitFor([&] { return window.find<QPushButton>("allowOutside") != nullptr; }, 5000));
        EXPECT_TRUE(refused(window)) << "without consent it is missing, with a clear word";
        QTest::mouseClick(window.find<QPushButton>("allowOutside"), Qt::LeftButton);
        ASSERT_TRUE(
            QTest::qWaitFor([&] { return window.workspace().outsideFiles().empty() && !refused(window); }, 5000));
    }
    {
        Window window;
        ASSERT_TRUE(window->open(path));
        QTest::qWait(500);
        EXPECT_FALSE(window.find<QPushButton>("allowOutside")) << "asked once";
        EXPECT_FALSE(refused(window));
    }
    // Another project that names the same file asks for itself.
    fs::copy_file(place / "home" / "p.hedge", place / "home" / "q.hedge");
    Window window;
    ASSERT_TRUE(window->open(QString::fromStdString((place / "home" / "q.hedge").string())));
    ASSERT_TRUE(QTest::qWaitFor([&] { return window.find<QPushButton>("declineOutside") != nullptr; }, 5000));
    QTest::mouseClick(window.find<QPushButton>("declineOutside"), Qt::LeftButton);
    QTest::qWait(300);
    EXPECT_TRUE(refused(window));
}

TEST(Safety, AFileThatAnotherProgramChangedIsNotReplacedWithoutAWord) {
    QTemporaryDir folder;
    const QString mine = folder.path() + "/mine.hedge";
    QFile::copy(examples + "med-aux.hedge", mine);
    Window window;
    ASSERT_TRUE(window->open(mine));
    const auto edit = [&](const char* title) {
        ASSERT_TRUE(window.workspace().apply({"title", [&](Project& p) -> Status {
                                                  p.title = title;
                                                  return {};
                                              }}));
    };
    const auto save = [&] { window->commands().find("Save")->run(); };
    edit("one");
    save();
    EXPECT_FALSE(window.workspace().history().modified()) << "nobody else touched it: no question";
    edit("two");
    save();
    EXPECT_FALSE(window.workspace().history().modified()) << "its own saving is no change of others";
    put(mine.toStdString(), "theirs");
    edit("three");
    bool asked = false;
    answer("changedOnDisk", "Cancel", asked);
    save();
    EXPECT_TRUE(asked);
    EXPECT_EQ(*readFile(mine.toStdString()), "theirs");
    EXPECT_TRUE(window.workspace().history().modified());
    asked = false;
    answer("changedOnDisk", "Replace it", asked);
    save();
    EXPECT_TRUE(asked);
    EXPECT_EQ(readHedge(*readFile(mine.toStdString()))->project.title, "three");
}

// Libraries of one name stand beside each other.
TEST(Safety, AnAddedLibraryReplacesNoOther) {
    QTemporaryDir folder;
    Window window;
    const fs::path own = ownLibraryFolder() / "parts.hedge";
    put(own, *readFile(fs::path(HEDGEROW_SHARED) / "library" / "standard.hedge") + "\n");
    const std::string mine = *readFile(own);
    const QString theirs = folder.path() + "/parts.hedge";
    QFile::copy(QString(HEDGEROW_SHARED) + "/library/standard.hedge", theirs);
    const auto added = app::addLibrary(window.workspace(), theirs);
    ASSERT_TRUE(added) << added.error().message;
    EXPECT_EQ(*readFile(own), mine);
    EXPECT_TRUE(fs::exists(ownLibraryFolder() / "parts-2.hedge"));
    EXPECT_TRUE(added->contains("parts-2.hedge")) << added->toStdString();
    ASSERT_TRUE(app::addLibrary(window.workspace(), theirs));
    EXPECT_FALSE(fs::exists(ownLibraryFolder() / "parts-3.hedge")) << "the same again is the same";
    for (const char* file : {"parts.hedge", "parts-2.hedge"}) fs::remove(ownLibraryFolder() / file);
}

// A field that has the keyboard when its card goes: an undo takes away what it belongs to.
TEST(Safety, AFieldMayBeTypedInWhenItsCardGoes) {
    Window window;
    ASSERT_TRUE(window->open(examples + "med-aux.hedge"));
    for (const char* name : {"field.plan.end", "field.plan.trace tolerance"}) {
        window.workspace().select({});
        window.settle();
        auto* field = window.find<QLineEdit>(name);
        ASSERT_TRUE(field) << name;
        ASSERT_TRUE(window.workspace().apply({"title", [](Project& project) -> Status {
                                                  project.title += "x";
                                                  return {};
                                              }}));
        window.settle();
        field = window.find<QLineEdit>(name);
        field->setFocus();
        field->selectAll();
        window.type("7");
        const std::string before = window.workspace().plan().end;
        window.workspace().undo();  // another title: the card is made anew
        window.settle();
        EXPECT_EQ(window.workspace().plan().end, before) << "what was not finished is not written";
    }
}

// The border of a lane that is being dragged when the lanes go.
TEST(Safety, LanesMayGoWhileABorderIsDragged) {
    Window window;
    ASSERT_TRUE(window->open(examples + "med-aux.hedge"));
    window.settle();
    QWidget& lanes = window->timeline().lanes();
    bool grabbed = false;
    for (int y = 0; y < lanes.height() && !grabbed; ++y) {
        QTest::mouseMove(&lanes, {300, y});
        grabbed = lanes.cursor().shape() == Qt::SplitVCursor;
        if (grabbed) QTest::mousePress(&lanes, Qt::LeftButton, {}, {300, y});
    }
    ASSERT_TRUE(grabbed) << "no border was found";
    window.workspace().adopt({}, {}, false);
    for (int y = 10; y < 60; y += 10) QTest::mouseMove(&lanes, {300, y});
    QTest::mouseRelease(&lanes, Qt::LeftButton, {}, {300, 60});
    EXPECT_TRUE(window.workspace().project().lanes.empty());
}
