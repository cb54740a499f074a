#pragma once
// The card: the selected part with its ladder, values, stress and what it did; with nothing selected, the project with
// its parameters and its plan.

#include <functional>
#include <vector>

#include <QScrollArea>

#include "base/background.h"
#include "base/workspace.h"

class QLabel;
class QLineEdit;
class QVBoxLayout;

namespace hedgerow {
struct FrequencyResponse;
}

namespace hedgerow::app {

class Ladder;
class Stress;

class Card : public QScrollArea {
    Q_OBJECT

public:
    explicit Card(Workspace& workspace, QWidget* parent = nullptr);
    /// Brings the line of an event of the scene up for editing.
    void editEvent(std::size_t index);

signals:
    /// The code of a part is to be edited.
    void codeAsked(int part);
    /// The selected device is to be shown on the model desk.
    void deskAsked();
    /// A loop gain with the present values and with others is to be seen.
    void loopFound(const hedgerow::FrequencyResponse& before, const hedgerow::FrequencyResponse& after);
    /// A time of the shown run is to be seen.
    void instantAsked(double seconds);

protected:
    void changeEvent(QEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    static constexpr int textWidth = 150;  ///< of fields that take a text
    struct Field {
        QLineEdit* edit;
        QLabel* note;
        std::function<std::string()> read;
        /// Why a typed text cannot stand, and what it evaluates to.
        std::function<Result<QString>(const std::string&)> judge;
    };

    void rebuild();
    void refresh();
    void showPart(const Part& part, const PartKind& kind);
    void showParts(const std::vector<const Part*>& parts);
    void showProject();
    void showPlan();
    void showSpans();
    Result<QString> judgeSpan(std::size_t index, const std::string& text) const;
    void showStress();
    void showScene();
    void changeScene(const std::function<void(Scene&)>& change);
    Result<QString> judgeEvent(const std::string& text) const;
    QLineEdit* addLine(const QString& name, const QString& accessible, std::function<std::string()> read,
                       std::function<Result<QString>(const std::string&)> judge,
                       std::function<void(const std::string&)> write);
    /// What a part of the control has beside its values: its code, or the tasks over time.
    void addControl(const Part& part, const PartKind& kind);
    /// Of the sheet in view.
    void showModule();
    /// What can be done with the module of a place.
    void showModuleOf(const Part& place);
    void addFixedStep(const std::function<void(const std::function<void(Plan&)>&)>& change);
    void addChoice(const QString& label, const QString& name, const QStringList& choices, int chosen,
                   std::function<void(int)> write);
    void addValue(const Part& part, const ParameterKind& parameter);
    void showParameters();
    void showParameter(const Parameter& parameter);
    /// The parameter that is looked at in detail, or nullptr.
    const Parameter* shownParameter() const;
    void openParameter(const std::string& name);
    void changeParameter(const std::string& name, const std::function<void(Parameter&)>& change);
    /// "= 4.7 kΩ" where the typed text does not say so itself.
    static QString preview(const std::string& typed, double value, const std::string& unit);
    /// @return the label, for what else it should do
    QLabel* addField(const QString& label, const QString& unit, const QString& name, std::function<std::string()> read,
                     std::function<Result<QString>(const std::string&)> judge,
                     std::function<void(const std::string&)> write);
    QLabel* addHeading(const QString& text);
    void addQuiet(const QString& text);
    void judgeField(const Field& field);
    const std::map<int, double>& pricesOf(const std::string& kind);
    /// Runs the project on all rungs of the part, and has the ladder tell what that took.
    void measureRungs(int part, const std::string& kind);
    void addStress(const Part& part);
    void fillStress();

    Workspace& workspace_;
    QWidget* page_ = nullptr;
    QVBoxLayout* column_ = nullptr;
    std::vector<Field> fields_;
    Stress* stress_ = nullptr;
    Ladder* ladder_ = nullptr;
    std::map<std::string, std::map<int, double>> measured_;  ///< prices by kind and rung
    Background pricing_, learning_;
    void learn(const std::string& part);
    bool equationsOpen_ = false;  ///< of the part at hand, and then of the next one
    std::string shape_;           ///< what the page was built for
    bool catalogueChanged_ = false;
    std::string parameter_;  ///< that is looked at in detail
};

}  // namespace hedgerow::app
