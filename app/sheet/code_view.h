#pragma once
// The editor of the control code of one part, beside the sheet.

#include <memory>

#include "sheet/marked_edit.h"

class QSyntaxHighlighter;

namespace hedgerow::app {

class Workspace;

class CodeView : public MarkedEdit {
    Q_OBJECT

public:
    explicit CodeView(Workspace& workspace, QWidget* parent = nullptr);
    ~CodeView() override;
    /// Shows the code of a part of the sheet in view, and keeps to it until another one is selected.
    void edit(int part);
    /// Where the run stops, 0 for nowhere.
    int stopLine() const;
    void setStopLine(int line);

protected:
    void resizeEvent(QResizeEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;
    void changeEvent(QEvent* event) override;
    void undoAsked(bool redo) override;
    QStringList offered(const QString& word) const override;
    void takeText() override;

private:
    class Numbers;
    void follow();
    void judge();

    Workspace& workspace_;
    int part_ = 0;
    QWidget* numbers_;
    QSyntaxHighlighter* colouring_;
};

}  // namespace hedgerow::app
