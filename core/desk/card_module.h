#pragma once
// A subcircuit of a maker's card as circuit text: a line a part.

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "formats/cards/card_file.h"
#include "model/project.h"

namespace hedgerow {

/// A word that names a part, a net or a module. @param before  put before what does not begin with a letter
std::string cardIdentifier(const std::string& text, const char* before);

/// The part that a card of this name becomes, with values of the element's own (W, L) in place of the card's; nothing
/// when there is none. A field-effect transistor has its gate as a pin here.
using CardedDevice =
    std::function<std::optional<Part>(const std::string& card, const std::map<std::string, double>& own)>;

/// Elements for which there is no part are left out and listed.
std::string moduleText(const CardSubcircuit& sub, const CardedDevice& device, std::vector<CardRemark>& remarks);

}  // namespace hedgerow
