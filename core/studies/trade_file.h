#pragma once
// Results of trade studies as text and as files.

#include <filesystem>
#include <string>
#include <string_view>

#include "base/result.h"
#include "studies/trade.h"

namespace hedgerow {

/// All but the waveforms, as JSON: what a ledger keeps.
std::string writeTrade(const TradeResult& result);
/// Reads what writeTrade() wrote; an error when it is something else.
Result<TradeResult> readTrade(std::string_view text);
/// Writes the points and the verdicts, by the ending of the name: .csv (a table), .h5 (columns, HDF5), .json,
/// .html (a report with a picture).
Status exportTrade(const TradeResult& result, const std::filesystem::path& path);

}  // namespace hedgerow
