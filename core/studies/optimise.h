#pragma once
// The best values of what varies: an objective over measures, their limits as constraints.

#include <functional>
#include <string>
#include <vector>

#include "studies/study.h"

namespace hedgerow {

/// A function of numbers between 0 and 1 that is to be made small, with constraints that hold where they are at most 0. One that has no
/// value there is not a number.
struct Objective {
    struct At {
        double value = 0;
        std::vector<double> constraints = {};
    };
    std::size_t variables = 0, constraints = 0;
    std::function<At(const std::vector<double>&)> at;
};

struct OptimiserSetting {
    bool global = false;            ///< all of the box is searched first; else from the start alone
    std::vector<double> start = {}; ///< in the box, 0 to 1
    int most = 200;                 ///< evaluations
    double tolerance = 1e-4;        ///< of the box, by which the best place moves in the end
};

struct Optimum {
    std::vector<double> at = {};  ///< in the box
    double value = 0;             ///< of the objective; not a number where no place kept all constraints
    std::vector<double> constraints = {};
    int evaluations = 0;
    bool ended = false;  ///< by itself: the tolerance was reached before the last evaluation
};
/// Without derivatives: COBYLA (M. J. D. Powell, 1994), or BOBYQA (the same, 2009) where there are no constraints, after ISRES (T. P. Runarsson and X. Yao, 2005) where it is global; both of NLopt.
/// The best place that kept all constraints counts, whichever step it was.
Optimum minimise(const Objective& objective, const OptimiserSetting& setting, const CancelToken& cancel);

struct OptimiseRequest {
    StudySetup setup;       ///< its measures have names where the objective asks for them
    std::string objective;  ///< an expression over measures and parameters: "ripple / 10m + losses"
    bool most = false;      ///< it is to be made large
    bool global = false;
    int evaluations = 200;
};

struct OptimiseResult {
    StudyRow best = {};            ///< the row of the optimum
    double value = 0;              ///< of the objective there
    std::vector<std::string> binding = {};  ///< measures that stand at a limit
    /// Per thing that varies: by which part of the objective it changes when the thing moves by a hundredth of its range to either side.
    std::vector<double> flatness = {};
    int evaluations = 0;
    bool ended = false;
    /// In sentences.
    std::vector<std::string> words = {};
};
/// Every evaluation is a row of the sink, numbered from 0. Errors: things without a range; the expression; nothing keeps the limits;
/// stopped before any place was known (else the best so far is the result).
Result<OptimiseResult> optimise(const OptimiseRequest& request, StudySink& sink, const CancelToken& cancel);

}  // namespace hedgerow
