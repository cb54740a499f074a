#pragma once
// The study of many runs: what varies, what is measured, and what the runs say together. It stands where the sheet does; rows that are
// chosen come to the timeline.

#include <memory>
#include <mutex>
#include <optional>
#include <vector>

#include <QAbstractTableModel>
#include <QStringMatcher>
#include <QTimer>
#include <QWidget>

#include "base/background.h"
#include "base/workspace.h"
#include "study/study_names.h"
#include "study/study_pictures.h"

class QCheckBox;
class QComboBox;
class QCustomPlot;
class QLabel;
class QLineEdit;
class QPlainTextEdit;
class QPushButton;
class QTableView;
class QTemporaryDir;

namespace hedgerow::app {

/// The rows of a study, in an order and with a filter.
class StudyModel : public QAbstractTableModel {
public:
    explicit StudyModel(QObject* parent = nullptr);
    void set(std::shared_ptr<const StudyTable> table);
    /// Rows whose texts hold this; "failed" and "beyond limits" are words of their own.
    void filter(const QString& text);
    void sort(int column, Qt::SortOrder order) override;
    /// The row of the table that is shown in a row.
    std::size_t rowOf(int shown) const { return order_[static_cast<std::size_t>(shown)]; }
    int shownOf(std::size_t row) const;

    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;

private:
    void arrange();
    bool shows(std::size_t row) const;
    void prepareTexts(std::size_t until);

    std::shared_ptr<const StudyTable> table_;
    std::vector<std::size_t> order_;
    std::vector<QString> texts_;  ///< what a filter looks at, by row, in small letters; made while nothing else happens
    QTimer preparing_;
    QString filter_;
    QStringMatcher matcher_;
    std::size_t number_ = 0;  ///< of a run that is looked for
    int column_ = 0;
    Qt::SortOrder direction_ = Qt::AscendingOrder;
};

class StudyView : public QWidget {
    Q_OBJECT

public:
    explicit StudyView(Workspace& workspace, QWidget* parent = nullptr);
    ~StudyView() override;
    void open();
    void refreshTheme();
    bool busy() const { return background_.busy(); }
    /// Whether the price of what is typed stands there, or why there is none.
    bool priced() const { return priced_ && !pricing_.busy(); }
    /// Runs the study anew; or what is missing of the one that is shown.
    void run();
    void goOn();
    void stop();
    /// What is shown; nullptr before anything was run or opened.
    const std::shared_ptr<const StudyTable>& table() const { return table_; }
    /// Rows of the table as runs on the timeline, one beside the other.
    void showRows(const std::vector<std::size_t>& rows);
    /// The values of a row become the project's.
    void use(std::size_t row);
    Status writeTable(const QString& path) const;
    Status writePicture(const QString& path);

signals:
    void left();
    void said(const QString& message, bool bad);

protected:
    void keyPressEvent(QKeyEvent* event) override;
    bool eventFilter(QObject* object, QEvent* event) override;

private:
    struct Live;
    ParameterStudy study() const;
    void takeTexts();
    void fillTexts();
    void listKept();
    void showKept(int index);
    void begin(bool anew);
    void follow();
    void show(std::shared_ptr<const StudyTable> table);
    void fillChoices();
    void listTraces();
    static std::filesystem::path tracesOf(const std::filesystem::path& file);
    void showIdle();
    StudyPicture picture() const;
    void showFields();
    void showPrice();
    std::shared_ptr<const Project> projectAsKnown() const;
    void draw();
    void readFamily();
    void clicked(const QPointF& place, bool twice);
    static Result<std::unique_ptr<StudyFile>> createFile(const StudySetup& setup, const std::filesystem::path& where, bool onSlurm);
    Status runRows(const StudySetup& setup, Live& live, bool onSlurm, const CancelToken& cancel) const;
    std::vector<std::size_t> chosenRows() const;
    void noteChoice();
    std::filesystem::path folder() const;

    Workspace& workspace_;
    std::shared_ptr<const StudyTable> table_;
    std::filesystem::path shownFile_;
    StudyNames<ParameterStudy> names_;
    StudyModel model_;
    QPlainTextEdit *varied_, *measured_;
    QLineEdit *runs_, *keep_, *filter_, *align_;
    QCheckBox* settle_;
    QLabel *title_, *note_, *answer_, *price_;
    std::optional<ParameterStudy> priced_;  ///< what the price is of, or will be
    QComboBox *kept_, *picture_, *measure_, *over_, *against_, *quantity_;
    QComboBox* where_ = nullptr;  ///< on this machine or by Slurm; nullptr where there is none
    QPushButton *run_, *goOn_, *look_, *use_;
    QCustomPlot* plot_;
    StudySpots spots_;
    std::optional<StudyFamily> family_;
    QTableView* rows_;
    std::vector<std::string> keptNames_;
    std::shared_ptr<Live> live_;
    std::unique_ptr<QTemporaryDir> passing_;  ///< for studies of what has no place of its own
    QTimer following_;
    Background background_, listing_, solving_, reading_, pricing_;
    CancelToken cancel_;
    bool filling_ = false;
};

}  // namespace hedgerow::app
