// Spans of the plan by mouse, keys and lines of text.

#include <gtest/gtest.h>

#include <QContextMenuEvent>
#include <QHelpEvent>
#include <QLabel>
#include <QMenu>
#include <QTimer>
#include <QToolTip>

#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "model/span_text.h"
#include "timeline/spans_row.h"
#include "ui/window.h"

namespace {

using namespace hedgerow;
using namespace hedgerow::test;
using hedgerow::app::SpansRow;

const std::string aux = HEDGEROW_SHARED "/examples/med-aux.hedge";

/// MED-AUX, 3 ms, with what is asked for as spans.
class Spans : public testing::Test {
protected:
    void open(const std::vector<std::string>& lines) {
        auto loaded = loadHedge(aux);
        ASSERT_TRUE(loaded);
        loaded->project.plans.resize(1);
        loaded->project.scenes.resize(1);
        for (const std::string& line : lines) loaded->project.plans.front().spans.push_back(*readSpanText(line));
        window.workspace().adopt(std::move(loaded->project), "", false);
        ASSERT_TRUE(window.settle());
        window->timeline().lanes().fit();
        row().setFocus();
        QApplication::processEvents();
    }
    SpansRow& row() { return window->timeline().spans(); }
    QPoint at(double seconds) {
        return {static_cast<int>(std::lround(window->timeline().lanes().pixelOf(seconds))), 12};
    }
    std::vector<std::string> lines() {
        std::vector<std::string> all;
        for (const Span& span : window.workspace().plan().spans) all.push_back(spanText(span));
        return all;
    }
    void key(Qt::Key key, Qt::KeyboardModifiers modifiers = {}) { QTest::keyClick(&row(), key, modifiers); }
    void drag(QPoint from, QPoint to) {
        QTest::mouseMove(&row(), from);
        QTest::mousePress(&row(), Qt::LeftButton, {}, from);
        const QPoint middle = (from + to) / 2;
        for (const QPoint p : {middle, to}) {
            QMouseEvent move(QEvent::MouseMove, p, row().mapToGlobal(p), Qt::NoButton, Qt::LeftButton, {});
            QApplication::sendEvent(&row(), &move);
        }
        QTest::mouseRelease(&row(), Qt::LeftButton, {}, to);
        EXPECT_TRUE(window.settle());
    }
    Window window;
};

using Lines = std::vector<std::string>;

TEST_F(Spans, ABorderIsDraggedToAnotherInstant) {
    open({"until 1m: all on 1", "to the end: as drawn"});
    drag(at(1e-3), at(2e-3));
    ASSERT_EQ(lines().size(), 2u);
    const auto until = window.workspace().timeOf(window.workspace().plan().spans[0].until);
    ASSERT_TRUE(until);
    EXPECT_NEAR(*until, 2e-3, 1e-5);
    EXPECT_EQ(lines()[0].substr(lines()[0].find(':')), ": all on 1");
    window.workspace().undo();
    EXPECT_EQ(lines()[0], "until 1m: all on 1");
}

TEST_F(Spans, ALengthStaysALengthWhenItsBorderIsDragged) {
    open({"until 1m: all on 1", "for 1m: exact", "to the end: as drawn"});
    drag(at(2e-3), at(2.5e-3));
    EXPECT_EQ(window.workspace().plan().spans[1].since, "start");
    EXPECT_NEAR(*window.workspace().timeOf(window.workspace().plan().spans[1].until), 1.5e-3, 1e-5);
}

TEST_F(Spans, ABlockIsLiftedAndLoweredOnTheLadder) {
    open({"until 1m: all on 1", "to the end: as drawn"});
    drag(at(0.5e-3), at(0.5e-3) - QPoint(0, 30));
    EXPECT_EQ(lines()[0], "until 1m: all on 3");
    drag(at(2e-3), at(2e-3) + QPoint(0, 15));
    EXPECT_EQ(lines()[1], "to the end: all on 1") << "the parts stand on rung 2 as drawn";
    drag(at(2e-3), at(2e-3) + QPoint(0, 200));
    EXPECT_EQ(lines()[1], "to the end: all on 1") << "there is no rung below";
}

TEST_F(Spans, AreSplitAtTheCursorAndTypedIn) {
    open({});
    window.workspace().setCursor(toTicks(1e-3));
    key(Qt::Key_S);
    ASSERT_TRUE(window.settle());
    ASSERT_EQ(lines().size(), 2u);
    EXPECT_NEAR(*window.workspace().timeOf(window.workspace().plan().spans[0].until), 1e-3, 1e-6);
    QTest::mouseDClick(&row(), Qt::LeftButton, {}, at(2e-3));
    auto* line = window.find<QLineEdit>("spanLine");
    ASSERT_TRUE(line->isVisible());
    EXPECT_EQ(line->text(), "to the end: as drawn");
    line->setText("for 15u: all on 3");
    QTest::keyClick(line, Qt::Key_Return);
    EXPECT_FALSE(line->isVisible());
    EXPECT_EQ(lines()[1], "for 15u: all on 3");
    key(Qt::Key_Return);
    ASSERT_TRUE(line->isVisible());
    line->setText("for 15u: quickly");
    QTest::keyClick(line, Qt::Key_Return);
    EXPECT_TRUE(line->isVisible()) << "what is wrong stays to be mended";
    EXPECT_TRUE(line->toolTip().contains("quickly"));
    QTest::keyClick(line, Qt::Key_Escape);
    EXPECT_FALSE(line->isVisible());
    EXPECT_EQ(lines()[1], "for 15u: all on 3");
}

TEST_F(Spans, KeysChooseClimbKnotAndRemove) {
    open({"until 1m: all on 1", "to the end: as drawn"});
    row().choose(0);
    key(Qt::Key_Right);
    EXPECT_EQ(row().chosen(), 1);
    key(Qt::Key_Right);
    EXPECT_EQ(row().chosen(), 1);
    key(Qt::Key_Up, Qt::ControlModifier);
    EXPECT_EQ(lines()[1], "to the end: all on 3");
    key(Qt::Key_K);
    EXPECT_EQ(lines(), (Lines{"until 1m: all on 1", "settle: all on 3", "to the end: all on 3"}));
    key(Qt::Key_Right);
    key(Qt::Key_Delete);
    EXPECT_EQ(lines(), (Lines{"to the end: all on 1"})) << "a knot with nothing after it goes too";
    key(Qt::Key_Delete);
    EXPECT_EQ(lines(), Lines{});
    key(Qt::Key_Delete);
    EXPECT_EQ(lines(), Lines{});
}

TEST_F(Spans, TheMenuOffersWhatKeysDo) {
    open({"until 1m: all on 1", "to the end: as drawn"});
    QStringList seen;
    QTimer::singleShot(0, [&] {
        auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
        ASSERT_TRUE(menu);
        for (QAction* action : menu->actions())
            if (!action->isSeparator()) seen << action->text().section('\t', 0, 0);
        for (QAction* action : menu->actions())
            if (action->text().startsWith("All parts one rung up")) action->trigger();
        menu->close();
    });
    QContextMenuEvent event(QContextMenuEvent::Mouse, at(2e-3), row().mapToGlobal(at(2e-3)));
    QApplication::sendEvent(&row(), &event);
    EXPECT_EQ(lines()[1], "to the end: all on 3");
    EXPECT_EQ(seen.size(), 6);
}

TEST_F(Spans, PricesStandBelowBeforeAndTruthAfterTheRun) {
    open({"until 1m: all on 1", "settle: all on 2", "for 3 periods of M1: all on 3"});
    ASSERT_TRUE(window.waitForPrice());
    const auto& price = window.workspace().price();
    ASSERT_TRUE(price);
    ASSERT_EQ(price->spans.size(), 3u);
    EXPECT_TRUE(window.find<QLabel>("price")->text().startsWith("price ~"));
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    const auto& shown = window.workspace().shownRun();
    ASSERT_EQ(shown->run->summary().end, RunEnd::finished) << shown->run->summary().brief();
    ASSERT_EQ(shown->run->summary().spans.size(), 3u);
    EXPECT_NEAR(toSeconds(shown->run->end()), 1.02e-3, 1e-9);
    EXPECT_GT(shown->run->summary().priced, 0) << "the run keeps what it was expected to cost";
    for (const SpanOutcome& span : shown->run->summary().spans) EXPECT_GT(span.priced, 0) << span.text;
    QHelpEvent help(QEvent::ToolTip, at(0.5e-3), row().mapToGlobal(at(0.5e-3)));
    QApplication::sendEvent(&row(), &help);
    EXPECT_TRUE(QToolTip::text().contains("until 1m: all on 1")) << QToolTip::text().toStdString();
    EXPECT_TRUE(QToolTip::text().contains("computed in"));
    QToolTip::hideText();
    window->grab();
}

TEST_F(Spans, GapsOfALaneAreDrawnAsGaps) {
    open({"until 1m", "for 100u: S1 on 1, keep L1.i", "to the end"});
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    const auto& shown = window.workspace().shownRun();
    ASSERT_EQ(shown->run->summary().end, RunEnd::finished) << shown->run->summary().brief();
    Trace* const trace = window.workspace().runList().trace("out.v");
    ASSERT_TRUE(trace);
    EXPECT_FALSE(trace->at(toTicks(1.05e-3))) << "not kept there";
    EXPECT_TRUE(trace->at(toTicks(1.5e-3)));
    // It ends, whatever part of the gap is in view.
    for (const double zoom : {1.0, 0.1, 0.01}) {
        window->timeline().lanes().setWindow(1.05e-3 - zoom * 1e-3, 1.05e-3 + zoom * 1e-3);
        EXPECT_FALSE(window->grab().isNull());
    }
}

TEST_F(Spans, WhatIsEditedAfterARunIsShownAsPlanned) {
    open({"until 1m: all on 1", "to the end: as drawn"});
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    drag(at(1e-3), at(2e-3));
    // The border can be taken where it is now, at once.
    drag(at(2e-3), at(1.5e-3));
    EXPECT_NEAR(*window.workspace().timeOf(window.workspace().plan().spans[0].until), 1.5e-3, 1e-5);
}

TEST_F(Spans, AFaultStandsOnTheCardAndTheRunSaysIt) {
    open({"until 1m: Q9 on 3", "to the end: as drawn"});
    const auto& checks = window.workspace().checks();
    const bool said = std::any_of(checks.begin(), checks.end(), [](const app::Check& check) {
        return check.error.message.find("Q9") != std::string::npos;
    });
    EXPECT_TRUE(said);
    window.workspace().startRun();
    ASSERT_TRUE(window.waitForRun());
    EXPECT_FALSE(window.workspace().problems().empty());
}

TEST_F(Spans, LinesOnTheCardChangeThePlan) {
    open({"until 1m: all on 1", "to the end: as drawn"});
    auto* first = window.find<QLineEdit>("field.span.0");
    ASSERT_TRUE(first);
    EXPECT_EQ(first->text(), "until 1m: all on 1");
    first->setFocus();
    first->selectAll();
    QTest::keyClicks(first, "until 2m: all on 2, exact");
    QTest::keyClick(first, Qt::Key_Return);
    EXPECT_EQ(lines()[0], "until 2m: all on 2, exact");
    ASSERT_TRUE(window.settle());
    auto* adding = window.find<QLineEdit>("field.newSpan");
    ASSERT_TRUE(adding);
    adding->setFocus();
    QTest::keyClicks(adding, "settle");
    QTest::keyClick(adding, Qt::Key_Return);
    EXPECT_EQ(lines().size(), 3u);
}

TEST_F(Spans, OddClicksLeaveThePlanWhole) {
    open({"until 1m: all on 1", "settle", "for 20u: all on 3"});
    for (int x = 0; x < row().width(); x += 17) {
        QTest::mouseClick(&row(), x % 3 ? Qt::LeftButton : Qt::MiddleButton, {}, QPoint(x, x % 40));
        QTest::mouseDClick(&row(), Qt::LeftButton, {}, QPoint(x, x % 40));
        if (auto* line = window.find<QLineEdit>("spanLine"); line->isVisible()) QTest::keyClick(line, Qt::Key_Escape);
    }
    EXPECT_EQ(lines().size(), 3u);
    window.workspace().startRun();
    drag(at(1e-3), at(0.2e-3));
    window.workspace().stopRun();
    ASSERT_TRUE(window.waitForRun());
    EXPECT_EQ(lines().size(), 3u);
}

}  // namespace
