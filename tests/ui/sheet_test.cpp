// Work on the sheet beyond single parts: finding, copies, order, joining by name, files and the clipboard.

#include <gtest/gtest.h>

#include <sstream>

#include <QClipboard>
#include <QComboBox>
#include <QLabel>
#include <QListWidget>
#include <QMimeData>
#include <QPlainTextEdit>
#include <QTemporaryDir>
#include <QTextBlock>

#include "card/ladder.h"
#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "model/references.h"
#include "model/text_form.h"
#include "runs/registry.h"
#include "sheet/sheet_export.h"
#include "sheet/sheet_painter.h"
#include "shelf/shelf.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

QString example(const char* name) { return QString(HEDGEROW_SHARED "/examples") + "/" + name; }

const Part* named(Window& window, const char* name) { return window.workspace().project().findPart(name); }

bool joined(Window& window, const char* a, const char* b) {
    const auto net = [&](const std::string& pin) {
        const std::size_t dot = pin.find('.');
        const Part* part = window.workspace().project().findPart(pin.substr(0, dot));
        const PartKind* kind = window.workspace().catalogue().find(part->kind);
        return window.workspace().nets().netOfPin.at({part->id, kind->findPin(pin.substr(dot + 1))});
    };
    return net(a) == net(b);
}

}  // namespace

namespace {

std::set<std::string> textLines(const Project& project) {
    const Catalogue& catalogue = partLibrary().catalogue();
    std::istringstream text(writeText(project, catalogue, findNets(project.sheet(), catalogue)));
    std::set<std::string> lines;
    for (std::string line; std::getline(text, line);) {
        // Values count, not the order in which they were typed.
        TextCircuit read = readText(line, catalogue);
        std::vector<std::pair<std::string, std::string>> values = read.lines.at(0).values.all();
        std::sort(values.begin(), values.end());
        std::string sorted = read.lines[0].name + " " + read.lines[0].kind->id;
        for (const std::string& net : read.lines[0].nets) sorted += " " + net;
        sorted += " " + std::to_string(read.lines[0].rung);
        for (const auto& [key, value] : values) sorted += " " + key + "=" + value;
        lines.insert(sorted);
    }
    return lines;
}

/// The pins of a part's nets by name, for wires: chains from pin to pin.
std::vector<std::pair<std::string, std::string>> chains(const Project& project) {
    const Catalogue& catalogue = partLibrary().catalogue();
    std::vector<std::pair<std::string, std::string>> all;
    for (const Net& net : findNets(project.sheet(), catalogue).nets)
        for (std::size_t i = 0; i + 1 < net.pins.size(); ++i) {
            const auto name = [&](PinRef pin) {
                const Part& part = *project.findPart(pin.part);
                return part.name + "." + catalogue.find(part.kind)->pins[static_cast<std::size_t>(pin.pin)].name;
            };
            all.emplace_back(name(net.pins[i]), name(net.pins[i + 1]));
        }
    return all;
}

}  // namespace

// Each shipped circuit from an empty sheet, without the mouse: the same parts, values, nets and names.
TEST(Build, DemoCircuitsByKeyboardAlone) {
    for (const char* name : {"chopped-load.hedge", "mains-input.hedge", "med-aux.hedge"}) {
        SCOPED_TRACE(name);
        const Project goal = loadHedge(example(name).toStdString())->project;
        Window window;
        window->showMaximized();
        // Parameters, on the card: the next area after the sheet.
        for (const Parameter& p : goal.parameters) {
            window.sheet().setFocus();
            window.key(Qt::Key_Escape);
            window.key(Qt::Key_F6);
            for (int tabs = 0; tabs < 60 && QApplication::focusWidget()->objectName() != "newParameter"; ++tabs)
                window.key(Qt::Key_Tab);
            ASSERT_EQ(QApplication::focusWidget()->objectName(), "newParameter");
            window.type(QString::fromStdString(p.name + " = " + p.value + " " + p.unit).replace("Ω", "ohm"));
            window.key(Qt::Key_Return);
            window.settle();
        }
        window.sheet().setFocus();
        int count = 0;
        for (const Part& part : goal.sheet().parts) {
            QString typed = QString::fromStdString(part.kind);
            for (const auto& [key, value] : part.values.all()) typed += QString::fromStdString(" " + key + " " + value);
            window.type(typed);
            window.key(Qt::Key_Return);
            // To a place of its own, from where the last one was dropped.
            const auto shift = [&](Qt::Key key, int times) {
                for (int i = 0; i < times; ++i) window.key(key, Qt::ShiftModifier);
            };
            if (count == 0)
                shift(Qt::Key_Left, 24), shift(Qt::Key_Up, 16);
            else if (count % 4 == 0)
                shift(Qt::Key_Left, 48), shift(Qt::Key_Down, 16);
            else
                shift(Qt::Key_Right, 16);
            ++count;
            window.key(Qt::Key_Return);
            ASSERT_EQ(window.workspace().project().sheet().parts.size(), static_cast<std::size_t>(count))
                << typed.toStdString();
            const Part& placed = window.workspace().project().sheet().parts.back();
            if (placed.name != part.name) {
                window.key(Qt::Key_F2);
                window.type(QString::fromStdString(part.name));
                window.key(Qt::Key_Return);
            }
            while (window.workspace().project().sheet().parts.back().rung < part.rung) window.key(Qt::Key_PageUp);
            window.key(Qt::Key_Escape);
        }
        for (const auto& [a, b] : chains(goal)) {
            window.type(QString::fromStdString("join " + a + " " + b));
            window.key(Qt::Key_Return);
        }
        const Catalogue& catalogue = partLibrary().catalogue();
        for (const Net& net : findNets(goal.sheet(), catalogue).nets) {
            if (!net.labelled) continue;
            const Part& part = *goal.findPart(net.pins[0].part);
            const std::string pin = catalogue.find(part.kind)->pins[static_cast<std::size_t>(net.pins[0].pin)].name;
            window.type(QString::fromStdString("net " + net.name + " " + part.name + "." + pin));
            window.key(Qt::Key_Return);
        }
        EXPECT_EQ(textLines(window.workspace().project()), textLines(goal));
    }
}

namespace {

/// Clicks into a field of the card and types what is to stand there.
void fillField(Window& window, const std::string& name, const std::string& text) {
    if (auto* box = window.find<QComboBox>(QString::fromStdString("field." + name))) {
        box->showPopup();
        QAbstractItemView* list = box->view();
        const QModelIndex item = list->model()->index(box->findText(QString::fromStdString(text)), 0);
        ASSERT_TRUE(item.isValid()) << name << " " << text;
        QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, list->visualRect(item).center());
        window->activateWindow();  // the list was a window of its own
        QTest::qWait(1);
        return;
    }
    auto* field = window.find<QLineEdit>(QString::fromStdString("field." + name));
    ASSERT_TRUE(field) << name;
    QTest::mouseClick(field, Qt::LeftButton);
    field->selectAll();
    window.type(QString::fromStdString(text));
    window.key(Qt::Key_Return);
}

/// Clicks up the ladder on the card until the selected part stands on the rung.
void climbTo(Window& window, int rung) {
    auto* ladder = window->findChild<app::Ladder*>();
    for (int y = 4; ladder && y < ladder->height() && window.workspace().selectedPart()->rung != rung; y += 8) {
        QTest::mouseClick(ladder, Qt::LeftButton, {}, QPoint(ladder->width() / 2, y));
        ladder = window->findChild<app::Ladder*>();
    }
    EXPECT_EQ(window.workspace().selectedPart()->rung, rung);
}

void clickOnEmptySheet(Window& window) {
    QTest::mouseClick(&window.sheet(), Qt::LeftButton, {}, QPoint(4, window.sheet().height() - 4));
    QTest::qWait(1);
}

void buildByMouse(const Project& goal) {
    const Catalogue& catalogue = partLibrary().catalogue();
    Window window;
    window->showMaximized();
    auto* shelf = window.find<QListWidget>("partList");
    ASSERT_TRUE(shelf);
    window->shelf().show(app::Shelf::parts);
    for (const Parameter& p : goal.parameters) {
        clickOnEmptySheet(window);
        auto* adding = window.find<QLineEdit>("newParameter");
        ASSERT_TRUE(adding);
        QTest::mouseClick(adding, Qt::LeftButton);
        window.type(QString::fromStdString(p.name + " = " + p.value + " " + p.unit).replace("Ω", "ohm"));
        window.key(Qt::Key_Return);
        window.settle();
    }
    for (const Part& part : goal.sheet().parts) {
        const QString title = QString::fromStdString(catalogue.find(part.kind)->title);
        QListWidgetItem* item = nullptr;
        for (int i = 0; i < shelf->count(); ++i)
            if (shelf->item(i)->text() == title) item = shelf->item(i);
        ASSERT_TRUE(item) << title.toStdString();
        shelf->scrollToItem(item);
        QTest::mouseClick(shelf->viewport(), Qt::LeftButton, {}, shelf->visualItemRect(item).center());
        for (int turns = 0; turns < part.turn; ++turns) window.key(Qt::Key_Right);
        if (part.flip) {
            window.key(Qt::Key_Up);
            window.key(Qt::Key_Right);
            window.key(Qt::Key_Right);
        }
        window.click(part.at);
        const Part placed = window.workspace().project().sheet().parts.back();
        ASSERT_EQ(placed.kind, part.kind);
        ASSERT_EQ(placed.at, part.at);
        if (placed.name != part.name) {
            const app::PartText text =
                app::partText(placed, *catalogue.find(part.kind), window.workspace().parameters().lookup());
            const QPointF middle = text.nameBox.center();
            window.click({static_cast<int>(middle.x()), static_cast<int>(middle.y())});
            window.type(QString::fromStdString(part.name));
            window.key(Qt::Key_Return);
        }
        climbTo(window, part.rung);
        for (const auto& [key, value] : part.values.all()) fillField(window, key, value);
    }
    for (const auto& [a, b] : chains(goal)) {
        const auto at = [&](const std::string& pin) {
            return *placeNamed(window.workspace().project(), catalogue, pin);
        };
        if (joined(window, a.c_str(), b.c_str())) continue;
        window.drag(at(a), at(b));
        EXPECT_TRUE(joined(window, a.c_str(), b.c_str())) << a << " to " << b;
    }
    for (const Net& net : findNets(goal.sheet(), catalogue).nets) {
        if (!net.labelled) continue;
        const Part& part = *goal.findPart(net.pins[0].part);
        const std::string pin = catalogue.find(part.kind)->pins[static_cast<std::size_t>(net.pins[0].pin)].name;
        clickOnEmptySheet(window);
        window.point(*placeNamed(window.workspace().project(), catalogue, part.name + "." + pin));
        window.type(QString::fromStdString("net " + net.name));
        window.key(Qt::Key_Return);
    }
    EXPECT_EQ(textLines(window.workspace().project()), textLines(goal));
}

}  // namespace

// With the mouse: parts from the shelf, rungs and fields on the card, wires from pin to pin; only names and values are
// typed.
TEST(Build, TheDemoCircuitsByMouse) {
    for (const char* name : {"chopped-load.hedge", "mains-input.hedge", "med-aux.hedge"}) {
        SCOPED_TRACE(name);
        buildByMouse(loadHedge(example(name).toStdString())->project);
    }
}

TEST(Finder, FindsPartsNetsAndCommands) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    window.sheet().setFocus();
    window.key(Qt::Key_F, Qt::ControlModifier);
    auto* list = window.find<QListWidget>("finderList");
    ASSERT_TRUE(list->isVisible());
    EXPECT_GT(list->count(), 15) << "all commands are there to be read";
    window.type("C2");
    ASSERT_GT(list->count(), 0);
    EXPECT_EQ(list->item(0)->text(), "C2");
    window.key(Qt::Key_Return);
    EXPECT_FALSE(list->isVisible());
    ASSERT_TRUE(window.workspace().selectedPart());
    EXPECT_EQ(window.workspace().selectedPart()->name, "C2");
    window.key(Qt::Key_F, Qt::ControlModifier);
    window.type("select everything");
    EXPECT_EQ(list->count(), 1);
    window.key(Qt::Key_Return);
    EXPECT_GT(window.workspace().selection().size(), 10u);
    window.key(Qt::Key_F, Qt::ControlModifier);
    window.type("thyris");
    window.key(Qt::Key_Return);  // hangs on the pointer
    window.key(Qt::Key_Return);
    EXPECT_TRUE(named(window, "T1"));
    window.key(Qt::Key_F, Qt::ControlModifier);
    window.key(Qt::Key_Escape);
    EXPECT_TRUE(window.sheet().hasFocus());
}

TEST(Sheet, PartsAreRepeatedAndCopiedInRows) {
    Window window;
    window.place("r 4k7", {0, 0});
    window.point({160, 0});
    window.key(Qt::Key_Space);
    window.key(Qt::Key_Return, Qt::ShiftModifier);
    window.point({240, 0});
    window.key(Qt::Key_Return);
    ASSERT_TRUE(named(window, "R3"));
    EXPECT_EQ(*named(window, "R3")->values.find("r"), "4k7");
    window.workspace().select({named(window, "R1")->id});
    window.key(Qt::Key_R, Qt::ControlModifier);
    auto* editor = window.find<QLineEdit>("inPlaceEditor");
    ASSERT_TRUE(editor);
    EXPECT_EQ(editor->text(), "3 copies right 160");
    window.type("2 copies down 96");
    window.key(Qt::Key_Return);
    ASSERT_TRUE(named(window, "R5"));
    EXPECT_EQ(named(window, "R5")->at, (Point{0, 192}));
    EXPECT_EQ(window.workspace().project().sheet().parts.size(), 5u);
    EXPECT_EQ(window.workspace().history().undoLabel(), "2 copies");
    window.key(Qt::Key_Z, Qt::ControlModifier);
    EXPECT_FALSE(named(window, "R4"));
}

TEST(Sheet, AltDragsCopiesAndDrawsALasso) {
    Window window;
    window.place("c 22u", {0, 0});
    window.workspace().select({named(window, "C1")->id});
    window.point({0, 0});
    QTest::mousePress(&window.sheet(), Qt::LeftButton, Qt::AltModifier, window.pixel({0, 0}));
    const auto move = [&](Point to) {
        QMouseEvent event(QEvent::MouseMove, window.pixel(to), window.sheet().mapToGlobal(window.pixel(to)),
                          Qt::NoButton, Qt::LeftButton, Qt::AltModifier);
        QApplication::sendEvent(&window.sheet(), &event);
    };
    move({40, 0});
    move({120, 0});
    QTest::mouseRelease(&window.sheet(), Qt::LeftButton, Qt::AltModifier, window.pixel({120, 0}));
    ASSERT_TRUE(named(window, "C2"));
    EXPECT_EQ(named(window, "C1")->at, (Point{0, 0}));
    EXPECT_EQ(named(window, "C2")->at, (Point{120, 0}));
    // Around the second only.
    window.key(Qt::Key_Escape);
    QTest::mousePress(&window.sheet(), Qt::LeftButton, Qt::AltModifier, window.pixel({64, -72}));
    for (const Point to : {Point{200, -72}, Point{200, 72}, Point{64, 72}, Point{64, -64}}) move(to);
    QTest::mouseRelease(&window.sheet(), Qt::LeftButton, Qt::AltModifier, window.pixel({64, -64}));
    EXPECT_EQ(window.workspace().selection(), (std::set<int>{named(window, "C2")->id}));
}

// The symbol tells whether a transistor is an npn or a pnp, an n-channel or a p-channel, not the word beside it alone.
TEST(Sheet, SymbolsFollowTheChoiceOfAPart) {
    struct Kind {
        const char *typed, *key, *other;
    };
    for (const Kind& kind : {Kind{"bipolar", "polarity", "pnp"}, Kind{"mosfet-with-gate-pin", "channel", "p-channel"}}) {
        Window window;
        window.place(kind.typed, {0, 0});
        ASSERT_TRUE(named(window, "Q1")) << kind.typed;
        window.workspace().select({named(window, "Q1")->id});
        // Left of where name and values stand.
        const QRect symbol(window.pixel({-40, -40}), window.pixel({21, 40}));
        const auto picture = [&] {
            QApplication::processEvents();
            return window.sheet().grab(symbol).toImage();
        };
        const QImage before = picture();
        EXPECT_EQ(picture(), before);
        fillField(window, kind.key, kind.other);
        ASSERT_EQ(*named(window, "Q1")->values.find(kind.key), kind.other);
        EXPECT_NE(picture(), before) << kind.typed;
    }
}

TEST(Sheet, PinsAreJoinedByName) {
    Window window;
    window.place("r 10", {0, 0});
    window.place("c 22u", {160, 0});
    window.type("join R1.a C1.nope");
    window.key(Qt::Key_Return);
    EXPECT_TRUE(window.workspace().project().sheet().wires.empty()) << "there is no such pin";
    window.key(Qt::Key_Escape);
    window.type("join R1.a C1.a");
    window.key(Qt::Key_Return);
    EXPECT_TRUE(joined(window, "R1.a", "C1.a"));
}

TEST(Sheet, AValueBecomesAParameterByOneKey) {
    Window window;
    window.place("l 47u", {0, 0});
    window.workspace().select({named(window, "L1")->id});
    window.key(Qt::Key_M, Qt::ControlModifier);
    ASSERT_TRUE(window.find<QLineEdit>("inPlaceEditor"));
    window.type("Lout");
    window.key(Qt::Key_Return);
    ASSERT_EQ(window.workspace().project().parameters.size(), 1u);
    EXPECT_EQ(window.workspace().project().parameters[0].value, "47u");
    EXPECT_EQ(*named(window, "L1")->values.find("l"), "Lout");
}

TEST(Parameters, HaveUnitNoteRangeAndUses) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    window.workspace().select({});
    auto* link = window.find<QLabel>("parameterLink.Vin");
    ASSERT_TRUE(link);
    emit link->linkActivated("Vin");
    window.settle();
    const auto fill = [&](const char* field, const char* text) {
        auto* edit = window.find<QLineEdit>(QString("field.parameter.") + field);
        ASSERT_TRUE(edit) << field;
        edit->setFocus();
        edit->selectAll();
        window.type(text);
        window.key(Qt::Key_Return);
        window.settle();
    };
    fill("most", "90");
    fill("note", "traction battery");
    fill("name", "Ubat");
    const Parameter& now = window.workspace().project().parameters[0];
    EXPECT_EQ(now.name, "Ubat");
    EXPECT_EQ(now.most, "90");
    EXPECT_EQ(now.note, "traction battery");
    EXPECT_EQ(*named(window, "V1")->values.find("level"), "Ubat") << "the name followed";
    fill("value", "95");
    EXPECT_EQ(window.workspace().project().parameters[0].value, "80") << "out of range: it does not stand";
    EXPECT_TRUE(window.find<QLineEdit>("field.parameter.value")->property("bad").toBool());
    window.key(Qt::Key_Escape);
    EXPECT_FALSE(window.find<QPushButton>("removeParameter")) << "it is used";
}

TEST(Checks, AreListedWhileEditingAndJumpToTheirPart) {
    Window window;
    ASSERT_TRUE(window->open(example("med-aux.hedge")));
    auto* pill = window.find<QPushButton>("checksPill");
    EXPECT_TRUE(QTest::qWaitFor([&] { return !window.workspace().checks().empty() || !pill->isVisible(); }, 5000));
    (void)window.workspace().apply(edits::setValue({named(window, "C2")->id}, "esr", "-2m"));
    ASSERT_TRUE(QTest::qWaitFor([&] { return pill->isVisible() && pill->text() == "1 to put right"; }, 5000))
        << pill->text().toStdString();
    window.key(Qt::Key_L, Qt::ControlModifier);
    auto* list = window.find<QListWidget>("checksList");
    ASSERT_TRUE(list->isVisible());
    EXPECT_TRUE(list->item(0)->text().contains("C2")) << list->item(0)->text().toStdString();
    window.key(Qt::Key_Return);
    ASSERT_TRUE(window.workspace().selectedPart());
    EXPECT_EQ(window.workspace().selectedPart()->name, "C2");
    window.workspace().undo();
    EXPECT_TRUE(QTest::qWaitFor([&] { return !pill->text().contains("put right"); }, 5000));
}

TEST(Gallery, OpensCopiesFromCards) {
    Window window;
    window.key(Qt::Key_G, Qt::ControlModifier);
    auto* gallery = window.find<QFrame>("gallery");
    ASSERT_TRUE(gallery->isVisible());
    auto* card = window.find<QAbstractButton>("gallery.med-aux");
    ASSERT_TRUE(card && card->isVisible());
    card->setFocus();
    window.key(Qt::Key_Return);
    EXPECT_FALSE(gallery->isVisible());
    EXPECT_TRUE(named(window, "L1"));
    EXPECT_TRUE(window.workspace().path().isEmpty()) << "a copy: saving asks for a place";
    window.key(Qt::Key_G, Qt::ControlModifier);
    window.key(Qt::Key_Right);
    window.key(Qt::Key_Escape);
    EXPECT_FALSE(gallery->isVisible());
    EXPECT_TRUE(named(window, "L1")) << "nothing was chosen";
    window.key(Qt::Key_G, Qt::ControlModifier);
    window.find<QAbstractButton>("gallery.empty")->click();
    EXPECT_TRUE(window.workspace().project().sheet().parts.empty());
}

TEST(Text, BothViewsEditTheSameCircuit) {
    Window window;
    ASSERT_TRUE(window->open(example("chopped-load.hedge")));
    window.key(Qt::Key_T, Qt::ControlModifier);
    auto* text = window.find<QPlainTextEdit>("textView");
    ASSERT_TRUE(text->isVisible() && text->hasFocus());
    const auto line = [&](const char* name) {
        for (QTextBlock block = text->document()->begin(); block.isValid(); block = block.next())
            if (block.text().startsWith(QString(name) + " ")) return block;
        return QTextBlock();
    };
    ASSERT_TRUE(line("R1").isValid());
    // Typed at the end of the text: a part that appears on the sheet.
    text->moveCursor(QTextCursor::End);
    window.type("C9 capacitor R1.a R1.b c 1u");
    window.key(Qt::Key_Escape);
    ASSERT_TRUE(QTest::qWaitFor([&] { return named(window, "C9") != nullptr; }, 3000));
    EXPECT_TRUE(joined(window, "C9.a", "R1.a"));
    EXPECT_TRUE(joined(window, "C9.b", "R1.b"));
    // A mistake is marked and changes nothing.
    window.type(" cc 5");
    EXPECT_TRUE(QTest::qWaitFor([&] { return window.find<QLabel>("textMistake")->isVisible(); }, 3000));
    EXPECT_TRUE(window.find<QLabel>("textMistake")->text().contains("has no value 'cc'"));
    EXPECT_TRUE(named(window, "C9"));
    for (int i = 0; i < 5; ++i) window.key(Qt::Key_Backspace);
    EXPECT_TRUE(QTest::qWaitFor([&] { return !window.find<QLabel>("textMistake")->isVisible(); }, 3000));
    // The selection follows the cursor, and a change of the sheet shows in the text.
    text->setTextCursor(QTextCursor(line("R1")));
    ASSERT_TRUE(window.workspace().selectedPart());
    EXPECT_EQ(window.workspace().selectedPart()->name, "R1");
    window.sheet().setFocus();
    (void)window.workspace().apply(edits::setValue({named(window, "R1")->id}, "r", "33"));
    window.settle();
    EXPECT_TRUE(line("R1").text().contains(" r 33"));
    window.key(Qt::Key_T, Qt::ControlModifier);
    EXPECT_FALSE(text->isVisible());
}

TEST(Values, StepByKeyAndWheelOnTheSheetAndInTheCard) {
    Window window;
    window.place("c 22u", {0, 0});
    window.workspace().select({named(window, "C1")->id});
    window.key(Qt::Key_Return);
    window.key(Qt::Key_Up);
    window.key(Qt::Key_Return);
    EXPECT_EQ(*named(window, "C1")->values.find("c"), "24u");
    auto* field = window.find<QLineEdit>("field.c");
    ASSERT_TRUE(field);
    field->setFocus();
    const QPoint at = field->rect().center();
    QWheelEvent wheel(at, field->mapToGlobal(at), {}, {0, -120}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase,
                      false);
    QApplication::sendEvent(field, &wheel);
    window.key(Qt::Key_Return);
    EXPECT_EQ(*named(window, "C1")->values.find("c"), "22u");
}

TEST(Sheet, GoesToFilesAndTheClipboard) {
    Window window;
    ASSERT_TRUE(window->open(example("chopped-load.hedge")));
    QTemporaryDir folder;
    for (const auto& [name, magic] : {std::pair{"a.png", "\x89PNG"}, {"a.pdf", "%PDF"}, {"a.svg", "<?xml"}}) {
        const QString path = folder.filePath(name);
        const auto written = exportSheet(window.workspace(), path);
        ASSERT_TRUE(written) << name;
        QFile file(path);
        ASSERT_TRUE(file.open(QIODevice::ReadOnly));
        EXPECT_TRUE(file.readAll().startsWith(magic)) << name;
    }
    EXPECT_FALSE(exportSheet(window.workspace(), folder.filePath("a.xyz")));
    EXPECT_FALSE(exportSheet(window.workspace(), "/nowhere/a.png"));
    window.sheet().setFocus();
    window.key(Qt::Key_A, Qt::ControlModifier);
    window.key(Qt::Key_C, Qt::ControlModifier);
    const QMimeData* data = QApplication::clipboard()->mimeData();
    EXPECT_TRUE(data->data("image/svg+xml").startsWith("<?xml"));
    EXPECT_TRUE(data->text().contains("resistor"));
}

TEST(Sheet, TheLastUsedComesFirst) {
    Window window;
    window.place("thyristor", {0, 0});
    EXPECT_EQ(window.workspace().recentKinds().front(), "thyristor");
    const auto found = window.workspace().catalogue().search("tr", window.workspace().recentKinds());
    const auto before = window.workspace().catalogue().search("tr");
    EXPECT_EQ(found.size(), before.size());
    window.place("transformer", {200, 0});
    EXPECT_EQ(window.workspace().catalogue().search("t", window.workspace().recentKinds())[0]->id,
              window.workspace().recentKinds()[0]);
}
