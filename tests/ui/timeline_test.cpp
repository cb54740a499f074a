// Looking and measuring in the window: cursors, lanes, expressions, the trace on the card.

#include <cmath>

#include <gtest/gtest.h>

#include <QCheckBox>
#include <QClipboard>
#include <QComboBox>
#include <QFile>
#include <QLabel>
#include <QListWidget>
#include <QMenu>
#include <QSpinBox>
#include <QTableWidget>
#include <QTemporaryDir>
#include <QWidgetAction>

#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "model/quantity.h"
#include "shelf/shelf.h"
#include "window/report.h"
#include "style/picture_file.h"
#include "timeline/lane_view.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

class Looking : public ::testing::Test {
protected:
    void SetUp() override {
        ASSERT_TRUE(window->open(HEDGEROW_SHARED "/examples/med-aux.hedge"));
        window.sheet().setFocus();
        window.key(Qt::Key_Return, Qt::ControlModifier);
        ASSERT_TRUE(window.waitForRun());
        end = toSeconds(window.workspace().shownRun()->run->end());
        lanes().setWindow(end - 20e-6, end);
        window.settle();
    }
    app::LanesView& lanes() { return window->timeline().lanes(); }
    QPoint pixel(double time, int lane) {
        return QPoint(static_cast<int>(lanes().pixelOf(time)), lanes().laneTops()[static_cast<std::size_t>(lane)] + 20);
    }
    void clickAt(double time, Qt::KeyboardModifiers modifiers = {}) {
        QTest::mouseMove(&lanes(), pixel(time, 0));
        QTest::mouseClick(&lanes(), Qt::LeftButton, modifiers, pixel(time, 0));
    }
    QString cell(const char* table, const char* row, int column) {
        auto* found = window.find<QTableWidget>(table);
        for (int i = 0; found && i < found->rowCount(); ++i)
            if (found->item(i, 0)->text() == row) return found->item(i, column)->text();
        return {};
    }
    /// "1.5 mA" in SI.
    static double quantityIn(const QString& text) {
        const auto value = evaluateField(text.toStdString(), *findUnit("A"));
        return value ? *value : NAN;
    }
    Window window;
    double end = 0;
};

}  // namespace

TEST_F(Looking, TwoCursorsMeasureWhatLiesBetween) {
    clickAt(end - 15e-6, Qt::ShiftModifier);
    ASSERT_TRUE(window.workspace().mark());
    clickAt(end - 5e-6);
    ASSERT_TRUE(window.workspace().cursor());
    const auto [from, to] = window.workspace().measured();
    EXPECT_NEAR(toSeconds(to - from), 10e-6, 0.1e-6) << "to a pixel";
    // The card counts from one to the other.
    window.workspace().chooseTrace("L1.i");
    window.settle();
    const Trace* current = window.workspace().trace("L1.i");
    const double rise = *current->at(*window.workspace().cursor()) - *current->at(*window.workspace().mark());
    EXPECT_EQ(cell("measures", "rise", 1), QString::fromStdString(formatQuantity(rise, "A")));
    EXPECT_TRUE(cell("measures", "slope", 1).endsWith("A/s"));
    // Out of the way: the cursor stays where it was clicked.
    QTest::mouseMove(&lanes(), pixel(end - 18e-6, 0));
    EXPECT_NEAR(toSeconds(*window.workspace().cursor()), end - 5e-6, 0.1e-6);
    lanes().setFocus();
    window.key(Qt::Key_Escape);
    EXPECT_FALSE(window.workspace().mark());
    const auto all = window.workspace().measured();
    EXPECT_NEAR(toSeconds(all.second - all.first), 20e-6, 1e-9) << "what is seen";
}

TEST_F(Looking, TheCursorStepsFromEdgeToEdge) {
    window.workspace().chooseTrace("S1.on");
    lanes().setFocus();
    window.workspace().setCursor(toTicks(end - 19e-6));
    window.key(Qt::Key_Right, Qt::ControlModifier);
    const Tick first = *window.workspace().cursor();
    window.key(Qt::Key_Right, Qt::ControlModifier);
    const Tick second = *window.workspace().cursor();
    window.key(Qt::Key_Right, Qt::ControlModifier);
    const Tick third = *window.workspace().cursor();
    EXPECT_NEAR(toSeconds(third - first), 1 / 150e3, 1e-9) << "from an edge to the same one a period later";
    EXPECT_GT(second, first);
    window.key(Qt::Key_Left, Qt::ControlModifier);
    EXPECT_EQ(*window.workspace().cursor(), second);
}

TEST_F(Looking, TheCursorStepsFromCrossingToCrossing) {
    window.workspace().chooseTrace("L1.i");
    const Trace* current = window.workspace().trace("L1.i");
    clickAt(end - 15e-6, Qt::ShiftModifier);
    const Tick mark = *window.workspace().mark();
    const double level = *current->at(mark);
    window.workspace().setCursor(mark);
    lanes().setFocus();
    Tick last = mark;
    for (int k = 0; k < 3; ++k) {
        window.key(Qt::Key_Right, Qt::AltModifier);
        const Tick now = *window.workspace().cursor();
        ASSERT_GT(now, last);
        EXPECT_NEAR(*current->at(now), level, 1e-6 * std::abs(level));
        last = now;
    }
    window.key(Qt::Key_Left, Qt::AltModifier);
    EXPECT_LT(*window.workspace().cursor(), last);
    EXPECT_NEAR(*current->at(*window.workspace().cursor()), level, 1e-6 * std::abs(level));
}

// Each plan may have its own lanes: they come with the first run of it.
TEST_F(Looking, LanesComeWithThePlan) {
    app::Workspace& work = window.workspace();
    ASSERT_TRUE(work.apply({"plans", [](Project& project) -> Status {
                                Plan quick = project.plans[0];
                                quick.name = "quick";
                                quick.end = "100u";
                                project.plans.push_back(quick);
                                Lane lane;
                                lane.quantities = {"C1.i"};
                                project.laneSets.push_back({"ripple", {lane}, ""});
                                return {};
                            }}));
    ASSERT_TRUE(work.apply(edits::setPlanOfLanes("ripple", "quick")));
    const auto before = work.project().lanes;
    work.setPlan("quick");
    work.startRun();
    ASSERT_TRUE(window.waitForRun());
    ASSERT_EQ(work.project().lanes.size(), 1u);
    EXPECT_EQ(work.project().lanes[0].quantities[0], "C1.i");
    work.undo();
    EXPECT_EQ(work.project().lanes, before);
    work.startRun();
    ASSERT_TRUE(window.waitForRun());
    EXPECT_EQ(work.project().lanes, before) << "only the first run of a plan brings them";
    // Written and read again.
    const auto again = readHedge(writeHedge(work.project()));
    ASSERT_TRUE(again);
    EXPECT_EQ(again->project.laneSets.back().plan, "quick");
}

TEST_F(Looking, AnExpressionIsTypedWhereQuantitiesAreFound) {
    window->shelf().show(app::Shelf::quantities);
    auto* search = window.find<QLineEdit>("quantitySearch");
    search->setFocus();
    window.type("out.v * L1.q");
    EXPECT_EQ(window.workspace().runList().mistakeIn("out.v * L1.q"), "there is no quantity and no parameter 'L1.q'");
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().project().lanes.size(), 3u) << "a mistake makes no lane";
    search->selectAll();
    window.type("mean(out.v * L1.i, 1/fsw)");
    window.key(Qt::Key_Return);
    ASSERT_EQ(window.workspace().project().lanes.size(), 4u);
    const Trace* power = window.workspace().trace("mean(out.v * L1.i, 1/fsw)");
    ASSERT_TRUE(power);
    EXPECT_EQ(power->unit(), "W");
    const auto out = window.workspace().trace("R1.p")->measure(toTicks(end - 200e-6), toTicks(end));
    EXPECT_NEAR(power->measure(toTicks(end - 200e-6), toTicks(end))->mean, out->mean, 0.01 * out->mean);
}

// Mains harmonics: lines, groups and subgroups stand in one table after another, and no column is out of sight.
TEST_F(Looking, GroupsOfHarmonicsAreAChoiceAwayFromLines) {
    QFile file(HEDGEROW_SHARED "/examples/mains-input.hedge");
    ASSERT_TRUE(file.open(QFile::ReadOnly));
    auto loaded = readHedge(file.readAll().toStdString());
    ASSERT_TRUE(loaded);
    loaded->project.plans.front().end = "0.25";
    window.workspace().adopt(loaded->project, "", false);
    window.sheet().setFocus();
    window.key(Qt::Key_Return, Qt::ControlModifier);
    ASSERT_TRUE(window.waitForRun());
    lanes().setWindow(0.03, 0.25);
    window.workspace().chooseTrace("V1.i");
    window.settle();
    auto* fundamental = window.find<QLineEdit>("fundamental");
    ASSERT_TRUE(fundamental);
    fundamental->setFocus();
    window.type("50");
    window.key(Qt::Key_Return);
    QTest::qWait(300);
    auto* by = window.find<QComboBox>("harmonicsBy");
    ASSERT_TRUE(by && by->isVisible());
    auto* table = window.find<QTableWidget>("harmonics");
    const double line = quantityIn(cell("harmonics", "1", 2));
    EXPECT_EQ(cell("harmonics", "3", 1), "150 Hz");
    for (int way = 0; way < by->count(); ++way) {
        by->setCurrentIndex(way);
        window.settle();
        int width = 0;
        for (int column = 0; column < table->columnCount(); ++column) width += table->columnWidth(column);
        EXPECT_LE(width, table->viewport()->width()) << "no column is out of sight";
        if (way == 0) continue;
        // In steady operation all of a harmonic is in its line: its group has the same rms.
        EXPECT_NEAR(quantityIn(cell("harmonics", "1", 1)), line, 0.01 * line);
        EXPECT_EQ(cell("harmonics", "1", 2), "100.00 %");
        EXPECT_LT(quantityIn(cell("harmonics", "1", 3)), 0.05 * line) << "hardly anything between";
    }
    QTest::mouseClick(window.find<QPushButton>("copyTables"), Qt::LeftButton);
    EXPECT_TRUE(QApplication::clipboard()->text().contains("order\tsubgroup\tof the first\tbetween"));
}

TEST_F(Looking, AClickOnANameShowsMeasuresAndHarmonics) {
    QTest::mouseClick(&lanes(), Qt::LeftButton, {}, QPoint(24, lanes().laneTops()[0] + 16));
    EXPECT_EQ(window.workspace().chosenTrace(), "sw.v");
    lanes().setWindow(end - 10 / 150e3, end);
    QTest::qWait(300);
    EXPECT_EQ(cell("measures", "frequency", 1), "150 kHz");
    // The dead time of 80 ns is taken off the front of every pulse.
    const double duty = 0.305 - 80e-9 * 150e3;
    EXPECT_NEAR(cell("measures", "duty", 1).toDouble(), duty, 1e-3);
    auto* fundamental = window.find<QLineEdit>("fundamental");
    ASSERT_TRUE(fundamental);
    fundamental->setFocus();
    window.type("fsw");
    window.key(Qt::Key_Return);
    EXPECT_EQ(cell("harmonics", "2", 1), "300 kHz");
    // A square wave of this duty: the second harmonic over the first is |cos(pi D)|.
    const double ratio = cell("harmonics", "2", 3).section(' ', 0, 0).toDouble() / 100;
    EXPECT_NEAR(ratio, std::cos(3.14159265 * duty), 0.005);
    QTest::mouseClick(window.find<QPushButton>("copyTables"), Qt::LeftButton);
    EXPECT_TRUE(QApplication::clipboard()->text().contains("frequency\t150 kHz"));
    fundamental->setFocus();
    fundamental->selectAll();
    window.type("1 V");
    window.key(Qt::Key_Return);
    EXPECT_FALSE(window.find<QLabel>("distortion")->text().isEmpty());
    EXPECT_EQ(window.find<QTableWidget>("harmonics")->rowCount(), 0);
    // A part takes the card back.
    window.workspace().select({window.workspace().project().findPart("L1")->id});
    EXPECT_EQ(window.workspace().chosenTrace(), "");
}

TEST_F(Looking, LanesAreMadeHigherByTheirEdge) {
    const auto tops = lanes().laneTops();
    const int before = window.workspace().project().lanes[0].height;
    const QPoint edge(200, tops[1] - 1);
    QTest::mousePress(&lanes(), Qt::LeftButton, {}, edge);
    QTest::mouseMove(&lanes(), edge + QPoint(0, 20));
    QTest::mouseMove(&lanes(), edge + QPoint(0, 40));
    QTest::mouseRelease(&lanes(), Qt::LeftButton, {}, edge + QPoint(0, 40));
    EXPECT_GT(window.workspace().project().lanes[0].height, before + 20);
    window.workspace().undo();
    EXPECT_EQ(window.workspace().project().lanes[0].height, before);
}

TEST_F(Looking, AReportNeedsNoOtherFile) {
    QTemporaryDir folder;
    const QString page = folder.path() + "/a.html", paper = folder.path() + "/a.pdf";
    ASSERT_TRUE(app::writeReport(window.workspace(), window->timeline(), page));
    QFile file(page);
    ASSERT_TRUE(file.open(QFile::ReadOnly));
    const QString html = QString::fromUtf8(file.readAll());
    EXPECT_EQ(html.count("data:image/png;base64,"), 2) << "sheet and traces";
    EXPECT_FALSE(html.contains("http"));
    for (const char* word : {"80 V → 24 V", "fsw", "150k", "L1.i", "peak to peak", "trace tolerance", "time: total"})
        EXPECT_TRUE(html.contains(word)) << word;
    ASSERT_TRUE(app::writeReport(window.workspace(), window->timeline(), paper));
    QFile pdf(paper);
    ASSERT_TRUE(pdf.open(QFile::ReadOnly));
    EXPECT_TRUE(pdf.read(5) == "%PDF-");
    EXPECT_GT(pdf.size(), 20'000);
    EXPECT_FALSE(app::writeReport(window.workspace(), window->timeline(), "/nowhere/a.html"));
}

TEST_F(Looking, GatesStandInThinLanes) {
    lanes().show("S1.on");
    lanes().show("S2.on");
    ASSERT_EQ(window.workspace().project().lanes.size(), 4u);
    EXPECT_EQ(window.workspace().project().lanes[3].quantities.size(), 2u);
    EXPECT_LT(window.workspace().project().lanes[3].height, 60);
}

namespace {

/// Chosen in the menu over a lane, by the words it stands under.
void chooseInMenu(app::LanesView& lanes, int lane, const QString& text, const std::function<void(QMenu&)>& use = {}) {
    QTimer::singleShot(0, &lanes, [=] {
        auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
        ASSERT_TRUE(menu);
        QAction* found = nullptr;
        for (QAction* action : menu->actions())
            if (action->text() == text) found = action;
        EXPECT_TRUE(found) << text.toStdString();
        if (found && found->menu() && use)
            use(*found->menu());
        else if (found)
            found->trigger();
        if (menu->isVisible()) menu->close();
    });
    const QPoint at(300, lanes.laneTops()[static_cast<std::size_t>(lane)] + 12);
    QContextMenuEvent event(QContextMenuEvent::Mouse, at, lanes.mapToGlobal(at));
    QApplication::sendEvent(&lanes, &event);
    // The menu had the keyboard.
    lanes.window()->activateWindow();
    EXPECT_TRUE(QTest::qWaitForWindowActive(lanes.window()));
}

/// Level of the line of a spectrum next to a frequency.
double lineAt(const QString& readings, double frequency) {
    double best = INFINITY, level = NAN;
    for (const QString& row : readings.split('\n').mid(1)) {
        const QStringList cells = row.split('\t');
        if (cells.size() < 2) continue;
        if (const double apart = std::abs(cells[0].toDouble() - frequency); apart < best)
            best = apart, level = cells[1].toDouble();
    }
    return level;
}

}  // namespace

TEST_F(Looking, ASpectrumStandsInALane) {
    lanes().setWindow(end - 20 / 150e3, end);
    chooseInMenu(lanes(), 0, "Spectrum");
    const auto all = [&]() -> const std::vector<Lane>& { return window.workspace().project().lanes; };
    ASSERT_EQ(all().size(), 4u);
    ASSERT_EQ(all()[1].kind, LaneKind::spectrum);
    EXPECT_EQ(all()[1].quantities, std::vector<std::string>{"sw.v"});
    // On the card: whole periods of the switching frequency, where lines are exact.
    window.workspace().chooseTrace("sw.v");
    window.settle();
    const auto set = [&](const char* name, const char* text) {
        auto* field = window.find<QLineEdit>(name);
        ASSERT_TRUE(field) << name;
        field->setFocus();
        field->selectAll();
        window.type(text);
        window.key(Qt::Key_Return);
        QTest::qWait(150);
    };
    set("spectrumFundamental", "fsw");
    EXPECT_EQ(all()[1].spectrum.fundamental, "fsw");
    // Harmonic k of a square wave of duty D and height U: 2 U / (k pi) |sin(k pi D)|. The switch drops a little.
    const double duty = 0.305 - 80e-9 * 150e3, height = 80.0;
    const double first = 2 * height / 3.14159265 * std::sin(3.14159265 * duty);
    EXPECT_NEAR(lineAt(lanes().lane(1).readings(), 150e3), first, 0.02 * first);
    EXPECT_LT(lineAt(lanes().lane(1).readings(), 75e3), 1e-3 * first) << "nothing between the harmonics";
    auto* decibel = window.find<QCheckBox>("spectrumDecibel");
    ASSERT_TRUE(decibel);
    decibel->click();
    QTest::qWait(150);
    EXPECT_NEAR(lineAt(lanes().lane(1).readings(), 150e3), 20 * std::log10(first / std::sqrt(2.0) / 1e-6), 0.2);
    set("spectrumLimit", "150k 66, 500k");
    EXPECT_TRUE(window.find<QLabel>("spectrumMistake")->isVisible());
    EXPECT_EQ(all()[1].spectrum.limit, "") << "a mistake changes nothing";
    set("spectrumLimit", "150k 66, 500k 56");
    EXPECT_EQ(all()[1].spectrum.limit, "150k 66, 500k 56");
    set("spectrumFundamental", "2 V");
    EXPECT_TRUE(window.find<QLabel>("spectrumMistake")->isVisible());
    // The cursor of time does not follow the mouse over it.
    const auto cursor = window.workspace().cursor();
    QTest::mouseMove(&lanes(), QPoint(400, lanes().laneTops()[1] + 30));
    EXPECT_EQ(window.workspace().cursor(), cursor);
    EXPECT_EQ(lanes().timeBands().size(), 3u);
    window.workspace().undo();
    window.workspace().undo();
    window.workspace().undo();
    window.workspace().undo();
    EXPECT_EQ(window.workspace().project().lanes.size(), 3u);
}

TEST_F(Looking, OneQuantityOverAnother) {
    window->shelf().show(app::Shelf::quantities);
    auto* search = window.find<QLineEdit>("quantitySearch");
    search->setFocus();
    window.type("L1.i over out.q");
    EXPECT_TRUE(window.find<QLabel>("quantityHint") == nullptr ||
                window.find<QLabel>("quantityHint")->text().contains("out.q"));
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().project().lanes.size(), 3u) << "a mistake makes no lane";
    search->selectAll();
    window.type("L1.i over out.v");
    window.key(Qt::Key_Return);
    const auto all = [&]() -> const std::vector<Lane>& { return window.workspace().project().lanes; };
    ASSERT_EQ(all().size(), 4u);
    EXPECT_EQ(all()[3].kind, LaneKind::xy);
    EXPECT_EQ(all()[3].quantities, (std::vector<std::string>{"out.v", "L1.i"}));
    QTest::qWait(150);
    const QStringList rows = lanes().lane(3).readings().split('\n');
    ASSERT_GT(rows.size(), 20);
    // Each point is one of the run.
    const Trace *across = window.workspace().trace("out.v"), *up = window.workspace().trace("L1.i");
    const auto x = across->measure(toTicks(end - 20e-6), toTicks(end)),
               y = up->measure(toTicks(end - 20e-6), toTicks(end));
    for (const QString& row : rows.mid(1)) {
        if (row.isEmpty()) continue;
        EXPECT_GE(row.section('\t', 0, 0).toDouble(), x->min - 1e-9);
        EXPECT_LE(row.section('\t', 0, 0).toDouble(), x->max + 1e-9);
        EXPECT_GE(row.section('\t', 1, 1).toDouble(), y->min - 1e-9);
        EXPECT_LE(row.section('\t', 1, 1).toDouble(), y->max + 1e-9);
    }
}

TEST_F(Looking, MeasuresOverTheLastPeriods) {
    lanes().setWindow(end - 21.3 / 150e3, end);
    window.workspace().chooseTrace("sw.v");
    window.settle();
    window.find<QSpinBox>("periods")->setValue(4);
    window.find<QCheckBox>("periodsWanted")->click();
    const auto span = window.workspace().measured();
    EXPECT_NEAR(toSeconds(span.second - span.first), 4 / 150e3, 1e-9);
    EXPECT_EQ(window.workspace().measuredOver(), "over the last 4 periods of sw.v");
    QTest::qWait(200);
    EXPECT_EQ(cell("measures", "frequency", 1), "150 kHz");
    // The mean over whole periods is the duty, less the dead time, of the supply, less what switches drop.
    const Trace* node = window.workspace().trace("sw.v");
    EXPECT_NEAR(node->measure(span.first, span.second)->mean, 80 * (0.305 - 80e-9 * 150e3), 0.3);
    // Saved with the project, and undone as any other change.
    EXPECT_EQ(window.workspace().project().measured.count, 4);
    window.workspace().undo();
    EXPECT_EQ(window.workspace().measuredOver(), "");
    // How it stands to another trace.
    auto* against = window.find<QLineEdit>("against");
    against->setFocus();
    window.type("out.v");
    window.key(Qt::Key_Return);
    EXPECT_TRUE(window.find<QLabel>("relation")->text().contains("rms difference"));
    against->setFocus();
    against->selectAll();
    window.type("out.q");
    window.key(Qt::Key_Return);
    EXPECT_TRUE(window.find<QLabel>("relation")->text().contains("'out.q'"));
}

TEST_F(Looking, LanesAreKeptAsSets) {
    const auto keep = [](const char* name) {
        return [name](QMenu& sets) {
            auto* field = sets.findChild<QLineEdit*>("laneSetName");
            for (QAction* action : sets.actions())
                if (auto* widget = qobject_cast<QWidgetAction*>(action))
                    field = qobject_cast<QLineEdit*>(widget->defaultWidget());
            ASSERT_TRUE(field);
            field->setText(name);
            QTest::keyClick(field, Qt::Key_Return);
        };
    };
    chooseInMenu(lanes(), 0, "Sets of lanes", keep("all"));
    ASSERT_EQ(window.workspace().project().laneSets.size(), 1u);
    const auto before = window.workspace().project().lanes;
    chooseInMenu(lanes(), 0, "Remove sw.v");
    ASSERT_EQ(window.workspace().project().lanes.size(), before.size() - 1);
    chooseInMenu(lanes(), 0, "Sets of lanes", [](QMenu& sets) { sets.actions().first()->trigger(); });
    EXPECT_EQ(window.workspace().project().lanes, before);
    // They are in the file.
    const auto again = readHedge(writeHedge(window.workspace().project()));
    ASSERT_TRUE(again);
    EXPECT_EQ(again->project.laneSets, window.workspace().project().laneSets);
}

TEST_F(Looking, LanesAreSavedAsPictures) {
    QTemporaryDir folder;
    for (const auto& [name, head] : {std::pair{"a.svg", "<?xml"}, {"a.pdf", "%PDF-"}, {"a.png", "\x89PNG"}}) {
        const QString path = folder.path() + "/" + name;
        ASSERT_TRUE(lanes().writePicture(path)) << name;
        QFile file(path);
        ASSERT_TRUE(file.open(QFile::ReadOnly));
        EXPECT_TRUE(file.read(16).startsWith(head)) << name;
        EXPECT_GT(file.size(), 3000) << name;
    }
    // One lane alone, and the whole window.
    QTemporaryDir more;
    ASSERT_TRUE(lanes().writePicture(more.filePath("lane.png"), 0));
    EXPECT_EQ(QImage(more.filePath("lane.png")).height(), 2 * lanes().lane(0).box().height());
    for (const char* name : {"window.svg", "window.pdf", "window.png"}) {
        ASSERT_TRUE(app::writePictureOf(*window, more.filePath(name))) << name;
        EXPECT_GT(QFileInfo(more.filePath(name)).size(), 10'000) << name;
    }
    EXPECT_FALSE(app::writePictureOf(*window, more.filePath("window.xyz")));
    EXPECT_FALSE(lanes().writePicture("/nowhere/a.svg"));
}

// A page of the card that was just replaced may not look at a window that is gone: its timer may still be running.
TEST(Timeline, ReplacedPagesOfTheCardGoWithTheWindow) {
    {
        Window window;
        ASSERT_TRUE(window->open(QString(HEDGEROW_SHARED "/examples/med-aux.hedge")));
        window.key(Qt::Key_Return, Qt::ControlModifier);
        ASSERT_TRUE(window.waitForRun());
        window.workspace().chooseTrace("L1.i");
        emit window.workspace().measuredChanged();
        window.workspace().select({window.workspace().project().findPart("L1")->id});
    }
    QTest::qWait(400);
    for (QWidget* widget : QApplication::allWidgets())
        EXPECT_NE(widget->objectName(), "copyTables") << "the page is gone, too";
}
