#pragma once
// What the screen shows as a file: SVG, PDF or PNG.

#include <functional>

#include <QPainter>
#include <QSize>
#include <QString>

#include "base/result.h"

class QPaintDevice;
class QWidget;

namespace hedgerow::app {

/// Writes, by the ending of the name, what `draw` draws: it is given a device and how many of its units a pixel of the
/// screen has, and says whether it could. Nothing is left where it fails.
Status writePictureFile(const QString& path, const QString& title, QSize size,
                        const std::function<bool(QPaintDevice&, double)>& draw);
/// A widget with all that lies in it.
Status writePictureOf(QWidget& widget, const QString& path);
/// Asks for a name; "" when none is given.
QString askForPictureFile(QWidget* parent, const QString& title);

}  // namespace hedgerow::app
