// Running, looking and stopping in the real window.

#include <gtest/gtest.h>

#include <QComboBox>
#include <QLabel>
#include <QListWidget>
#include <QMimeData>

#include "card/change_table.h"
#include "card/next_rung_list.h"
#include "style/theme.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

QString example(const char* name) { return QString(HEDGEROW_SHARED "/examples") + "/" + name; }

/// A run that takes long enough to be stopped.
void openLongRun(Window& window) {
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    Plan plan = window.workspace().plan();
    plan.end = "20";
    ASSERT_TRUE(window.workspace().apply({"plan", [plan](Project& project) -> Status {
                                              project.plans[0] = plan;
                                              return {};
                                          }}));
}

}  // namespace

TEST(Runs, ARungIsComparedWithTheOneBelow) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux-switches.hedge")));
    const int q = window.workspace().project().findPart("Q1")->id, r = window.workspace().project().findPart("Q2")->id;
    const Project before = window.workspace().project();
    window.workspace().select({q, r});
    window.sheet().setFocus();
    window.key(Qt::Key_PageDown, Qt::ControlModifier);
    ASSERT_TRUE(QTest::qWaitFor([&] { return window.workspace().runs().size() == 2; }, 30'000));
    ASSERT_TRUE(window.waitForRun());
    EXPECT_EQ(window.workspace().project(), before) << "the circuit stays as it is";
    const auto& runs = window.workspace().runs();
    EXPECT_EQ(runs[1]->about.name, "a rung below");
    EXPECT_TRUE(runs[1]->pinned);
    EXPECT_EQ(runs[1]->run->project().findPart(q)->rung, 2);
    EXPECT_EQ(runs[0]->run->project().findPart(q)->rung, 3);
    EXPECT_EQ(window.workspace().shownRun(), runs[0]);
    // What the rung adds is to be seen: the node rings above the supply.
    const Trace* low = window.workspace().runList().trace(*runs[1], "sw.v");
    const Trace* high = window.workspace().runList().trace(*runs[0], "sw.v");
    ASSERT_TRUE(low && high);
    const Tick end = toTicks(40e-6);
    EXPECT_GT(high->measure(0, end)->max, low->measure(0, end)->max + 5);
    // The card of the project says by how much, and what the transistors burn more.
    window.workspace().select({});
    auto* table = window.find<hedgerow::app::ChangeTable>("changeTable");
    ASSERT_TRUE(table);
    ASSERT_TRUE(QTest::qWaitFor([&] { return !table->changes().empty(); }, 5'000));
    bool burns = false;
    for (const RunChange& change : table->changes())
        if (change.quantity == "Q1.p") burns = change.now.mean > change.other.mean;
    EXPECT_TRUE(burns);
    EXPECT_EQ(table->item(0, 1)->text(), "peak");
    // A part on its lowest rung has none below.
    window.workspace().select({window.workspace().project().findPart("R1")->id});
    window.workspace().compareWithRungBelow();
    EXPECT_EQ(window.workspace().runs().size(), 2u);
}

TEST(Runs, SuggestTheNextRung) {
    Window window;
    ASSERT_TRUE(window->open(example("med-mast.hedge")));
    window.sheet().setFocus();
    window.key(Qt::Key_Return, Qt::ControlModifier);
    ASSERT_TRUE(window.waitForRun());
    auto* list = window.find<hedgerow::app::NextRungList>("nextRungs");
    ASSERT_TRUE(list);
    EXPECT_TRUE(QTest::qWaitFor([&] { return !list->advice().empty(); }, 20'000));  // it is looked for beside the window
    ASSERT_FALSE(list->advice().empty());
    const RungAdvice first = list->advice().front();
    const auto links = list->findChildren<QLabel*>();
    ASSERT_FALSE(links.empty());
    EXPECT_NE(links.front()->text().indexOf(QString("to rung %1").arg(first.rung)), -1);
    emit links.front()->linkActivated("climb 0");
    QCoreApplication::processEvents();
    EXPECT_EQ(window.workspace().project().findPart(first.part)->rung, first.rung);
    window.workspace().undo();
    emit window.find<hedgerow::app::NextRungList>("nextRungs")->findChildren<QLabel*>().front()->linkActivated("at 0");
    QCoreApplication::processEvents();
    ASSERT_TRUE(window.workspace().selectedPart());
    EXPECT_EQ(window.workspace().selectedPart()->name, first.part);
}

TEST(Runs, AFixedStepIsSetOnTheCard) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    EXPECT_EQ(window.find<QLineEdit>("field.plan.step"), nullptr) << "of the fixed engine only";
    const auto choose = [&](const char* name, const char* what) {
        auto* choice = window.find<QComboBox>(name);
        ASSERT_TRUE(choice) << name;
        choice->setCurrentText(what);
        emit choice->activated(choice->currentIndex());
        QCoreApplication::processEvents();
    };
    choose("plan.engine", "fixed");
    choose("plan.method", "backward Euler");
    choose("plan.interpolate", "waits for the grid");
    auto* step = window.find<QLineEdit>("field.plan.step");
    ASSERT_TRUE(step);
    step->setFocus();
    step->selectAll();
    window.type("500n");
    window.key(Qt::Key_Return);
    const FixedStep& fixed = window.workspace().plan().fixed;
    EXPECT_EQ(fixed.step, "500n");
    EXPECT_EQ(fixed.method, "backward Euler");
    EXPECT_FALSE(fixed.interpolate);
    window.sheet().setFocus();
    window.key(Qt::Key_Return, Qt::ControlModifier);
    ASSERT_TRUE(window.waitForRun());
    const RunSummary& summary = window.workspace().shownRun()->run->summary();
    EXPECT_EQ(summary.engine, "fixed");
    EXPECT_EQ(summary.end, RunEnd::finished);
    EXPECT_EQ(summary.counter("steps"), 6000);
}

TEST(Runs, TheEngineIsChosenOnTheCard) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    auto* choice = window.find<QComboBox>("plan.engine");
    ASSERT_TRUE(choice);
    EXPECT_EQ(choice->currentText(), "best");
    choice->setCurrentText("adaptive");
    emit choice->activated(choice->currentIndex());
    EXPECT_EQ(window.workspace().plan().engine, "adaptive");
    window.sheet().setFocus();
    window.key(Qt::Key_Return, Qt::ControlModifier);
    ASSERT_TRUE(window.waitForRun());
    EXPECT_EQ(window.workspace().shownRun()->run->summary().engine, "adaptive");
    EXPECT_EQ(window.workspace().shownRun()->run->summary().end, RunEnd::finished);
}

TEST(Runs, ExamplesHaveTheirLanesFilled) {
    for (const char* name : {"med-aux.hedge", "mains-input.hedge", "chopped-load.hedge", "med-aux-switches.hedge",
                             "med-aux-physical.hedge"}) {
        Window window;
        ASSERT_TRUE(window->open(example(name))) << name;
        window.sheet().setFocus();
        window.key(Qt::Key_Return, Qt::ControlModifier);
        ASSERT_TRUE(window.waitForRun());
        ASSERT_EQ(window.workspace().shownRun()->run->summary().end, RunEnd::finished) << name;
        for (const Lane& lane : window.workspace().project().lanes)
            for (const std::string& quantity : lane.quantities) {
                Trace* trace = window.workspace().trace(quantity);
                ASSERT_TRUE(trace) << name << " " << quantity;
                EXPECT_GT(trace->size(), 100u);
            }
        EXPECT_TRUE(window.find<QLabel>("price")->text().startsWith("took"))
            << window.find<QLabel>("price")->text().toStdString();
    }
}

// MED-AUX settles near D Vin less its losses: 24 V.
TEST(Runs, MedAuxDeliversItsVoltage) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    const auto m = window.workspace().trace("out.v")->measure(toTicks(2.5e-3), toTicks(3e-3));
    ASSERT_TRUE(m);
    EXPECT_NEAR(m->mean, 23.2, 0.3);
    EXPECT_LT(m->peakToPeak(), 0.3);
}

// More points than a trace takes in at once: what the card says of the run is about all of it.
TEST(Runs, TheCardMeasuresTheWholeRun) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    window.workspace().select({window.workspace().project().findPart("S1")->id});
    const auto& run = *window.workspace().shownRun()->run;
    const auto whole = run.trace("S1.i");
    ASSERT_GT(whole->size(), 20'000u) << "this test wants a longer run";
    const auto m = whole->measure(whole->time(0), whole->time(whole->size() - 1));
    const QString rms = QString::fromStdString(formatQuantity(m->rms, "A", 3));
    const auto shown = [&] {
        auto* stress = window.find<QWidget>("stress");
        return stress && stress->accessibleDescription().contains("i rms " + rms);
    };
    EXPECT_TRUE(QTest::qWaitFor(shown, 5000)) << rms.toStdString();
}

TEST(Runs, StopKeepsWhatWasComputed) {
    Window window;
    openLongRun(window);
    window.workspace().startRun();
    ASSERT_TRUE(QTest::qWaitFor([&] { return window.workspace().shownRun()->run->points() > 20'000; }, 20'000));
    ASSERT_TRUE(window.workspace().running());
    auto* stop = window.find<QPushButton>("stop");
    ASSERT_TRUE(stop);
    EXPECT_EQ(stop->text(), "Stop");
    QTest::mouseClick(stop, Qt::LeftButton);
    ASSERT_TRUE(window.waitForRun());
    const RunSummary& summary = window.workspace().shownRun()->run->summary();
    EXPECT_EQ(summary.end, RunEnd::stopped);
    EXPECT_GT(window.workspace().shownRun()->run->points(), 20'000u);
    EXPECT_GT(summary.reached, 0);
    EXPECT_TRUE(window.find<QPushButton>("primary"));
}

TEST(Runs, TracesGrowAndTheSheetStaysEditableMeanwhile) {
    Window window;
    openLongRun(window);
    window.workspace().startRun();
    ASSERT_TRUE(QTest::qWaitFor(
        [&] {
            Trace* t = window.workspace().trace("L1.i");
            return t && t->size() > 1000;
        },
        20'000));
    const std::size_t before = window.workspace().trace("L1.i")->size();
    const std::size_t parts = window.workspace().project().sheet().parts.size();
    window.place("r 5", {850, 100});
    EXPECT_EQ(window.workspace().project().sheet().parts.size(), parts + 1);
    EXPECT_TRUE(window.workspace().shownRunIsOld());
    EXPECT_TRUE(QTest::qWaitFor([&] { return window.workspace().trace("L1.i")->size() > before; }, 20'000));
    window.workspace().stopRun();
    ASSERT_TRUE(window.waitForRun());
}

TEST(Runs, AFaultIsShownAtItsPart) {
    Window window;
    window.place("dc 10", {160, 240});
    window.place("r 5", {300, 240});
    window.click({160, 208});
    window.click({300, 208});
    window.workspace().startRun();
    EXPECT_FALSE(window.workspace().running());
    const auto& problems = window.workspace().problems();
    ASSERT_GE(problems.size(), 2u);
    EXPECT_EQ(problems[0].part, "V1");
    EXPECT_EQ(problems[0].message, "pin n of V1 is not connected");
    auto* message = window.find<QLabel>("message");
    ASSERT_TRUE(message);
    EXPECT_TRUE(message->isVisible());
    EXPECT_TRUE(message->text().contains("reference node"));
    // The next edit clears the marks.
    window.place("ref", {160, 320});
    EXPECT_TRUE(window.workspace().problems().empty());
}

TEST(Runs, AFailureInTheRunNamesThePart) {
    Window window;
    window.place("dc 10", {160, 240});
    window.place("l 1m i0 3", {300, 160});
    window.place("ref", {160, 320});
    window.place("switch", {420, 240});
    window.place("const 0", {340, 240});
    const auto join = [&](Point a, Point b) { window.click(a), window.click(b); };
    join({160, 208}, {268, 160});
    join({332, 160}, {420, 208});
    join({160, 272}, {160, 320});
    join({160, 320}, {420, 272});
    join({372, 240}, {388, 240});
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    ASSERT_EQ(window.workspace().problems().size(), 1u) << window.workspace().problems()[0].message;
    EXPECT_EQ(window.workspace().problems()[0].part, "L1");
    EXPECT_NE(window.workspace().problems()[0].message.find("L1 carries 3 A"), std::string::npos)
        << window.workspace().problems()[0].message;
}

TEST(Timeline, WheelZoomsAtThePointerAndDragPans) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    app::LanesView& lanes = window->timeline().lanes();
    EXPECT_NEAR(lanes.from(), 0, 1e-9);
    EXPECT_NEAR(lanes.to(), 3e-3, 1e-9);
    const QPoint at(600, 60);
    const double under = lanes.timeAt(600);
    for (int i = 0; i < 8; ++i) {
        QWheelEvent wheel(at, lanes.mapToGlobal(at), {}, {0, 120}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase,
                          false);
        QApplication::sendEvent(&lanes, &wheel);
    }
    EXPECT_NEAR(lanes.timeAt(600), under, 1e-9);
    EXPECT_NEAR(lanes.to() - lanes.from(), 3e-3 / std::pow(1.25, 8), 1e-7);
    const double from = lanes.from();
    QTest::mousePress(&lanes, Qt::LeftButton, {}, at);
    QTest::mouseMove(&lanes, at + QPoint(-50, 0));
    QTest::mouseMove(&lanes, at + QPoint(-100, 0));
    QTest::mouseRelease(&lanes, Qt::LeftButton, {}, at + QPoint(-100, 0));
    EXPECT_GT(lanes.from(), from);
    lanes.setFocus();
    window.key(Qt::Key_Home);
    EXPECT_NEAR(lanes.to() - lanes.from(), 3e-3, 1e-9);
}

TEST(Timeline, HoveringShowsTheCircuitAtThatInstant) {
    Window window;
    ASSERT_TRUE(window->open(example("chopped-load.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    app::LanesView& lanes = window->timeline().lanes();
    // The triangle carrier has the on-time of 60 % in the middle of each 500 us.
    lanes.setWindow(10e-3, 10.5e-3);
    QTest::mouseMove(&lanes, QPoint(static_cast<int>(lanes.pixelOf(10.25e-3)), 60));
    ASSERT_TRUE(window.workspace().cursor());
    EXPECT_EQ(window.workspace().trace("S1.on")->at(*window.workspace().cursor()), 1.0);
    EXPECT_EQ(window.workspace().trace("D1.on")->at(*window.workspace().cursor()), 0.0);
    const QImage on = window.sheet().grab().toImage();
    QTest::mouseMove(&lanes, QPoint(static_cast<int>(lanes.pixelOf(10.05e-3)), 60));
    EXPECT_EQ(window.workspace().trace("S1.on")->at(*window.workspace().cursor()), 0.0);
    EXPECT_EQ(window.workspace().trace("D1.on")->at(*window.workspace().cursor()), 1.0);
    EXPECT_NE(on, window.sheet().grab().toImage()) << "the sheet shows another state";
    lanes.setFocus();
    window.key(Qt::Key_Escape);
    EXPECT_FALSE(window.workspace().cursor());
}

TEST(Timeline, ADroppedQuantityGoesToALaneOfItsUnit) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    app::LanesView& lanes = window->timeline().lanes();
    const auto drop = [&](const char* quantity, int y) {
        QMimeData data;
        data.setData("application/x-hedgerow-quantity", quantity);
        QDragEnterEvent enter(QPoint(500, y), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(&lanes, &enter);
        EXPECT_TRUE(enter.isAccepted());
        QDropEvent event(QPointF(500, y), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(&lanes, &event);
        window.settle();
    };
    drop("in.v", 30);  // onto the first lane, volts
    ASSERT_EQ(window.workspace().project().lanes.size(), 3u);
    EXPECT_EQ(window.workspace().project().lanes[0].quantities, (std::vector<std::string>{"sw.v", "in.v"}));
    drop("R1.p", 30);  // watts onto volts: a lane of its own
    ASSERT_EQ(window.workspace().project().lanes.size(), 4u);
    EXPECT_EQ(window.workspace().project().lanes[1].quantities, (std::vector<std::string>{"R1.p"}));
    window.workspace().undo();
    EXPECT_EQ(window.workspace().project().lanes.size(), 3u);
}

TEST(Shelf, QuantitiesAreFoundAndAddedByEnter) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    auto* search = window.find<QLineEdit>("quantitySearch");
    search->setText("C2.i");
    window.settle();
    auto* list = window.find<QListWidget>("quantityList");
    ASSERT_EQ(list->count(), 1);
    QTest::keyClick(search, Qt::Key_Return);
    EXPECT_EQ(window.workspace().project().lanes[2].quantities, (std::vector<std::string>{"L1.i", "C2.i"}));
}

TEST(Shelf, RunsSayWhatChangedAndCanBeShownAgain) {
    Window window;
    ASSERT_TRUE(window->open(example("chopped-load.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    ASSERT_TRUE(window.workspace().apply({"D", [](Project& project) -> Status {
                                              project.findParameter("D")->value = "0.4";
                                              return {};
                                          }}));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    EXPECT_TRUE(window.find<QLabel>("changes")->text().contains("D 0.6 → 0.4"));
    auto* list = window.find<QListWidget>("runList");
    ASSERT_EQ(list->count(), 2);
    QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, list->visualItemRect(list->item(1)).center());
    EXPECT_EQ(window.workspace().shownRun()->number, 1);
    EXPECT_TRUE(window.workspace().shownRunIsOld());
}

TEST(Look, EverythingFitsAtTheSmallestSizeAndBothThemes) {
    for (const auto theme : {app::Theme::light, app::Theme::dark}) {
        app::applyTheme(*qApp, theme);
        Window window;
        ASSERT_TRUE(window->open(example("med-aux.hedge")));
        window.workspace().startRun();
        ASSERT_TRUE(window.waitForRun());
        EXPECT_EQ(window->size(), QSize(1280, 800));
        const QImage picture = window->grab().toImage();
        EXPECT_EQ(picture.pixelColor(600, 60).lightness() > 128, theme == app::Theme::light);
    }
    app::applyTheme(*qApp, app::Theme::light);
}
