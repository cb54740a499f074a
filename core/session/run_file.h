#pragma once
// One kept run as a file: HDF5 with a column for every unknown, signal and switching element, from which all quantities
// follow, and with everything that made the run.
//
//   /ticks            instants in 2^-54 s, rising; two of one instant are before and after a jump
//   /time             the same in s, for other programs
//   /unknowns/<name>  voltages and currents; <name> is that of the quantity that is this unknown, or u<index>
//   /signals/<index>, /conducting/<index>
//   /project, /run    texts: the project as it was, and what else is known, as JSON

#include <filesystem>
#include <memory>

#include "base/result.h"
#include "session/run.h"
#include "session/run_record.h"

namespace hedgerow {

/// Writes a run that is over, atomically. @pre nothing is being stored any more
Status writeRunFile(const Run& run, const std::filesystem::path& path);

/// Opens a kept run. Columns are read when a trace first needs them; an error names the file.
Result<std::shared_ptr<RunRecord>> openRunFile(const std::filesystem::path& path);

}  // namespace hedgerow
