#pragma once
// A feature of a run that matters, with the accuracy wanted: "pp of L1.i over last 20u within 1 %".

#include <string>
#include <string_view>

#include "base/result.h"
#include "runs/run_record.h"

namespace hedgerow {

struct Feature {
    /// "mean", "min", "max", "peak" (the largest magnitude), "pp", "rms", "integral", "loss" (the mean power of a part),
    /// "value" (at an instant), "thd" and "harmonic" (of a fundamental).
    std::string measure;
    std::string quantity;      ///< or an expression; of "loss" a part
    std::string from = {}, to = {};  ///< the window, times as typed; "" for the ends of the run
    std::string last = {};     ///< instead of `from`: so long before the end
    std::string at = {};       ///< of "value"
    std::string base = {};     ///< of "thd" and "harmonic": the fundamental, Hz
    int order = 1;             ///< of "harmonic"
    std::string accuracy = {};  ///< an expression: "1 %", "20m"
};

/// Reads "<measure> of <quantity> [over last <time> | from <time> to <time> | at <time>] [base <frequency>] within
/// <accuracy>". Errors carry the position.
Result<Feature> readFeature(std::string_view text);
std::string featureText(const Feature& feature);

/// A feature of one project, with its times and its accuracy as numbers.
class FeatureReader {
public:
    /// Errors: times, frequencies and accuracies that are none.
    static Result<FeatureReader> make(const Feature& feature, const Project& project);
    /// What it is in a run, in SI. Errors: the run lacks the quantity, or does not reach the window.
    Result<double> valueIn(const RunRecord& run) const;
    /// How far a value may be off where the reference has another: in SI.
    double allowed(double reference) const;
    const Feature& feature() const { return feature_; }
    /// The unit of its values in a run.
    std::string unitIn(const RunRecord& run) const;

private:
    Feature feature_;
    double from_ = -1, to_ = -1, last_ = -1, at_ = -1, base_ = 0;  ///< s and Hz; -1 where it is open
    double accuracy_ = 0;
    bool relative_ = false;  ///< the accuracy is a part of the value
};

}  // namespace hedgerow
