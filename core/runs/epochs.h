#pragma once
// A run as a row of epochs: what a plan and a scene come to.
//
// An epoch begins where a span of the plan begins and where a value of the scene steps. Each has its network, made once for
// each way of solving and each interval of the scene, and an engine; where the next network has the same unknowns and the same
// engine the simulation goes on with all that it has built, else another one starts from the snapshot.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "model/project.h"
#include "model/span_text.h"
#include "network/elaborate.h"
#include "network/engine.h"
#include "network/scene.h"
#include "runs/frame.h"

namespace hedgerow {

/// One network and what it takes to run it.
struct EpochCircuit {
    std::shared_ptr<const Elaboration> elaboration;
    const Engine* engine = nullptr;
    RunRequest request;  ///< its end is set when it is run
    const Network& network() const { return elaboration->network; }
};

/// A way of solving, of one span or of the time between two of its returns.
struct Way {
    std::string rungs;  ///< a rule
    Keep keep;
    std::vector<std::optional<EpochCircuit>> circuits;  ///< one an interval of the scene, where it comes there
};

/// A span of a plan, checked.
struct ReadySpan {
    std::string text;  ///< as typed
    bool settle = false;
    std::size_t way = 0, between = 0;   ///< index into the ways; of the time between two returns
    Tick from = 0, latest = 0;          ///< when it may begin at the earliest, and ends at the latest
    std::optional<Tick> length = {};    ///< counted from its begin
    std::optional<Tick> until = {};     ///< an instant
    Tick every = 0, lasting = 0;        ///< of one that comes again
    bool untilSettled = false;
    std::optional<SpanCondition> condition = {};
    double value = 0;  ///< of the condition, SI
};

struct RunPlan {
    std::vector<SceneInterval> intervals;
    std::vector<Way> ways;
    std::vector<ReadySpan> spans;
    Tick end = 0;  ///< at the latest
    double largestJump = 0;
    bool typedSpans = false;  ///< whether the plan has spans of its own

    /// The circuit it begins with.
    const EpochCircuit& first() const;
    /// The interval of the scene that begins at an instant or holds it.
    std::size_t intervalAt(Tick t) const;
    RunFrame frame() const;
};

/// What the texts of a plan stand for.
struct PlanTexts {
    const Project& project;
    const Plan& plan;
    const Scene& scene;
};

/// A number or a time of a plan in SI, above and at most something; an error names the plan and the field.
struct PlanRange {
    std::string field, unit;
    double above = 0, most = 1;
};
Result<double> planNumber(const PlanTexts& texts, const PlanRange& range, const std::string& typed);
Result<double> planTime(const PlanTexts& texts, const PlanRange& range, const std::string& typed);

/// Checks spans, makes all networks, and chooses their engines. Errors name the span and the field, or what keeps a network
/// from running.
/// @param base  what all runs of the plan have in common
Result<RunPlan> makeRunPlan(const PlanTexts& texts, Tick end, const RunRequest& base);

}  // namespace hedgerow
