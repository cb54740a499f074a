#pragma once
// What every format for recorded traces offers.

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "base/cancel.h"
#include "base/result.h"
#include "traces/trace.h"

namespace hedgerow {

/// Traces of one run with what made them. All traces share their instants.
struct TraceTable {
    std::vector<Trace*> traces;                                   ///< up to date, not owned
    std::vector<std::pair<std::string, std::string>> provenance;  ///< title, plan, engine, version, ...
    CancelToken cancel = {};                                      ///< ends the writing: nothing is left of it
    Status stopped() const {
        return cancel.cancelled() ? Status(Error{ErrorCode::stop, "the export was stopped"}) : Status();
    }
};

/// Traces that come from elsewhere, all at the same instants.
struct MeasuredData {
    struct Column {
        std::string name, unit;
        std::vector<double> values;  ///< in units of SI
        bool logic = false;
    };
    std::vector<double> times;  ///< s, not falling
    std::vector<Column> columns;
};

class TraceFormat {
public:
    virtual ~TraceFormat() = default;
    virtual std::string_view name() const = 0;       ///< "csv"
    virtual std::string_view extension() const = 0;  ///< ".csv"
    /// Writes atomically. @pre at least one trace
    virtual Status write(const TraceTable& table, const std::filesystem::path& path) const = 0;
    /// Errors say what is wrong and, where it has them, in which line; the caller names the file.
    virtual Result<MeasuredData> read(const std::filesystem::path& path) const {
        return Error{ErrorCode::file, path.filename().string() + ": this format can be written, but not read"};
    }
};

using TraceFormatList = std::vector<std::unique_ptr<TraceFormat>>;

}  // namespace hedgerow
