#pragma once
// A study: many runs from one project, on all cores, each a row of a table that lies in one file and survives a crash.

#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "runs/run.h"
#include "studies/feature.h"
#include "studies/varied.h"

namespace hedgerow {

/// What is measured of each run, with the limits that it is to keep.
struct StudyMeasure {
    std::string text;      ///< as typed
    FeatureReader reader;
    std::string name = {};  ///< for expressions: "ripple = pp of out.v"; "" where it has none
    /// Of the traces; an expression over measures above it, parameters and values of parts; or of the loop gain at a signal, in the
    /// periodic state.
    enum class Sort { trace, expression, crossover, phaseMargin, gainMargin };
    Sort sort = Sort::trace;
    std::string signal = {}, expression = {};
    bool ofLoop() const { return sort != Sort::trace && sort != Sort::expression; }
    std::optional<double> above = {}, below = {};  ///< limits, SI
    std::string unit = {};
    bool keeps(double value) const { return (!above || value >= *above) && (!below || value <= *below); }
};
/// Reads "pp of out.v over last 20u [above 1m] [below 50m]", "cost = expression 2 * losses + L1.l / 1u", or "phase margin of REG1.y",
/// "gain margin of REG1.y" (times), "crossover of REG1.y".
Result<StudyMeasure> readStudyMeasure(const std::string& line, const Project& project);

/// A study that is ready to run.
struct StudySetup {
    std::shared_ptr<const Project> project;
    ParameterStudy study;
    StudyPoints points;
    std::vector<StudyMeasure> measures;
    std::vector<std::string> keep;  ///< quantities whose traces are kept
    std::size_t objective = 0;      ///< of a search: the measure that is made small or large
    bool searched() const { return points.sampling().sort == Sampling::Sort::search; }
};
/// Checks everything that can be checked before a run: lines, targets (the first point and one in which each thing that varies has
/// another value are made ready), measures, quantities to keep. Errors name the line.
Result<StudySetup> prepareStudy(std::shared_ptr<const Project> project, const ParameterStudy& study);

/// Whether a thing that varies reached the circuit, found without running: the networks of two of its values are compared.
struct Arrival {
    std::string target;
    bool equations = false;  ///< the equations differ: the circuit is built anew
    bool values = false;     ///< sources, start values, control or the plan differ
    bool reached() const { return equations || values; }
};
/// Of each thing that varies. @pre the setup was made by prepareStudy()
std::vector<Arrival> arrivals(const StudySetup& setup);

/// A run of a study.
struct StudyRow {
    std::size_t index = 0;
    std::vector<std::string> point = {};
    std::vector<double> values = {};  ///< of the measures, SI; empty where it failed
    std::string error = {};           ///< why there are none
    double seconds = 0;               ///< CPU time, building included
    double building = 0;              ///< of that, until it could run
    bool good = false;                ///< every value keeps its limits
    bool done() const { return !values.empty() || !error.empty(); }
};

/// Runs a point and measures it.
StudyRow runStudyPoint(const StudySetup& setup, std::size_t index, const StudyPoint& point, const CancelToken& cancel,
                       std::shared_ptr<Run>* kept = nullptr);
/// Makes one row. @param kept  gets the run where its traces are wanted
StudyRow runStudyRow(const StudySetup& setup, std::size_t index, const CancelToken& cancel, std::shared_ptr<Run>* kept = nullptr);

/// What a study takes, from its first run.
struct StudyPrice {
    std::size_t runs = 0;
    StudyRow first = {};              ///< as it was run
    double all = 0;                   ///< s of CPU time, of all runs
    std::size_t memory = 0, disk = 0; ///< bytes: of a run on its way, of all that is kept
    std::vector<Arrival> arrivals = {};
};
StudyPrice priceStudy(const StudySetup& setup, const CancelToken& cancel);

struct StudyProgress {
    std::size_t done = 0, of = 0, failed = 0;
    double seconds = 0;     ///< of waiting, since it was started or taken up again
    double left = 0;        ///< s, estimated; 0 while that is not known
    double speedup = 1;     ///< CPU time of the rows over the time waited
};

/// Where rows go and come from.
class StudySink {
public:
    virtual ~StudySink() = default;
    /// Rows that are there already are not run again.
    virtual bool has(std::size_t index) const = 0;
    /// Called by one thread at a time.
    virtual Status take(StudyRow row) = 0;
    /// Those that are there; a search goes on from them.
    virtual Result<std::vector<StudyRow>> rows() const { return std::vector<StudyRow>(); }
    /// What a search came to, in sentences.
    virtual Status conclude(const std::vector<std::string>&) { return {}; }
};

/// Rows in memory.
class StudyRows : public StudySink {
public:
    bool has(std::size_t index) const override;
    Status take(StudyRow row) override;
    Result<std::vector<StudyRow>> rows() const override { return made; }
    Status conclude(const std::vector<std::string>& words) override;

    std::vector<StudyRow> made = {};  ///< in the order in which they came
    std::vector<std::string> conclusion = {};
};

struct StudyRunning {
    int threads = 0;                    ///< 0 for all cores
    std::size_t from = 0, to = SIZE_MAX;  ///< rows of these numbers only
    std::filesystem::path traces = {};  ///< the folder in which those that are kept are written as HDF5
    std::function<void(const StudyProgress&)> progress = {};
};
/// Runs what the sink has not; a search goes on from what it has (studies/optimise.h). Errors: the sink's; stopped by `cancel` (what is done
/// is in the sink).
Status runStudy(const StudySetup& setup, StudySink& sink, const StudyRunning& running, const CancelToken& cancel);

/// The file of the traces of a row.
std::string studyTraceName(std::size_t index);
/// Writes what is kept of a run, where traces are. Errors: the disk; a link stands where they would go.
Status writeStudyTrace(const StudySetup& setup, const StudyRow& row, const Run& run, const std::filesystem::path& folder, const CancelToken& cancel);

}  // namespace hedgerow
