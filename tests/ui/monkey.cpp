// A monkey at the real window: keys, clicks, drags, drops, menus, dialogs and commands at random, in every example and
// in a project with every kind of part on every rung, at any instant of a run. Each seed works in a process of its own.
// Where one falls over, or no longer answers, the shortest sequence found that repeats it is printed.
//
//   monkey [--seconds N] [--seed N]     seeds one after the other, for so long; the first is printed
//   monkey --replay FILE                the actions of a file, one a line, as they are printed
//
// Invariants
//  1. An action is five numbers. What they come to depends on the window only, so that any part of a sequence can be
//     done again.
//  2. After any action the project can be written, read back and written again to the same text.

#include <execinfo.h>
#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>
#include <algorithm>
#include <array>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <functional>
#include <iostream>
#include <random>
#include <sstream>
#include <string>
#include <thread>
#include <vector>

#include <QAbstractItemView>
#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QDropEvent>
#include <QFileDialog>
#include <QLineEdit>
#include <QMenu>
#include <QMimeData>
#include <QScreen>
#include <QTemporaryDir>
#include <QTimer>
#include <QUrl>
#include <QWindow>
#include <QtTest/QTest>

#include "formats/hedge/hedge.h"
#include "runs/registry.h"
#include "sheet/sheet_view.h"
#include "window/main_window.h"
#include "base/runs.h"
#include "style/theme.h"
#include "timeline/timeline_view.h"

/// For the leak check: a process that is ended at any instant frees nothing.
extern "C" const char* __asan_default_options() { return "detect_leaks=0:abort_on_error=0:exitcode=99"; }
extern "C" const char* __ubsan_default_options() { return "halt_on_error=1:print_stacktrace=1:exitcode=99"; }

namespace {

using namespace hedgerow;
namespace fs = std::filesystem;
using namespace std::chrono_literals;

constexpr int stepsOfSeed = 150;
constexpr auto patience = 40s;  ///< without an action: the window hangs

struct Action {
    std::array<unsigned, 5> n{};
};

std::string textOf(const Action& action) {
    std::ostringstream out;
    for (const unsigned number : action.n) out << number << ' ';
    return out.str();
}

std::vector<Action> readActions(const fs::path& file) {
    std::vector<Action> actions;
    std::ifstream in(file);
    for (std::string line; std::getline(in, line);) {
        std::istringstream numbers(line);
        Action action;
        bool good = true;
        for (unsigned& number : action.n) good = good && numbers >> number;
        if (good) actions.push_back(action);
    }
    return actions;
}

void writeActions(const fs::path& file, const std::vector<Action>& actions) {
    std::ofstream out(file, std::ios::trunc);
    for (const Action& action : actions) out << textOf(action) << '\n';
}

std::vector<Action> actionsOf(unsigned seed) {
    std::mt19937 random(seed);
    std::vector<Action> actions(stepsOfSeed);
    for (Action& action : actions)
        for (unsigned& number : action.n) number = static_cast<unsigned>(random() & 0xffff);
    return actions;
}

/// Every kind of part on every rung, in rows.
Project everything() {
    Project project;
    project.title = "everything";
    project.plans.front().end = "20u";
    Sheet& sheet = project.sheets.front();
    int count = 0;
    for (const PartKind* kind : partLibrary().catalogue().all())
        for (const RungKind& rung : kind->rungs) {
            Part part;
            part.id = project.newId();
            part.kind = kind->id;
            part.rung = rung.rung;
            part.name = kind->prefix + std::to_string(++count);
            part.at = {count % 20 * 160, count / 20 * 160};
            sheet.parts.push_back(part);
        }
    return project;
}

class Monkey {
public:
    explicit Monkey(const fs::path& folder) : folder_(folder) {
        for (const auto& entry : fs::directory_iterator(fs::path(HEDGEROW_SHARED) / "examples"))
            if (entry.path().extension() == ".hedge") {
                const fs::path copy = folder_ / entry.path().filename();
                fs::copy_file(entry.path(), copy, fs::copy_options::overwrite_existing);
                projects_.push_back(copy);
            }
        std::sort(projects_.begin(), projects_.end());
        (void)saveHedge(everything(), folder_ / "everything.hedge");
        projects_.push_back(folder_ / "everything.hedge");
        makeWindow();
        keepAnswering();
    }

    void act(const Action& action) {
        answers_.seed(action.n[4]);
        pending_ = 12;
        if (!window_) makeWindow();
        const auto& n = action.n;
        // Weights: what is done often stands often.
        static const std::vector<void (Monkey::*)(const Action&)> kinds = {
            &Monkey::key,     &Monkey::key,    &Monkey::key,    &Monkey::type,    &Monkey::type,      &Monkey::hover,
            &Monkey::hover,   &Monkey::hover,  &Monkey::click,  &Monkey::click,   &Monkey::click,     &Monkey::clickTwice,
            &Monkey::drag,    &Monkey::drag,   &Monkey::wheel,  &Monkey::context, &Monkey::command,   &Monkey::command,
            &Monkey::openOne, &Monkey::drop,   &Monkey::paste,  &Monkey::resize,  &Monkey::screen,    &Monkey::wait,
            &Monkey::wait,    &Monkey::undo,   &Monkey::run,    &Monkey::run,     &Monkey::leave,     &Monkey::focus,
            &Monkey::field,   &Monkey::item,   &Monkey::place,  &Monkey::select};
        (this->*kinds[n[0] % kinds.size()])(action);
        QApplication::processEvents(QEventLoop::AllEvents, 20);
    }

    /// "" when all is well.
    std::string faultInProject() {
        if (!window_) return "";
        const std::string text = writeHedge(window_->workspace().project());
        const auto again = readHedge(text);
        if (!again) return "the project cannot be read back: " + again.error().text();
        return writeHedge(again->project) == text ? "" : "the project read back is another one";
    }

private:
    void makeWindow() {
        window_ = std::make_unique<app::MainWindow>();
        window_->resize(1280, 800);
        window_->workspace().setRecoverySlot(std::make_unique<RecoverySlot>(folder_ / "recovery"));
        window_->show();
        (void)QTest::qWaitForWindowExposed(window_.get(), 2000);
        window_->activateWindow();
    }
    QPoint pointIn(const QWidget& widget, unsigned x, unsigned y) const {
        return {static_cast<int>(x % static_cast<unsigned>(std::max(1, widget.width()))),
                static_cast<int>(y % static_cast<unsigned>(std::max(1, widget.height())))};
    }
    /// A widget under a point of the window, and the point in it.
    std::pair<QWidget*, QPoint> at(unsigned x, unsigned y) {
        const QPoint point = pointIn(*window_, x, y);
        QWidget* widget = window_->childAt(point);
        if (!widget) widget = window_.get();
        return {widget, widget->mapFrom(window_.get(), point)};
    }
    QWidget* keyboard() {
        QWidget* now = QApplication::focusWidget();
        return now ? now : &window_->sheet();
    }
    static Qt::MouseButton button(unsigned n) {
        return std::array{Qt::LeftButton, Qt::LeftButton, Qt::LeftButton, Qt::RightButton, Qt::MiddleButton}[n % 5];
    }
    static Qt::KeyboardModifiers modifiers(unsigned n) {
        static const std::array<Qt::KeyboardModifiers, 7> all = {
            Qt::NoModifier,      Qt::NoModifier,  Qt::ControlModifier, Qt::ShiftModifier,
            Qt::ControlModifier | Qt::ShiftModifier, Qt::AltModifier, Qt::NoModifier};
        return all[n % all.size()];
    }

    /// As QTest does it, for every key there is.
    static void press(QWidget* widget, Qt::Key key, Qt::KeyboardModifiers with = Qt::NoModifier) {
        const bool letter = key >= Qt::Key_Space && key <= Qt::Key_AsciiTilde && !(with & ~Qt::ShiftModifier);
        QString text;
        if (letter) text = with ? QString(QChar(static_cast<char16_t>(key))) : QString(QChar(static_cast<char16_t>(key))).toLower();
        const QPointer<QWidget> still = widget;
        QTest::simulateEvent(widget, true, key, with, text, false);
        if (still) QTest::simulateEvent(widget, false, key, with, text, false);
    }
    void key(const Action& a) {
        static const std::vector<Qt::Key> keys = [] {
            std::vector<Qt::Key> all;
            for (int key = Qt::Key_Space; key <= Qt::Key_AsciiTilde; ++key) all.push_back(static_cast<Qt::Key>(key));
            for (int key = Qt::Key_F1; key <= Qt::Key_F12; ++key) all.push_back(static_cast<Qt::Key>(key));
            for (int times = 0; times < 4; ++times)
                for (const Qt::Key key :
                     {Qt::Key_Return, Qt::Key_Escape, Qt::Key_Tab, Qt::Key_Backtab, Qt::Key_Delete, Qt::Key_Backspace,
                      Qt::Key_Left, Qt::Key_Right, Qt::Key_Up, Qt::Key_Down, Qt::Key_PageUp, Qt::Key_PageDown,
                      Qt::Key_Home, Qt::Key_End, Qt::Key_Enter, Qt::Key_Menu, Qt::Key_Insert, Qt::Key_Undo})
                    all.push_back(key);
            return all;
        }();
        press(keyboard(), keys[a.n[1] % keys.size()], modifiers(a.n[2]));
    }
    void letters(const QString& text) {
        for (const QChar c : text)
            if (window_ && c.unicode() < 128) QTest::sendKeyEvent(QTest::Click, keyboard(), QTest::asciiToKey(c.toLatin1()), QString(c), Qt::NoModifier);
    }
    void type(const Action& a) {
        static const std::vector<QString> texts = {
            "r 5",        "l 1m dcr 2m", "c 1u",     "dc 10",      "ref",        "d",           "switch",
            "pwm 1k",     "const 1",     "net a",    "net b",      "47",         "zz",          "-",
            "sine 10 50", "am",          "task",     "code",       "join L1.b C1.a", "1e999",   "1/0",
            "-5",         "10 mH",       "nan",      "mosfet",     "leg",        "10m: V1 = 5", "x*y",
            "probe V",    "mean(out.v)", "task 10u", "transformer", "  ",        "999999999999999999999"};
        if (a.n[2] % 3 == 0) press(keyboard(), Qt::Key_Escape);
        letters(texts[a.n[1] % texts.size()]);
        for (unsigned returns = a.n[3] % 3; returns > 0 && window_; --returns)
            press(keyboard(), Qt::Key_Return);
    }
    /// Types a part over the sheet and drops it.
    void place(const Action& a) {
        static const auto& all = partLibrary().catalogue().all();
        app::SheetView& sheet = window_->sheet();
        if (!sheet.isVisible()) return;
        sheet.setFocus();
        QTest::mouseMove(&sheet, pointIn(sheet, a.n[2], a.n[3]));
        letters(QString::fromStdString(all[a.n[1] % all.size()]->id));
        press(keyboard(), Qt::Key_Return);
        if (window_) press(keyboard(), Qt::Key_Return);
    }
    void hover(const Action& a) {
        // Along a line, as a hand does; over the sheet and the lanes above all.
        QWidget* const favourites[] = {&window_->sheet(), &window_->sheet(), &window_->timeline().lanes(), nullptr};
        QWidget* favourite = favourites[a.n[3] % 4];
        for (unsigned step = 0; step < 6; ++step) {
            const unsigned x = a.n[1] + step * (a.n[4] % 97), y = a.n[2] + step * (a.n[4] % 61);
            const auto [widget, point] =
                favourite ? std::pair<QWidget*, QPoint>(favourite, pointIn(*favourite, x, y)) : at(x, y);
            QTest::mouseMove(widget, point);
        }
    }
    void click(const Action& a) {
        const auto [widget, point] = at(a.n[1], a.n[2]);
        QTest::mouseMove(widget, point);
        QTest::mouseClick(widget, button(a.n[3]), modifiers(a.n[3] / 5), point);
    }
    void clickTwice(const Action& a) {
        const auto [widget, point] = at(a.n[1], a.n[2]);
        QTest::mouseDClick(widget, Qt::LeftButton, modifiers(a.n[3]), point);
    }
    void drag(const Action& a) {
        const auto [widget, from] = at(a.n[1], a.n[2]);
        const QPoint to = pointIn(*widget, a.n[3], a.n[4]);
        const Qt::MouseButton pressed = button(a.n[4]);
        QTest::mouseMove(widget, from);
        QTest::mousePress(widget, pressed, modifiers(a.n[3]), from);
        QPointer<QWidget> still = widget;
        for (int part = 1; part <= 4 && still; ++part) QTest::mouseMove(widget, from + (to - from) * part / 4);
        if (still && a.n[4] % 7 == 0) press(still, Qt::Key_Escape);
        if (still) QTest::mouseRelease(still, pressed, modifiers(a.n[3]), to);
    }
    void wheel(const Action& a) {
        const auto [widget, point] = at(a.n[1], a.n[2]);
        const int turn = (a.n[3] % 2 ? 120 : -120) * static_cast<int>(1 + a.n[4] % 4);
        QWheelEvent event(point, widget->mapToGlobal(point), {}, a.n[3] % 5 ? QPoint(0, turn) : QPoint(turn, 0),
                          Qt::NoButton, modifiers(a.n[4]), Qt::NoScrollPhase, false);
        QApplication::sendEvent(widget, &event);
    }
    void context(const Action& a) {
        const auto [widget, point] = at(a.n[1], a.n[2]);
        QContextMenuEvent event(QContextMenuEvent::Mouse, point, widget->mapToGlobal(point));
        QApplication::sendEvent(widget, &event);
    }
    void command(const Action& a) {
        const auto& all = window_->commands().all();
        const app::Command& chosen = all[a.n[1] % all.size()];
        if (chosen.canRun()) chosen.run();
        if (window_ && !window_->isVisible()) window_.reset();
    }
    void openOne(const Action& a) {
        const fs::path& project = projects_[a.n[1] % projects_.size()];
        if (a.n[2] % 6 == 0)
            window_->workspace().adopt({}, {}, false);
        else
            (void)window_->open(QString::fromStdString(project.string()));
    }
    void drop(const Action& a) {
        const auto [widget, point] = at(a.n[1], a.n[2]);
        QMimeData data;
        switch (a.n[3] % 5) {
            case 0:
                data.setUrls({QUrl::fromLocalFile(QString::fromStdString(projects_[a.n[4] % projects_.size()].string()))});
                break;
            case 1:
                data.setText("out.v");
                break;
            case 2:
                data.setUrls({QUrl("file:///nowhere/at-all.csv"), QUrl("http://127.0.0.1/")});
                break;
            case 3:
                data.setData("application/octet-stream", QByteArray(1000, '\xff'));
                break;
            default:
                break;
        }
        QDragEnterEvent enter(point, Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(widget, &enter);
        QDragMoveEvent move(point, Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(widget, &move);
        QDropEvent dropped(point, Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(widget, &dropped);
    }
    void paste(const Action& a) {
        QClipboard* board = QApplication::clipboard();
        switch (a.n[1] % 7) {
            case 0:
                board->clear();
                break;
            case 1:
                board->setText(QString(20'000, QChar('x')));
                break;
            case 2:
                board->setText(QString::fromUtf8("{\"sheets\": [{\"parts\": [{}]}]}"));
                break;
            case 3:
                board->setText(QString::fromStdString(
                    writeClip(everything().sheets.front(), window_->workspace().project().sheets)));
                break;
            case 4:
                board->setText(QString::fromUtf8("\xd9\x85\xd8\xaa 80 V\n\t\0 \xf0\x9f\x8c\xbf"));
                break;
            case 5: {
                auto* data = new QMimeData;
                data->setData("image/png", "no picture");
                board->setMimeData(data);
                break;
            }
            default:
                break;  // what is there
        }
        if (a.n[2] % 3 == 0) {
            const auto [widget, point] = at(a.n[3], a.n[4]);
            QTest::mouseClick(widget, Qt::MiddleButton, {}, point);
        } else {
            press(keyboard(), Qt::Key_V, Qt::ControlModifier);
        }
    }
    void resize(const Action& a) {
        window_->resize(200 + static_cast<int>(a.n[1] % 2200), 150 + static_cast<int>(a.n[2] % 1500));
        if (a.n[3] % 9 == 0) window_->showMinimized(), window_->showNormal();
        if (a.n[3] % 9 == 1) window_->showFullScreen(), window_->showNormal();
    }
    /// To a screen with another scale.
    void screen(const Action& a) {
        const QList<QScreen*> all = QGuiApplication::screens();
        QScreen* next = all[static_cast<qsizetype>(a.n[1] % static_cast<unsigned>(all.size()))];
        if (window_->windowHandle()) window_->windowHandle()->setScreen(next);
        window_->move(next->geometry().topLeft());
        if (a.n[2] % 4 == 0) QApplication::setLayoutDirection(a.n[3] % 2 ? Qt::RightToLeft : Qt::LeftToRight);
    }
    void wait(const Action& a) { QTest::qWait(static_cast<int>(a.n[1] % 120)); }
    void undo(const Action& a) {
        for (unsigned times = 0; times <= a.n[1] % 6; ++times)
            a.n[2] % 3 ? window_->workspace().undo() : window_->workspace().redo();
    }
    void run(const Action& a) {
        window_->workspace().startRun();
        QTest::qWait(static_cast<int>(a.n[1] % 60));
        if (a.n[2] % 4 == 0 && window_) window_->workspace().stopRun();
    }
    /// The window goes, with whatever runs in it.
    void leave(const Action& a) {
        if (a.n[1] % 5 == 0) window_.reset();
    }
    template <class Kind>
    std::vector<Kind*> visible() {
        std::vector<Kind*> found;
        for (Kind* child : window_->findChildren<Kind*>())
            if (child->isVisible() && child->isEnabled()) found.push_back(child);
        return found;
    }
    void focus(const Action& a) {
        std::vector<QWidget*> all = visible<QWidget>();
        std::erase_if(all, [](QWidget* widget) { return widget->focusPolicy() == Qt::NoFocus; });
        if (!all.empty()) all[a.n[1] % all.size()]->setFocus();
    }
    void field(const Action& a) {
        const std::vector<QLineEdit*> all = visible<QLineEdit>();
        if (all.empty()) return;
        QLineEdit* edit = all[a.n[1] % all.size()];
        edit->setFocus();
        if (a.n[2] % 2) edit->selectAll();
        type(a);
    }
    void item(const Action& a) {
        const std::vector<QAbstractItemView*> all = visible<QAbstractItemView>();
        if (all.empty()) return;
        QAbstractItemView* view = all[a.n[1] % all.size()];
        const int rows = view->model() ? view->model()->rowCount(view->rootIndex()) : 0;
        if (rows == 0) return;
        const QModelIndex index = view->model()->index(static_cast<int>(a.n[2] % static_cast<unsigned>(rows)), 0);
        view->setCurrentIndex(index);
        view->scrollTo(index);
        const QPoint point = view->visualRect(index).center();
        if (a.n[3] % 3 == 0)
            QTest::mouseDClick(view->viewport(), Qt::LeftButton, {}, point);
        else
            QTest::mouseClick(view->viewport(), button(a.n[3]), {}, point);
    }
    void select(const Action& a) {
        const auto& parts = window_->workspace().project().sheet().parts;
        std::set<int> ids;
        for (unsigned k = 0; k <= a.n[2] % 3 && !parts.empty(); ++k) ids.insert(parts[(a.n[1] + k) % parts.size()].id);
        window_->workspace().select(ids);
    }

    /// Menus and dialogs wait for an answer in the middle of an action: this gives it, also where one opens another.
    void keepAnswering() {
        QTimer::singleShot(15, &context_, [this] {
            keepAnswering();
            answer();
        });
    }
    /// What a menu or a dialog in the middle of an action gets.
    void answer() {
        QWidget* asking = QApplication::activePopupWidget();
        if (!asking) asking = QApplication::activeModalWidget();
        if (!asking) return;
        const auto random = [this] { return static_cast<unsigned>(answers_() & 0xffff); };
        // In the end it is left, so that every action ends.
        if (pending_-- <= 0) {
            if (auto* dialog = qobject_cast<QDialog*>(asking)) return dialog->reject();
            asking->close();
            return;
        }
        if (auto* dialog = qobject_cast<QFileDialog*>(asking); dialog && random() % 2) {
            if (auto* name = dialog->findChild<QLineEdit*>("fileNameEdit"))
                name->setText(QString::fromStdString((folder_ / ("written" + std::to_string(random() % 4))).string()));
            press(asking, Qt::Key_Return);
            return;
        }
        static const std::array keys = {Qt::Key_Down, Qt::Key_Down, Qt::Key_Up,  Qt::Key_Return, Qt::Key_Return,
                                        Qt::Key_Tab,  Qt::Key_Space, Qt::Key_Escape, Qt::Key_Right};
        QWidget* target = asking->focusWidget() ? asking->focusWidget() : asking;
        press(target, keys[random() % keys.size()]);
    }

    fs::path folder_;
    std::vector<fs::path> projects_;
    std::unique_ptr<app::MainWindow> window_;
    QObject context_;
    std::mt19937 answers_;
    int pending_ = 0;
};

/// Where it fell, or hung, for the one who looks into it.
void tellWhere(int signal) {
    void* frames[60];
    ::backtrace_symbols_fd(frames, ::backtrace(frames, 60), 2);
    ::signal(signal, SIG_DFL);
    ::raise(signal);
}

/// What the child does: the actions of a file, each told before it is done.
int play(int argc, char** argv, const std::string& actionFile, const std::string& logFile) {
    for (const int signal : {SIGABRT, SIGUSR1})
        ::signal(signal, tellWhere);
#ifndef __SANITIZE_ADDRESS__
    for (const int signal : {SIGSEGV, SIGBUS, SIGFPE}) ::signal(signal, tellWhere);
#endif
    QTemporaryDir state;
    for (const char* name : {"XDG_STATE_HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME", "HOME"})
        qputenv(name, state.path().toUtf8());
    if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM"))
        qputenv("QT_QPA_PLATFORM", "offscreen:configfile=" MONKEY_SCREENS);
    QApplication application(argc, argv);
    QApplication::setAttribute(Qt::AA_DontUseNativeDialogs);
    QApplication::setQuitOnLastWindowClosed(false);
    app::applyTheme(application, app::Theme::light);
    const int log = logFile.empty() ? -1 : ::open(logFile.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
    {
        const fs::path folder = fs::path(state.path().toStdString()) / "work";
        fs::create_directories(folder);
        fs::current_path(folder);
        Monkey monkey(folder);
        for (const Action& action : readActions(actionFile)) {
            const std::string line = textOf(action) + "\n";
            if (log >= 0 && ::write(log, line.data(), line.size()) < 0) return 3;
            monkey.act(action);
            if (const std::string fault = monkey.faultInProject(); !fault.empty()) {
                std::cerr << fault << std::endl;
                std::abort();
            }
        }
    }
    return 0;
}

enum class Outcome { well, fell, hung };

/// Plays actions in a process of its own. @param done  gets how many were begun
Outcome tryOut(const std::string& self, const fs::path& folder, const std::vector<Action>& actions, std::size_t& done,
               bool quiet) {
    const fs::path script = folder / "script", log = folder / "log", said = folder / "said";
    writeActions(script, actions);
    fs::remove(log);
    const pid_t child = ::fork();
    if (child == 0) {
        const int out = ::open(said.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
        ::dup2(out, 1), ::dup2(out, 2);
        ::execl(self.c_str(), self.c_str(), "--play", script.c_str(), log.c_str(), nullptr);
        ::_exit(127);
    }
    const auto begun = [&] { return readActions(log).size(); };
    int status = 0;
    std::size_t last = 0;
    auto since = std::chrono::steady_clock::now();
    Outcome outcome = Outcome::well;
    while (::waitpid(child, &status, WNOHANG) == 0) {
        std::this_thread::sleep_for(50ms);
        const std::size_t now = begun();
        if (now != last) last = now, since = std::chrono::steady_clock::now();
        if (std::chrono::steady_clock::now() - since < patience) continue;
        ::kill(child, SIGABRT);
        ::waitpid(child, &status, 0);
        outcome = Outcome::hung;
        break;
    }
    done = begun();
    if (outcome == Outcome::well && !(WIFEXITED(status) && WEXITSTATUS(status) == 0)) outcome = Outcome::fell;
    if (outcome != Outcome::well && !quiet) {
        std::ifstream in(said);
        std::string text((std::istreambuf_iterator<char>(in)), {});
        constexpr std::size_t mostShown = 6000;
        std::cerr << text.substr(text.size() > mostShown && text.find("ERROR:") != std::string::npos
                                     ? std::min(text.find("ERROR:"), text.size())
                                     : 0,
                                 mostShown)
                  << std::endl;
    }
    return outcome;
}

/// Leaves out what is not needed for the same end, half by half, as long as there is time.
std::vector<Action> shortest(const std::string& self, const fs::path& folder, std::vector<Action> actions,
                             Outcome outcome, std::chrono::seconds most) {
    const auto limit = std::chrono::steady_clock::now() + most;
    for (std::size_t size = actions.size() / 2; size > 0;) {
        bool shorter = false;
        for (std::size_t start = 0; start < actions.size();) {
            if (std::chrono::steady_clock::now() > limit) return actions;
            std::vector<Action> fewer(actions.begin(), actions.begin() + static_cast<std::ptrdiff_t>(start));
            const std::size_t end = std::min(actions.size(), start + size);
            fewer.insert(fewer.end(), actions.begin() + static_cast<std::ptrdiff_t>(end), actions.end());
            std::size_t done = 0;
            if (!fewer.empty() && tryOut(self, folder, fewer, done, true) == outcome) {
                fewer.resize(std::min(fewer.size(), done));
                actions = std::move(fewer);
                shorter = true;
            } else {
                start += size;
            }
        }
        if (!shorter || size > actions.size()) size /= 2;
    }
    return actions;
}

int sendMonkeys(const std::string& self, double seconds, unsigned seed) {
    const fs::path folder = fs::temp_directory_path() / ("hedgerow_monkey_" + std::to_string(::getpid()));
    fs::create_directories(folder);
    const auto start = std::chrono::steady_clock::now();
    const auto passed = [&] { return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count(); };
    std::cout << "first seed " << seed << std::endl;
    int played = 0, failed = 0;
    for (; passed() < seconds && failed == 0; ++seed) {
        const std::vector<Action> actions = actionsOf(seed);
        std::size_t done = 0;
        const Outcome outcome = tryOut(self, folder, actions, done, false);
        ++played;
        if (outcome == Outcome::well) continue;
        ++failed;
        std::cerr << "seed " << seed << (outcome == Outcome::hung ? " hung" : " fell") << " at action " << done << " of "
                  << actions.size() << std::endl;
        const std::vector<Action> begun(actions.begin(), actions.begin() + static_cast<std::ptrdiff_t>(done));
        const auto few = shortest(self, folder, begun, outcome, outcome == Outcome::hung ? 200s : 120s);
        std::cerr << "the shortest sequence found that repeats it (monkey --replay FILE):" << std::endl;
        for (const Action& action : few) std::cerr << textOf(action) << std::endl;
    }
    fs::remove_all(folder);
    std::cout << "monkey: " << played - failed << " passed, " << failed << " failed" << std::endl;
    return failed > 0 ? 1 : 0;
}

}  // namespace

int main(int argc, char** argv) {
    double seconds = 20;
    unsigned seed = static_cast<unsigned>(std::random_device{}() % 1'000'000);
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        if (word == "--play" && i + 2 < argc) return play(argc, argv, argv[i + 1], argv[i + 2]);
        if (word == "--replay" && i + 1 < argc) return play(argc, argv, argv[i + 1], "");
        if (word == "--seconds" && i + 1 < argc) seconds = std::atof(argv[++i]);
        if (word == "--seed" && i + 1 < argc) seed = static_cast<unsigned>(std::atol(argv[++i]));
    }
    return sendMonkeys(fs::read_symlink("/proc/self/exe").string(), seconds, seed);
}
