#pragma once
// Driving the real window as a user does: keys and mouse, and what can be seen.

#include <memory>
#include <string>

#include <QApplication>
#include <QLineEdit>
#include <QPushButton>
#include <QtTest/QTest>

#include "sheet/sheet_view.h"
#include "window/main_window.h"
#include "timeline/timeline_view.h"

namespace hedgerow::test {

class Window {
public:
    Window() {
        app::patience = 30'000;  // tests look at what comes of it
        window_.resize(1280, 800);
        window_.show();
        EXPECT_TRUE(QTest::qWaitForWindowExposed(&window_));
        window_.activateWindow();
        sheet().setFocus();
        QApplication::processEvents();
    }
    app::MainWindow& operator*() { return window_; }
    app::MainWindow* operator->() { return &window_; }
    app::SheetView& sheet() { return window_.sheet(); }
    app::Workspace& workspace() { return window_.workspace(); }

    template <class Widget>
    Widget* find(const QString& name) {
        return window_.findChild<Widget*>(name);
    }

    /// Where a point of the sheet is in the widget.
    QPoint pixel(Point at) { return sheet().toWidget(QPointF(at.x, at.y)).toPoint(); }
    void point(Point at) {
        // A pointer that is there already would send no event.
        QTest::mouseMove(&sheet(), pixel(at) + QPoint(2, 1));
        QTest::mouseMove(&sheet(), pixel(at));
        QApplication::processEvents();
    }
    void click(Point at) {
        point(at);
        QTest::mouseClick(&sheet(), Qt::LeftButton, {}, pixel(at));
    }
    void drag(Point from, Point to) {
        point(from);
        QTest::mousePress(&sheet(), Qt::LeftButton, {}, pixel(from));
        point({(from.x + to.x) / 2, (from.y + to.y) / 2});
        point(to);
        QTest::mouseRelease(&sheet(), Qt::LeftButton, {}, pixel(to));
    }
    /// Types into whatever has the keyboard.
    void type(const QString& text) {
        for (const QChar c : text) QTest::keyClick(QApplication::focusWidget(), c.toLatin1());
    }
    void key(Qt::Key key, Qt::KeyboardModifiers modifiers = {}) {
        QTest::keyClick(QApplication::focusWidget(), key, modifiers);
    }

    /// Types a part at the pointer, and drops it there.
    void place(const QString& typed, Point at) {
        sheet().setFocus();
        point(at);
        type(typed);
        key(Qt::Key_Return);
        key(Qt::Key_Return);
    }
    /// Until the run is over and the window has taken note of it.
    bool waitForRun() {
        const auto noted = [this] {
            const auto& runs = workspace().runs();
            return !workspace().running() && (runs.empty() || !runs.front()->thread.joinable());
        };
        return QTest::qWaitFor(noted, 30'000) && settle();
    }
    bool settle() {
        QTest::qWait(50);
        return QTest::qWaitFor([this] { return !workspace().judging(); }, 30'000);
    }
    bool waitForPrice() {
        QTest::qWait(50);
        return QTest::qWaitFor([this] { return !workspace().pricing(); }, 30'000);
    }

private:
    app::MainWindow window_;
};

}  // namespace hedgerow::test
