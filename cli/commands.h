#pragma once
// The commands of hedgerow-cli. Each returns the exit code of the program.

#include <string>
#include <utility>
#include <vector>

#include "measuring.h"
#include "studies/slurm.h"

namespace hedgerow::cli {

/// What scripts can rely on.
enum ExitCode {
    success = 0,
    usage = 1,       ///< the command line is wrong
    unreadable = 2,  ///< the project cannot be read
    unsound = 3,     ///< the circuit cannot run: see the messages
    runFailed = 4,   ///< the run started and failed
    stopped = 5,     ///< the run was stopped, or reached the memory limit; what it computed was written
    unwritable = 6,  ///< a result cannot be written
    differs = 7,     ///< --verify found another sequence of events
};

/// @param allowOutside  files outside of the project's folder are read too
int check(const std::string& project, bool json, bool allowOutside);
int info(const std::string& project, bool json, bool allowOutside);
/// All kinds of parts, or those of one name: pins, keys, units, defaults, ranges. @param name  "" for all
int kinds(const std::string& name, bool json);
/// @param library  "" for none  @param current  A
int readCards(const std::string& file, const std::string& library, double current, int lines);

struct RunOptions {
    std::string project, scene, plan, end, start, engine, step, method;
    std::string tolerance;      ///< of the stored lines, "" for the plan's
    ReadOptions read;           ///< what is measured and written
    std::string keep;           ///< file for the states at the end
    std::string losses;         ///< time before the end over which losses of switches are told; "" for none
    bool allowOutside = false;  ///< files outside of the project's folder are read too
    bool evenOut = false, verify = false, roundEdges = false;
    bool measuresOnly = false;  ///< no point is stored
    std::vector<std::string> sets;   ///< NAME=VALUE
    std::vector<std::string> spans;  ///< lines, instead of the plan's
    bool json = false, quiet = false;
    bool settle = false;          ///< some periods of the periodic state
    std::string periods, period;  ///< "" for the plan's
};
int run(const RunOptions& options);
/// @param budget  s, for all tries
int price(const RunOptions& options, double budget);

struct RespondOptions {
    RunOptions run;
    std::string from, loop, impedance;  ///< one of them
    std::vector<std::string> to;
    std::string span, tone;  ///< "" for the usual ones
    int points = 200;
    std::vector<std::string> outputs;  ///< .csv files
};
int respond(const RespondOptions& options);

struct TradeOptions {
    RunOptions run;
    std::string study;  ///< of the project; "" for the first
    std::vector<std::string> features, alternatives, outputs;
    bool search = false, steps = false, keep = false;
};
int trade(const TradeOptions& options);

struct StudyOptions {
    std::string project;  ///< or the file of a study, to go on with
    std::string study;    ///< of the project; "" for the first
    std::string scene, plan, runs, seed, keep, file, folder;
    std::vector<std::string> varied, measured, outputs;
    std::string minimise, maximise;  ///< expressions over named measures
    int threads = 0;      ///< 0 for all cores
    int workers = 0;      ///< processes; 0 for none
    int chunk = 100;      ///< runs of a task, or the number of one
    int evaluations = 0;  ///< 0 for the usual number
    SlurmSetting slurm;
    bool wait = false;  ///< until all rows are there
    bool global = false, gradient = false;  ///< how best values are looked for
    bool settle = false, dry = false, show = false, json = false, quiet = false, allowOutside = false;
};
int study(const StudyOptions& options);
int studyOptimise(const StudyOptions& options);
int studySplit(const StudyOptions& options);
int studyWork(const StudyOptions& options);
int studyGather(const StudyOptions& options);
int studySubmit(const StudyOptions& options);
int studyStatus(const StudyOptions& options);
int studyCancel(const StudyOptions& options);

/// @param schema  print what there is instead of serving
int serve(bool schema);

struct LearnOptions {
    RunOptions run;
    std::vector<std::string> parts;  ///< empty for all that can
    std::string rungs;               ///< a rule; "" for all on 4
    int points = 6;
    bool write = false;
};
int learn(const LearnOptions& options);

struct TuneOptions {
    RunOptions run;
    std::string part, crossover, margin;
    bool write = false;  ///< the values go into the project's file
};
int tune(const TuneOptions& options);

/// Measures of a file of recorded data.
int measure(const std::string& file, const ReadOptions& options, bool json);

/// Between a project and the text form of its sheet. @param from, to  one a *.hedge file, the other one a text; "-" is
/// standard input or output  @param onto  a project whose drawing and other content stay, "" for a new one
int convert(const std::string& from, const std::string& to, const std::string& onto, bool overwrite);

}  // namespace hedgerow::cli
