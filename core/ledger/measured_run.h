#pragma once
// Measured data as a run: shown and pinned beside simulated ones.

#include <filesystem>
#include <memory>

#include "base/result.h"
#include "runs/run_record.h"

namespace hedgerow {

/// Reads a file by its ending with the format that has it.
/// @param offset  s, added to every time   @param scale  multiplies every time first
Result<std::shared_ptr<RunRecord>> openMeasured(const std::filesystem::path& path, double offset = 0, double scale = 1);

/// The same data with another offset and scale, without reading them again. @pre openMeasured() made `measured`
Result<std::shared_ptr<RunRecord>> retimed(const RunRecord& measured, double offset, double scale);

}  // namespace hedgerow
