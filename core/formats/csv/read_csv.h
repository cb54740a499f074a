#pragma once
// Comma-separated values from anywhere: commas, semicolons, tabs or blanks between the fields, a decimal comma where
// the separator allows it, a row of names with units in brackets or a row of units below it, the time in the first
// column.

#include <string_view>

#include "formats/trace_format.h"

namespace hedgerow {

/// Errors carry the line and say what was expected.
Result<MeasuredData> readCsv(std::string_view text);

}  // namespace hedgerow
