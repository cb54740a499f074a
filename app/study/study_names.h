#pragma once
// The box with the names of a project's studies of one kind: picks one, makes a new one like it, renames and removes it.

#include <algorithm>
#include <functional>
#include <set>
#include <string>
#include <vector>

#include <QComboBox>
#include <QLineEdit>

#include "base/workspace.h"

namespace hedgerow::app {

/// What the projects and edits of a kind of study are called.
template <class Study>
struct StudyKind {
    std::vector<Study> Project::*list;
    std::function<Study(const Project&)> usual;  ///< what suits a project that has none
    Edit (*set)(std::string name, Study study);
    Edit (*remove)(std::string name);
};

template <class Study>
class StudyNames {
public:
    /// @param refill  shows the study that is chosen from now on; @param take  makes what is typed the project's
    StudyNames(Workspace& workspace, StudyKind<Study> kind, const QString& name, QWidget* parent, std::function<void()> take,
               std::function<void()> refill)
        : workspace_(workspace), kind_(std::move(kind)), box_(new QComboBox(parent)), take_(std::move(take)), refill_(std::move(refill)) {
        box_->setObjectName(name);
        box_->setAccessibleName("study of the project");
        box_->setToolTip("the studies of the project; type to rename this one");
        box_->setEditable(true);
        box_->setInsertPolicy(QComboBox::NoInsert);
        box_->setMinimumWidth(150);
        QObject::connect(box_, &QComboBox::activated, box_, [this](int index) { pick(index); });
        QObject::connect(box_->lineEdit(), &QLineEdit::editingFinished, box_, [this] { rename(); });
    }
    QComboBox* box() const { return box_; }
    /// The chosen one, the first, or what suits the project.
    Study study() const {
        for (const Study& one : all())
            if (one.name == chosen_) return one;
        return all().empty() ? kind_.usual(workspace_.project()) : all().front();
    }
    void forget() { chosen_.clear(); }
    /// Puts a study in the place of the chosen one, unless it is as it was, or what an untouched project would show.
    void put(const Study& now) {
        if (all().empty() ? now == kind_.usual(workspace_.project()) : std::find(all().begin(), all().end(), now) != all().end()) return;
        (void)workspace_.apply(kind_.set(now.name, now));
    }
    void fill() {
        filling_ = true;
        const std::string now = study().name;
        box_->clear();
        for (const Study& one : all()) box_->addItem(QString::fromStdString(one.name));
        if (all().empty()) box_->addItem(QString::fromStdString(now));
        box_->addItem("new study like this");
        if (all().size() > 1) box_->addItem("remove this study");
        box_->setCurrentIndex(std::max(0, box_->findText(QString::fromStdString(now), Qt::MatchExactly | Qt::MatchCaseSensitive)));
        box_->lineEdit()->setCursorPosition(0);
        filling_ = false;
    }

private:
    /// They move with each edit: nobody keeps a reference.
    const std::vector<Study>& all() const { return workspace_.project().*kind_.list; }
    void pick(int index) {
        if (index < 0) return;
        take_();
        const int count = std::max(1, static_cast<int>(all().size()));
        if (index < static_cast<int>(all().size())) {
            chosen_ = all()[static_cast<std::size_t>(index)].name;
        } else if (index == count) {
            Study made = study();
            if (all().empty()) (void)workspace_.apply(kind_.set(made.name, made));
            std::set<std::string> taken;
            for (const Study& other : all()) taken.insert(other.name);
            for (int n = 2; taken.contains(made.name); ++n) made.name = "study " + std::to_string(n);
            if (workspace_.apply(kind_.set(made.name, made))) chosen_ = made.name;
        } else if (index == count + 1 && all().size() > 1) {
            (void)workspace_.apply(kind_.remove(study().name));
            chosen_.clear();
        }
        refill_();
    }
    void rename() {
        if (filling_) return;
        Study now = study();
        const std::string typed = box_->lineEdit()->text().trimmed().toStdString(), before = now.name;
        const bool listed = box_->findText(box_->lineEdit()->text()) >= 0;  // one of the list was picked
        if (typed != before && !listed && !typed.empty()) {
            now.name = typed;
            if (workspace_.apply(kind_.set(before, now))) chosen_ = typed;
        }
        refill_();
    }

    Workspace& workspace_;
    StudyKind<Study> kind_;
    QComboBox* box_;
    std::string chosen_;  ///< by name; "" for the first
    std::function<void()> take_, refill_;
    bool filling_ = false;
};

}  // namespace hedgerow::app
