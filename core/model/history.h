#pragma once
// Undo and redo. A project changes only through Edits; the history keeps what leads from each state back to the one
// before, so that undo is complete by construction and costs memory only for what changed.

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/result.h"
#include "model/project.h"
#include "model/project_patch.h"

namespace hedgerow {

/// A change of a project: what it is called in the interface, and how it is made.
struct Edit {
    std::string label;
    std::function<Status(Project&)> apply;
    /// Edits in a row with the same non-empty key become one step of undo (typing into one field).
    std::string mergeKey = {};
};

class History {
public:
    explicit History(Project project = {});

    const Project& project() const { return *now_; }
    std::shared_ptr<const Project> shared() const { return now_; }
    /// Applies an edit. On an error, and when nothing changes, the history stays as it was.
    Status apply(const Edit& edit);
    bool canUndo() const { return !before_.empty(); }
    bool canRedo() const { return !after_.empty(); }
    std::string undoLabel() const { return canUndo() ? before_.back().label : ""; }
    std::string redoLabel() const { return canRedo() ? after_.back().label : ""; }
    /// Both keep in view, or bring into view, the sheet on which the change was made.
    void undo();
    void redo();
    /// Another sheet comes into view; this is no step of undo.
    void look(View view);
    /// The project lies elsewhere now, or may read other files; this is no step of undo.
    void setFolder(ProjectFolder folder);

    void markSaved() { saved_ = state_; }
    /// For a recovered project: nothing on disk is equal to it.
    void markUnsaved() { saved_ = -1; }
    bool modified() const { return saved_ != state_; }

private:
    /// One change, as seen from the present: how to get to its other side.
    struct Step {
        ProjectPatch patch;
        std::string label;
        std::string mergeKey;
        View madeIn;         ///< what was in view when the change was made
        std::string madeOn;  ///< the sheet
        int state;           ///< on the other side
    };
    void cross(std::vector<Step>& from, std::vector<Step>& to);

    std::shared_ptr<const Project> now_;
    std::vector<Step> before_, after_;  ///< the nearest last
    int state_ = 0, lastState_ = 0;     ///< states are numbered as they are made
    int saved_ = 0;
};

}  // namespace hedgerow
