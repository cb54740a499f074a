#pragma once
// The circuit as text beside the sheet. Both show the same project: what is typed here is drawn there a moment later,
// and the other way round.

#include "sheet/marked_edit.h"

namespace hedgerow::app {

class Workspace;

class TextView : public MarkedEdit {
    Q_OBJECT

public:
    explicit TextView(Workspace& workspace, QWidget* parent = nullptr);

protected:
    void focusOutEvent(QFocusEvent* event) override;
    void showEvent(QShowEvent* event) override;
    void undoAsked(bool redo) override;
    QStringList offered(const QString& word) const override;
    void takeText() override;

private:
    void showProject();
    void markSelection();
    void selectAtCursor();

    Workspace& workspace_;
};

}  // namespace hedgerow::app
