#pragma once
// Which parts stand on which rungs, as a line: "all on 2, Switches on 3, Q1 on 4", "at most 2".

#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "model/modules.h"

namespace hedgerow {

/// One term of a rule.
struct RungTerm {
    enum class Sort { on, atMost, atLeast };
    Sort sort = Sort::on;
    /// Of `on`: a part ("Q1", "X1.Q1"), a module's place ("X1", for all parts in it), a kind ("mosfet"), a heading of
    /// the shelf ("Switches"), or "all".
    std::string selector = {};
    int rung = 1;
};

/// What "as drawn" means: no term.
inline constexpr std::string_view asDrawn = "as drawn";

/// "" and "as drawn" have no terms. Errors carry the position.
Result<std::vector<RungTerm>> readRungRule(std::string_view text);
/// The rungs that parts of a flat project stand on by a rule: the more exactly a term names a part the more it counts, and of two
/// alike the later one; then come "at most" and "at least". A part that lacks the rung stands on the next one below.
/// Errors: a term names nothing in the project.
Status applyRungRule(std::string_view rule, Project& flat, const Catalogue& catalogue);
/// The rule with a part under another name.
std::string withRenamedInRungs(const std::string& rule, const std::string& from, const std::string& to);

}  // namespace hedgerow
