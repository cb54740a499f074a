#include "style/picture_file.h"

#include <QFileInfo>
#include <QImage>
#include <QPdfWriter>
#include <QSvgGenerator>
#include <QWidget>

#include "formats/file.h"
#include "style/ask_file.h"

namespace hedgerow::app {

Status writePictureFile(const QString& path, const QString& title, QSize size,
                        const std::function<bool(QPaintDevice&, double)>& draw) {
    const QString suffix = QFileInfo(path).suffix().toLower();
    if (suffix != "svg" && suffix != "pdf" && suffix != "png")
        return Error{ErrorCode::name, "a picture can be .png, .svg or .pdf"};
    return replaceAtomically(path.toStdString(), [&](const std::filesystem::path& temporary) -> Status {
        const QString name = QString::fromStdString(temporary.string());
        bool drawn = false;
        if (suffix == "svg") {
            QSvgGenerator svg;
            svg.setFileName(name);
            svg.setSize(size);
            svg.setViewBox(QRect(QPoint(), size));
            svg.setTitle(title);
            drawn = draw(svg, 1);
        } else if (suffix == "pdf") {
            QPdfWriter pdf(name);
            constexpr int dotsPerInch = 288;
            pdf.setResolution(dotsPerInch);
            pdf.setTitle(title);
            pdf.setPageSize(QPageSize(QSizeF(size) * 25.4 / 96, QPageSize::Millimeter));
            pdf.setPageMargins(QMarginsF());
            drawn = draw(pdf, dotsPerInch / 96.0);
        } else {
            QImage image(size * 2, QImage::Format_RGB32);
            drawn = draw(image, 2) && image.save(name, "PNG");
        }
        if (!drawn) return Error{ErrorCode::file, path.toStdString() + " cannot be written"};
        return {};
    });
}

Status writePictureOf(QWidget& widget, const QString& path) {
    return writePictureFile(path, widget.windowTitle(), widget.size(), [&](QPaintDevice& device, double scale) {
        QPainter painter;
        if (!painter.begin(&device)) return false;
        painter.scale(scale, scale);
        widget.render(&painter);
        return painter.end();
    });
}

QString askForPictureFile(QWidget* parent, const QString& title) {
    return askForSaving(parent, title, {},
                        {"Portable Network Graphics (*.png)", "Scalable Vector Graphics (*.svg)",
                         "Portable Document Format (*.pdf)"});
}

}  // namespace hedgerow::app
