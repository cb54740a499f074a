// Hedgerow, the desktop application.

#include <cstdio>
#include <new>

#include <QApplication>
#include <QCommandLineParser>
#include <QIcon>

#include "base/machine.h"
#include "base/version.h"
#include "window/main_window.h"
#include "window/pictures.h"
#include "style/theme.h"

using namespace hedgerow;
using namespace hedgerow::app;

namespace {

/// Ends what an event asked for, not the program, where there is no memory for it.
class Application final : public QApplication {
public:
    using QApplication::QApplication;
    bool notify(QObject* receiver, QEvent* event) override {
        try {
            return QApplication::notify(receiver, event);
        } catch (const std::bad_alloc&) {
            keepMemoryReserve();
            if (window) window->say("There is no memory left for this. What was there before is as it was.", true);
            return false;
        }
    }
    MainWindow* window = nullptr;
};

}  // namespace

int main(int argc, char** argv) {
    keepMemoryReserve();
    Application application(argc, argv);
    // The words of the window are English, whatever the language of the user: read from the right, "80 V" would become
    // "V 80".
    QApplication::setLayoutDirection(Qt::LeftToRight);
    QApplication::setApplicationName("hedgerow");
    QApplication::setApplicationDisplayName("Hedgerow");
    QApplication::setApplicationVersion(version);
    QApplication::setDesktopFileName("io.github.hedgerow.Hedgerow");
    QApplication::setWindowIcon(QIcon(":/hedgerow.svg"));

    QCommandLineParser parser;
    parser.setApplicationDescription("Assemble, simulate and compare switching power circuits.");
    parser.addHelpOption();
    parser.addVersionOption();
    parser.addPositionalArgument("project", "a *.hedge file to open", "[project...]");
    const QCommandLineOption theme("theme", "light or dark", "name", "light");
    const QCommandLineOption pictures("pictures", "run the projects, write pictures and data to this folder, and end",
                                      "folder");
    parser.addOptions({theme, pictures});
    parser.process(application);

    applyTheme(application, parser.value(theme) == "dark" ? Theme::dark : Theme::light);
    if (parser.isSet(pictures)) return makePictures(application, parser.value(pictures), parser.positionalArguments());

    MainWindow window;
    application.window = &window;
    const auto folder = RecoverySlot::standardFolder();
    window.offerRecovery(RecoverySlot::pending(folder));
    window.workspace().setRecoverySlot(std::make_unique<RecoverySlot>(folder));
    window.show();
    if (!parser.positionalArguments().isEmpty())
        window.open(parser.positionalArguments().first());
    else
        window.showGallery();
    const int code = QApplication::exec();
    application.window = nullptr;
    return code;
}
