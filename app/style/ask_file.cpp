#include "style/ask_file.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QMessageBox>
#include <QRegularExpression>

namespace hedgerow::app {

namespace {

/// "html" of "Web page (*.html)".
QString endingOf(const QString& filter) {
    static const QRegularExpression ending("\\*\\.(\\w+)");
    return ending.match(filter).captured(1);
}

}  // namespace

QString askForSaving(QWidget* parent, const QString& title, const QString& start, const QStringList& filters) {
    QFileDialog dialog(parent, title);
    dialog.setObjectName("saveFile");
    dialog.setAcceptMode(QFileDialog::AcceptSave);
    dialog.setNameFilters(filters);
    dialog.setDefaultSuffix(endingOf(filters.front()));  // the dialog asks about the name with it
    QObject::connect(&dialog, &QFileDialog::filterSelected, &dialog,
                     [&](const QString& filter) { dialog.setDefaultSuffix(endingOf(filter)); });
    if (!start.isEmpty()) {
        dialog.setDirectory(QFileInfo(start).absolutePath());
        dialog.selectFile(QFileInfo(start).fileName());
    }
    return dialog.exec() == QDialog::Accepted ? dialog.selectedFiles().value(0) : QString();
}

bool mayReplace(QWidget* parent, const QStringList& files) {
    QStringList there;
    for (const QString& file : files)
        if (QFileInfo::exists(file)) there << QFileInfo(file).fileName();
    if (there.isEmpty()) return true;
    QMessageBox question(QMessageBox::NoIcon, "Hedgerow",
                         there.join(", ") + (there.size() == 1 ? " is" : " are") + " there already. Replace?",
                         QMessageBox::NoButton, parent);
    question.setObjectName("mayReplace");
    const auto* replace = question.addButton("Replace", QMessageBox::AcceptRole);
    question.setDefaultButton(question.addButton(QMessageBox::Cancel));
    question.exec();
    return question.clickedButton() == replace;
}

}  // namespace hedgerow::app
