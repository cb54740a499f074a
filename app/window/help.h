#pragma once
// Help pages: of parts, made from their descriptors, and of the views.

#include <QString>

#include "model/part_kind.h"

class QWidget;

namespace hedgerow::app {

/// The page of one kind of part.
QString partHelp(const PartKind& kind);
/// The page of the whole program: how to place, wire, run and look, and every key.
QString generalHelp();
/// Shows a page in the help window, which stays beside the work.
void showHelp(QWidget* parent, const QString& title, const QString& html);

}  // namespace hedgerow::app
