#pragma once
// Undo and redo. A project changes only through Edits; the history keeps the whole state before and after each, so
// undo is complete by construction.

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/result.h"
#include "model/project.h"

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

    const Project& project() const { return *states_[at_].project; }
    std::shared_ptr<const Project> shared() const { return states_[at_].project; }
    /// Applies an edit. On an error, and when nothing changes, the history stays as it was.
    Status apply(const Edit& edit);
    bool canUndo() const { return at_ > 0; }
    bool canRedo() const { return at_ + 1 < states_.size(); }
    std::string undoLabel() const { return canUndo() ? states_[at_].label : ""; }
    std::string redoLabel() const { return canRedo() ? states_[at_ + 1].label : ""; }
    void undo();
    void redo();

    void markSaved() { saved_ = states_[at_].project; }
    /// For a recovered project: nothing on disk is equal to it.
    void markUnsaved() { saved_.reset(); }
    bool modified() const { return saved_ != states_[at_].project; }

private:
    struct State {
        std::shared_ptr<const Project> project;
        std::string label;
        std::string mergeKey;
    };
    std::vector<State> states_;
    std::size_t at_ = 0;
    std::shared_ptr<const Project> saved_;
};

}  // namespace hedgerow
