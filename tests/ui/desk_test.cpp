// The model desk, driven as a user would.

#include <gtest/gtest.h>

#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QSpinBox>
#include <QTableWidget>

#include <qcustomplot.h>

#include "desk/desk_view.h"
#include "model/edits.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::app;
using namespace hedgerow::test;

namespace {

QString example(const char* name) { return QString(HEDGEROW_SHARED "/examples") + "/" + name; }

/// The example with transistors, its Q1 on the desk.
struct Desk {
    Desk() {
        EXPECT_TRUE(window->open(example("med-aux-switches.hedge")));
        window.workspace().select({window.workspace().project().findPart("Q1")->id});
        QCoreApplication::processEvents();
        auto* button = window.find<QPushButton>("openDesk");
        EXPECT_TRUE(button);
        if (button) button->click();
        wait();
    }
    void wait() {
        QElapsedTimer clock;
        clock.start();
        do QCoreApplication::processEvents(QEventLoop::AllEvents, 20);
        while ((window->desk().busy() || clock.elapsed() < 50) && clock.elapsed() < 60'000);
    }
    void choose(const QString& jig) {
        auto* list = window.find<QListWidget>("deskJigs");
        ASSERT_TRUE(list);
        for (int i = 0; i < list->count(); ++i)
            if (list->item(i)->text() == jig) list->setCurrentRow(i);
        wait();
    }
    QTableWidget& figures() { return *window.find<QTableWidget>("deskFigures"); }
    const JigFigure& figure(const std::string& key) {
        for (const JigFigure& one : window->desk().result().figures)
            if (one.key == key) return one;
        ADD_FAILURE() << "no " << key;
        static const JigFigure none;
        return none;
    }
    Window window;
};

}  // namespace

TEST(ModelDesk, ShowsEveryRungAtOnce) {
    Desk desk;
    EXPECT_TRUE(desk.window->desk().isVisible());
    EXPECT_FALSE(desk.window.sheet().isVisible());
    EXPECT_NE(desk.window.find<QLabel>("deskTitle")->text().indexOf("Q1"), -1);
    ASSERT_EQ(desk.window->desk().result().curves.size(), 4u);
    EXPECT_EQ(desk.window->desk().findChild<QCustomPlot*>()->plottableCount(), 4);
    desk.choose("turning off");
    EXPECT_EQ(desk.window->desk().result().curves.size(), 8u) << "voltage and current";
    EXPECT_EQ(desk.figures().rowCount(), static_cast<int>(desk.window->desk().result().figures.size()));
    EXPECT_EQ(desk.figures().item(0, 0)->text(), "energy of turning off");
    EXPECT_TRUE(desk.figures().item(0, 1)->text().isEmpty()) << "an ideal switch loses nothing";
    EXPECT_TRUE(desk.figures().item(0, 4)->text().endsWith("J"));
}

TEST(ModelDesk, CurvesFollowTheCard) {
    Desk desk;
    desk.choose("turning off");
    const double before = desk.figure("Eoff").byRung.back().second;
    auto* field = desk.window.find<QLineEdit>("field.rg");
    ASSERT_TRUE(field);
    field->setFocus();
    field->selectAll();
    desk.window.type("30");
    desk.window.key(Qt::Key_Return);
    desk.wait();
    EXPECT_GT(desk.figure("Eoff").byRung.back().second, 1.5 * before);
    desk.window.workspace().undo();
    desk.wait();
    EXPECT_NEAR(desk.figure("Eoff").byRung.back().second, before, 1e-6 * before);
}

TEST(ModelDesk, ComparesWithTheDataSheet) {
    Desk desk;
    desk.choose("recovery");
    int row = -1;
    for (int i = 0; i < desk.figures().rowCount(); ++i)
        if (desk.figures().item(i, 0)->text() == "recovered charge") row = i;
    ASSERT_GE(row, 0);
    const double now = desk.figure("Qrr").byRung.back().second;
    desk.figures().item(row, 5)->setText(QString::number(now * 2e9) + " n");
    desk.wait();
    ASSERT_TRUE(desk.figure("Qrr").given);
    EXPECT_NEAR(*desk.figure("Qrr").given, 2 * now, 1e-5 * now);
    EXPECT_EQ(desk.figures().item(row, 6)->text(), "−50 %");
    const Part& part = *desk.window.workspace().project().findPart("Q1");
    EXPECT_TRUE(part.values.find("sheet")->starts_with("Qrr ")) << *part.values.find("sheet");
    // What is no number is said and not taken.
    desk.figures().item(row, 5)->setText("much");
    desk.wait();
    EXPECT_NE(desk.window.find<QLabel>("deskNote")->text().indexOf("much"), -1);
    EXPECT_TRUE(desk.figure("Qrr").given);
    desk.figures().item(row, 5)->setText("");
    desk.wait();
    EXPECT_FALSE(desk.figure("Qrr").given);
}

TEST(ModelDesk, FitsTheDeviceToItsFigures) {
    Desk desk;
    desk.choose("recovery");
    int row = -1;
    for (int i = 0; i < desk.figures().rowCount(); ++i)
        if (desk.figures().item(i, 0)->text() == "recovered charge") row = i;
    ASSERT_GE(row, 0);
    auto* button = desk.window.find<QPushButton>("deskFit");
    ASSERT_TRUE(button);
    EXPECT_FALSE(button->isEnabled()) << "nothing is to be met";
    const std::string before = *desk.window.workspace().project().findPart("Q1")->values.find("tau");
    const double target = 1.6 * desk.figure("Qrr").byRung.front().second;
    desk.figures().item(row, 5)->setText(QString::number(target * 1e9, 'g', 6) + " n");
    desk.wait();
    ASSERT_TRUE(button->isEnabled());
    button->click();
    desk.wait();
    EXPECT_NE(*desk.window.workspace().project().findPart("Q1")->values.find("tau"), before);
    EXPECT_NEAR(desk.figure("Qrr").byRung.front().second, target, 0.05 * target);
    EXPECT_NE(desk.window.find<QLabel>("deskNote")->text().indexOf("fitted tau"), -1)
        << desk.window.find<QLabel>("deskNote")->text().toStdString();
    desk.window.workspace().undo();
    EXPECT_EQ(*desk.window.workspace().project().findPart("Q1")->values.find("tau"), before) << "in one step";
}

TEST(ModelDesk, TakesItsPointFromItsFields) {
    Desk desk;
    desk.choose("turning off");
    auto* voltage = desk.window.find<QLineEdit>("deskVoltage");
    ASSERT_TRUE(voltage);
    voltage->setFocus();
    voltage->selectAll();
    desk.window.type("24");
    desk.window.key(Qt::Key_Return);
    desk.wait();
    EXPECT_NEAR(desk.figure("Vpeak").byRung.front().second, 24, 0.1) << "rung 1 has no overshoot";
    EXPECT_EQ(voltage->text(), "24 V");
}

TEST(ModelDesk, IsLeftByEscapeAndWhenTheDeviceGoes) {
    Desk desk;
    desk.window.find<QListWidget>("deskJigs")->setFocus();
    desk.window.key(Qt::Key_Escape);
    EXPECT_FALSE(desk.window->desk().isVisible());
    EXPECT_TRUE(desk.window.sheet().isVisible());
    const Command* command = desk.window->commands().find("Model desk");
    ASSERT_TRUE(command);
    command->run();
    EXPECT_TRUE(desk.window->desk().isVisible());
    (void)desk.window.workspace().apply(
        edits::remove({desk.window.workspace().project().findPart("Q1")->id}, desk.window.workspace().catalogue()));
    EXPECT_FALSE(desk.window->desk().isVisible()) << "there is nothing to show";
    EXPECT_FALSE(command->canRun());
    desk.window.workspace().select({desk.window.workspace().project().findPart("L1")->id});
    EXPECT_FALSE(command->canRun()) << "an inductor lies in no jig";
}

// A diode's curve of rung 4 as lines of rung 2: more of them come nearer, and one takes them back.
TEST(ModelDesk, DrawsStraightLinesForRungTwo) {
    Window window;
    ASSERT_TRUE(window->open(example("med-lamp.hedge")));
    const Part* diode = nullptr;
    for (const Part& part : window.workspace().project().sheet().parts)
        if (part.kind == "diode") diode = &part;
    ASSERT_TRUE(diode);
    const int id = diode->id;
    window.workspace().select({id});
    QCoreApplication::processEvents();
    window.find<QPushButton>("openDesk")->click();
    const auto wait = [&] {
        QElapsedTimer clock;
        clock.start();
        do QCoreApplication::processEvents(QEventLoop::AllEvents, 20);
        while ((window->desk().busy() || clock.elapsed() < 50) && clock.elapsed() < 60'000);
    };
    wait();
    auto* count = window.find<QSpinBox>("deskLineCount");
    auto* button = window.find<QPushButton>("deskLines");
    ASSERT_TRUE(count && button && button->isVisible());
    const auto lines = [&] {
        const std::string* text = window.workspace().project().findPart(id)->values.find("curve");
        return text ? static_cast<int>(std::count(text->begin(), text->end(), ',')) : 0;
    };
    for (const int wanted : {2, 4}) {
        count->setValue(wanted);
        button->click();
        wait();
        EXPECT_EQ(lines(), wanted);
        EXPECT_NE(window.find<QLabel>("deskNote")->text().indexOf("within"), -1);
    }
    count->setValue(1);
    button->click();
    wait();
    EXPECT_EQ(lines(), 0);
}

// What nobody gave is marked on the card, until it is typed.
TEST(ModelDesk, EstimatesAreMarkedOnTheCard) {
    Desk desk;
    const int id = desk.window.workspace().selectedPart()->id;
    const auto apply = [&](const char* key, const char* text) {
        (void)desk.window.workspace().apply(edits::setValue({id}, key, text));
        QCoreApplication::processEvents();
    };
    apply("tm", "");
    apply("sheet", "Qrr 150n");
    desk.window.find<QPushButton>("deskFit")->click();
    desk.wait();
    const auto marked = [&] {
        QStringList labels;
        for (const QLabel* label : desk.window->findChildren<QLabel*>())
            if (label->isVisible() && label->text().endsWith(", estimated")) labels << label->text();
        return labels;
    };
    EXPECT_EQ(marked(), QStringList{"transit time of the stored charge, estimated"});
    apply("tm", "30n");
    desk.wait();
    EXPECT_TRUE(marked().isEmpty());
}

// Points of a data sheet, typed on the card: dots beside the curves, and how far each rung is away from them.
TEST(ModelDesk, ShowsThePointsOfADataSheet) {
    Desk desk;
    desk.choose("capacitance");
    EXPECT_TRUE(desk.window->desk().result().points.empty());
    const int id = desk.window.workspace().project().findPart("Q1")->id;
    ASSERT_TRUE(desk.window.workspace().apply(edits::setValue({id}, "cosscurve", "0 2n, 10 900p, 50 330p")));
    desk.wait();
    ASSERT_EQ(desk.window->desk().result().points.size(), 3u);
    const JigFigure& off = desk.figure("distance");
    ASSERT_EQ(off.byRung.size(), 2u) << "rungs 3 and 4";
    EXPECT_GT(off.byRung[0].second, 0.1) << "rung 3 has steps between the points";
    EXPECT_LT(off.byRung[1].second, 0.03);
    auto* plot = desk.window->desk().findChild<QCustomPlot*>();
    ASSERT_TRUE(plot);
    ASSERT_EQ(plot->graphCount(), 1);
    EXPECT_EQ(plot->graph(0)->dataCount(), 3);
    EXPECT_EQ(plot->graph(0)->lineStyle(), QCPGraph::lsNone);
    // What cannot be is said, and nothing is lost.
    ASSERT_TRUE(desk.window.workspace().apply(edits::setValue({id}, "cosscurve", "5 1n")));
    desk.wait();
    EXPECT_EQ(*desk.window.workspace().project().findPart("Q1")->values.find("cosscurve"), "5 1n");
    desk.window.workspace().undo();  // both edits: they were typing into one field
    EXPECT_TRUE(QTest::qWaitFor(
        [&] { return !desk.window->desk().busy() && desk.window->desk().result().curves.size() == 2; }, 10'000));
    EXPECT_TRUE(desk.window->desk().result().points.empty());
}

TEST(ModelDesk, ShowsTheResistanceAtTheHotTemperature) {
    Desk desk;
    desk.choose("conduction");
    const auto shown = [&](const char* key) { return desk.figure(key).byRung.back().second; };
    const double cold = shown("Ron"), hot = shown("Rhot");
    EXPECT_GT(hot, 1.3 * cold);
    auto* field = desk.window.find<QLineEdit>("deskHot");
    ASSERT_TRUE(field);
    EXPECT_EQ(field->text(), "125");
    field->setText("25");
    emit field->editingFinished();
    desk.wait();
    EXPECT_NEAR(shown("Rhot"), cold, 0.02 * cold);
    field->setText("frog");
    emit field->editingFinished();
    desk.wait();
    EXPECT_EQ(field->text(), "25") << "what is no number leaves the value";
}
