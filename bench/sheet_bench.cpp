// How fast a large sheet is drawn, opened, checked and changed. Prints a table; needs no screen.

#include <cstdio>

#include <QApplication>
#include <QImage>
#include <QPainter>

#include "base/time.h"
#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "model/router.h"
#include "network/elaborate.h"
#include "runs/registry.h"
#include "sheet/sheet_painter.h"
#include "base/workspace.h"
#include "style/theme.h"

using namespace hedgerow;
using namespace hedgerow::app;

namespace {

/// Cells of an inductor and a capacitor, joined in rows: `parts` parts, as many wires.
Project largeSheet(int parts) {
    Project project;
    Sheet& sheet = project.sheet();
    const int perRow = 50;
    const auto& pins = partLibrary().catalogue().find("inductor")->pins;
    const int lying = pins[0].at.y == pins[1].at.y ? 0 : 1;
    for (int i = 0; i < parts / 2; ++i) {
        const int x = i % perRow * 160, y = i / perRow * 160;
        const auto part = [&](const char* kind, const char* prefix, Point at, int turn) {
            Part made;
            made.id = project.newId();
            made.name = prefix + std::to_string(i);
            made.kind = kind;
            made.at = at;
            made.turn = turn;
            return made;
        };
        Part inductor = part("inductor", "L", {x, y}, lying), capacitor = part("capacitor", "C", {x + 80, y + 64}, 0);
        const auto pin = [&](const Part& part, int k) {
            return part.toSheet(partLibrary().catalogue().find(part.kind)->pins[static_cast<std::size_t>(k)].at);
        };
        const Point a = pin(inductor, 0), b = pin(inductor, 1), right = a.x > b.x ? a : b, left = a.x > b.x ? b : a;
        const Point top = pin(capacitor, 0);
        sheet.wires.push_back({project.newId(), {right, {top.x, right.y}, top}, ""});
        if (i % perRow > 0) sheet.wires.push_back({project.newId(), {{top.x - 160, left.y}, left}, ""});
        sheet.labels.push_back({project.newId(), pin(capacitor, 1), "m", ""});
        sheet.parts.push_back(std::move(inductor));
        sheet.parts.push_back(std::move(capacitor));
    }
    return project;
}

template <class Work>
double best(int times, Work work) {
    double least = 1e9;
    for (int i = 0; i < times; ++i) {
        const Stopwatch watch;
        work();
        least = std::min(least, watch.seconds());
    }
    return 1e3 * least;
}

void line(const char* what, double milliseconds, const char* wanted) {
    std::printf("| %s | %.1f | %s |\n", what, milliseconds, wanted);
}

}  // namespace

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication application(argc, argv);
    applyTheme(application, Theme::light);
    const Project project = largeSheet(2000);
    const Catalogue& catalogue = partLibrary().catalogue();
    const std::string text = writeHedge(project);
    std::printf("| a sheet of %zu parts and %zu wires | ms | wanted |\n|---|---|---|\n", project.sheet().parts.size(),
                project.sheet().wires.size());
    Workspace workspace;
    line("read the file", best(3, [&] { (void)readHedge(text); }), "");
    line("open: read, find nets and parameters", best(3, [&] { workspace.adopt(readHedge(text)->project, {}, false); }),
         "1000");
    const auto paint = [&](double zoom, const QPointF& offset) {
        QImage image(735, 470, QImage::Format_ARGB32_Premultiplied);
        image.fill(Qt::white);
        QPainter painter(&image);
        painter.setRenderHint(QPainter::Antialiasing);
        painter.translate(offset);
        painter.scale(zoom, zoom);
        const QRectF seen(-offset / zoom, QSizeF(735, 470) / zoom);
        paintSheet(painter, {workspace, workspace.project().sheet(), {}, true, seen});
    };
    line("draw all of it", best(5, [&] { paint(0.15, {0, 0}); }), "16");
    line("draw a part of it at scale 1", best(5, [&] { paint(1.0, {-800, -800}); }), "16");
    line("check it", best(3, [&] { (void)checkProject(workspace.project(), partLibrary()); }), "");
    std::set<int> chosen;
    for (const Part& part : project.sheet().parts)
        if (chosen.size() < 200) chosen.insert(part.id);
    line("move 200 parts and lay their wires anew",
         best(3,
              [&] {
                  Project copy = project;
                  (void)edits::move(chosen, {40, -24}, catalogue).apply(copy);
              }),
         "100");
    line("find a way for one wire",
         best(5,
              [&] {
                  (void)Router(project.sheet(), catalogue, {0, 0}, {800, 600}).route({8, 8}, {808, 608});
              }),
         "");
    return 0;
}
