#pragma once

#include <vector>

#include "network/network.h"

namespace hedgerow {

/// The order in which the conducting states of elements are stored.
struct RowLayout {
    RowLayout() = default;
    explicit RowLayout(const Network& network);
    int unknowns = 0;
    std::vector<int> switching;       ///< indices of the elements with several segments
    std::vector<int> placeOfElement;  ///< index into `switching`; -1 for the others
};

}  // namespace hedgerow
