#pragma once
// The circuit as lines of text, one a part:
//
//     L1 inductor sw out rung 2 l 47u dcr 12m
//
// name, kind, one net for each pin ("-" for none), the rung where it is not the first, then keys and values as on the
// entry line; a value with blanks stands in double quotes, in which \n is a new line. A net without a name is called
// after one of its pins, and 0 when it is that of the only reference.

#include <string>
#include <string_view>
#include <vector>

#include "model/history.h"
#include "model/nets.h"
#include "model/part_kind.h"
#include "model/project.h"

namespace hedgerow {

struct TextLine {
    int line = 0;  ///< 1-based
    std::string name;
    const PartKind* kind = nullptr;
    std::vector<std::string> nets;  ///< one per pin; "" for none
    int rung = 1;
    TypedValues values;
};

struct TextCircuit {
    std::vector<TextLine> lines;
    std::vector<Error> errors;  ///< with line and column
};

/// The sheet as text, in the order of its parts.
std::string writeText(const Project& project, const Catalogue& catalogue, const NetList& nets);
/// Reads text; what cannot be read is listed with its place.
TextCircuit readText(std::string_view text, const Catalogue& catalogue);

namespace edits {
/// Makes the sheet what the text says. What is the same stays where it is drawn; new parts are placed beneath, and
/// nets that changed get new wires, or names where wires would not be read. @pre the text has no errors
Edit becomeText(TextCircuit circuit, const Catalogue& catalogue);
}  // namespace edits

}  // namespace hedgerow
