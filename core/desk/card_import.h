#pragma once
// Makers' model cards as parts and modules: a card of a diode or a transistor becomes a part on rung 4 with the values
// that its formulas share, and with the straight lines of rungs 2 and 3 taken from its own simulated curve; a
// subcircuit becomes a module of the parts that it is made of.

#include <string>
#include <vector>

#include "base/cancel.h"
#include "formats/cards/card_file.h"
#include "model/project.h"

namespace hedgerow {

struct ImportedDevice {
    Part part;            ///< named after its card
    double residual = 0;  ///< V: the largest distance of the straight lines of rung 2 from the curve, up to the current
};

struct CardImport {
    std::vector<ImportedDevice> devices;
    std::vector<Sheet> modules;
    std::vector<CardRemark> remarks;  ///< by line: what was not taken, and what was taken for something else
};

/// @param current  A: up to which the straight lines follow the curve
/// @param lines    of the curve of a diode on rung 2, 1 to mostLines
CardImport importCards(std::string_view text, double current, const CancelToken& cancel, int lines = 1);

/// Modules and devices as a project, to be placed from it as from any library: modules by their names, devices as parts
/// kept under theirs; devices lie on its main sheet, too.
Project projectOf(const CardImport& import, std::string title);

}  // namespace hedgerow
