#pragma once
// The commands of hedgerow-cli. Each returns the exit code of the program.

#include <string>
#include <utility>
#include <vector>

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
    std::string tolerance;  ///< of the stored lines, "" for the plan's
    std::string from, to;   ///< window of the measures, "" for the ends of the run
    std::string keep;    ///< file for the states at the end
    std::string losses;  ///< time before the end over which losses of switches are told; "" for none
    bool allowOutside = false;  ///< files outside of the project's folder are read too
    bool evenOut = false, verify = false, roundEdges = false;
    std::vector<std::string> sets;        ///< NAME=VALUE
    std::vector<std::string> outputs;     ///< files, format by extension
    std::vector<std::string> quantities;  ///< to write; all when empty
    bool json = false, quiet = false;
};
int run(const RunOptions& options);

}  // namespace hedgerow::cli
