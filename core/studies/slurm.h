#pragma once
// A study's folder on a cluster: its chunks as tasks of job arrays of Slurm, through the site's own sbatch, squeue and scancel.
//
//     FOLDER/task.sh       what a task runs: hedgerow-cli study work FOLDER CHUNK
//     FOLDER/jobs.json     the arrays that were sent, with their chunks
//     FOLDER/logs/         what tasks say

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "studies/study_folder.h"

namespace hedgerow {

/// What the site wants to know. Texts go to sbatch as they are; "" leaves its own.
struct SlurmSetting {
    std::string partition = {}, account = {}, time = {}, memory = {};
    std::vector<std::string> more = {};  ///< further options of sbatch
    int together = 0;                    ///< tasks at a time at most; 0 for as many as the site gives
    bool anywhere = false;               ///< tasks read files of the project where it lay
    std::string program = {};            ///< hedgerow-cli as the nodes find it; "" for the one of this machine
};

/// How far the tasks are.
struct SlurmState {
    std::size_t done = 0, waiting = 0, running = 0;
    std::size_t lost = 0;  ///< neither done nor in the queue
};

class SlurmJobs {
public:
    /// Errors: the folder's list of jobs is damaged.
    static Result<SlurmJobs> open(const StudyFolder& folder);

    /// Sends what is missing and not in the queue; what was lost is sent again. @return how many tasks
    /// Errors: sbatch, in its own words; a chunk that was sent `mostTries` times and made nothing.
    Result<std::size_t> submit(const SlurmSetting& setting, const CancelToken& cancel);
    /// Errors: squeue, in its own words.
    Result<SlurmState> state(const CancelToken& cancel) const;
    /// Takes all tasks out of the queue, and stops those that run. A controller that does not answer within some seconds is an error.
    Status stop(const CancelToken& cancel) const;

    static constexpr int mostTries = 5;

private:
    /// An array: its tasks are chunks less `offset`.
    struct Job {
        std::string id;
        std::size_t offset = 0;
        std::vector<std::size_t> chunks = {};
    };
    explicit SlurmJobs(const StudyFolder& folder) : folder_(folder) {}
    Status save() const;
    /// Chunks in the queue, and whether they run. @param seconds  for the answer
    Result<std::vector<std::pair<std::size_t, bool>>> queued(const CancelToken& cancel, double seconds) const;

    StudyFolder folder_;
    std::vector<Job> jobs_;
};

/// Sends what is missing, takes the rows as they come, and sends again what is lost, until all are there. A controller that is away for a while is
/// asked again. @param progress  called every few seconds; `again` is how many chunks were lost and have been sent again now
/// Errors: as submit(); the sink's; stopped (the tasks go on: SlurmJobs::stop() ends them).
Status workBySlurm(const StudyFolder& folder, const SlurmSetting& setting, StudySink& rows,
                   const std::function<void(const SlurmState& state, std::size_t again)>& progress, const CancelToken& cancel);

/// Whether the programs of Slurm are here, and whether they know a cluster.
bool slurmHere();
bool slurmKnowsACluster();
/// The program of the command line: this one, or the one beside the window's. "" where there is none.
std::string commandLineProgram();

/// "0-3,7,9-10" of rising numbers, and back.
std::string arrayText(const std::vector<std::size_t>& numbers);
Result<std::vector<std::size_t>> arrayNumbers(std::string_view text);

}  // namespace hedgerow
