// The trade study in the window: typed, run, looked at, taken.

#include <gtest/gtest.h>

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPlainTextEdit>
#include <QTableWidget>
#include <QTemporaryDir>

#include <qcustomplot.h>

#include "formats/hedge/hedge.h"
#include "model/span_text.h"
#include "study/trade_view.h"
#include "ui/window.h"

namespace {

using namespace hedgerow;
using namespace hedgerow::test;
using hedgerow::app::TradeView;

class TradeWindow : public testing::Test {
protected:
    void open(const QString& path = "") {
        auto loaded = loadHedge(HEDGEROW_SHARED "/examples/med-aux.hedge");
        ASSERT_TRUE(loaded);
        Project& project = loaded->project;
        project.scenes.resize(1);
        project.plans.resize(1);
        project.plans.front().spans = {*readSpanText("settle: all on 2"), *readSpanText("for 14u")};
        project.studies = {TradeStudy{.features = {"pp of L1.i within 1 %", "mean of out.v within 1 %"},
                                      .alternatives = {"reference: all on 2", "all on 1"},
                                      .extra = {}}};
        if (!path.isEmpty()) {
            ASSERT_TRUE(saveHedge(project, path.toStdString()));
            ASSERT_TRUE(window.workspace().open(path));
        } else {
            window.workspace().adopt(std::move(project), "", false);
        }
        ASSERT_TRUE(window.settle());
        window->showTrade(true);
        QApplication::processEvents();
    }
    TradeView& trade() { return window->trade(); }
    bool wait() {
        return QTest::qWaitFor([this] { return !trade().busy(); }, 60'000) && (QTest::qWait(30), true);
    }
    Window window;
};

TEST_F(TradeWindow, StandsInPlaceOfTheSheetAndGoesAgain) {
    open();
    EXPECT_TRUE(trade().isVisible());
    EXPECT_FALSE(window.sheet().isVisible());
    EXPECT_TRUE(window->timeline().isVisible()) << "the timeline stays";
    EXPECT_TRUE(window.find<QPlainTextEdit>("tradeFeatures")->toPlainText().startsWith("pp of L1.i"));
    QTest::keyClick(&trade(), Qt::Key_Escape);
    EXPECT_TRUE(window.sheet().isVisible());
    QTest::mouseClick(window.find<QPushButton>("toTrade"), Qt::LeftButton);
    EXPECT_TRUE(trade().isVisible());
    window->showDesk(false);
    EXPECT_TRUE(window.sheet().isVisible());
}

TEST_F(TradeWindow, RunsJudgesAndShowsWaveformsBesideTheReference) {
    open();
    QTest::mouseClick(window.find<QPushButton>("tradeRun"), Qt::LeftButton);
    EXPECT_EQ(window.find<QPushButton>("tradeRun")->text(), "Stop");
    ASSERT_TRUE(wait());
    EXPECT_EQ(window.find<QPushButton>("tradeRun")->text(), "Run study");
    ASSERT_TRUE(trade().result());
    const TradeResult& result = *trade().result();
    EXPECT_TRUE(result.converged);
    ASSERT_EQ(result.points.size(), 2u);
    auto* table = window.find<QTableWidget>("tradeTable");
    EXPECT_EQ(table->rowCount(), 2);
    EXPECT_TRUE(window.find<QLabel>("tradeNote")->text().contains("converged"));
    // A click on a point of the plot chooses it, Enter shows it.
    auto* plot = window.find<QCustomPlot>("tradePlot");
    const TradePoint& ideal = result.points[1];
    ASSERT_FALSE(ideal.error);
    const QPoint at(static_cast<int>(plot->xAxis->coordToPixel(ideal.seconds)),
                    static_cast<int>(plot->yAxis->coordToPixel(std::max(1e-4, ideal.worst))));
    QTest::mouseClick(plot, Qt::LeftButton, {}, at);
    QTest::keyClick(&trade(), Qt::Key_Return);
    ASSERT_TRUE(window.settle());
    const auto& runs = window.workspace().runList();
    ASSERT_TRUE(runs.shown());
    ASSERT_EQ(runs.beside().size(), 1u);
    EXPECT_TRUE(runs.beside().front()->about.name.starts_with("reference"));
    EXPECT_EQ(runs.shown()->live, ideal.run);
    const std::size_t listed = runs.all().size();
    QTest::keyClick(&trade(), Qt::Key_Return);
    EXPECT_EQ(runs.all().size(), listed) << "a run is listed once";
    window->grab();
}

TEST_F(TradeWindow, AResultBecomesThePlan) {
    open();
    trade().run(TradeView::Kind::study);
    ASSERT_TRUE(wait());
    trade().use("all on 1");
    EXPECT_EQ(spanText(window.workspace().plan().spans[1]), "for 14u: all on 1");
    window.workspace().undo();
    EXPECT_EQ(spanText(window.workspace().plan().spans[1]), "for 14u: as drawn");
}

TEST_F(TradeWindow, WhatIsTypedBelongsToTheProject) {
    open();
    auto* features = window.find<QPlainTextEdit>("tradeFeatures");
    features->setFocus();
    features->setPlainText("max of sw.v within 2 %\n\n  rms of L1.i within 1 %");
    window.find<QPushButton>("tradeRun")->setFocus();
    ASSERT_EQ(window.workspace().project().studies.size(), 1u);
    EXPECT_EQ(window.workspace().project().studies.front().features,
              (std::vector<std::string>{"max of sw.v within 2 %", "rms of L1.i within 1 %"}));
    features->setPlainText("nonsense");
    trade().run(TradeView::Kind::study);
    ASSERT_TRUE(wait());
    EXPECT_FALSE(trade().result());
    EXPECT_TRUE(window.find<QLabel>("tradeNote")->text().contains("nonsense"));
}

TEST_F(TradeWindow, StudiesAreAddedNamedAndRemoved) {
    open();
    auto* name = window.find<QComboBox>("tradeStudy");
    const auto& studies = [&]() -> const std::vector<TradeStudy>& { return window.workspace().project().studies; };
    ASSERT_EQ(name->count(), 2);
    emit name->activated(1);
    ASSERT_EQ(studies().size(), 2u);
    EXPECT_EQ(name->currentText(), "study 2");
    name->lineEdit()->setText("ripple only");
    emit name->lineEdit()->editingFinished();
    EXPECT_EQ(studies()[1].name, "ripple only");
    auto* features = window.find<QPlainTextEdit>("tradeFeatures");
    features->setFocus();
    features->setPlainText("pp of L1.i within 1 %");
    window.find<QPushButton>("tradeRun")->setFocus();
    EXPECT_EQ(studies()[1].features.size(), 1u);
    EXPECT_EQ(studies()[0].features.size(), 2u) << "the other one stays";
    emit name->activated(0);
    EXPECT_EQ(features->toPlainText().count('\n'), 1);
    // A name that another one has is refused.
    name->lineEdit()->setText("");
    emit name->lineEdit()->editingFinished();
    EXPECT_EQ(studies().size(), 2u);
    emit name->activated(1);
    emit name->activated(3);
    ASSERT_EQ(studies().size(), 1u);
    EXPECT_EQ(studies()[0].features.size(), 2u);
    window.workspace().undo();
    EXPECT_EQ(studies().size(), 2u);
}

TEST_F(TradeWindow, SearchNamesEveryPart) {
    open();
    trade().run(TradeView::Kind::search);
    ASSERT_TRUE(wait());
    ASSERT_TRUE(trade().result());
    EXPECT_FALSE(trade().result()->verdicts.empty());
    auto* table = window.find<QTableWidget>("tradeTable");
    EXPECT_TRUE(table->item(0, 0)->text().contains("rung"));
    window->grab();
}

TEST_F(TradeWindow, IsStoppedAndLeftInTheMiddle) {
    open();
    trade().run(TradeView::Kind::steps);
    QTest::qWait(20);
    trade().stop();
    ASSERT_TRUE(wait());
    EXPECT_TRUE(!trade().result() || trade().result()->runs > 0);
    trade().run(TradeView::Kind::search);
    QTest::qWait(10);
    window.workspace().adopt(Project(), "", false);
    EXPECT_FALSE(trade().isVisible()) << "another project is looked at";
    ASSERT_TRUE(wait());
    EXPECT_FALSE(trade().result());
    EXPECT_EQ(window.find<QPushButton>("tradeRun")->text(), "Run study") << "another one can be run";
    EXPECT_TRUE(window.find<QPushButton>("tradeSearch")->isEnabled());
}

TEST_F(TradeWindow, ResultsAreKeptBesideTheProject) {
    QTemporaryDir folder;
    open(folder.path() + "/aux.hedge");
    trade().run(TradeView::Kind::study);
    ASSERT_TRUE(wait());
    auto* kept = window.find<QComboBox>("tradeKept");
    ASSERT_TRUE(QTest::qWaitFor([&] { return kept->count() == 2; }, 10'000));
    const double seconds = trade().result()->points[1].seconds;
    window->showTrade(false);
    ASSERT_TRUE(window.workspace().open(folder.path() + "/aux.hedge"));
    ASSERT_TRUE(window.settle());
    window->showTrade(true);
    ASSERT_TRUE(QTest::qWaitFor([&] { return trade().result().has_value(); }, 10'000)) << "the newest is shown";
    EXPECT_DOUBLE_EQ(trade().result()->points[1].seconds, seconds);
    EXPECT_FALSE(trade().result()->points[1].run) << "without its waveforms";
    trade().showPoint(1);
    ASSERT_TRUE(window.waitForRun());
    EXPECT_EQ(window.workspace().shownRun()->about.name, "all on 1") << "they are computed anew";
}

TEST_F(TradeWindow, OddClicksDoNoHarm) {
    open();
    auto* plot = window.find<QCustomPlot>("tradePlot");
    auto* table = window.find<QTableWidget>("tradeTable");
    for (int round = 0; round < 2; ++round) {
        for (int x = 0; x < plot->width(); x += 23) {
            QTest::mouseClick(plot, x % 2 ? Qt::LeftButton : Qt::RightButton, {}, QPoint(x, (7 * x) % plot->height()));
            QTest::mouseDClick(plot, Qt::LeftButton, {}, QPoint(x, (5 * x) % plot->height()));
        }
        for (int row = 0; row < table->rowCount(); ++row) table->setCurrentCell(row, 0);
        for (const char* name : {"tradeUse", "tradeLook"}) window.find<QPushButton>(name)->click();
        trade().showPoint(99);
        if (round == 0) {
            trade().run(TradeView::Kind::study);
            trade().run(TradeView::Kind::search);
            ASSERT_TRUE(wait());
        }
    }
    ASSERT_TRUE(window.waitForRun());
}

}  // namespace
