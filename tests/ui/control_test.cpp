// Scenes, control code and tasks in the real window.

#include <set>

#include <gtest/gtest.h>

#include <QComboBox>
#include <QLabel>
#include <QListWidget>
#include <QPushButton>

#include "card/loss_table.h"
#include "card/stress_table.h"
#include "card/task_chart.h"
#include "model/edits.h"
#include "model/event_text.h"
#include "sheet/code_view.h"
#include "timeline/events_row.h"
#include "timeline/timeline_view.h"
#include "traces/spectrum.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::app;
using namespace hedgerow::test;

namespace {
QString example(const char* name) { return QString(HEDGEROW_SHARED "/examples") + "/" + name; }

void typeInto(QLineEdit* field, const QString& text) {
    field->setFocus();
    field->selectAll();
    QTest::keyClick(field, Qt::Key_Delete);
    QTest::keyClicks(field, text);
    QTest::keyClick(field, Qt::Key_Return);
    QApplication::processEvents();
}
void typeLines(QWidget* into, const QString& text) {
    const QStringList lines = text.split('\n');
    for (qsizetype i = 0; i < lines.size(); ++i) {
        if (i > 0) QTest::keyClick(into, Qt::Key_Return);
        QTest::keyClicks(into, lines[i]);
    }
}
}  // namespace

TEST(Scenes, AnEventIsTypedRunUndoneAndRemoved) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    auto& workspace = window.workspace();
    workspace.select({});
    EXPECT_FALSE(window->timeline().events().isVisible()) << "no events, no row";
    typeInto(window.find<QLineEdit>("field.newEvent"), "1m: Rload = 1.2");
    ASSERT_EQ(workspace.scene().events.size(), 1u);
    EXPECT_EQ(eventText(workspace.scene().events[0]), "1m: Rload = 1.2");
    EXPECT_TRUE(window->timeline().events().isVisible());
    workspace.startRun();
    ASSERT_TRUE(window.waitForRun());
    // 24 V over 1.2 ohm instead of 1.92: the load takes more.
    const Trace* load = workspace.trace("R1.i");
    ASSERT_TRUE(load);
    EXPECT_NEAR(*load->at(toTicks(1e-3)) / *load->at(toTicks(1e-3) - 1000), 1.92 / 1.2, 1e-3);
    // A mistake is said under the line, and changes nothing.
    auto* line = window.find<QLineEdit>("field.event.0");
    line->setFocus();
    line->selectAll();
    QTest::keyClicks(line, "1m: R7.r = 2");
    EXPECT_TRUE(line->property("bad").toBool());
    QTest::keyClick(line, Qt::Key_Return);
    EXPECT_EQ(eventText(workspace.scene().events[0]), "1m: Rload = 1.2");
    line->setModified(false);
    workspace.undo();
    EXPECT_TRUE(workspace.scene().events.empty());
    workspace.redo();
    typeInto(window.find<QLineEdit>("field.event.0"), "");
    EXPECT_TRUE(workspace.scene().events.empty());
}

TEST(Scenes, AreCopiedNamedChosenAndRemoved) {
    Window window;
    ASSERT_TRUE(window->open(example("med-mast.hedge")));
    auto& workspace = window.workspace();
    workspace.select({});
    const std::size_t events = workspace.scene().events.size();
    ASSERT_GT(events, 0u);
    window.find<QPushButton>("copyScene")->click();
    QApplication::processEvents();
    EXPECT_EQ(workspace.scene().name, "dip and step 2");
    EXPECT_EQ(workspace.scene().events.size(), events);
    typeInto(window.find<QLineEdit>("field.scene.name"), "without the dip");
    EXPECT_EQ(workspace.scene().name, "without the dip");
    workspace.setScene("steady");
    QApplication::processEvents();
    EXPECT_TRUE(workspace.scene().events.empty());
    window.find<QPushButton>("removeScene")->click();
    QApplication::processEvents();
    EXPECT_FALSE(workspace.project().findScene("steady"));
}

// Every scene is run, the one in view last; the others are pinned beside it under their names.
TEST(Scenes, AreComparedByOneButton) {
    Window window;
    ASSERT_TRUE(window->open(example("med-mast.hedge")));
    auto& workspace = window.workspace();
    ASSERT_TRUE(workspace.apply({"short", [](Project& project) -> Status {
                                     project.plans[0].end = "3m";
                                     Scene third = project.scenes[0];
                                     third.name = "third";
                                     project.scenes.push_back(third);
                                     return {};
                                 }}));
    workspace.select({});
    QApplication::processEvents();
    const std::string own = workspace.scene().name;
    const std::size_t scenes = workspace.project().scenes.size();
    ASSERT_EQ(scenes, 3u);
    window.find<QPushButton>("compareScenes")->click();
    ASSERT_TRUE(QTest::qWaitFor([&] { return workspace.runs().size() == scenes && !workspace.running(); }, 60'000));
    window.settle();
    EXPECT_EQ(workspace.shownRun()->run->scene(), own);
    std::set<std::string> pinned;
    for (const RunPointer& entry : workspace.runList().beside()) {
        EXPECT_EQ(entry->about.name, entry->run->scene());
        pinned.insert(entry->run->scene());
    }
    EXPECT_EQ(pinned.size(), scenes - 1);
    EXPECT_FALSE(pinned.contains(own));
    // Stopping ends it all.
    window.find<QPushButton>("compareScenes")->click();
    workspace.stopRun();
    ASSERT_TRUE(window.waitForRun());
    QTest::qWait(200);
    EXPECT_EQ(workspace.runs().size(), scenes + 1);
}

TEST(Scenes, AnEventIsDraggedOnTheTimeline) {
    Window window;
    ASSERT_TRUE(window->open(example("med-mast.hedge")));
    auto& workspace = window.workspace();
    TimelineView& timeline = window->timeline();
    timeline.lanes().fit();
    QApplication::processEvents();
    EventsRow& row = timeline.events();
    ASSERT_TRUE(row.isVisible());
    const auto at = [&](double t) {
        return QPoint(static_cast<int>(std::lround(timeline.lanes().pixelOf(t))), row.height() / 2);
    };
    ASSERT_EQ(workspace.scene().events[2].at, "18m");
    QTest::mousePress(&row, Qt::LeftButton, {}, at(18e-3));
    QTest::mouseMove(&row, at(19e-3));
    QTest::mouseMove(&row, at(20e-3));
    QTest::mouseRelease(&row, Qt::LeftButton, {}, at(20e-3));
    const auto moved = evaluate(workspace.scene().events[2].at);
    ASSERT_TRUE(moved) << workspace.scene().events[2].at;
    EXPECT_NEAR(moved->value, 20e-3, 0.2e-3);
    workspace.undo();
    EXPECT_EQ(workspace.scene().events[2].at, "18m");
    // A click brings its line up on the card.
    QTest::mouseClick(&row, Qt::LeftButton, {}, at(18e-3));
    QApplication::processEvents();
    ASSERT_TRUE(QApplication::focusWidget());
    EXPECT_EQ(QApplication::focusWidget()->objectName(), "field.event.2");
}

TEST(ControlCode, IsEditedBesideTheSheetWithMistakesMarked) {
    Window window;
    auto& workspace = window.workspace();
    window.place("code", {240, 200});
    ASSERT_TRUE(workspace.selectedPart());
    const int id = workspace.selectedPart()->id;
    window.find<QPushButton>("editCode")->click();
    QApplication::processEvents();
    auto* view = window.find<CodeView>("codeView");
    ASSERT_TRUE(view->isVisible());
    EXPECT_TRUE(view->toPlainText().contains("VAR_INPUT"));
    EXPECT_EQ(view->mistake(), "");
    view->setFocus();
    view->selectAll();
    typeLines(view, "VAR_OUTPUT y : LREAL; END_VAR\ny := 2.0 * e;");
    ASSERT_TRUE(QTest::qWaitFor([&] { return !view->mistake().isEmpty(); }, 3000));
    EXPECT_TRUE(view->mistake().contains("line 2")) << view->mistake().toStdString();
    EXPECT_TRUE(window.find<QLabel>("codeMistake")->isVisible());
    view->selectAll();
    typeLines(view, "VAR_OUTPUT y : LREAL; END_VAR\ny := 2.0;");
    ASSERT_TRUE(QTest::qWaitFor([&] { return view->mistake().isEmpty(); }, 3000));
    EXPECT_EQ(*workspace.project().findPart(id)->values.find("code"), "VAR_OUTPUT y : LREAL; END_VAR\ny := 2.0;");
    // A click beside a line stops the run there.
    QTest::mouseClick(window.find<QWidget>("codeLines"), Qt::LeftButton, {},
                      QPoint(10, view->fontMetrics().height() * 3 / 2 + 10));
    EXPECT_EQ(view->stopLine(), 2);
    QTest::mouseClick(window.find<QWidget>("codeLines"), Qt::LeftButton, {},
                      QPoint(10, view->fontMetrics().height() * 3 / 2 + 10));
    EXPECT_EQ(view->stopLine(), 0);
    // The code of many lines stays whole through the text view and the file.
    const Project before = workspace.project();
    window.key(Qt::Key_T, Qt::ControlModifier);
    QApplication::processEvents();
    EXPECT_EQ(workspace.project(), before);
}

TEST(Tasks, TheCardShowsWhatRunsWhen) {
    Window window;
    ASSERT_TRUE(window->open(example("med-mast.hedge")));
    auto& workspace = window.workspace();
    workspace.select({workspace.project().findPart("T1")->id});
    QApplication::processEvents();
    auto* chart = window.find<TaskChart>("taskChart");
    ASSERT_TRUE(chart->isVisible());
    EXPECT_GT(chart->height(), 40);
    EXPECT_GT(chart->grab().toImage().width(), 100);
}

TEST(Observations, ARegulatorOfTheWrongSignIsNamedAtItsTime) {
    Window window;
    ASSERT_TRUE(window->open(example("med-mast.hedge")));
    auto& workspace = window.workspace();
    // The current regulator is given the error with the other sign.
    const int sum = workspace.project().findPart("SUM2")->id;
    ASSERT_TRUE(workspace.apply(edits::setValue({workspace.project().findPart("REG2")->id}, "kp", "-kpi")));
    ASSERT_TRUE(workspace.apply(edits::setValue({workspace.project().findPart("REG2")->id}, "ki", "-kii")));
    (void)sum;
    workspace.setScene("steady");
    workspace.startRun();
    ASSERT_TRUE(window.waitForRun());
    bool named = false;
    for (const Check& check : workspace.checks()) named = named || (check.at && check.error.part.starts_with("REG"));
    EXPECT_TRUE(named);
    EXPECT_TRUE(window->timeline().events().isVisible());
}

TEST(Stress, AClickGoesToTheInstantOfAPeak) {
    Window window;
    ASSERT_TRUE(window->open(example("med-mast.hedge")));
    auto& workspace = window.workspace();
    workspace.startRun();
    ASSERT_TRUE(window.waitForRun());
    workspace.select({});
    QApplication::processEvents();
    auto* table = window.find<StressTable>("stressTable");
    ASSERT_TRUE(table);
    // It is filled beside the window.
    ASSERT_TRUE(QTest::qWaitFor([&] { return table->rowCount() > 3; }, 20'000));
    for (int i = 1; i < table->rowCount(); ++i)
        EXPECT_GE(table->stress()[static_cast<std::size_t>(i - 1)].share(),
                  table->stress()[static_cast<std::size_t>(i)].share());
    window->timeline().lanes().setWindow(1e-3, 2e-3);
    const StressRow worst = table->stress()[0];
    ASSERT_GT(worst.at, 2e-3);
    emit table->cellClicked(0, 0);
    EXPECT_EQ(*workspace.cursor(), toTicks(worst.at));
    EXPECT_LE(window->timeline().lanes().from(), worst.at);
    EXPECT_GE(window->timeline().lanes().to(), worst.at);
}

// Every example with a scene runs through, and its loops hold what they are asked to.
TEST(Demos, LoopsHoldTheirSetPoints) {
    Window window;
    struct Case {
        const char* file;
        const char* quantity;
        double at, expected, within;
    };
    for (const Case& c : {Case{"med-mast.hedge", "out.v", 11.9e-3, 80, 0.5},
                          {"med-mast.hedge", "out.v", 24.9e-3, 84, 0.5},
                          {"med-aux-loop.hedge", "out.v", 1.1e-3, 24, 0.2}}) {
        ASSERT_TRUE(window->open(example(c.file)));
        window.workspace().startRun();
        ASSERT_TRUE(window.waitForRun()) << c.file;
        const Trace* trace = window.workspace().trace(c.quantity);
        ASSERT_TRUE(trace);
        EXPECT_NEAR(trace->measure(toTicks(c.at - 0.1e-3), toTicks(c.at))->mean, c.expected, c.within) << c.file;
    }
}

// The outlet keeps its sine under a rectifier, and the pump its currents.
TEST(Demos, WavesHaveTheirShapes) {
    Window window;
    ASSERT_TRUE(window->open(example("med-tool.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    const auto outlet = harmonics(*window.workspace().trace("out.v"), toTicks(100e-3), toTicks(120e-3), 50, 40);
    ASSERT_TRUE(outlet);
    EXPECT_NEAR(outlet->peak(1), 325, 5);
    EXPECT_LT(outlet->distortion(40), 0.05);
    ASSERT_TRUE(window->open(example("med-pump.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    // Z = 1.14 + j 2 pi 120 0.8 mH; the phase voltage is m 40 V less the on-resistance and dead times.
    const auto current = harmonics(*window.workspace().trace("La.i"), toTicks(33e-3), toTicks(50e-3), 120, 5);
    ASSERT_TRUE(current);
    const double z = std::hypot(1.14 + 0.012, 2 * 3.14159265 * 120 * 0.8e-3);
    EXPECT_NEAR(current->peak(1), 1.1 * 40 / z, 0.05 * 1.1 * 40 / z);
}

// Energies typed on the card, a mistake said under the field, and the losses of the part and of all switches.
TEST(Losses, StandOnTheCard) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux-loop.hedge")));
    auto& workspace = window.workspace();
    workspace.startRun();
    ASSERT_TRUE(window.waitForRun());
    workspace.select({workspace.project().findPart("Q1")->id});
    QApplication::processEvents();
    auto* field = window.find<QLineEdit>("field.eon");
    ASSERT_TRUE(field);
    typeInto(field, "10 1m");
    EXPECT_NE(*workspace.project().findPart("Q1")->values.find("eon"), "10 1m") << "a mistake changes nothing";
    auto* own = window.find<LossTable>("lossTable");
    ASSERT_TRUE(own);
    ASSERT_TRUE(QTest::qWaitFor([&] { return own->isVisible(); }, 20'000));
    ASSERT_EQ(own->losses().size(), 1u);
    EXPECT_GT(own->losses()[0].on, 0.1);
    EXPECT_GT(*own->losses()[0].mean, 70);
    // The window that is measured counts.
    const std::pair<Tick, Tick> span = workspace.measured();
    const auto expected = lossesOf(*workspace.shownRun()->run, span.first, span.second);
    EXPECT_EQ(own->losses()[0].total(), expected[0].part == "Q1" ? expected[0].total() : expected[1].total());
    workspace.select({});
    QApplication::processEvents();
    auto* all = window.find<LossTable>("lossTable");
    ASSERT_TRUE(all);
    ASSERT_TRUE(QTest::qWaitFor([&] { return all->rowCount() > 0; }, 20'000));
    EXPECT_GE(all->losses().size(), 2u);
    EXPECT_EQ(all->item(1, 0)->text().toStdString(), all->losses()[0].part);
}
