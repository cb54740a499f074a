#pragma once
// What is lost and what is saved: the same question to several ways of solving, against a reference that has converged.

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "runs/run.h"
#include "studies/feature.h"

namespace hedgerow {

/// One way of solving, run and judged.
struct TradePoint {
    std::string line;                 ///< "all on 2, exact"
    std::optional<Error> error = {};  ///< why there is no result
    std::vector<double> values = {};  ///< of the features, SI
    std::vector<double> errors = {};  ///< each over the accuracy wanted: at most 1 is good enough
    double worst = 0;                 ///< the largest of these
    double seconds = 0;               ///< CPU time of the run alone
    std::int64_t points = 0, events = 0;
    double step = 0, load = 0, longestLoad = 0;  ///< of a fixed step: its length, s; time to compute it over that, in mean and at most
    std::string engine = {};
    bool good = false;   ///< all features are as accurate as wanted
    bool front = false;  ///< none is both cheaper and more accurate
    bool present = false;            ///< as the plan stands
    std::shared_ptr<Run> run = {};   ///< its waveforms, while there is room for them
};

/// A part in the answer of a search.
struct PartVerdict {
    std::string part;
    int rung = 1;      ///< that it needs
    int highest = 1;   ///< that it has
    bool needed = false;  ///< whether a lower rung would spoil a feature
    std::string why = {};  ///< "on rung 1 it costs 0.02 % of the pp of L1.i and nothing else"
};

struct TradeResult {
    std::string study = {};
    std::string scene = {}, plan = {};
    std::vector<std::string> features = {};  ///< as typed
    std::vector<std::string> units = {};     ///< of their values
    std::vector<double> reference = {};      ///< their values, SI
    std::vector<double> moved = {};          ///< by which they moved with the last refinement, over the accuracy wanted
    double apart = -1;                       ///< over the accuracy wanted: solved again in long double; -1 where it was not
    std::string referenceLine = {};          ///< how it was solved
    bool converged = false;             ///< every feature stood still ten times better than wanted
    double referenceSeconds = 0;
    std::shared_ptr<Run> referenceRun = {};
    std::vector<TradePoint> points = {};
    std::string answer = {};                 ///< of a search: the cheapest line that is good enough; "" where there is none
    std::vector<PartVerdict> verdicts = {};  ///< of a search
    int runs = 0;                       ///< that it took, the reference included, those to time it again not
    double seconds = 0;                 ///< of waiting
};

/// Of those with a fixed step that are good enough, the one with the largest; nullptr when there is none.
const TradePoint* largestGoodStep(const TradeResult& result);
/// What is known of the reference: whether it stands still, and by how much it moves.
std::string standingText(const TradeResult& result);
/// What a fixed step leaves to a target that has to keep pace with it: "a step takes 31 % of its length to compute, the
/// longest 90 % of its length: headroom 69 %"; "" for others.
std::string headroomText(const TradePoint& point);

/// Where a study stands.
struct TradeProgress {
    int done = 0, about = 0;
    std::string now;  ///< what is being run
};

struct TradeRequest {
    std::shared_ptr<const Project> project;
    TradeStudy study;
    bool search = false;
    int threads = 0;  ///< 0 for all cores
    std::function<void(const TradeProgress&)> progress = {};
};

/// The lines of a step-size study: one step for all from a tenth to a thousandth of the shortest period, each with
/// edges where they are and on the grid; and, where there are running signals or temperatures, multiples of the step for these.
std::vector<std::string> stepLines(const Project& project, const TradeStudy& study);

/// Runs a study. A line is a way of solving (model/span_text.h) for the spans after the last settled one; settled spans take
/// its rungs up to rung 2. "reference: all on 3" says what the reference is, "all on 4" when none does;
/// "edges on the grid" and "control every 10" are of the fixed step.
/// Errors: the question itself is wrong; the reference does not run; stopped by `cancel`.
Result<TradeResult> runTrade(const TradeRequest& request, const CancelToken& cancel);

/// The project with the plan of a line in place of the one that the study asks about.
Result<Project> withLine(const Project& project, const TradeStudy& study, const std::string& line);

}  // namespace hedgerow
