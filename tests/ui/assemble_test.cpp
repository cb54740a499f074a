// From an empty sheet to a measured waveform and back, in the real window.

#include <gtest/gtest.h>

#include <QClipboard>
#include <QComboBox>
#include <QListWidget>
#include <QTemporaryDir>

#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

/// Five parts by typing, five wires by clicking pins: a source into an RC through an inductor.
void assemble(Window& window) {
    window.place("dc 10", {160, 240});
    window.place("l 100u", {272, 160});
    window.place("c 10u", {400, 240});
    window.place("r 5", {496, 240});
    window.place("ref", {160, 320});
    const auto join = [&](Point a, Point b) {
        window.click(a);
        window.click(b);
    };
    join({160, 208}, {240, 160});
    join({304, 160}, {400, 208});
    join({400, 208}, {496, 208});
    join({160, 272}, {160, 320});
    join({160, 320}, {400, 272});
    join({400, 272}, {496, 272});
}

}  // namespace

TEST(Assemble, FromTypedPartsToAMeasureAndBack) {
    Window window;
    const Project empty = window.workspace().project();
    assemble(window);
    const Sheet sheet = window.workspace().project().sheet();
    ASSERT_EQ(sheet.parts.size(), 5u);
    EXPECT_EQ(sheet.parts[1].name, "L1");
    EXPECT_EQ(*sheet.parts[1].values.find("l"), "100u");
    EXPECT_EQ(sheet.wires.size(), 6u);

    // Point at the output wire and name it.
    window.point({448, 208});
    window.sheet().setFocus();
    window.type("net out");
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().nets().of({sheet.parts[2].id, 0}).name, "out");

    auto* run = window.find<QPushButton>("primary");
    ASSERT_TRUE(run);
    QTest::mouseClick(run, Qt::LeftButton);
    ASSERT_TRUE(window.waitForRun());
    ASSERT_TRUE(window.workspace().shownRun());
    ASSERT_EQ(window.workspace().shownRun()->run->summary().end, RunEnd::finished)
        << window.workspace().shownRun()->run->summary().brief();

    // The settled output is the source: 10 V.
    window->timeline().lanes().show("out.v");
    Trace* trace = window.workspace().trace("out.v");
    ASSERT_TRUE(trace);
    const auto measures = trace->measure(toTicks(15e-3), toTicks(20e-3));
    ASSERT_TRUE(measures);
    EXPECT_NEAR(measures->mean, 10.0, 1e-6);

    int steps = 0;
    while (window.workspace().history().canUndo()) {
        window.sheet().setFocus();
        window.key(Qt::Key_Z, Qt::ControlModifier);
        ASSERT_LT(++steps, 100);
    }
    Project now = window.workspace().project();
    now.lastId = empty.lastId;
    EXPECT_EQ(now, empty);
    EXPECT_GE(steps, 13);
    while (window.workspace().history().canRedo()) window.key(Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier);
    EXPECT_EQ(window.workspace().project().sheet().parts.size(), 5u);
}

TEST(Assemble, EntryLineShowsMistakesAndDoesNotPlaceThem) {
    Window window;
    window.point({200, 200});
    window.type("r -5");
    window.key(Qt::Key_Return);
    EXPECT_TRUE(window.workspace().project().sheet().parts.empty());
    window.key(Qt::Key_Escape);
    window.type("zzz");
    window.key(Qt::Key_Return);
    window.key(Qt::Key_Escape);
    EXPECT_TRUE(window.workspace().project().sheet().parts.empty());
}

TEST(Assemble, HangingPartsTurnAndFlip) {
    Window window;
    window.point({200, 200});
    window.type("switch");
    window.key(Qt::Key_Return);
    window.key(Qt::Key_Right);
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().project().sheet().parts[0].turn, 1);
    window.point({320, 200});
    window.type("switch");
    window.key(Qt::Key_Return);
    window.key(Qt::Key_Escape);
    EXPECT_EQ(window.workspace().project().sheet().parts.size(), 1u) << "Escape lets go";
}

TEST(Assemble, ValuesOfAHigherRungLiftThePart) {
    Window window;
    window.place("l 47u dcr 12m", {240, 200});
    EXPECT_EQ(window.workspace().project().sheet().parts[0].rung, 2);
}

TEST(Assemble, MoveCopyPasteDelete) {
    Window window;
    window.place("r 100", {240, 200});
    window.sheet().setFocus();
    window.key(Qt::Key_C, Qt::ControlModifier);
    window.point({400, 200});
    window.key(Qt::Key_V, Qt::ControlModifier);
    const Sheet& sheet = window.workspace().project().sheet();
    ASSERT_EQ(sheet.parts.size(), 2u);
    EXPECT_EQ(sheet.parts[1].name, "R2");
    EXPECT_EQ(*sheet.parts[1].values.find("r"), "100");
    const Point before = window.workspace().project().sheet().parts[0].at;
    window.drag({240, 200}, {240, 280});
    EXPECT_EQ(window.workspace().project().sheet().parts[0].at, before + Point(0, 80));
    window.key(Qt::Key_Right, Qt::ControlModifier);
    EXPECT_EQ(window.workspace().project().sheet().parts[0].turn, 1);
    window.key(Qt::Key_Delete);
    EXPECT_EQ(window.workspace().project().sheet().parts.size(), 1u);
    window.key(Qt::Key_A, Qt::ControlModifier);
    window.key(Qt::Key_X, Qt::ControlModifier);
    EXPECT_TRUE(window.workspace().project().sheet().parts.empty());
    EXPECT_TRUE(readClip(QApplication::clipboard()->text().toStdString()));
}

TEST(Assemble, ValuesAreEditedInPlace) {
    Window window;
    window.place("r 100", {240, 200});
    window.sheet().setFocus();
    window.key(Qt::Key_Return);
    auto* editor = window.find<QLineEdit>("inPlaceEditor");
    ASSERT_TRUE(editor);
    EXPECT_EQ(editor->text(), "100");
    window.type("4k7");
    window.key(Qt::Key_Return);
    EXPECT_EQ(*window.workspace().project().sheet().parts[0].values.find("r"), "4k7");
    // A wrong one stays in the editor and leaves the part as it is.
    window.sheet().setFocus();
    window.key(Qt::Key_Return);
    window.type("4 V");
    window.key(Qt::Key_Return);
    EXPECT_EQ(*window.workspace().project().sheet().parts[0].values.find("r"), "4k7");
    window.sheet().setFocus();
    window.key(Qt::Key_F2);
    window.type("Rload");
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().project().sheet().parts[0].name, "Rload");
}

TEST(Assemble, TheCardEditsTheSelectedPart) {
    Window window;
    window.place("l 47u", {240, 200});
    auto* field = window.find<QLineEdit>("field.l");
    ASSERT_TRUE(field);
    EXPECT_EQ(field->text(), "47u");
    field->setFocus();
    field->selectAll();
    window.type("22u");
    window.key(Qt::Key_Return);
    EXPECT_EQ(*window.workspace().project().sheet().parts[0].values.find("l"), "22u");
    EXPECT_FALSE(window.find<QLineEdit>("field.dcr")) << "a rung shows its own values only";
    window.sheet().setFocus();
    window.key(Qt::Key_PageUp);
    QApplication::processEvents();
    EXPECT_EQ(window.workspace().project().sheet().parts[0].rung, 2);
    ASSERT_TRUE(window.find<QLineEdit>("field.dcr"));
    auto* dcr = window.find<QLineEdit>("field.dcr");
    dcr->setFocus();
    window.type("2 V");
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().project().sheet().parts[0].values.find("dcr"), nullptr) << "a wrong unit is refused";
}

TEST(Assemble, ParametersArePartOfTheCardWhenNothingIsSelected) {
    Window window;
    auto* adding = window.find<QLineEdit>("newParameter");
    ASSERT_TRUE(adding);
    adding->setFocus();
    window.type("fsw = 150 kHz");
    window.key(Qt::Key_Return);
    ASSERT_EQ(window.workspace().project().parameters.size(), 1u);
    EXPECT_EQ(window.workspace().project().parameters[0].unit, "Hz");
    window.place("pwm fsw duty 0.3", {240, 200});
    ASSERT_EQ(window.workspace().project().sheet().parts.size(), 1u);
    EXPECT_EQ(*window.workspace().project().sheet().parts[0].values.find("f"), "fsw");
}

TEST(Assemble, ThePlanSaysHowARunStartsAndWhatIsStoredFiner) {
    Window window;
    window.place("v 10", {240, 200});
    window.workspace().select({});
    QApplication::processEvents();
    auto* adding = window.find<QLineEdit>("newTolerance");
    ASSERT_TRUE(adding);
    adding->setFocus();
    window.type("V1.i = 1e-6");
    window.key(Qt::Key_Return);
    QApplication::processEvents();
    ASSERT_EQ(window.workspace().plan().tolerances.size(), 1u);
    auto* finer = window.find<QLineEdit>("field.plan.tolerance.V1.i");
    ASSERT_TRUE(finer);
    finer->setFocus();
    finer->selectAll();
    window.type("1e-7");
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().plan().tolerances[0].second, "1e-7");
    auto* start = window.find<QLineEdit>("field.plan.start");
    ASSERT_TRUE(start);
    start->setFocus();
    start->selectAll();
    window.type("no such file");
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().plan().start, "given") << "what cannot be is refused";
    start->setFocus();
    start->selectAll();
    window.type("operating point");
    window.key(Qt::Key_Return);
    EXPECT_EQ(window.workspace().plan().start, "operating point");
    auto* clash = window.find<QComboBox>("plan.evenOut");
    ASSERT_TRUE(clash);
    clash->setFocus();
    window.key(Qt::Key_Down);
    QApplication::processEvents();
    EXPECT_TRUE(window.workspace().plan().evenOut);
    window.workspace().undo();
    EXPECT_FALSE(window.workspace().plan().evenOut);
}

TEST(Assemble, ZoomAndPanKeepThePlaceUnderThePointer) {
    Window window;
    window.place("r 1", {240, 200});
    const QPoint at = window.pixel({240, 200});
    const QPointF before = window.sheet().toSheet(at);
    QWheelEvent wheel(at, window.sheet().mapToGlobal(at), {}, {0, 240}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase,
                      false);
    QApplication::sendEvent(&window.sheet(), &wheel);
    EXPECT_NEAR(window.sheet().toSheet(at).x(), before.x(), 1e-6);
    EXPECT_NEAR(window.sheet().toSheet(at).y(), before.y(), 1e-6);
    EXPECT_GT(std::abs(window.pixel({248, 200}).x() - window.pixel({240, 200}).x()), 9);
    window.sheet().setFocus();
    window.key(Qt::Key_Home);
}

// A source by formula: typed with its formula, which stands on the sheet and on the card; mistakes are said by the run.
TEST(Assemble, ASourceByFormulaIsTypedAndRuns) {
    Window window;
    window.place("formula 3*x^2+1", {400, 240});
    const Part* source = window.workspace().project().findPart("E1");
    ASSERT_TRUE(source);
    EXPECT_EQ(source->kind, "voltage-by-formula");
    EXPECT_EQ(*source->values.find("formula"), "3*x^2+1");
    const int id = source->id;
    const auto pin = [&](const char* name) {
        const Part* part = window.workspace().project().findPart(id);
        const PartKind* kind = window.workspace().catalogue().find(part->kind);
        return part->toSheet(kind->pins[static_cast<std::size_t>(kind->findPin(name))].at);
    };
    auto& workspace = window.workspace();
    const auto label = [&](Point at, const char* net) { ASSERT_TRUE(workspace.apply(edits::setLabel(at, net))); };
    window.place("dc 2V", {160, 240});
    window.place("r 10", {560, 240});
    window.place("ref", {700, 400});
    const Part *supply = workspace.project().findPart("V1"), *load = workspace.project().findPart("R1"),
               *zero = workspace.project().findPart("REF1");
    ASSERT_TRUE(supply && load && zero);
    const Point plus = supply->toSheet({0, -32}), minus = supply->toSheet({0, 32}), upper = load->toSheet({0, -32}),
                lower = load->toSheet({0, 32}), reference = zero->at;
    label(plus, "in"), label(minus, "zero"), label(upper, "out"), label(lower, "zero"), label(reference, "zero");
    label(pin("p"), "out"), label(pin("n"), "zero"), label(pin("xp"), "in"), label(pin("xn"), "zero");
    window.sheet().setFocus();
    window.key(Qt::Key_Return, Qt::ControlModifier);
    ASSERT_TRUE(window.waitForRun());
    ASSERT_TRUE(workspace.shownRun());
    const Trace* out = workspace.trace("out.v");
    ASSERT_TRUE(out);
    EXPECT_EQ(workspace.project().findPart(id)->rung, 4);
    EXPECT_NEAR(*out->at(out->time(out->size() / 2)), 13, 1e-5) << "the formula itself";
    // Stepping down takes its tangent, and a caution says so.
    workspace.select({id});
    window.sheet().setFocus();
    window.key(Qt::Key_PageDown);
    EXPECT_EQ(workspace.project().findPart(id)->rung, 1);
    window.key(Qt::Key_Return, Qt::ControlModifier);
    ASSERT_TRUE(window.waitForRun());
    const Trace* stepped = workspace.trace("out.v");
    ASSERT_TRUE(stepped);
    EXPECT_NEAR(*stepped->at(stepped->time(stepped->size() / 2)), 1, 1e-6) << "the tangent at 0";
    EXPECT_TRUE(QTest::qWaitFor(
        [&] {
            return std::any_of(workspace.checks().begin(), workspace.checks().end(), [](const auto& check) {
                return check.error.part == "E1" && check.error.message.find("tangent") != std::string::npos;
            });
        },
        10'000));
}
