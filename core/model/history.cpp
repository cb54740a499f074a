#include "model/history.h"

#include <fmt/format.h>

#include "model/modules.h"

namespace hedgerow {

History::History(Project project) : now_(std::make_shared<const Project>(std::move(project))) {}

namespace {

/// A module from a library stays as it came, unless it is made the project's own.
Status librariesKept(const Project& before, const Project& after) {
    for (const Sheet& sheet : before.sheets) {
        if (sheet.origin.empty()) continue;
        const Sheet* now = after.findSheet(sheet.name);
        if (now && now->origin == sheet.origin && !(*now == sheet))
            return Error{ErrorCode::range,
                         fmt::format("{} belongs to the library {}: make a copy of it the project's own first",
                                     sheet.name, sheet.origin)};
    }
    return {};
}

}  // namespace

Status History::apply(const Edit& edit) {
    Project changed = project();
    if (auto status = edit.apply(changed); !status) return status;
    if (auto status = librariesKept(project(), changed); !status) return status;
    if (changed == project()) return {};
    const bool merge = !edit.mergeKey.empty() && canUndo() && !canRedo() && before_.back().mergeKey == edit.mergeKey &&
                       state_ != saved_;
    after_.clear();
    if (merge) {
        const Project start = before_.back().patch.appliedTo(project());
        before_.back().patch = ProjectPatch(changed, start);
    } else {
        before_.push_back({ProjectPatch(changed, project()), edit.label, edit.mergeKey, project().view,
                           project().sheet().name, state_});
    }
    state_ = ++lastState_;
    now_ = std::make_shared<const Project>(std::move(changed));
    return {};
}

/// Goes to the other side of the nearest step of `from` and leaves the way back in `to`.
void History::cross(std::vector<Step>& from, std::vector<Step>& to) {
    if (from.empty()) return;
    Step step = std::move(from.back());
    from.pop_back();
    Project other = step.patch.appliedTo(project());
    step.patch = ProjectPatch(other, project());
    std::swap(step.state, state_);
    now_ = std::make_shared<const Project>(std::move(other));
    if (!step.madeIn.path.empty() || step.madeIn.sheet == 0) {
        look(viewAlong(project(), step.madeIn.path));
    } else {
        const Sheet* same = project().findSheet(step.madeOn);
        look({same ? static_cast<std::size_t>(same - project().sheets.data()) : 0, {}});
    }
    to.push_back(std::move(step));
}

void History::setFolder(ProjectFolder folder) {
    Project moved = project();
    moved.folder = std::move(folder);
    now_ = std::make_shared<const Project>(std::move(moved));
}

void History::undo() { cross(before_, after_); }

void History::redo() { cross(after_, before_); }

void History::look(View view) {
    if (view.sheet >= project().sheets.size()) view = {};
    if (view.sheet == project().view.sheet && view.path == project().view.path) return;
    Project seen = project();
    seen.view = std::move(view);
    now_ = std::make_shared<const Project>(std::move(seen));
}

}  // namespace hedgerow
