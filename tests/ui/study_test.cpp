// The study of many runs in the window: typed, run, stopped, gone on with, looked at, taken.

#include <gtest/gtest.h>

#include <QCheckBox>
#include <QComboBox>
#include <QFile>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPlainTextEdit>
#include <QTableView>
#include <QTemporaryDir>

#include <qcustomplot.h>

#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "study/study_view.h"
#include "study/trade_view.h"
#include "ui/window.h"

namespace {

using namespace hedgerow;
using namespace hedgerow::test;
using hedgerow::app::StudyView;

class StudyWindow : public testing::Test {
protected:
    void open(ParameterStudy study, const QString& path = "") {
        auto loaded = loadHedge(HEDGEROW_SHARED "/examples/med-aux.hedge");
        ASSERT_TRUE(loaded);
        Project& project = loaded->project;
        project.parameterStudies = {std::move(study)};
        if (!path.isEmpty()) {
            ASSERT_TRUE(saveHedge(project, path.toStdString()));
            ASSERT_TRUE(window.workspace().open(path));
        } else {
            window.workspace().adopt(std::move(project), "", false);
        }
        ASSERT_TRUE(window.settle());
        window->showStudy(true);
        QApplication::processEvents();
    }
    static ParameterStudy settled(const std::string& runs = "grid") {
        return {.name = "ripple", .varied = {"L1.l: 15u, 22u, 33u", "Vin: 70, 90"}, .measured = {"pp of L1.i below 5", "mean of out.v"},
                .runs = runs, .settle = true, .extra = {}};
    }
    StudyView& study() { return window->study(); }
    bool wait() {
        return QTest::qWaitFor([this] { return !study().busy(); }, 60'000) && (QTest::qWait(30), true);
    }
    std::string vin() {
        for (const Parameter& parameter : window.workspace().project().parameters)
            if (parameter.name == "Vin") return parameter.value;
        return "";
    }
    QString text(const char* name) { return window.find<QLabel>(name)->text(); }
    Window window;
};

TEST_F(StudyWindow, StandsInPlaceOfTheSheetAndGoesAgain) {
    open(settled());
    EXPECT_TRUE(study().isVisible());
    EXPECT_FALSE(window.sheet().isVisible());
    EXPECT_TRUE(window.find<QPlainTextEdit>("studyVaried")->toPlainText().startsWith("L1.l: 15u"));
    EXPECT_TRUE(window.find<QCheckBox>("studySettle")->isChecked());
    window->showTrade(true);
    EXPECT_FALSE(study().isVisible()) << "one view at a time";
    QTest::mouseClick(window.find<QPushButton>("toStudy"), Qt::LeftButton);
    EXPECT_TRUE(study().isVisible());
    EXPECT_FALSE(window->trade().isVisible());
    QTest::keyClick(&study(), Qt::Key_Escape);
    EXPECT_TRUE(window.sheet().isVisible());
}

TEST_F(StudyWindow, RunsFillTheTableAndThePictures) {
    open(settled());
    QTest::mouseClick(window.find<QPushButton>("studyRun"), Qt::LeftButton);
    EXPECT_EQ(window.find<QPushButton>("studyRun")->text(), "Stop");
    ASSERT_TRUE(wait());
    EXPECT_EQ(window.find<QPushButton>("studyRun")->text(), "Run study");
    ASSERT_TRUE(study().table());
    ASSERT_EQ(study().table()->rows(), 6u);
    auto* rows = window.find<QTableView>("studyRows");
    ASSERT_EQ(rows->model()->rowCount(), 6);
    EXPECT_TRUE(text("studyNote").startsWith("6 of 6 runs")) << text("studyNote").toStdString();
    EXPECT_FALSE(window.find<QPushButton>("studyGoOn")->isEnabled()) << "nothing is missing";
    // The ripple falls with the inductance; sorted by it the greatest stands first.
    rows->sortByColumn(3, Qt::DescendingOrder);
    EXPECT_EQ(rows->model()->index(0, 1).data().toString(), "15 µH");
    EXPECT_EQ(rows->model()->index(0, 5).data().toString(), "beyond limits");
    window.find<QLineEdit>("studyFilter")->setText("beyond limits");
    EXPECT_LT(rows->model()->rowCount(), 6);
    window.find<QLineEdit>("studyFilter")->setText("33 µH");
    EXPECT_EQ(rows->model()->rowCount(), 2);
    window.find<QLineEdit>("studyFilter")->clear();
    auto* plot = window.find<QCustomPlot>("studyPlot");
    for (int picture = 0; picture < window.find<QComboBox>("studyPicture")->count(); ++picture) {
        auto* box = window.find<QComboBox>("studyPicture");
        box->setCurrentIndex(picture);
        emit box->activated(picture);
        EXPECT_GT(plot->plottableCount(), 0) << picture;
        EXPECT_FALSE(window->grab().isNull());
    }
}

TEST_F(StudyWindow, ChosenRowsComeToTheTimelineAsAFamily) {
    open(settled());
    study().run();
    ASSERT_TRUE(wait());
    auto* rows = window.find<QTableView>("studyRows");
    rows->selectAll();
    QTest::mouseClick(window.find<QPushButton>("studyLook"), Qt::LeftButton);
    const auto& runs = window.workspace().runList();
    ASSERT_TRUE(QTest::qWaitFor([&] { return runs.shown() && runs.beside().size() == 5; }, 30'000));
    EXPECT_TRUE(runs.shown()->about.name.starts_with("L1.l 33"));
    // A click on a point chooses its row.
    auto* plot = window.find<QCustomPlot>("studyPlot");
    rows->clearSelection();
    QApplication::processEvents();
    ASSERT_GT(plot->graphCount(), 0);
    for (int g = 0; g < plot->graphCount(); ++g) {
        if (plot->graph(g)->data()->isEmpty()) continue;
        const auto data = *plot->graph(g)->data()->constBegin();
        QTest::mouseClick(plot, Qt::LeftButton, {},
                          QPoint(static_cast<int>(plot->xAxis->coordToPixel(data.key)), static_cast<int>(plot->yAxis->coordToPixel(data.value))));
        break;
    }
    EXPECT_EQ(rows->selectionModel()->selectedRows().size(), 1);
    EXPECT_TRUE(text("studyAnswer").startsWith("run ")) << text("studyAnswer").toStdString();
}

/// Chooses an entry of a box as a hand does.
void pick(QComboBox* box, const QString& entry) {
    box->setCurrentIndex(box->findText(entry));
    ASSERT_GE(box->currentIndex(), 0) << entry.toStdString();
    emit box->activated(box->currentIndex());
}

TEST_F(StudyWindow, KeptTracesAreAFamily) {
    ParameterStudy asked{.name = "family", .scene = "load step", .plan = "start-up", .varied = {"C2.c: 47u, 100u, 220u, 470u"},
                         .measured = {"min of out.v from 1.5m"}, .keep = "out.v + L1.i", .extra = {}};
    open(asked);
    auto* picture = window.find<QComboBox>("studyPicture");
    EXPECT_LT(picture->findText("traces"), 0) << "nothing is kept yet";
    study().run();
    ASSERT_TRUE(wait());
    ASSERT_TRUE(QTest::qWaitFor([&] { return picture->findText("traces") >= 0; }, 10'000));
    pick(picture, "traces");
    auto* plot = window.find<QCustomPlot>("studyPlot");
    ASSERT_TRUE(QTest::qWaitFor([&] { return plot->graphCount() == 4; }, 10'000));
    auto* quantity = window.find<QComboBox>("studyQuantity");
    EXPECT_TRUE(quantity->isVisible());
    EXPECT_FALSE(window.find<QComboBox>("studyMeasure")->isVisible());
    pick(quantity, "L1.i");
    ASSERT_TRUE(QTest::qWaitFor([&] { return plot->graphCount() == 4 && plot->yAxis->label().startsWith("L1.i"); }, 10'000));
    pick(quantity, "out.v");
    ASSERT_TRUE(QTest::qWaitFor([&] { return plot->graphCount() == 4 && plot->yAxis->label().startsWith("out.v"); }, 10'000));
    // Where the output first rises through 12 V becomes 0: all curves pass there.
    auto* align = window.find<QLineEdit>("studyAlign");
    align->setText("> 12");
    emit align->editingFinished();
    ASSERT_TRUE(QTest::qWaitFor([&] { return plot->graphCount() == 4 && plot->xAxis->range().lower < 0; }, 10'000));
    for (int g = 0; g < 4; ++g) {
        double before = 0, after = 0;
        for (const QCPGraphData& at : *plot->graph(g)->data()) (at.key <= 0 ? before : after) = at.key <= 0 ? at.value : after == 0 ? at.value : after;
        EXPECT_LE(before, 12.5);
        EXPECT_GE(after, 11.5);
    }
    align->setText("event 1");
    emit align->editingFinished();
    ASSERT_TRUE(QTest::qWaitFor([&] { return plot->graphCount() == 4 && plot->xAxis->range().lower < -0.1; }, 10'000));
    for (const char* text : {"event 0", "> volts", "event 40"}) {
        align->setText(text);
        emit align->editingFinished();
        ASSERT_TRUE(QTest::qWaitFor([&] { return plot->graphCount() == 0; }, 10'000)) << text;
    }
}

TEST_F(StudyWindow, TwoThingsAreAContourAndAllAreAMatrix) {
    open(settled());
    study().run();
    ASSERT_TRUE(wait());
    auto* picture = window.find<QComboBox>("studyPicture");
    auto* plot = window.find<QCustomPlot>("studyPlot");
    auto* rows = window.find<QTableView>("studyRows");
    pick(picture, "contour");
    EXPECT_TRUE(window.find<QComboBox>("studyAgainst")->isVisible());
    const auto press = [&](std::size_t row, double x, double y) {
        rows->clearSelection();
        QApplication::processEvents();
        QTest::mouseClick(plot, Qt::LeftButton, {},
                          QPoint(static_cast<int>(plot->xAxis->coordToPixel(x)), static_cast<int>(plot->yAxis->coordToPixel(y))));
        ASSERT_EQ(rows->selectionModel()->selectedRows().size(), 1) << row;
        EXPECT_EQ(rows->selectionModel()->selectedRows().front().row(), static_cast<int>(row));
    };
    press(3, 22, 90);
    press(4, 33, 70);
    pick(picture, "all over all");
    EXPECT_EQ(plot->axisRectCount(), 6);  // four columns: below the diagonal
    pick(picture, "yield");
    press(0, study().table()->values[0][0], 500.0 / 6);  // the fifth of six
    // A bar of the histogram chooses its rows.
    pick(picture, "histogram");
    rows->clearSelection();
    QApplication::processEvents();
    const double least = *std::min_element(study().table()->values[0].begin(), study().table()->values[0].end());
    QTest::mouseClick(plot, Qt::LeftButton, {}, QPoint(static_cast<int>(plot->xAxis->coordToPixel(least)) + 3, static_cast<int>(plot->yAxis->coordToPixel(0.3))));
    EXPECT_GE(rows->selectionModel()->selectedRows().size(), 1);
}

TEST_F(StudyWindow, ASearchSaysWhereTheBestPlaceIs) {
    ParameterStudy asked = settled("minimise ripple, 60 runs");
    asked.varied = {"L1.l: 10u to 47u"};
    asked.measured = {"ripple = pp of L1.i"};
    open(asked);
    study().run();
    ASSERT_TRUE(wait());
    EXPECT_TRUE(text("studyNote").contains("best: L1.l = 47 µH")) << text("studyNote").toStdString();
}

TEST_F(StudyWindow, ThePriceStandsThereBeforeAnythingIsRun) {
    open(settled());
    const auto price = [&] { return text("studyPrice"); };
    ASSERT_TRUE(QTest::qWaitFor([&] { return price().startsWith("6 runs ~"); }, 20'000)) << price().toStdString();
    EXPECT_TRUE(window.find<QLabel>("studyPrice")->toolTip().contains("L1.l: other equations each time"));
    EXPECT_FALSE(study().table()) << "the first run alone was made for it";
    study().run();
    ASSERT_TRUE(wait());
    ASSERT_TRUE(QTest::qWaitFor([&] { return price().startsWith("6 runs ~"); }, 20'000)) << "it stands there after the runs, too";
    // What is typed has another one; a mistake says what is wrong.
    auto* runs = window.find<QLineEdit>("studyRuns");
    runs->setText("minimise p");
    emit runs->editingFinished();
    ASSERT_TRUE(QTest::qWaitFor([&] { return price().contains("'p' is no measure"); }, 20'000)) << price().toStdString();
    runs->setText("corners");
    emit runs->editingFinished();
    ASSERT_TRUE(QTest::qWaitFor([&] { return price().startsWith("4 runs ~"); }, 20'000)) << price().toStdString();
    // Left in the middle of it.
    runs->setText("grid");
    emit runs->editingFinished();
    ASSERT_TRUE(window.workspace().open(HEDGEROW_SHARED "/examples/chopped-load.hedge"));
    ASSERT_TRUE(window.settle());
    EXPECT_EQ(price(), "");
}

TEST_F(StudyWindow, AnotherStudyIsNotGoneOnWithUnderTheNameOfThis) {
    ParameterStudy many = settled("latin 3000");
    many.varied = {"L1.l: 22u +- 20 %"};
    open(many);
    study().run();
    ASSERT_TRUE(QTest::qWaitFor([&] { return study().table() && study().table()->rows() > 5; }, 30'000));
    study().stop();
    ASSERT_TRUE(wait());
    const std::size_t there = study().table()->rows();
    ParameterStudy other = settled("corners");
    other.name = "other";
    ASSERT_TRUE(window.workspace().apply(edits::setParameterStudy("other", other)));
    study().open();
    pick(window.find<QComboBox>("studyName"), "other");
    ASSERT_TRUE(window.find<QPushButton>("studyGoOn")->isEnabled());
    study().goOn();
    ASSERT_TRUE(QTest::qWaitFor([&] { return study().table()->rows() > there + 5; }, 30'000)) << text("studyNote").toStdString();
    study().stop();
    ASSERT_TRUE(wait());
    EXPECT_EQ(study().table()->varied, std::vector<std::string>{"L1.l"}) << "the one that is shown goes on as it was asked";
}

TEST_F(StudyWindow, MoreRunsOfTheSameQuestionComeBehindTheOthers) {
    ParameterStudy asked = settled("random 8");
    asked.varied = {"L1.l: 22u +- 20 %"};
    open(asked);
    study().run();
    ASSERT_TRUE(wait());
    ASSERT_EQ(study().table()->rows(), 8u);
    EXPECT_FALSE(window.find<QPushButton>("studyGoOn")->isEnabled());
    auto* runs = window.find<QLineEdit>("studyRuns");
    runs->setText("random 12");
    emit runs->editingFinished();
    EXPECT_TRUE(window.find<QPushButton>("studyGoOn")->isEnabled());
    const auto before = study().table()->values[0];
    study().goOn();
    ASSERT_TRUE(wait());
    ASSERT_EQ(study().table()->rows(), 12u);
    for (std::size_t i = 0; i < 8; ++i) EXPECT_EQ(study().table()->values[0][i], before[i]);
    runs->setText("random 4");
    emit runs->editingFinished();
    study().goOn();
    ASSERT_TRUE(wait());
    EXPECT_TRUE(text("studyNote").contains("8 of 12 runs that are done are none of these")) << text("studyNote").toStdString();
    EXPECT_EQ(study().table()->rows(), 12u);
}

/// Stand-ins for the programs of a cluster: sbatch works on the tasks at once, one after the other.
class StudyOnACluster : public testing::Test {
protected:
    void SetUp() override {
        const auto program = [&](const char* name, const QString& text) {
            QFile file(folder.filePath(name));
            ASSERT_TRUE(file.open(QIODevice::WriteOnly));
            file.write(("#!/bin/sh\n" + text).toUtf8());
            file.setPermissions(QFile::ReadOwner | QFile::WriteOwner | QFile::ExeOwner);
        };
        program("sbatch", "for a in \"$@\"; do case $a in --array=*) n=${a#--array=};; esac; s=$before; before=$a; done\n"
                          "if [ -e '" + folder.filePath("closed") + "' ]; then echo 'no nodes tonight' >&2; exit 1; fi\n"
                          "for t in $(seq ${n%-*} ${n#*-}); do SLURM_ARRAY_TASK_ID=$t sh \"$s\" \"$a\" || exit 1; done\necho 7\n");
        program("squeue", "exit 0\n");
        program("scancel", "exit 0\n");
        program("scontrol", "exit 1\n");
        before = qgetenv("PATH");
        qputenv("PATH", folder.path().toUtf8() + ":" + before);
        qputenv("SLURM_CONF", "/dev/null");
    }
    void TearDown() override {
        qputenv("PATH", before);
        qunsetenv("SLURM_CONF");
    }
    QTemporaryDir folder;
    QByteArray before;
};

TEST_F(StudyOnACluster, TheRowsOfTasksComeIntoTheWindow) {
    Window window;
    auto loaded = loadHedge(HEDGEROW_SHARED "/examples/med-aux.hedge");
    ASSERT_TRUE(loaded);
    loaded->project.parameterStudies = {{.name = "ripple", .varied = {"L1.l: 15u, 22u, 33u", "Vin: 70, 90"}, .measured = {"pp of L1.i below 5"},
                                         .settle = true, .extra = {}}};
    const QString path = folder.filePath("mine.hedge");
    ASSERT_TRUE(saveHedge(loaded->project, path.toStdString()));
    ASSERT_TRUE(window.workspace().open(path));
    ASSERT_TRUE(window.settle());
    window->showStudy(true);
    QApplication::processEvents();
    StudyView& study = window->study();
    auto* where = window.find<QComboBox>("studyWhere");
    ASSERT_TRUE(where);
    where->setCurrentIndex(1);
    const auto wait = [&] { return QTest::qWaitFor([&] { return !study.busy(); }, 60'000) && (QTest::qWait(30), true); };
    study.run();
    ASSERT_TRUE(wait());
    ASSERT_TRUE(study.table()) << window.find<QLabel>("studyNote")->text().toStdString();
    EXPECT_EQ(study.table()->rows(), 6u) << window.find<QLabel>("studyNote")->text().toStdString();
    // It is found again beside the project.
    EXPECT_TRUE(QTest::qWaitFor([&] { return window.find<QComboBox>("studyKept")->count() == 2; }, 10'000));
    // What the site refuses is said in its own words.
    QFile closed(folder.filePath("closed"));
    ASSERT_TRUE(closed.open(QIODevice::WriteOnly));
    study.run();
    ASSERT_TRUE(wait());
    EXPECT_TRUE(window.find<QLabel>("studyNote")->text().contains("no nodes tonight")) << window.find<QLabel>("studyNote")->text().toStdString();
}

TEST_F(StudyWindow, ARowBecomesTheProject) {
    open(settled());
    study().run();
    ASSERT_TRUE(wait());
    const std::string before = vin();
    study().use(5);
    EXPECT_EQ(vin(), "90");
    EXPECT_EQ(*window.workspace().project().findPart("L1")->values.find("l"), "33u");
    window.workspace().undo();
    EXPECT_EQ(vin(), before);
}

TEST_F(StudyWindow, IsKeptStoppedAndGoneOnWith) {
    QTemporaryDir folder;
    const QString path = folder.filePath("mine.hedge");
    ParameterStudy many = settled("latin 4000");
    many.varied = {"L1.l: 22u +- 20 %", "Vin: 70 to 90"};
    open(many, path);
    study().run();
    ASSERT_TRUE(QTest::qWaitFor([&] { return study().table() && study().table()->rows() > 20; }, 30'000));
    QTest::mouseClick(window.find<QPushButton>("studyRun"), Qt::LeftButton);
    ASSERT_TRUE(wait());
    ASSERT_TRUE(study().table());
    const std::size_t there = study().table()->rows();
    ASSERT_LT(there, 4000u) << "it was stopped";
    EXPECT_TRUE(window.find<QPushButton>("studyGoOn")->isEnabled());
    study().goOn();
    ASSERT_TRUE(QTest::qWaitFor([&] { return study().table()->rows() > there + 20; }, 30'000));
    study().stop();
    ASSERT_TRUE(wait());
    const std::size_t more = study().table()->rows();
    EXPECT_GT(more, there);
    // Another window finds it beside the project.
    ASSERT_TRUE(window.workspace().open(path));
    ASSERT_TRUE(window.settle());
    window->showStudy(true);
    ASSERT_TRUE(QTest::qWaitFor([&] { return study().table() != nullptr; }, 30'000));
    EXPECT_EQ(study().table()->rows(), more);
}

TEST_F(StudyWindow, MistakesAreSaidAndNothingIsRun) {
    open(settled());
    auto* varied = window.find<QPlainTextEdit>("studyVaried");
    varied->setFocus();
    varied->setPlainText("L7.l: 1u, 2u");
    study().run();
    ASSERT_TRUE(wait());
    EXPECT_TRUE(text("studyNote").contains("L7")) << text("studyNote").toStdString();
    EXPECT_EQ(window.workspace().project().parameterStudies.front().varied, std::vector<std::string>{"L7.l: 1u, 2u"});
    varied->setPlainText("");
    study().run();
    ASSERT_TRUE(wait());
    EXPECT_TRUE(text("studyNote").contains("nothing varies"));
    window.find<QLineEdit>("studyRuns")->setText("now and then");
    varied->setPlainText("L1.l: 1u, 2u");
    study().run();
    ASSERT_TRUE(wait());
    EXPECT_TRUE(text("studyNote").contains("now and then"));
}

TEST_F(StudyWindow, IsLeftInTheMiddle) {
    ParameterStudy many = settled("latin 4000");
    many.varied = {"L1.l: 22u +- 20 %"};
    open(many);
    study().run();
    ASSERT_TRUE(QTest::qWaitFor([&] { return study().table() && study().table()->rows() > 5; }, 30'000));
    ASSERT_TRUE(window.workspace().open(HEDGEROW_SHARED "/examples/chopped-load.hedge"));
    ASSERT_TRUE(wait());
    EXPECT_FALSE(study().isVisible());
    EXPECT_FALSE(study().table());
    EXPECT_EQ(window.find<QPushButton>("studyRun")->text(), "Run study");
    window->showStudy(true);
    EXPECT_FALSE(window.find<QPlainTextEdit>("studyVaried")->toPlainText().isEmpty()) << "a question that suits the circuit";
}

TEST_F(StudyWindow, AHundredThousandRowsAreSortedAndFiltered) {
    app::StudyModel model;
    auto table = std::make_shared<StudyTable>();
    table->varied = {"A", "B"}, table->variedUnits = {"F", ""}, table->measured = {"mean of out.v"}, table->measuredUnits = {"V"};
    table->above = {std::nullopt}, table->below = {0.5};
    for (std::size_t i = 0; i < 100'000; ++i)
        table->add({.index = i, .point = {std::to_string((i * 7919) % 100'003) + "n", "word " + std::to_string(i % 10)},
                    .values = i % 1000 == 0 ? std::vector<double>() : std::vector<double>{static_cast<double>(i) / 1e5},
                    .error = i % 1000 == 0 ? "it failed" : "", .good = i < 50'000});
    model.set(table);
    EXPECT_EQ(model.rowCount(), 100'000);
    model.sort(1, Qt::DescendingOrder);
    EXPECT_GE(table->number(model.rowOf(0), 0), table->number(model.rowOf(1), 0));
    model.sort(3, Qt::AscendingOrder);
    EXPECT_EQ(model.rowOf(0), 1u) << "what failed stays at the end";
    model.filter("failed");
    EXPECT_EQ(model.rowCount(), 100);
    model.filter("word 3");
    EXPECT_EQ(model.rowCount(), 10'000);
    model.filter("beyond limits");
    EXPECT_EQ(model.rowCount(), 50'000 - 50);
    model.filter("");
    EXPECT_EQ(model.data(model.index(0, 2), Qt::DisplayRole).toString(), "word 1");
}

TEST_F(StudyWindow, OddClicksDoNoHarm) {
    open(settled());
    auto* plot = window.find<QCustomPlot>("studyPlot");
    QTest::mouseClick(plot, Qt::LeftButton, {}, plot->rect().center());
    study().showRows({});
    study().showRows({99});
    study().use(99);
    study().goOn();
    study().stop();
    EXPECT_FALSE(study().writeTable("/nowhere/x.csv"));
    study().run();
    study().run();
    study().stop();
    ASSERT_TRUE(wait());
    for (const char* name : {"studyMeasure", "studyPicture", "studyOver", "studyKept", "studyName"}) {
        auto* box = window.find<QComboBox>(name);
        for (int i = box->count() - 1; i >= -1; --i) {
            box->setCurrentIndex(i);
            emit box->activated(i);
        }
    }
    window->grab();
    SUCCEED();
}

}  // namespace
