// Looking and measuring in the window: cursors, lanes, expressions, the trace on the card.

#include <gtest/gtest.h>

#include <QClipboard>
#include <QLabel>
#include <QListWidget>
#include <QTableWidget>
#include <QTemporaryDir>

#include "model/quantity.h"
#include "shelf/shelf.h"
#include "shell/report.h"
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
