#include "shell/pictures.h"

#include <cstdio>

#include <QApplication>
#include <QDir>
#include <QElapsedTimer>
#include <QFileInfo>
#include <QThread>

#include "card/card.h"
#include "shelf/shelf.h"
#include "sheet/sheet_view.h"
#include "shell/main_window.h"
#include "style/theme.h"
#include "timeline/timeline_view.h"

namespace hedgerow::app {

namespace {

void settle(int milliseconds = 60) {
    QElapsedTimer timer;
    timer.start();
    while (timer.elapsed() < milliseconds) QApplication::processEvents(QEventLoop::AllEvents, 10);
}

bool save(MainWindow& window, const QString& path) {
    settle();
    const bool good = window.grab().save(path);
    std::printf("%s %s\n", good ? "wrote" : "cannot write", qPrintable(path));
    return good;
}

bool runToEnd(MainWindow& window) {
    window.workspace().startRun();
    QElapsedTimer timer;
    timer.start();
    while (window.workspace().running() && timer.elapsed() < 120'000) settle(20);
    settle(120);
    const auto& run = window.workspace().shownRun();
    if (!run || run->run->summary().end != RunEnd::finished) {
        for (const Error& problem : window.workspace().problems()) std::fprintf(stderr, "%s\n", problem.message.c_str());
        return false;
    }
    return true;
}

bool exportData(const MainWindow&, const Run& run, const QString& base) {
    for (const auto& [format, ending] : {std::pair{"csv", ".csv"}, {"hdf5", ".h5"}}) {
        std::vector<std::string> quantities;
        for (const Lane& lane : run.project().lanes) quantities.insert(quantities.end(), lane.quantities.begin(), lane.quantities.end());
        if (auto status = exportRun(run, format, (base + ending).toStdString(), quantities); !status) {
            std::fprintf(stderr, "%s\n", status.error().message.c_str());
            return false;
        }
        std::printf("wrote %s\n", qPrintable(base + ending));
    }
    return true;
}

/// Zooms into the last part of the run and sets the cursor there.
void lookClose(MainWindow& window, double from, double to, double cursor) {
    window.timeline().lanes().setWindow(from, to);
    window.workspace().setCursor(toTicks(cursor));
    settle();
}

}  // namespace

int makePictures(QApplication& application, const QString& folder, const QStringList& projects) {
    if (!QDir().mkpath(folder)) {
        std::fprintf(stderr, "%s cannot be made\n", qPrintable(folder));
        return 1;
    }
    bool good = true;
    for (const QString& path : projects) {
        const QString base = folder + "/" + QFileInfo(path).completeBaseName();
        for (const Theme theme : {Theme::light, Theme::dark}) {
            applyTheme(application, theme);
            MainWindow window;
            window.setAttribute(Qt::WA_DontShowOnScreen, false);
            window.show();
            if (!window.open(path)) return 1;
            settle();
            if (!runToEnd(window)) return 1;
            const QString suffix = theme == Theme::light ? "-light.png" : "-dark.png";
            const double end = toSeconds(window.workspace().shownRun()->run->end());
            if (theme == Theme::light) good = save(window, base + "-whole" + suffix) && good;
            const auto& parts = window.workspace().project().sheet().parts;
            for (const Part& part : parts)
                if (part.kind == "switch" || (part.name == "D1" && window.workspace().selection().empty())) { window.workspace().select({part.id}); break; }
            const double length = std::min(end, path.contains("mains") ? 25e-3 : path.contains("aux") ? 20e-6 : 1.5e-3);
            lookClose(window, end - 1.04 * length, end - 0.04 * length, end - 0.6 * length);
            good = save(window, base + suffix) && good;
            if (theme == Theme::light) good = exportData(window, *window.workspace().shownRun()->run, base) && good;
        }
    }
    return good ? 0 : 1;
}

}  // namespace hedgerow::app
