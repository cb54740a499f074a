// Modules in the window: making, opening, leaving, libraries, and the user's own parts.

#include <gtest/gtest.h>

#include <QLabel>
#include <QListWidget>
#include <QTextBrowser>

#include "model/modules.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

QString example(const char* name) { return QString(HEDGEROW_SHARED "/examples/") + name; }

const Part* named(Window& window, const char* name) { return window.workspace().project().findPart(name); }

void selectNamed(Window& window, const std::vector<const char*>& names) {
    std::set<int> ids;
    for (const char* name : names) ids.insert(named(window, name)->id);
    window.workspace().select(ids);
    window.sheet().setFocus();
}

void makeLeg(Window& window) {
    selectNamed(window, {"S1", "D1", "S2", "D2"});
    window.key(Qt::Key_K, Qt::ControlModifier);
    for (int i = 0; i < 10; ++i) window.key(Qt::Key_Backspace);
    window.type("leg");
    window.key(Qt::Key_Return);
}

QString here(Window& window) {
    auto* label = window.find<QLabel>("path.here");
    return label && label->isVisible() ? label->text() : QString();
}

void run(Window& window, const char* command) {
    const app::Command* found = window->commands().find(command);
    ASSERT_TRUE(found) << command;
    found->run();
}

}  // namespace

TEST(ModulesInTheWindow, ASelectionBecomesAModuleThatIsOpenedAndLeftByKeys) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    makeLeg(window);
    ASSERT_TRUE(named(window, "X1"));
    EXPECT_EQ(named(window, "X1")->kind, "module:leg");
    EXPECT_FALSE(named(window, "S1"));
    EXPECT_EQ(window.workspace().selectedPart(), named(window, "X1"));
    EXPECT_EQ(here(window), "");

    window.key(Qt::Key_I, Qt::ControlModifier);
    ASSERT_TRUE(named(window, "S1")) << "its sheet is in view";
    window.settle();
    EXPECT_TRUE(here(window).contains("X1, module leg"));
    selectNamed(window, {"S1"});
    auto* field = window.find<QLineEdit>("field.ron");
    ASSERT_TRUE(field);
    field->setFocus();
    field->selectAll();
    window.type("20m");
    window.key(Qt::Key_Return);
    EXPECT_EQ(*named(window, "S1")->values.find("ron"), "20m");
    window.sheet().setFocus();
    window.key(Qt::Key_U, Qt::ControlModifier);
    EXPECT_TRUE(named(window, "X1"));
    EXPECT_EQ(window.workspace().selectedPart(), named(window, "X1")) << "where one came from";

    window.key(Qt::Key_Return, Qt::ControlModifier);
    ASSERT_TRUE(window.waitForRun());
    ASSERT_TRUE(window.workspace().problems().empty());
    ASSERT_TRUE(window.workspace().trace("X1.S1.i"));
    EXPECT_GT(window.workspace().trace("X1.S1.i")->size(), 100u);
    window.key(Qt::Key_I, Qt::ControlModifier);
    EXPECT_EQ(window.workspace().outside("S1.i"), "X1.S1.i");
    EXPECT_EQ(window.workspace().outside("sw.v"), "sw.v") << "the net goes by its name outside";
    window.sheet().setFocus();
    window.key(Qt::Key_U, Qt::ControlModifier);

    window.workspace().undo();
    EXPECT_TRUE(named(window, "S1")) << "undo shows where the change was made";
    window.workspace().undo();
    EXPECT_EQ(window.workspace().project().sheets.size(), 1u);
    EXPECT_EQ(here(window), "");
}

TEST(ModulesInTheWindow, AFaultInsideIsShownAtThePlaceAndJumpedTo) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    makeLeg(window);
    ASSERT_TRUE(window.workspace().apply({"fault", [](Project& project) -> Status {
                                              project.sheets[1].parts[0].values.set("ron", "-1");
                                              return {};
                                          }}));
    window.sheet().setFocus();
    window.key(Qt::Key_Return, Qt::ControlModifier);
    ASSERT_EQ(window.workspace().problems().size(), 1u);
    EXPECT_EQ(window.workspace().problems()[0].part, "X1.S1");
    EXPECT_EQ(window.workspace().partInView("X1.S1"), named(window, "X1"));
    const auto found = [&] {
        const auto& checks = window.workspace().checks();
        return !checks.empty() && checks.front().error.part == "X1.S1";
    };
    ASSERT_TRUE(QTest::qWaitFor(found, 5000));
    window.sheet().setFocus();
    window.key(Qt::Key_L, Qt::ControlModifier);
    window.key(Qt::Key_Return);
    ASSERT_TRUE(named(window, "S1")) << "the list leads into the module";
    EXPECT_EQ(window.workspace().selectedPart(), named(window, "S1"));
}

TEST(ModulesInTheWindow, AModuleOfTheLibraryIsTypedAndReadOnlyUntilMadeOwn) {
    Window window;
    window.place("h_bridge", {240, 160});
    ASSERT_TRUE(named(window, "X1"));
    const Project& project = window.workspace().project();
    EXPECT_TRUE(project.findSheet("h_bridge") && project.findSheet("leg")) << "with what it needs";
    EXPECT_TRUE(window.find<QLineEdit>("field.Ron")) << "what the place can set stands on the card";
    window.sheet().setFocus();
    window.key(Qt::Key_I, Qt::ControlModifier);
    selectNamed(window, {"A"});
    window.key(Qt::Key_I, Qt::ControlModifier);
    window.settle();
    EXPECT_TRUE(here(window).contains("X1") == false && here(window).contains("A, module leg"));
    selectNamed(window, {"S1"});
    window.key(Qt::Key_Delete);
    EXPECT_TRUE(named(window, "S1")) << "a library's module stays as it is";
    EXPECT_TRUE(window.find<QLabel>("message")->text().contains("library standard"));
    auto* own = window.find<QPushButton>("path.own");
    ASSERT_TRUE(own);
    QTest::mouseClick(own, Qt::LeftButton);
    window.settle();
    selectNamed(window, {"S1"});
    window.key(Qt::Key_Delete);
    EXPECT_FALSE(named(window, "S1"));
    auto* back = window.find<QPushButton>("path.X1");
    ASSERT_TRUE(back);
    QTest::mouseClick(back, Qt::LeftButton);
    window.settle();
    EXPECT_TRUE(named(window, "B")) << "one sheet up";
}

TEST(ModulesInTheWindow, OwnPartsAreFoundByTheirWordInEveryProject) {
    Window window;
    window.place("l 47u dcr 12m", {240, 160});
    selectNamed(window, {"L1"});
    run(window, "Keep the part under a word…");
    for (int i = 0; i < 10; ++i) window.key(Qt::Key_Backspace);
    window.type("choke47");
    window.key(Qt::Key_Return);
    ASSERT_EQ(window.workspace().project().kept.size(), 1u);
    window.workspace().select({});
    run(window, "Share in my library");

    Window other;
    other.place("choke47 dcr 20m", {240, 160});
    ASSERT_TRUE(named(other, "L1"));
    EXPECT_EQ(*named(other, "L1")->values.find("l"), "47u");
    EXPECT_EQ(*named(other, "L1")->values.find("dcr"), "20m") << "what is typed behind the word counts";
    EXPECT_EQ(named(other, "L1")->rung, 2);
    EXPECT_FALSE(other.find<QListWidget>("partList")->findItems("choke47", Qt::MatchExactly).isEmpty());
}

// Makers' cards become parts under their names and modules; the page says line by line what was not taken.
TEST(ModulesInTheWindow, MakersCardsCanBePlacedByName) {
    Window window;
    window->readCards(QString(HEDGEROW_SHARED "/examples/medlar-devices.cards"));
    auto* page = window->findChild<QTextBrowser*>();
    ASSERT_TRUE(page);
    EXPECT_NE(page->toPlainText().indexOf("MDF60"), -1);
    EXPECT_NE(page->toPlainText().indexOf("EG=1.11"), -1);
    page->window()->close();
    window->activateWindow();
    ASSERT_TRUE(QTest::qWaitForWindowActive(window.operator->()));
    window.sheet().setFocus();
    window.place("MDF60", {240, 160});
    ASSERT_TRUE(named(window, "D1"));
    EXPECT_EQ(named(window, "D1")->kind, "zener");
    EXPECT_EQ(named(window, "D1")->rung, 4);
    EXPECT_EQ(*named(window, "D1")->values.find("vz"), "68");
    window.place("mll22", {440, 160});
    EXPECT_TRUE(window.workspace().project().findSheet("MLL22")) << "its module came with it";
    window->readCards("/no/such/file");
    EXPECT_NE(window.find<QLabel>("message")->text().indexOf("cannot be read"), -1);
}
