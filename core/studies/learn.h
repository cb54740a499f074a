#pragma once
// Rung 2 learns from rung 4: the switching energies of a device in the very circuit it is in.
//
// A run on rung 2 tells what the device switches: currents and voltages at its events. Of these some are chosen that span them.
// Around each the whole circuit, with its drive, its loop and its snubbers, runs on rung 4 for two of the device's events, from where
// the run on rung 2 was. What the device burns there from the middle between two events to the next middle, less what it conducts
// on rung 2 meanwhile, is what the event costs.

#include <functional>
#include <string>
#include <utility>
#include <vector>

#include "base/cancel.h"
#include "runs/run.h"

namespace hedgerow {

struct LearnRequest {
    std::shared_ptr<const Project> project;
    std::string scene = {}, plan = {};  ///< of the run that visits the operating points; its spans do not count
    std::vector<std::string> parts = {};  ///< names; empty for all devices that can
    std::string rungs = "all on 4";       ///< a rule, of the runs that are learnt from
    int points = 6;                       ///< currents per device and kind of event
    std::function<void(const std::string& now)> progress = {};
};

/// One event that was looked at.
struct LearnedPoint {
    std::string part;
    std::string event;  ///< "on", "off" or "recovery"
    double at = 0;      ///< s
    double current = 0, voltage = 0;
    double energy = 0;  ///< J
};

struct Learned {
    std::vector<LearnedPoint> points;
    /// Part, key and text: "eon", "eoff", "err", and "learned" with where they come from.
    struct Value {
        std::string part, key, text;
    };
    std::vector<Value> values;
    std::vector<std::string> left;  ///< devices of which nothing was learnt, with the reason
};

/// Errors: there is no such device; the run on rung 2 fails; stopped by `cancel`.
Result<Learned> learnLosses(const LearnRequest& request, const CancelToken& cancel);
/// The project with these values.
Project withLearned(const Project& project, const Learned& learned);

}  // namespace hedgerow
