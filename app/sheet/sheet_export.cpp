#include "sheet/sheet_export.h"

#include <QBuffer>
#include <QFileInfo>
#include <QImage>
#include <QPainter>
#include <QPdfWriter>
#include <QPrinter>
#include <QSaveFile>
#include <QSvgGenerator>

#include "sheet/sheet_painter.h"
#include "style/theme.h"

namespace hedgerow::app {

namespace {

constexpr double margin = 24;

/// Draws everything into a rectangle, as large as fits but not larger than `mostZoom`.
void draw(Workspace& workspace, const Sheet& sheet, QPainter& painter, const QRectF& target, double mostZoom) {
    const LightColours light;
    const QRectF box = sheetBox(workspace, sheet).adjusted(-margin, -margin, margin, margin);
    const double zoom = std::min({target.width() / box.width(), target.height() / box.height(), mostZoom});
    painter.setRenderHint(QPainter::Antialiasing);
    painter.translate(target.center());
    painter.scale(zoom, zoom);
    painter.translate(-box.center());
    paintSheet(painter, {workspace, sheet, {}, false, {}});
}

QSizeF sizeOf(Workspace& workspace, const Sheet& sheet) {
    return sheetBox(workspace, sheet).adjusted(-margin, -margin, margin, margin).size();
}

QByteArray pdf(Workspace& workspace) {
    QByteArray bytes;
    QBuffer buffer(&bytes);
    buffer.open(QIODevice::WriteOnly);
    QPdfWriter writer(&buffer);
    writer.setTitle(QString::fromStdString(workspace.project().title));
    writer.setPageSize(QPageSize(QPageSize::A4));
    writer.setPageOrientation(QPageLayout::Landscape);
    QPainter painter(&writer);
    draw(workspace, workspace.project().sheet(), painter, QRectF(painter.viewport()),
         writer.logicalDpiX() / 96.0 * 1.5);
    painter.end();
    return bytes;
}

}  // namespace

QByteArray sheetAsPng(Workspace& workspace) {
    constexpr double scale = 3, mostPixels = 12'000;
    const Sheet& sheet = workspace.project().sheet();
    QSizeF size = sizeOf(workspace, sheet) * scale;
    size *= std::min(1.0, mostPixels / std::max(size.width(), size.height()));
    QImage image(size.toSize(), QImage::Format_RGB32);
    image.fill(Qt::white);
    QPainter painter(&image);
    draw(workspace, sheet, painter, QRectF(QPointF(), size), 1e9);
    painter.end();
    QByteArray bytes;
    QBuffer buffer(&bytes);
    buffer.open(QIODevice::WriteOnly);
    image.save(&buffer, "PNG");
    return bytes;
}

QByteArray sheetAsSvg(Workspace& workspace, const Sheet& sheet) {
    QByteArray bytes;
    QBuffer buffer(&bytes);
    buffer.open(QIODevice::WriteOnly);
    QSvgGenerator generator;
    generator.setOutputDevice(&buffer);
    generator.setTitle(QString::fromStdString(workspace.project().title));
    generator.setResolution(96);
    const QSizeF size = sizeOf(workspace, sheet);
    generator.setSize(size.toSize());
    generator.setViewBox(QRectF(QPointF(), size));
    QPainter painter(&generator);
    draw(workspace, sheet, painter, QRectF(QPointF(), size), 1e9);
    painter.end();
    return bytes;
}

Status exportSheet(Workspace& workspace, const QString& path) {
    const QString ending = QFileInfo(path).suffix().toLower();
    QByteArray bytes;
    if (ending == "png")
        bytes = sheetAsPng(workspace);
    else if (ending == "svg")
        bytes = sheetAsSvg(workspace, workspace.project().sheet());
    else if (ending == "pdf")
        bytes = pdf(workspace);
    else
        return Error{ErrorCode::name, "a picture of the sheet can be .png, .svg or .pdf"};
    QSaveFile file(path);
    if (!file.open(QIODevice::WriteOnly) || file.write(bytes) != bytes.size() || !file.commit())
        return Error{ErrorCode::file, (path + " cannot be written: " + file.errorString()).toStdString()};
    return {};
}

void printSheet(Workspace& workspace, QPrinter& printer) {
    QPainter painter(&printer);
    draw(workspace, workspace.project().sheet(), painter, QRectF(painter.viewport()),
         printer.logicalDpiX() / 96.0 * 1.5);
}

}  // namespace hedgerow::app
