// Settle, response and tune in the window.

#include <gtest/gtest.h>

#include <fstream>

#include <QComboBox>
#include <QLabel>
#include <QTemporaryDir>

#include "card/settled_list.h"
#include "support/circuit.h"
#include "timeline/response_view.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

bool open(Window& w, const char* example) {
    return w->open(QString(HEDGEROW_SHARED "/examples") + "/" + example) && w.settle();
}

app::ResponseView& openResponse(Window& w) {
    w.key(Qt::Key_F, Qt::ControlModifier | Qt::ShiftModifier);
    return w->timeline().response();
}

bool waitFor(app::ResponseView& view) {
    return QTest::qWaitFor([&] { return !view.busy(); }, 30'000);
}

QString text(Window& w, const char* name) {
    auto* label = w.find<QLabel>(name);
    return label ? label->text() : QString();
}

}  // namespace

TEST(SettleInTheWindow, ShowsSomePeriodsAndSaysWhatItFound) {
    Window w;
    ASSERT_TRUE(open(w, "med-aux.hedge"));
    QTest::mouseClick(w.find<QPushButton>("settle"), Qt::LeftButton);
    ASSERT_TRUE(w.waitForRun());
    const auto& shown = w.workspace().shownRun();
    ASSERT_TRUE(shown && shown->run);
    EXPECT_EQ(shown->run->summary().end, RunEnd::finished) << shown->run->summary().brief();
    EXPECT_NEAR(toSeconds(shown->run->end()), 3 / 150e3, 1e-12) << "three periods of the carrier";
    EXPECT_TRUE(app::SettledList::of(w.workspace()));
    QString words;
    for (const QLabel* line : w.find<QWidget>("settledList")->findChildren<QLabel*>()) words += line->text();
    EXPECT_TRUE(words.contains("residual") && words.contains("ring at") && words.contains("stable"))
        << words.toStdString();
    // Every text is seen as a whole, and no more room is taken.
    for (const QLabel* line : w.find<QWidget>("settledList")->findChildren<QLabel*>()) {
        QLabel alone(line->text());
        alone.setWordWrap(true);
        alone.setFont(line->font());
        EXPECT_NEAR(line->height(), alone.heightForWidth(line->width()), 4) << line->text().toStdString();
    }
    // A plain run after it takes the words away.
    w.workspace().startRun();
    ASSERT_TRUE(w.waitForRun());
    EXPECT_EQ(w.find<QWidget>("settledList"), nullptr);
}

TEST(SettleInTheWindow, ByItsKeyAndStopped) {
    Window w;
    ASSERT_TRUE(open(w, "med-tool.hedge"));
    w.key(Qt::Key_Return, Qt::ControlModifier | Qt::ShiftModifier);
    EXPECT_TRUE(w.workspace().running());
    EXPECT_FALSE(w.find<QPushButton>("settle")->isEnabled());
    w.workspace().stopRun();
    ASSERT_TRUE(w.waitForRun());
    EXPECT_TRUE(w.find<QPushButton>("settle")->isEnabled());
    EXPECT_TRUE(w.workspace().problems().empty()) << w.workspace().problems().front().message;
}

TEST(SettleInTheWindow, WhatHasNoPeriodicStateSaysWhyAtThePart) {
    Circuit c;
    c.add("dc-voltage", "V1", {"in", "0"}, {{"level", "10"}})
        .add("modulator", "M1", {"", "g", "h"}, {{"f", "100k"}, {"duty", "0.3"}})
        .add("switch", "S1", {"in", "x", "g"})
        .add("switch", "S2", {"x", "0", "h"})
        .add("inductor", "L1", {"x", "0"}, {{"l", "20u"}})
        .plan("1m");
    Window w;
    ASSERT_TRUE(w.workspace().apply({"a winding on a pulse", [&](Project& project) -> Status {
                                         project = c.project();
                                         return {};
                                     }}));
    w.workspace().settle();
    ASSERT_TRUE(w.waitForRun());
    ASSERT_EQ(w.workspace().problems().size(), 1u);
    EXPECT_EQ(w.workspace().problems().front().part, "L1");
    EXPECT_NE(w.workspace().problems().front().message.find("the mean of L1.v cannot be zero"), std::string::npos);
}

TEST(ResponseInTheWindow, LoopGainOverFrequencyAndBack) {
    Window w;
    ASSERT_TRUE(open(w, "med-aux-loop.hedge"));
    app::ResponseView& view = openResponse(w);
    ASSERT_TRUE(view.isVisible());
    EXPECT_EQ(w.find<QComboBox>("responseFrom")->currentText(), "REG1.y");
    w.find<QLineEdit>("responsePoints")->setText("40");
    QTest::mouseClick(view.findChild<QPushButton*>("primary"), Qt::LeftButton);
    ASSERT_TRUE(waitFor(view));
    ASSERT_EQ(view.shown().size(), 1u) << text(w, "responseState").toStdString();
    const Margins margins = marginsOf(view.shown()[0].curve);
    ASSERT_TRUE(margins.crossover && margins.phaseMargin);
    EXPECT_NEAR(*margins.crossover, 6.8e3, 100);
    EXPECT_EQ(view.shown()[0].curve.values.size(), 40u);
    // Once more: the first one stays, dashed.
    view.find();
    ASSERT_TRUE(waitFor(view));
    ASSERT_EQ(view.shown().size(), 2u);
    EXPECT_TRUE(view.shown()[0].earlier);
    EXPECT_FALSE(view.shown()[1].earlier);
    // The pointer over it, on the locus too, out of it and back again.
    for (const bool locus : {false, true, false}) {
        view.setLocus(locus);
        for (int x = -5; x < view.width() + 5; x += 97) QTest::mouseMove(&view, QPoint(x, view.height() / 2));
        QApplication::processEvents();
    }
    QTest::mouseClick(w.find<QPushButton>("responseBack"), Qt::LeftButton);
    EXPECT_FALSE(view.isVisible());
}

TEST(ResponseInTheWindow, ATableIsWrittenAndReadBeside) {
    Window w;
    ASSERT_TRUE(open(w, "med-aux.hedge"));
    app::ResponseView& view = openResponse(w);
    auto* sort = w.find<QComboBox>("responseSort");
    sort->setCurrentIndex(1);
    emit sort->activated(1);
    w.find<QComboBox>("responseFrom")->setCurrentText("out");
    w.find<QLineEdit>("responsePoints")->setText("10");
    QTemporaryDir folder;
    EXPECT_FALSE(view.writeTable(folder.filePath("early.csv"))) << "there is nothing yet";
    view.find();
    ASSERT_TRUE(waitFor(view));
    ASSERT_EQ(view.shown().size(), 1u) << text(w, "responseState").toStdString();
    ASSERT_TRUE(view.writeTable(folder.filePath("impedance.csv")));
    ASSERT_TRUE(view.addMeasured(folder.filePath("impedance.csv")));
    ASSERT_EQ(view.shown().size(), 2u);
    EXPECT_TRUE(view.shown()[1].measured);
    for (std::size_t i = 0; i < 10; ++i)
        EXPECT_NEAR(std::abs(view.shown()[1].curve.values[i] / view.shown()[0].curve.values[i] - 1.0), 0, 1e-9);
    std::ofstream(folder.filePath("cap.s1p").toStdString()) << "# kHz Z RI R 1\n1 0.01 -0.2\n10 0.01 -0.02\n";
    ASSERT_TRUE(view.addMeasured(folder.filePath("cap.s1p")));
    EXPECT_EQ(view.shown().back().curve.name, "cap.s1p Z11");
    std::ofstream(folder.filePath("bad.csv").toStdString()) << "nothing of the kind\n";
    const Status bad = view.addMeasured(folder.filePath("bad.csv"));
    ASSERT_FALSE(bad);
    EXPECT_NE(bad.error().message.find("bad.csv"), std::string::npos);
    EXPECT_FALSE(view.addMeasured(folder.filePath("missing.csv")));
    EXPECT_TRUE(view.writePicture(folder.filePath("response.png")));
}

TEST(ResponseInTheWindow, WrongQuestionsSayWhatIsWrong) {
    Window w;
    ASSERT_TRUE(open(w, "med-aux-loop.hedge"));
    app::ResponseView& view = openResponse(w);
    const auto why = [&] {
        view.find();
        EXPECT_TRUE(waitFor(view));
        return text(w, "responseState").toStdString();
    };
    w.find<QLineEdit>("responseSpan")->setText("10");
    EXPECT_NE(why().find("two frequencies"), std::string::npos);
    w.find<QLineEdit>("responseSpan")->setText("1M : 10");
    EXPECT_NE(why().find("span"), std::string::npos);
    w.find<QLineEdit>("responseSpan")->setText("10 : 1M");
    w.find<QLineEdit>("responsePoints")->setText("none at all");
    EXPECT_NE(why().find("none"), std::string::npos);
    w.find<QLineEdit>("responsePoints")->setText("5");
    w.find<QComboBox>("responseFrom")->setCurrentText("X9.y");
    EXPECT_NE(why().find("X9"), std::string::npos);
    EXPECT_TRUE(view.shown().empty());
}

TEST(ResponseInTheWindow, LeavingTheProjectInTheMiddle) {
    Window w;
    ASSERT_TRUE(open(w, "med-aux-loop.hedge"));
    app::ResponseView& view = openResponse(w);
    w.find<QLineEdit>("responsePoints")->setText("20000");
    app::patience = 0;
    view.find();
    EXPECT_TRUE(view.busy());
    ASSERT_TRUE(open(w, "med-aux.hedge"));
    app::patience = 30'000;
    ASSERT_TRUE(QTest::qWaitFor([&] { return w.workspace().path().endsWith("med-aux.hedge"); }, 30'000));
    EXPECT_FALSE(view.busy());
    EXPECT_TRUE(view.shown().empty());
}

TEST(TuneInTheWindow, ValuesAreFoundTakenAndTakenBack) {
    Window w;
    ASSERT_TRUE(open(w, "med-aux-loop.hedge"));
    const int regulator = w.workspace().project().findPart("REG1")->id;
    const std::string before = *w.workspace().project().findPart(regulator)->values.find("kp");
    w.workspace().select({regulator});
    w.find<QLineEdit>("tuneCrossover")->setText("12k");
    w.find<QLineEdit>("tuneMargin")->setText("70");
    QTest::mouseClick(w.find<QPushButton>("tune"), Qt::LeftButton);
    ASSERT_TRUE(QTest::qWaitFor([&] { return w.find<QPushButton>("takeTuned")->isVisible(); }, 30'000))
        << text(w, "tuneOutcome").toStdString();
    EXPECT_TRUE(text(w, "tuneOutcome").contains("kp")) << text(w, "tuneOutcome").toStdString();
    ASSERT_EQ(w->timeline().response().shown().size(), 2u);
    QTest::mouseClick(w.find<QPushButton>("takeTuned"), Qt::LeftButton);
    const std::string after = *w.workspace().project().findPart(regulator)->values.find("kp");
    EXPECT_NE(after, before);
    w.workspace().undo();
    EXPECT_EQ(*w.workspace().project().findPart(regulator)->values.find("kp"), before);
    w.workspace().select({regulator});
    w.find<QLineEdit>("tuneMargin")->setText("170");
    QTest::mouseClick(w.find<QPushButton>("tune"), Qt::LeftButton);
    ASSERT_TRUE(QTest::qWaitFor([&] { return text(w, "tuneOutcome").contains("phase margin between"); }, 30'000));
}
