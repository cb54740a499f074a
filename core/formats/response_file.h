#pragma once
// Frequency responses as files.

#include <filesystem>
#include <vector>

#include "base/result.h"
#include "traces/frequency_response.h"

namespace hedgerow {

/// By the ending of the name: .csv, or .h5 with /frequency and, per curve, a group under /responses with gain in dB,
/// phase in degrees, real and imaginary part. All curves have the frequencies of the first.
/// Errors: another ending; what cannot be written.
Status writeResponses(const std::filesystem::path& path, const std::vector<FrequencyResponse>& responses);

/// A table (readResponseTable), or a Touchstone file by its name or its first words. Curves are named after the file.
/// Errors name the file, and the line where there is one.
Result<std::vector<FrequencyResponse>> readResponses(const std::filesystem::path& path);

}  // namespace hedgerow
