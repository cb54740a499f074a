#pragma once
// What is known of a run besides its points, as it is kept: JSON.

#include <string>
#include <utility>
#include <vector>

#include "network/engine.h"
#include "runs/run.h"

namespace hedgerow {

struct RunAbout {
    std::string project;  ///< as text of a project file
    std::string plan, scene;
    Tick end = 0;
    RunSummary summary;
    std::vector<QuantityInfo> quantities;
    std::vector<bool> logic;  ///< per quantity: nothing but 0 and 1
    std::vector<RatingInfo> ratings;
    RowLayout layout;
    std::size_t signalCount = 0;
    std::vector<std::pair<std::string, std::string>> provenance;
};

/// Of a run that may still go on: its summary is then that of a run that broke off.
RunAbout aboutOf(const Run& run, bool over);

/// All but the project.
std::string writeAbout(const RunAbout& about);
/// Reads what writeAbout() wrote; an error when it is something else.
Status readAbout(const std::string& text, RunAbout& about);

}  // namespace hedgerow
