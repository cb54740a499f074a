#pragma once
// What the commands read off records: over which time, on which grid, which measures and harmonics.

#include <optional>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "runs/readings.h"

namespace hedgerow::cli {

using Json = nlohmann::ordered_json;

/// As typed.
struct ReadOptions {
    std::vector<std::string> quantities;  ///< or expressions of them; those shown, or all, when empty
    std::string from, to;                 ///< "" for the ends of the record
    std::string last;                     ///< so long before `to`, instead of `from`: "5m", "10 periods of V1"
    std::string every;                    ///< distance of instants in files; "" for the stored points
    std::string fundamental;              ///< of harmonics; "" for none
    int orders = 50;
    std::vector<std::string> outputs;  ///< files, format by extension
};

/// What the options come to for one record.
struct Reading {
    Extract extract;
    std::optional<double> fundamental;  ///< Hz
    int orders = 50;
};

/// Errors name the option.
Result<Reading> readingOf(const ReadOptions& options, const RunRecord& record);

/// Least, greatest and mean value, rms, and harmonics where they are asked for; null where the time has none.
Json measuresJson(const Trace& trace, const Reading& reading);
/// The same as lines of text.
void printMeasures(const std::string& name, const Trace& trace, const Reading& reading);

/// The format for a file name, or "" with a message.
std::string formatOf(const std::string& file);
/// Writes the files that are asked for; says beforehand what will be large. @return an exit code
int writeFiles(const RunRecord& record, const ReadOptions& options, const Reading& reading, bool quiet);

}  // namespace hedgerow::cli
