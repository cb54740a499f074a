// The ledger in the window: kept runs come back, are named, starred, pinned, deleted, and bring their circuit back.

#include <gtest/gtest.h>

#include <filesystem>

#include <QLabel>
#include <QListWidget>
#include <QTemporaryDir>

#include "shelf/shelf.h"
#include "traces/spectrum.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// A copy of the demo project that runs for a moment only.
class KeptRunsInTheWindow : public ::testing::Test {
protected:
    KeptRunsInTheWindow() {
        path = folder.path() + "/aux.hedge";
        QFile::copy(HEDGEROW_SHARED "/examples/med-aux.hedge", path);
        QFile::setPermissions(path, QFile::ReadOwner | QFile::WriteOwner);
    }
    void run(Window& window) {
        window.sheet().setFocus();
        const std::size_t before = window.workspace().runs().size();
        window.key(Qt::Key_Return, Qt::ControlModifier);
        ASSERT_TRUE(window.waitForRun());
        ASSERT_EQ(window.workspace().runs().size(), before + 1);
        ASSERT_TRUE(QTest::qWaitFor([&] { return !window.workspace().runs().front()->about.file.empty(); }, 20'000));
    }
    QTemporaryDir folder;
    QString path;
};

void setDuty(Window& window, const char* duty) {
    ASSERT_TRUE(window.workspace().apply({"duty", [&](Project& project) -> Status {
                                              project.findParameter("D")->value = duty;
                                              return {};
                                          }}));
}

}  // namespace

TEST_F(KeptRunsInTheWindow, ComeBackWithTheProject) {
    {
        Window window;
        ASSERT_TRUE(window->open(path));
        run(window);
        auto* name = window.find<QLineEdit>("runName");
        name->setFocus();
        window.type("first try");
        window.key(Qt::Key_Return);
        EXPECT_EQ(window.workspace().runs().front()->about.name, "first try");
    }
    Window window;
    ASSERT_TRUE(window->open(path));
    ASSERT_EQ(window.workspace().runs().size(), 1u);
    EXPECT_FALSE(window.workspace().shownRun());
    EXPECT_FALSE(window.workspace().runs().front()->run) << "nothing is loaded that is not looked at";
    auto* list = window.find<QListWidget>("runList");
    window->shelf().show(app::Shelf::runs);
    window.settle();
    QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, list->visualItemRect(list->item(0)).center());
    ASSERT_TRUE(window.workspace().shownRun());
    ASSERT_TRUE(window.workspace().trace("L1.i"));
    EXPECT_GT(window.workspace().trace("L1.i")->size(), 1000u);
    EXPECT_EQ(window.find<QLineEdit>("runName")->text(), "first try");
    window.workspace().setCursor(toTicks(1e-3));
    EXPECT_TRUE(window.workspace().trace("S1.on")->at(toTicks(1e-3)));
}

TEST_F(KeptRunsInTheWindow, ArePinnedBesideOthersAndBringTheirCircuitBack) {
    Window window;
    ASSERT_TRUE(window->open(path));
    run(window);
    setDuty(window, "0.2");
    run(window);
    EXPECT_TRUE(window.find<QLabel>("changes")->text().contains("D 0.305 → 0.2"));
    auto* list = window.find<QListWidget>("runList");
    window->shelf().show(app::Shelf::runs);
    window.settle();
    list->setFocus();
    list->setCurrentRow(1);
    QTest::keyClick(list, Qt::Key_Space);
    ASSERT_EQ(window.workspace().runList().beside().size(), 1u);
    const app::RunPointer first = window.workspace().runs()[1];
    const Trace* before = window.workspace().runList().trace(*first, "out.v");
    const Trace* now = window.workspace().trace("out.v");
    ASSERT_TRUE(before && now);
    EXPECT_GT(before->measure(toTicks(2e-3), toTicks(3e-3))->mean, 20);
    EXPECT_LT(now->measure(toTicks(2e-3), toTicks(3e-3))->mean, 17);
    window.workspace().runList().show(first);
    window.settle();
    auto* back = window.find<QPushButton>("bringBack");
    ASSERT_TRUE(back->isEnabled());
    QTest::mouseClick(back, Qt::LeftButton);
    EXPECT_EQ(window.workspace().project().parameters[2].value, "0.305");
    EXPECT_FALSE(window.workspace().shownRunIsOld());
    window.workspace().undo();
    EXPECT_EQ(window.workspace().project().parameters[2].value, "0.2");
    const QString file = QString::fromStdString(first->about.file);
    EXPECT_TRUE(QFile::exists(path + "-runs/" + file));
    QTest::mouseClick(window.find<QPushButton>("removeRun"), Qt::LeftButton);
    EXPECT_EQ(window.workspace().runs().size(), 1u);
    EXPECT_FALSE(QFile::exists(path + "-runs/" + file));
}

TEST_F(KeptRunsInTheWindow, RunsOfAnUnsavedProjectAreKeptOnceItHasAPlace) {
    Window window;
    ASSERT_TRUE(window->open(HEDGEROW_SHARED "/examples/med-aux.hedge"));
    window.sheet().setFocus();
    window.key(Qt::Key_Return, Qt::ControlModifier);
    ASSERT_TRUE(window.waitForRun());
    EXPECT_FALSE(QFileInfo::exists(HEDGEROW_SHARED "/examples/med-aux.hedge-runs/ledger.sqlite")) << "nothing beside what ships";
    const QString place = folder.path() + "/mine.hedge";
    ASSERT_TRUE(window.workspace().save(place));
    run(window);
    ASSERT_TRUE(QTest::qWaitFor([&] { return !window.workspace().runs()[1]->about.file.empty(); }, 20'000));
    EXPECT_EQ(QDir(place + "-runs").entryList({"run-*"}, QDir::Dirs).size(), 2);
}

TEST_F(KeptRunsInTheWindow, MeasuredDataLieBesideARunAndAreMovedInTime) {
    Window window;
    ASSERT_TRUE(window->open(path));
    run(window);
    const std::string file = (folder.path() + "/scope.csv").toStdString();
    ASSERT_TRUE(exportRun(*window.workspace().shownRun()->run, "csv", file, {"out.v", "L1.i"}));
    ASSERT_TRUE(window.workspace().runList().addMeasured(QString::fromStdString(file)));
    ASSERT_EQ(window.workspace().runList().beside().size(), 1u);
    const app::RunPointer measured = window.workspace().runList().beside().front();
    EXPECT_EQ(measured->about.name, "scope.csv");
    const double before = *window.workspace().runList().trace(*measured, "out.v")->at(toTicks(1e-3));
    window->shelf().show(app::Shelf::runs);
    window.settle();
    auto* offset = window.find<QLineEdit>("timeOffset");
    ASSERT_TRUE(offset && offset->isVisible());
    offset->setFocus();
    offset->selectAll();
    window.type("0.5 ms");
    window.key(Qt::Key_Return);
    EXPECT_EQ(*window.workspace().runList().trace(*measured, "out.v")->at(toTicks(1.5e-3)), before);
    // By the mouse: a quarter of the window later, then twice as long around the cursor.
    app::LanesView& lanes = window->timeline().lanes();
    lanes.setWindow(0, 4e-3);
    window.settle();
    const auto at = [&](double t) { return QPoint(static_cast<int>(std::lround(lanes.pixelOf(t))), 20); };
    const auto drag = [&](double from, double to, Qt::KeyboardModifiers modifiers) {
        QTest::mousePress(&lanes, Qt::LeftButton, modifiers, at(from));
        QMouseEvent move(QEvent::MouseMove, QPointF(at(to)), lanes.mapToGlobal(at(to)), Qt::NoButton, Qt::LeftButton,
                         modifiers);
        QApplication::sendEvent(&lanes, &move);
        QTest::mouseRelease(&lanes, Qt::LeftButton, modifiers, at(to));
    };
    drag(1e-3, 2e-3, Qt::AltModifier);
    EXPECT_NEAR(measured->offset, 1.5e-3, 0.02e-3);
    EXPECT_EQ(measured->scale, 1);
    window.workspace().setCursor(toTicks(1e-3));
    drag(2e-3, 3e-3, Qt::AltModifier | Qt::ShiftModifier);
    EXPECT_NEAR(measured->scale, 2, 0.03);
    EXPECT_NEAR(measured->offset, 2e-3, 0.05e-3);
    EXPECT_EQ(*window.workspace()
                   .runList()
                   .trace(*measured, "out.v")
                   ->at(toTicks(static_cast<long double>(1e-3 * measured->scale + measured->offset))),
              before);
    EXPECT_FALSE(window.workspace().runList().addMeasured(folder.path() + "/nothing.csv"));
    EXPECT_TRUE(window.find<QLabel>("message")->isVisible());
    QFile broken(folder.path() + "/broken.csv");
    ASSERT_TRUE(broken.open(QFile::WriteOnly));
    broken.write("time,v\n0,1\n1,x\n");
    broken.close();
    EXPECT_FALSE(window.workspace().runList().addMeasured(broken.fileName()));
    EXPECT_TRUE(window.find<QLabel>("message")->text().contains("line 3"));
}

TEST_F(KeptRunsInTheWindow, ADamagedRunIsSaidAndTheOthersStay) {
    QString file;
    {
        Window window;
        ASSERT_TRUE(window->open(path));
        run(window);
        run(window);
        file = path + "-runs/" + QString::fromStdString(window.workspace().runs().front()->about.file) + "/run.h5";
    }
    QFile::resize(file, 5000);
    Window window;
    ASSERT_TRUE(window->open(path));
    ASSERT_EQ(window.workspace().runs().size(), 2u);
    window.workspace().runList().show(window.workspace().runs()[0]);
    EXPECT_FALSE(window.workspace().shownRun());
    EXPECT_TRUE(window.find<QLabel>("message")->text().contains("damaged"));
    window.workspace().runList().show(window.workspace().runs()[1]);
    EXPECT_TRUE(window.workspace().shownRun());
}

// A run of millions of points is measured beside the window, and what is asked for last is what is shown.
TEST_F(KeptRunsInTheWindow, LongRunsAreMeasuredBesideTheWindow) {
    Window window;
    ASSERT_TRUE(window->open(path));
    ASSERT_TRUE(window.workspace().apply({"longer", [](Project& project) -> Status {
                                              project.plans[0].end = "60m";
                                              return {};
                                          }}));
    run(window);
    const app::RunPointer shown = window.workspace().shownRun();
    ASSERT_GT(shown->run->points(), 400'000u);
    window.workspace().chooseTrace("L1.i");
    auto* fundamental = window.find<QLineEdit>("fundamental");
    fundamental->setText("150k");
    emit fundamental->editingFinished();
    EXPECT_TRUE(window.find<QLabel>("traceSpan")->text().contains("looking at"));
    auto* distortion = window.find<QLabel>("distortion");
    ASSERT_TRUE(QTest::qWaitFor([&] { return distortion->text().contains("distortion"); }, 60'000));
    const std::pair<Tick, Tick> span = window.workspace().measured();
    const auto expected = harmonics(*shown->run->trace("L1.i"), span.first, span.second, 150e3);
    ASSERT_TRUE(expected);
    EXPECT_TRUE(distortion->text().contains(QString::number(100 * expected->distortion(50), 'g', 4)))
        << distortion->text().toStdString();
    EXPECT_FALSE(window.find<QLabel>("traceSpan")->text().contains("looking at"));
    // Closing the window in the middle of it does not wait for it.
    emit fundamental->editingFinished();
}
