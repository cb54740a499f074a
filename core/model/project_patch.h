#pragma once
// What makes one state of a project out of another: undo keeps these instead of whole states.

#include <vector>

#include "model/project.h"

namespace hedgerow {

/// The middle of a list that differs; front and back are those of the other list.
template <class Item>
struct Splice {
    std::size_t front = 0, back = 0;
    std::vector<Item> middle;

    static Splice between(const std::vector<Item>& from, const std::vector<Item>& to);
    std::vector<Item> appliedTo(const std::vector<Item>& from) const;
};

class ProjectPatch {
public:
    /// What `to` has that `from` has not. Its size follows the difference, not the size of the projects.
    ProjectPatch(const Project& from, const Project& to);
    /// @pre `from` equals the one the patch was made with
    Project appliedTo(const Project& from) const;

private:
    struct SheetPatch {
        std::size_t from;  ///< index of the sheet it is made from; past the end: from an empty one
        Sheet rest;        ///< without parts, wires and labels
        Splice<Part> parts;
        Splice<Wire> wires;
        Splice<Label> labels;
    };
    Project rest_;  ///< without sheets
    std::vector<SheetPatch> sheets_;
};

}  // namespace hedgerow
