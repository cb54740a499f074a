#pragma once
// The cheapest plan that is good enough: which part needs which rung.
//
// From below each part climbs alone, the others as low as they go: what it moves in the features tells whether it matters. Those that
// matter climb together; where that is not enough, the others are asked from above, each taken down alone from the finest
// circuit. Then every part that stands high is taken down as far as the features allow, the dearest first, and what is left is run
// as a whole.

#include <functional>
#include <string>
#include <vector>

#include "studies/trade.h"

namespace hedgerow {

struct SearchSetting {
    const Project& project;
    const TradeStudy& study;
    const std::vector<FeatureReader>& features;
    const std::vector<double>& reference;
    std::string referenceLine;
    /// Runs lines and judges them.
    std::function<std::vector<TradePoint>(const std::vector<std::string>&)> run;
};

struct SearchAnswer {
    std::string line;  ///< "" where nothing was good enough
    std::vector<PartVerdict> verdicts;
};

/// @param points  gets all that was run
SearchAnswer searchCheapest(const SearchSetting& setting, std::vector<TradePoint>& points, const CancelToken& cancel);

}  // namespace hedgerow
