// Random keys and clicks in the real window: nothing breaks, and what is on the sheet can always be saved and loaded.

#include <gtest/gtest.h>

#include <random>

#include "formats/hedge/hedge.h"
#include "ui/window.h"

using namespace hedgerow;
using namespace hedgerow::test;

namespace {

class Monkey : public ::testing::TestWithParam<unsigned> {
protected:
    std::mt19937 random{GetParam()};

    /// Whatever has the keyboard, except what would open a menu and wait in it.
    QWidget* target(Window& window) {
        QWidget* now = QApplication::focusWidget();
        const bool usable =
            now && (now == &window.sheet() || now == &window->timeline().lanes() || qobject_cast<QLineEdit*>(now));
        if (usable) return now;
        window.sheet().setFocus();
        return &window.sheet();
    }

    /// Keys that open no file dialog.
    void press(Window& window) {
        static const std::vector<std::pair<Qt::Key, Qt::KeyboardModifiers>> keys = {
            {Qt::Key_Return, {}},
            {Qt::Key_Return, {}},
            {Qt::Key_Escape, {}},
            {Qt::Key_Tab, {}},
            {Qt::Key_Delete, {}},
            {Qt::Key_Left, {}},
            {Qt::Key_Right, {}},
            {Qt::Key_Up, {}},
            {Qt::Key_Down, {}},
            {Qt::Key_PageUp, {}},
            {Qt::Key_PageDown, {}},
            {Qt::Key_Home, {}},
            {Qt::Key_F2, {}},
            {Qt::Key_F6, {}},
            {Qt::Key_Z, Qt::ControlModifier},
            {Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier},
            {Qt::Key_C, Qt::ControlModifier},
            {Qt::Key_V, Qt::ControlModifier},
            {Qt::Key_X, Qt::ControlModifier},
            {Qt::Key_Right, Qt::ControlModifier},
            {Qt::Key_Up, Qt::ControlModifier},
            {Qt::Key_Return, Qt::ControlModifier},
            {Qt::Key_Period, Qt::ControlModifier},
            {Qt::Key_Space, {}},
            {Qt::Key_F, Qt::ControlModifier},
            {Qt::Key_R, Qt::ControlModifier},
            {Qt::Key_E, Qt::ControlModifier},
            {Qt::Key_J, Qt::ControlModifier},
            {Qt::Key_M, Qt::ControlModifier},
            {Qt::Key_1, Qt::ControlModifier},
            {Qt::Key_2, Qt::ControlModifier}};
        const auto& [key, modifiers] = keys[random() % keys.size()];
        QTest::keyClick(target(window), key, modifiers);
    }
    void type(Window& window) {
        static const std::vector<QString> texts = {"r 5",    "l 1m",   "c 1u",       "dc 10", "ref",   "d",
                                                   "switch", "pwm 1k", "const 1",    "net a", "net b", "47",
                                                   "zz",     "-",      "sine 10 50", "am"};
        if (random() % 2) QTest::keyClick(target(window), Qt::Key_Escape);
        for (const QChar c : texts[random() % texts.size()]) QTest::keyClick(target(window), c.toLatin1());
        for (auto returns = random() % 3; returns > 0; --returns) QTest::keyClick(target(window), Qt::Key_Return);
    }
    QPoint somewhere(const QWidget& widget) {
        return {static_cast<int>(random() % static_cast<unsigned>(std::max(1, widget.width()))),
                static_cast<int>(random() % static_cast<unsigned>(std::max(1, widget.height())))};
    }
    void point(Window& window) {
        QWidget* const targets[] = {&window.sheet(), &window.sheet(), &window.sheet(), &window->timeline().lanes()};
        QWidget& target = *targets[random() % 4];
        const QPoint at = somewhere(target);
        QTest::mouseMove(&target, at);
        switch (random() % 4) {
            case 0:
                break;
            case 1: {
                QTest::mousePress(&target, Qt::LeftButton, {}, at);
                const QPoint to = somewhere(target);
                QTest::mouseMove(&target, (at + to) / 2);
                QTest::mouseMove(&target, to);
                QTest::mouseRelease(&target, Qt::LeftButton, {}, to);
                break;
            }
            case 2: {
                QWheelEvent wheel(at, target.mapToGlobal(at), {}, {0, random() % 2 ? 120 : -120}, Qt::NoButton,
                                  Qt::NoModifier, Qt::NoScrollPhase, false);
                QApplication::sendEvent(&target, &wheel);
                break;
            }
            default:
                QTest::mouseClick(&target, Qt::LeftButton, {}, at);
        }
    }
};

}  // namespace

TEST_P(Monkey, NothingBreaks) {
    Window window;
    if (GetParam() % 2) {
        ASSERT_TRUE(window->open(QString(HEDGEROW_SHARED "/examples") + "/med-aux.hedge"));
    }
    int changes = 0;
    QObject::connect(&window.workspace(), &app::Workspace::projectChanged, [&changes] { ++changes; });
    for (int step = 0; step < 200; ++step) {
        const auto what = random() % 3;
        if (what == 0)
            press(window);
        else if (what == 1)
            type(window);
        else
            point(window);
        if (step % 20 != 0) continue;
        QApplication::processEvents();
        const std::string text = writeHedge(window.workspace().project());
        const auto again = readHedge(text);
        ASSERT_TRUE(again) << again.error().text();
        ASSERT_EQ(writeHedge(again->project), text);
    }
    window.workspace().stopRun();
    ASSERT_TRUE(window.waitForRun());
    EXPECT_GT(changes, 3) << "the monkey did something";
    while (window.workspace().history().canUndo()) window.workspace().undo();
}

INSTANTIATE_TEST_SUITE_P(Seeds, Monkey, ::testing::Range(1u, 7u));
