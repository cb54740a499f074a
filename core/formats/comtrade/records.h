#pragma once
// COMTRADE, IEEE C37.111-2013 (IEC 60255-24): the text of a configuration and the records of its data.

#include <string>
#include <string_view>

#include "formats/trace_format.h"

namespace hedgerow::comtrade {

enum class DataKind { ascii, float32 };

/// The configuration for a table: analogue channels first, gates and states as status channels.
std::string configuration(const TraceTable& table, DataKind kind);
std::string data(const TraceTable& table, DataKind kind);

/// Reads a configuration and its data, which may be ASCII, BINARY, BINARY32 or FLOAT32, of 1991, 1999 or 2013.
/// Errors say which line of the configuration, or which sample.
Result<MeasuredData> read(std::string_view configuration, std::string_view data);

}  // namespace hedgerow::comtrade
