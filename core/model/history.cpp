#include "model/history.h"

namespace hedgerow {

History::History(Project project) {
    states_.push_back({std::make_shared<const Project>(std::move(project)), "", ""});
    saved_ = states_.front().project;
}

Status History::apply(const Edit& edit) {
    Project changed = project();
    if (auto status = edit.apply(changed); !status) return status;
    if (changed == project()) return {};
    const bool merge = !edit.mergeKey.empty() && at_ > 0 && at_ + 1 == states_.size() &&
                       states_[at_].mergeKey == edit.mergeKey && states_[at_].project != saved_;
    states_.resize(at_ + 1);
    State state{std::make_shared<const Project>(std::move(changed)), edit.label, edit.mergeKey};
    if (merge) {
        states_[at_] = std::move(state);
    } else {
        states_.push_back(std::move(state));
        ++at_;
    }
    return {};
}

void History::undo() {
    if (canUndo()) --at_;
}

void History::redo() {
    if (canRedo()) ++at_;
}

}  // namespace hedgerow
