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
    /// Places that will be asked for next: they can be computed beside each other. May be empty.
    std::function<void(const std::vector<std::vector<double>>&)> ahead = {};
};

struct OptimiserSetting {
    Sampling::Search::Way way = Sampling::Search::Way::local;
    std::vector<std::vector<double>> starts = {};  ///< in the box, 0 to 1; it begins at the best of them, the middle where there are none
    int most = 200;                                ///< evaluations
    double tolerance = 1e-4;                       ///< of the box, by which the best place moves in the end
    double difference = 1e-3;                      ///< of the box: to either side, for gradients
};

struct Optimum {
    std::vector<double> at = {};  ///< in the box
    double value = 0;             ///< of the objective; not a number where no place kept all constraints
    std::vector<double> constraints = {};
    int evaluations = 0;
    bool ended = false;  ///< by itself: the tolerance was reached before the last evaluation
};
/// All of NLopt: without derivatives COBYLA (M. J. D. Powell, 1994), or BOBYQA (the same, 2009) where there are no constraints, begun anew at the
/// best place until that stays; ISRES (T. P. Runarsson and X. Yao, 2005) before them where it is global; by gradient SLSQP (D. Kraft, 1988)
/// with central differences, all places of one beside each other. The best place that kept all constraints counts, whichever step it was.
Optimum minimise(const Objective& objective, const OptimiserSetting& setting, const CancelToken& cancel);

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
/// Looks for the best place of a study whose runs are a search. Every evaluation is a row of the sink; rows that are there are not run again, and
/// it begins at the best of them, else at the present values of the project, where they keep the limits, or in the middle of the ranges.
/// Errors: the sink's; no place keeps the limits; stopped before one was found (else the best so far is the result).
Result<OptimiseResult> searchStudy(const StudySetup& setup, StudySink& sink, const StudyRunning& running, const CancelToken& cancel);

}  // namespace hedgerow
