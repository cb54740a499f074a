// Working without the mouse, drawing wires, and what stands beside the daily way.

#include <gtest/gtest.h>

#include <QDialog>
#include <QElapsedTimer>
#include <QLabel>
#include <QPushButton>
#include <QTextBrowser>
#include <QToolButton>

#include "card/ladder.h"
#include "shelf/shelf.h"
#include "style/theme.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {
QString example(const char* name) { return QString(HEDGEROW_SHARED "/examples") + "/" + name; }
}  // namespace

TEST(Keyboard, TabGoesFromPartToPartAndArrowsMove) {
    Window window;
    window.place("r 1", {240, 200});
    window.place("c 1u", {400, 200});
    window.sheet().setFocus();
    window.key(Qt::Key_Escape);
    window.key(Qt::Key_Tab);
    ASSERT_TRUE(window.workspace().selectedPart());
    EXPECT_EQ(window.workspace().selectedPart()->name, "R1");
    window.key(Qt::Key_Tab);
    EXPECT_EQ(window.workspace().selectedPart()->name, "C1");
    window.key(Qt::Key_Backtab, Qt::ShiftModifier);
    EXPECT_EQ(window.workspace().selectedPart()->name, "R1");
    const Point before = window.workspace().selectedPart()->at;
    window.key(Qt::Key_Left);
    window.key(Qt::Key_Down);
    EXPECT_EQ(window.workspace().selectedPart()->at, before + Point(-8, 8));
}

TEST(Keyboard, PlacingAndShiftingWithoutTheMouse) {
    Window window;
    window.sheet().setFocus();
    window.type("r 47");
    window.key(Qt::Key_Return);
    for (int i = 0; i < 4; ++i) window.key(Qt::Key_Right, Qt::ShiftModifier);
    window.key(Qt::Key_Return);
    ASSERT_EQ(window.workspace().project().sheet().parts.size(), 1u);
    EXPECT_EQ(*window.workspace().project().sheet().parts[0].values.find("r"), "47");
}

TEST(Keyboard, F6GoesThroughTheAreas) {
    Window window;
    ASSERT_TRUE(window->open(example("chopped-load.hedge")));
    window.sheet().setFocus();
    std::set<QWidget*> seen;
    for (int i = 0; i < 4; ++i) {
        window.key(Qt::Key_F6);
        QApplication::processEvents();
        ASSERT_TRUE(QApplication::focusWidget());
        seen.insert(QApplication::focusWidget());
    }
    EXPECT_EQ(seen.size(), 4u);
    EXPECT_EQ(QApplication::focusWidget(), &window.sheet()) << "and comes back";
}

TEST(Keyboard, TheLadderTakesArrowKeys) {
    Window window;
    window.place("l 47u", {240, 200});
    auto* ladder = window.find<app::Ladder>("ladder");
    ASSERT_TRUE(ladder);
    QTest::keyClick(ladder, Qt::Key_Up);
    EXPECT_EQ(window.workspace().project().sheet().parts[0].rung, 2);
    QTest::keyClick(window.find<app::Ladder>("ladder"), Qt::Key_Down);
    EXPECT_EQ(window.workspace().project().sheet().parts[0].rung, 1);
}

TEST(Keyboard, TheTimelineMovesZoomsAndSetsTheCursor) {
    Window window;
    ASSERT_TRUE(window->open(example("chopped-load.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    app::LanesView& lanes = window->timeline().lanes();
    lanes.setFocus();
    const double whole = lanes.to() - lanes.from();
    window.key(Qt::Key_Up);
    EXPECT_LT(lanes.to() - lanes.from(), whole);
    const double from = lanes.from();
    window.key(Qt::Key_Right);
    EXPECT_GT(lanes.from(), from);
    window.key(Qt::Key_Right, Qt::ShiftModifier);
    ASSERT_TRUE(window.workspace().cursor());
    const Tick first = *window.workspace().cursor();
    window.key(Qt::Key_Right, Qt::ShiftModifier);
    EXPECT_GT(*window.workspace().cursor(), first);
    window.key(Qt::Key_Escape);
    EXPECT_FALSE(window.workspace().cursor());
}

TEST(Wires, DragFromAPinAndBranchFromAWire) {
    Window window;
    window.place("r 1", {160, 200});
    window.place("r 2", {320, 200});
    window.place("r 3", {240, 320});
    window.drag({160, 168}, {320, 168});
    ASSERT_EQ(window.workspace().project().sheet().wires.size(), 1u);
    window.sheet().setFocus();
    window.key(Qt::Key_Escape);
    window.drag({240, 168}, {240, 288});
    const auto& parts = window.workspace().project().sheet().parts;
    const NetList& nets = window.workspace().nets();
    EXPECT_EQ(nets.netOfPin.at({parts[0].id, 0}), nets.netOfPin.at({parts[1].id, 0}));
    EXPECT_EQ(nets.netOfPin.at({parts[0].id, 0}), nets.netOfPin.at({parts[2].id, 0}));
    EXPECT_EQ(nets.junctions.size(), 1u);
}

TEST(Wires, BendsWhereItIsClickedAndEndsWithEscape) {
    Window window;
    window.place("r 1", {160, 200});
    window.click({160, 168});
    window.click({240, 104});  // a bend in the open
    window.key(Qt::Key_Escape);
    EXPECT_TRUE(window.workspace().project().sheet().wires.empty()) << "let go, nothing was drawn";
    window.click({160, 168});
    window.click({240, 104});
    window.point({320, 104});
    window.key(Qt::Key_Return);
    ASSERT_EQ(window.workspace().project().sheet().wires.size(), 1u);
    EXPECT_EQ(window.workspace().project().sheet().wires[0].points.back(), (Point{320, 104}));
}

TEST(Wires, APartDroppedOnAWireIsSplicedIn) {
    Window window;
    window.place("r 1", {160, 200});
    window.place("r 2", {400, 200});
    window.click({160, 168});
    window.click({400, 168});
    window.place("l 1m", {280, 168});
    const auto& parts = window.workspace().project().sheet().parts;
    const NetList& nets = window.workspace().nets();
    ASSERT_EQ(parts.size(), 3u);
    EXPECT_EQ(nets.netOfPin.at({parts[0].id, 0}), nets.netOfPin.at({parts[2].id, 0}));
    EXPECT_EQ(nets.netOfPin.at({parts[1].id, 0}), nets.netOfPin.at({parts[2].id, 1}));
    EXPECT_NE(nets.netOfPin.at({parts[0].id, 0}), nets.netOfPin.at({parts[1].id, 0}));
}

TEST(Wires, NetNamesAreEditedInPlace) {
    Window window;
    window.place("r 1", {160, 200});
    window.place("r 2", {320, 200});
    window.drag({160, 168}, {320, 168});
    window.point({240, 168});
    window.sheet().setFocus();
    window.type("net bus");
    window.key(Qt::Key_Return);
    ASSERT_EQ(window.workspace().project().sheet().labels.size(), 1u);
    window.click({240, 152});
    auto* editor = window.find<QLineEdit>("inPlaceEditor");
    ASSERT_TRUE(editor);
    window.type("link");
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().project().sheet().labels[0].net, "link");
}

TEST(Selection, ABandTakesWhatItHoldsAndACardSetsAll) {
    Window window;
    window.place("r 1", {160, 200});
    window.place("r 2", {240, 200});
    window.place("r 3", {480, 200});
    window.drag({110, 140}, {290, 260});
    EXPECT_EQ(window.workspace().selection().size(), 2u);
    auto* field = window.find<QLineEdit>("field.r");
    ASSERT_TRUE(field);
    EXPECT_EQ(field->text(), "") << "they differ";
    field->setFocus();
    window.type("10k");
    window.key(Qt::Key_Return);
    const auto& parts = window.workspace().project().sheet().parts;
    EXPECT_EQ(*parts[0].values.find("r"), "10k");
    EXPECT_EQ(*parts[1].values.find("r"), "10k");
    EXPECT_EQ(*parts[2].values.find("r"), "3");
    window.workspace().undo();
    EXPECT_EQ(*window.workspace().project().sheet().parts[0].values.find("r"), "1") << "one step of undo";
}

TEST(Help, IsOneKeyAwayForTheSelectedPartAndInGeneral) {
    Window window;
    window.place("l 47u", {240, 200});
    window.sheet().setFocus();
    window.key(Qt::Key_F1);
    auto* help = window.find<QDialog>("help");
    ASSERT_TRUE(help);
    EXPECT_TRUE(help->isVisible());
    EXPECT_TRUE(help->findChild<QTextBrowser*>()->toPlainText().contains("winding resistance"));
    help->close();
    window.workspace().select({});
    window->activateWindow();
    window.sheet().setFocus();
    window.key(Qt::Key_F1);
    EXPECT_TRUE(help->findChild<QTextBrowser*>()->toPlainText().contains("Ctrl+Return"));
    help->close();
}

TEST(Look, TheThemeChangesWhileARunIsShown) {
    Window window;
    ASSERT_TRUE(window->open(example("chopped-load.hedge")));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    const QColor before = window->timeline().lanes().grab().toImage().pixelColor(400, 20);
    window.sheet().setFocus();
    window.key(Qt::Key_D, Qt::ControlModifier);
    window.settle();
    EXPECT_EQ(app::currentTheme(), app::Theme::dark);
    const QColor after = window->timeline().lanes().grab().toImage().pixelColor(400, 20);
    EXPECT_LT(after.lightness(), before.lightness()) << "the lanes too";
    window.sheet().setFocus();
    window.key(Qt::Key_D, Qt::ControlModifier);
    window.settle();
    EXPECT_EQ(app::currentTheme(), app::Theme::light);
}

// Text is readable in both themes: contrast of at least 4.5 to 1 (WCAG 2.1) on every ground it stands on.
TEST(Look, ContrastIsEnough) {
    const auto luminance = [](const QColor& c) {
        const auto linear = [](double v) { return v <= 0.03928 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4); };
        return 0.2126 * linear(c.redF()) + 0.7152 * linear(c.greenF()) + 0.0722 * linear(c.blueF());
    };
    const auto contrast = [&](const QColor& a, const QColor& b) {
        const double x = luminance(a), y = luminance(b);
        return (std::max(x, y) + 0.05) / (std::min(x, y) + 0.05);
    };
    for (const auto theme : {app::Theme::light, app::Theme::dark}) {
        app::applyTheme(*qApp, theme);
        const app::Colours& p = app::colours();
        for (const QColor& ground : {p.chalk, p.paper, p.linen}) {
            EXPECT_GE(contrast(p.ink, ground), 4.5);
            EXPECT_GE(contrast(p.bark, ground), 4.5);
            EXPECT_GE(contrast(p.haw, ground), 4.5);
            EXPECT_GE(contrast(p.leaf, ground), 4.5);
        }
        EXPECT_GE(contrast(p.onLeaf, p.leaf), 4.5);
        EXPECT_GE(contrast(p.ink, p.leafTint), 4.5);
        EXPECT_GE(contrast(p.ink, p.hawTint), 4.5);
        EXPECT_GE(contrast(p.paper, p.sloe), 4.5);
    }
    app::applyTheme(*qApp, app::Theme::light);
}

// The equations of a part open by the keyboard, and stay open for the next part.
TEST(Keyboard, EquationsOpenOnDemand) {
    Window window;
    ASSERT_TRUE(window->open(QString(HEDGEROW_SHARED "/examples/med-aux.hedge")));
    const auto select = [&](const char* name) {
        window.workspace().select({window.workspace().project().findPart(name)->id});
        QCoreApplication::processEvents();
    };
    select("L1");
    EXPECT_FALSE(window.find<QLabel>("equations")->isVisible());
    auto* button = window.find<QToolButton>("showEquations");
    button->setFocus();
    QTest::keyClick(button, Qt::Key_Space);
    EXPECT_TRUE(window.find<QLabel>("equations")->isVisible());
    EXPECT_TRUE(window.find<QLabel>("equations")->text().contains("L di/dt"));
    QTest::keyClick(window.find<app::Ladder>("ladder"), Qt::Key_Up);
    QCoreApplication::processEvents();
    EXPECT_TRUE(window.find<QLabel>("equations")->isVisible());
    select("C2");
    EXPECT_TRUE(window.find<QLabel>("equations")->isVisible());
    EXPECT_FALSE(window.find<QLabel>("equations")->text().contains("L di/dt"));
}

// The prices of a part's rungs, measured in the circuit that it is in.
TEST(Keyboard, PricesAreMeasuredOnDemand) {
    Window window;
    ASSERT_TRUE(window->open(QString(HEDGEROW_SHARED "/examples/med-aux.hedge")));
    window.workspace().select({window.workspace().project().findPart("L1")->id});
    QCoreApplication::processEvents();
    EXPECT_FALSE(window.find<app::Ladder>("ladder")->accessibleDescription().contains("measured"));
    auto* button = window.find<QPushButton>("measurePrices");
    ASSERT_TRUE(button);
    button->click();
    QElapsedTimer clock;
    clock.start();
    while (!window.find<app::Ladder>("ladder")->accessibleDescription().contains("measured") &&
           clock.elapsed() < 120'000)
        QCoreApplication::processEvents(QEventLoop::AllEvents, 20);
    EXPECT_TRUE(window.find<app::Ladder>("ladder")->accessibleDescription().contains("prices measured here"));
    EXPECT_EQ(window.find<QPushButton>("measurePrices")->text(), "Measure prices");
    EXPECT_EQ(window.workspace().project().findPart("L1")->rung, 2) << "the project stays as it is";
    EXPECT_TRUE(window.workspace().runs().empty()) << "and no run is kept";
}
