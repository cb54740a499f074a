#pragma once
// The one window: run strip, shelf, sheet, card, timeline.

#include <QMainWindow>

#include "base/commands.h"
#include "base/workspace.h"

class QLabel;

namespace hedgerow::app {

class Card;
class RunStrip;
class CheckList;
class DeskView;
class StudyView;
class TradeView;
class Finder;
class Gallery;
class Shelf;
class OfferBar;
class PathLine;
class SheetView;
class CodeView;
class TextView;
class TimelineView;

class MainWindow : public QMainWindow {
    Q_OBJECT

public:
    MainWindow();
    /// Hides first: what leaves the keyboard still finds everything there.
    ~MainWindow() override { hide(); }

    Workspace& workspace() { return workspace_; }
    SheetView& sheet() { return *sheet_; }
    TimelineView& timeline() { return *timeline_; }
    DeskView& desk() { return *desk_; }
    TradeView& trade() { return *trade_; }
    StudyView& study() { return *study_; }
    Shelf& shelf() { return *shelf_; }

    /// Opens a project; a failure is shown in the window.
    bool open(const QString& path);
    /// Offers unsaved work of sessions that ended unexpectedly.
    void offerRecovery(std::vector<RecoveredWork> pending);
    void refreshTheme();
    /// Shows a message over the sheet for a while.
    void say(const QString& message, bool bad);
    const Commands& commands() const { return commands_; }
    void editCode(int part);
    /// The model desk in place of the sheet, for the selected device; or the sheet again.
    void showDesk(bool shown);
    /// The trade study in place of the sheet, or the sheet again.
    void showTrade(bool shown);
    /// The study of many runs in place of the sheet, or the sheet again.
    void showStudy(bool shown);
    void showGallery();
    /// Makers' model cards, as parts and modules of a library.
    void readCards(const QString& path);
    /// Opens the finder.
    void find();

protected:
    void closeEvent(QCloseEvent* event) override;

private:
    void buildCommands();
    void buildMenu();
    bool openCopy(const QString& path);
    bool mayLeave();
    void openByDialog();
    bool save();
    bool saveAs();
    void exportTraces();
    void offerOutside();
    bool mayOverwrite();
    void exportPicture();
    void saveWindowPicture();
    void print();
    void sayOutcome(const Result<QString>& outcome);
    void help();
    void nextArea();

    Workspace workspace_;
    Commands commands_;
    Finder* finder_;
    CheckList* checks_;
    PathLine* path_;
    Gallery* gallery_;
    CodeView* code_ = nullptr;
    DeskView* desk_;
    TradeView* trade_;
    StudyView* study_;
    template <class View>
    void showInstead(View* view, bool shown);
    TextView* text_;
    RunStrip* strip_;
    Shelf* shelf_;
    SheetView* sheet_;
    Card* card_;
    TimelineView* timeline_;
    OfferBar *offer_, *outside_;  ///< work of a session that broke off, files outside of the project's folder
    std::set<std::string> declined_;
    Background exporting_;
    CancelToken exportCancel_;
    QLabel* message_;
    std::vector<RecoveredWork> pending_;
};

}  // namespace hedgerow::app
